"""Imports point downward only, and the core knows nothing of the interface."""

import ast
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent / "arkund"
STEPS = {"hits", "load", "level", "lineup", "takes", "timing", "clean", "replace", "tone", "punch", "blend"}
FORBIDDEN_IN_CORE = ("django", "arkund.studio", "waitress", "click", "whitenoise", "csp")


def imports_of(path: Path) -> set[str]:
    names = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
    return names


CORE = sorted((ROOT / "core").rglob("*.py"))


@pytest.mark.parametrize("path", CORE, ids=lambda p: str(p.relative_to(ROOT)))
def test_core_is_free_of_the_interface(path):
    """No Django, no HTTP, no command line below core/."""
    assert not [n for n in imports_of(path) if n.startswith(FORBIDDEN_IN_CORE)]


@pytest.mark.parametrize("path", sorted((ROOT / "core" / "dsp").glob("*.py")), ids=lambda p: p.name)
def test_primitives_know_nothing_of_drums(path):
    """dsp/ imports no step, no plan and no render."""
    above = [f"arkund.core.{name}" for name in (*STEPS, "plan", "render", "kit", "demo")]
    assert not [n for n in imports_of(path) if n.startswith(tuple(above))]


@pytest.mark.parametrize("path", sorted((ROOT / "studio" / "pages").glob("*.py")), ids=lambda p: p.name)
def test_pages_do_not_read_audio(path):
    """Pages ask services and the core's measurements; files are opened below them."""
    assert not [n for n in imports_of(path) if n.startswith(("soundfile", "scipy", "numba"))]
