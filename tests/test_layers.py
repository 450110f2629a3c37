"""Imports point downward only: the core knows nothing of the interface, primitives nothing of drums, services nothing of pages; nothing goes in a circle."""

import ast
import re
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent / "arkund"
STEPS = ("hits", "load", "level", "lineup", "takes", "timing", "clean", "replace", "tone", "punch", "blend")
FORBIDDEN_IN_CORE = ("django", "arkund.studio", "waitress", "click", "whitenoise", "csp")
# Nowhere but in units.py is a decibel worked out; in compiled loops, and in the plain loops that they are held against, it has to be.
BY_HAND = re.compile(r"log10\(|10(\.0)? \*\* \(?[\w.\-]+_db|6\.0206|6\.02059")
EXCUSED = {"units.py", "reference.py"}


def imports_of(path: Path) -> set[str]:
    """Return the modules that a file imports, those inside functions too; of ``from a import b``, a.b where that is a module."""
    names = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


def name_of(path: Path) -> str:
    parts = path.relative_to(ROOT.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


ALL = {name_of(path): path for path in sorted(ROOT.rglob("*.py"))}
INSIDE = {name: imports_of(path) & ALL.keys() for name, path in ALL.items()}
BELOW = {
    "arkund.core": ("arkund.studio",),
    **dict.fromkeys(
        ("arkund.core.dsp", "arkund.core.files", "arkund.core.trees"),
        tuple(f"arkund.core.{above}" for above in (*STEPS, "plan", "render", "kit", "demo")),
    ),
    "arkund.core.kit": tuple(f"arkund.core.{above}" for above in (*STEPS, "plan", "render", "demo")),
    **dict.fromkeys((f"arkund.core.{step}" for step in STEPS), ("arkund.core.render", "arkund.core.demo")),
    "arkund.core.plan": ("arkund.core.render", "arkund.core.demo"),
    "arkund.studio.models": tuple(f"arkund.studio.{above}" for above in ("services", "jobs", "pages", "cli")),
    "arkund.studio.services": ("arkund.studio.pages", "arkund.studio.cli"),
    "arkund.studio.jobs": ("arkund.studio.pages", "arkund.studio.cli"),
    "arkund.studio.pages": ("arkund.studio.cli",),
}


def within(name: str, package: str) -> bool:
    return name == package or name.startswith(package + ".")


@pytest.mark.parametrize("package", BELOW)
def test_imports_point_downward(package):
    """No module of a layer imports one of a layer above it."""
    found = [
        (name, other)
        for name, others in INSIDE.items()
        if within(name, package)
        for other in others
        if any(within(other, above) for above in BELOW[package])
    ]
    assert found == []


def test_nothing_goes_in_a_circle():
    """Nor inside functions: whoever reads a module never needs the one that imports it."""
    # A package's front door may gather what is in it.
    graph = {name: {other for other in others if not within(other, name)} for name, others in INSIDE.items()}
    TopologicalSorter(graph).prepare()  # raises CycleError, which names the circle


@pytest.mark.parametrize("name", [name for name in ALL if within(name, "arkund.core")])
def test_core_is_free_of_the_interface(name):
    """No Django, no HTTP, no command line below core/; and no decibels by hand."""
    assert not [other for other in imports_of(ALL[name]) if other.startswith(FORBIDDEN_IN_CORE)]
    if ALL[name].name not in EXCUSED and not ALL[name].name.startswith("_"):
        code = [line.split("#")[0] for line in ALL[name].read_text().splitlines()]
        assert [line for line in code if BY_HAND.search(line) and '"""' not in line and "=" in line] == []


@pytest.mark.parametrize("path", sorted((ROOT / "studio" / "pages").glob("*.py")), ids=lambda p: p.name)
def test_pages_do_not_read_audio(path):
    """Pages ask services and the core's measurements; files are opened below them."""
    assert not [n for n in imports_of(path) if n.startswith(("soundfile", "scipy", "numba"))]
