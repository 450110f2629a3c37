"""The console command ``arkund`` with all of its sub-commands."""

from arkund.studio.cli import (
    batch,
    bench,
    card,
    clean,
    demo,
    edit,
    keeping,
    layer,
    reckon,
    rig,
    scene,
    serve,
    shelf,
    sound,
    work,
)
from arkund.studio.cli.group import main

__all__ = [
    "batch",
    "bench",
    "card",
    "clean",
    "demo",
    "edit",
    "keeping",
    "layer",
    "main",
    "reckon",
    "rig",
    "scene",
    "serve",
    "shelf",
    "sound",
    "work",
]
