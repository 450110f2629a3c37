"""The console command ``arkund`` with all of its sub-commands."""

from arkund.studio.cli import bench, demo, serve, work
from arkund.studio.cli.group import main

__all__ = ["bench", "demo", "main", "serve", "work"]
