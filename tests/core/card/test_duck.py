"""Mics at hats and ride that are ducked by kicks and back-beats: by what is asked, when it is, and nowhere else."""

import dataclasses

import numpy as np
import pytest

from arkund.core.card import duck
from arkund.core.card.measure import STRONG, strong_times
from arkund.core.files.audio import ArrayMic
from arkund.core.plan import change
from arkund.core.render.render import render
from arkund.core.units import gain_to_db
from tests.kits import small_kit
from tests.rigs import struck_of

RATE = 48_000


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=7310, style="busy", bpm=104.0, bars=4, drop=("Talkback", "Rm L", "Rm R", "T2"))


@pytest.fixture(scope="module")
def plan(kit):
    return kit.plan.replace(struck=struck_of(kit, STRONG))


def dipped(plan, hits, by_db: float):
    step = duck.dipped(plan, hits, by_db)
    return plan if step is None else change.put(plan, step.values)


def gains_db(kit, plan, mic: str) -> np.ndarray:
    """Return the gain that a mic's row has at every sample of the song, told by a recording of ones."""
    ones = dataclasses.replace(kit, readers={each.id: ArrayMic(np.ones(kit.samples, np.float32)) for each in plan.mics})
    return gain_to_db(render(plan, ones, (0, kit.samples), f"strip:{mic}"))


def near(times, first_ms: float, last_ms: float, size: int) -> np.ndarray:
    """Return which samples lie within so many ms of times."""
    out = np.zeros(size, bool)
    for t in times:
        out[max(round((t + first_ms / 1000) * RATE), 0) : max(round((t + last_ms / 1000) * RATE), 0)] = True
    return out


@pytest.mark.parametrize("by_db", [1.3, 4.0, 6.0])
def test_just_before(kit, plan, by_db):
    """By what is asked from 15 to 5 ms before each kick and back-beat, hardly any more 10 ms after it; not at all before ghosts or anything else."""
    gain = gains_db(kit, dipped(plan, kit.hits, by_db), "HH")
    strong = strong_times(kit.hits)
    others = [h.time_s for mine in kit.hits.values() for h in mine if h.piece not in STRONG or h.ghost]
    assert any(h.ghost for h in kit.hits["snare"])
    assert gain[near(strong, -15.0, -5.0, gain.size)] == pytest.approx(-by_db, abs=0.1)
    elsewhere = ~near(strong, -25.0, 10.0, gain.size)
    assert np.abs(gain[elsewhere]).max() < 0.1 * by_db
    assert np.abs(gain[near(others, -10.0, 30.0, gain.size) & ~near(strong, -25.0, 40.0, gain.size)]).max() < 0.01


def test_further(kit, plan):
    """What is asked adds up, as far as it goes; each mic at hats and ride has one gate a piece, others none."""
    once = dipped(plan, kit.hits, 2.0)
    twice = dipped(once, kit.hits, 1.5)
    assert gains_db(kit, twice, "HH").min() == pytest.approx(-3.5, abs=0.1)
    most = dipped(twice, kit.hits, 20.0)
    assert gains_db(kit, most, "HH").min() == pytest.approx(-duck.MOST_DB, abs=0.1)
    assert duck.dipped(most, kit.hits, 1.0) is None
    assert {mic.id for mic in most.mics if any(tool.id.startswith("before-") for tool in mic.tools)} == {"HH", "Ride"}
    assert all(len(mic.tools) == len(plan.mic(mic.id).tools) + 2 for mic in most.mics if mic.id in ("HH", "Ride"))


def test_under_back_beats(kit, plan):
    """Tucked by what is asked while a back-beat sounds, not before it and not at ghosts; less again, and off where nothing is left."""
    tucked = change.put(plan, duck.tucked(plan, kit.hits, 8.0).values)
    gain = gains_db(kit, tucked, "HH")
    strong = [h.time_s for h in kit.hits["snare"] if not h.ghost]
    assert gain[near(strong, 4.0, 50.0, gain.size)] == pytest.approx(-8.0, abs=0.3)
    assert np.abs(gain[~near(strong, -3.0, 300.0, gain.size)]).max() < 0.1
    less = change.put(tucked, duck.tucked(tucked, kit.hits, -3.0).values)
    assert gains_db(kit, less, "HH").min() == pytest.approx(-5.0, abs=0.1)
    none = change.put(less, duck.tucked(less, kit.hits, -30.0).values)
    assert not none.mic("HH").tool(duck.UNDER.id).on


def test_under_ghosts(kit, plan):
    """Where mics are tucked under back-beats, they are under ghosts too, by what those come too near; elsewhere nothing brought them nearer."""
    assert duck.under_ghosts(plan, kit.hits, 4.0) is None
    tucked = change.put(plan, duck.tucked(plan, kit.hits, 8.0).values)
    both = change.put(tucked, duck.under_ghosts(tucked, kit.hits, 4.0).values)
    gain = gains_db(kit, both, "HH")
    ghosts, strong = ([h.time_s for h in kit.hits["snare"] if h.ghost == each] for each in (True, False))
    alone = near(ghosts, 4.0, 50.0, gain.size) & ~near(strong, -10.0, 400.0, gain.size)
    assert alone.any()
    assert gain[alone] == pytest.approx(-4.0, abs=0.2)
    assert gain[near(strong, 4.0, 50.0, gain.size)] == pytest.approx(-12.0, abs=0.5)


def test_as_trimmed(kit, plan):
    """A piece's mic that is trimmed has its strikes as loud: the dip hears them all the same."""
    down = plan.replace(mics=tuple(mic.replace(trim_db=-20.0) for mic in plan.mics))
    gain = gains_db(kit, dipped(down, kit.hits, 6.0), "HH") + 20.0
    strong = strong_times(kit.hits)
    assert gain[near(strong, -15.0, -5.0, gain.size)] == pytest.approx(-6.0, abs=0.1)


def test_nothing_to_go_by(kit, plan):
    """No strikes that are kept, no strokes but ghosts, no mics at hats and ride."""
    assert duck.dipped(kit.plan, kit.hits, 3.0) is None
    ghosts = {"snare": [h for h in kit.hits["snare"] if h.ghost]}
    assert duck.dipped(plan, ghosts, 3.0) is None
    shells = plan.replace(mics=tuple(mic for mic in plan.mics if mic.piece not in ("hihat", "ride")))
    assert duck.dipped(shells, kit.hits, 3.0) is None
