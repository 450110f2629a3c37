"""The worked example of docs/adding-a-tool.md: its blocks are a tool that works and a test that holds."""

import re
import sys
from pathlib import Path

import numpy as np
import pytest
from numba.core import config

import arkund.core.tools
from arkund.core.render.render import render
from arkund.core.tools import tool
from tests.kits import small_kit

DOC = Path(__file__).parents[2] / "docs" / "adding-a-tool.md"
BLOCKS = dict(re.findall(r"```python (\S+)\n(.*?)```", DOC.read_text(), re.S))


@pytest.fixture
def example(tmp_path, monkeypatch):
    """The example among the tools, for as long as a test."""
    for name, code in BLOCKS.items():
        (tmp_path / name).write_text(code)
    monkeypatch.setattr(arkund.core.tools, "__path__", [*arkund.core.tools.__path__, str(tmp_path)])
    monkeypatch.setattr(tool, "KINDS", (*tool.KINDS, "dull"))
    monkeypatch.setattr(config, "CACHE_DIR", str(tmp_path))  # compiled for this test alone
    yield tmp_path
    for name in ("dull", "_dull"):
        sys.modules.pop(f"arkund.core.tools.{name}", None)


def test_its_own_test(example):
    """All that it asserts."""
    found: dict = {}
    exec(compile((example / "test_dull.py").read_text(), "test_dull.py", "exec"), found)  # noqa: S102
    tests = [each for name, each in found.items() if name.startswith("test_")]
    assert len(tests) == 2
    for each in tests:
        each()


def test_in_a_row(example):
    """Stored, read again and heard: a strip with it has less top, and any span of it is that of the whole."""
    kit = small_kit(
        seed=641, style="straight", bpm=120.0, bars=1, drop=("Rm L", "Rm R", "Rm mono", "T1", "T2", "FT", "Ride")
    )
    first, *others = kit.plan.mics
    dull = tool.Tool.from_json({"kind": "dull", "on": True, "above_hz": 800.0})
    plan = kit.plan.replace(mics=(first.replace(tools=(*first.tools, dull)), *others))
    assert type(plan).from_json(plan.to_json()) == plan
    whole = render(plan, kit, (0, kit.samples), f"strip:{first.id}")
    part = render(plan, kit, (150_000, 160_000), f"strip:{first.id}")
    assert np.max(np.abs(whole[150_000:160_000] - part)) < 1e-5
    bare = render(kit.plan, kit, (0, kit.samples), f"strip:{first.id}")
    assert np.sum(np.diff(whole) ** 2) < 0.3 * np.sum(np.diff(bare) ** 2)
