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
    punch,
    reckon,
    rig,
    scene,
    serve,
    shelf,
    tone,
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
    "punch",
    "reckon",
    "rig",
    "scene",
    "serve",
    "shelf",
    "tone",
    "work",
]
