"""The kit's expander on kits whose strokes and rests are known: hits stand out by what it closes, and no stroke changes."""

import numpy as np
import pytest

from arkund.core.card import between
from arkund.core.card.measure import Sound, kit_figures
from arkund.core.plan.plan import Plan
from arkund.core.rig import usual
from arkund.core.tools.gate import Gate
from tests.core.card.test_measure import RATE, played, struck
from tests.stages import row_through

PLAN = Plan(take="t", kit=usual.kit())
HATS = [0.75 + 0.5 * k for k in range(30)]


def kit(wash_db: float, seed: int, hat_db: float = -20.0) -> Sound:
    """Return kicks, back-beats and hats over a wash of noise of so many dBFS."""
    hits = played(hihat=HATS)
    audio = struck(hits, {"kick": 1.0, "snare": 1.0, "hihat": 10 ** (hat_db / 20)}, body=0.1, seed=seed)
    wash = np.random.default_rng(seed + 1).standard_normal(audio.shape)
    return Sound((audio + 10 ** (wash_db / 20) * wash).astype(np.float32), hits, RATE)


def closed(plan: Plan, sound: Sound, by_db: float) -> Plan:
    row = between.closed_further(plan, between.floor(sound), by_db)
    return plan if row is None else Plan.from_json(plan.to_json() | {"kit": plan.kit.to_json() | {"tools": row}})


def through(plan: Plan, sound: Sound) -> Sound:
    gates = [tool for tool in plan.kit.tools if isinstance(tool, Gate) and tool.on]
    sides = row_through([gates, gates], list(sound.audio.T)) if gates else sound.audio
    return Sound(sides, sound.hits, RATE)


@pytest.mark.parametrize(("wash_db", "seed"), [(-70.0, 3), (-60.0, 4), (-55.0, 5)])
@pytest.mark.parametrize("by_db", [2.0, 5.0, 9.0])
def test_stands_out(wash_db, seed, by_db):
    """Hits stand out by as much as was asked, at any level of what lies between; strokes of hats as soft as they were are not touched."""
    sound = kit(wash_db, seed)
    out = through(closed(PLAN, sound, by_db), sound)
    was, now = (kit_figures(each) for each in (sound, out))
    assert now["contrast"] - was["contrast"] == pytest.approx(by_db, abs=1.0)
    assert now["cymbals"] == pytest.approx(was["cymbals"], abs=0.5)  # the end of their ring lies between hits
    assert now["attack"] == pytest.approx(was["attack"], abs=0.6)
    for t in HATS[2:20]:
        at = round(t * RATE)
        assert np.abs(out.audio[at : at + 480] - sound.audio[at : at + 480]).max() < 1e-3


def test_no_room():
    """Where hats are hardly over what lies between, nothing is closed: a stroke would be."""
    sound = kit(-40.0, 6, hat_db=-24.0)
    assert between.floor(sound).room_db == 0.0
    assert between.closed_further(PLAN, between.floor(sound), 4.0) is None


def test_further_and_back():
    """Closed by what is added up, at most as far as strokes are clear of it, and open again where nothing is left of it."""
    sound = kit(-60.0, 7)
    found = between.floor(sound)
    plan = closed(closed(PLAN, sound, 2.0), sound, 1.5)
    assert between.closing_db(plan) == pytest.approx(3.5)
    assert between.closing_db(closed(plan, sound, 100.0)) == pytest.approx(found.room_db, abs=0.05)
    assert between.closing_db(closed(plan, sound, -9.0)) == 0.0
    assert sum(tool.id == between.BETWEEN for tool in plan.kit.tools) == 1


@pytest.mark.parametrize("hits", [{}, {"hihat": []}, played()])
def test_nothing_to_go_by(hits):
    """No hits, or hits outside of what is heard."""
    assert between.floor(Sound(np.zeros((10, 2), np.float32), hits, RATE)) is None
