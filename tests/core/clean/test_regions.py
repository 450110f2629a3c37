"""A mic cut by hits, judged by what comes out: the bleed is down, every own hit is there and whole."""

import numpy as np
import pytest

from arkund.core.clean.outcome import outcome
from arkund.core.clean.regions import spans
from arkund.core.clean.ring import HOP_S, Ringing, ringing
from arkund.core.clean.settings import FOLLOWED_DB
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import Hit
from arkund.core.hits.settings import HitSettings
from arkund.core.kit.pieces import is_tom
from arkund.core.tools.regions import Regions, gains
from tests.foreign import ForeignLibrary
from tests.kits import small_kit
from tests.seeds import seeds

RATE = 48_000


def tom(times_s, levels_db, t60_s: float, seconds: float, bleed_db: float = -60.0, seed: int = 3) -> np.ndarray:
    """Return strokes that fall by 60 dB in t60_s over even noise."""
    t = np.arange(int(seconds * RATE)) / RATE
    out = 10 ** (bleed_db / 20) * np.random.default_rng(seed).standard_normal(t.size)
    for at, level_db in zip(times_s, levels_db, strict=True):
        late = np.maximum(t - at, 0.0)
        out += (t >= at) * 10 ** (level_db / 20) * 2**0.5 * np.sin(2 * np.pi * 131.0 * late) * 10 ** (-3 * late / t60_s)
    return out.astype(np.float32)


def measured(x: np.ndarray, times_s) -> Ringing:
    return ringing(lambda start, stop: x[start:stop], x.size, times_s, RATE)


class TestRinging:
    """When a hit's ring is over, against the closed form."""

    @pytest.mark.parametrize("t60_s", [0.5, 0.9, 1.6])
    def test_until_it_is_deep_enough(self, t60_s: float):
        """In silence a ring is followed down to FOLLOWED_DB, of soft hits as of loud ones."""
        times = [0.5, 3.0, 5.5, 8.0]
        found = measured(tom(times, [-8, -20, -12, -14], t60_s, 11.0, -110.0), times)
        rings_s = np.subtract(found.ends_s, times)
        assert rings_s == pytest.approx(t60_s * FOLLOWED_DB / 60.0, rel=0.05, abs=2 * HOP_S)

    def test_until_it_falls_into_the_bleed(self):
        """Over bleed, a soft hit's region is shorter than a loud one's, by what it is softer."""
        times, t60_s = [0.5, 3.0, 5.5, 8.0], 1.2
        found = measured(tom(times, [-10, -28, -10, -28], t60_s, 11.0, -42.0), times)
        rings_s = np.subtract(found.ends_s, times)
        assert rings_s[1] == pytest.approx(t60_s * (42.0 - 28.0 - 3.0) / 60.0, abs=0.05)
        assert rings_s[0] > rings_s[1] + 0.2
        assert found.bleed_db == pytest.approx(-42.0, abs=0.5)

    def test_what_others_play_does_not_prolong_it(self):
        """A loud stroke of another drum in the ring's end opens nothing."""
        times = [0.5, 3.0, 5.5, 8.0]
        alone = tom(times, [-10] * 4, 0.8, 11.0)
        with_others = alone + tom([1.2, 3.5], [-14, -14], 0.3, 11.0, -120.0)
        assert np.max(np.subtract(measured(with_others, times).ends_s, measured(alone, times).ends_s)) < 0.03

    def test_silence_and_nothing_played(self):
        """A dead mic, and one of a drum that is not played, are no error."""
        assert measured(np.zeros(RATE, np.float32), [0.5]).ends_s[0] > 0.5
        assert measured(np.zeros(RATE, np.float32), []).ends_s == ()
        assert measured(np.zeros(0, np.float32), []).ends_s == ()


class TestSpans:
    """Hits that are near each other share a region."""

    def test_rolls_are_one(self):
        """Strokes of a roll, with ends that reach the next one or nearly so."""
        times = [1.0, 1.1, 1.2, 4.0]
        found = spans(times, Ringing((), -60.0, (), (1.08, 1.18, 1.5, 4.4)), Regions(), RATE)
        assert found == ((RATE, round(1.5 * RATE)), (4 * RATE, round(4.4 * RATE)))

    def test_a_long_ring_under_a_short_hit(self):
        """A soft hit within a loud one's ring does not end it."""
        found = spans([1.0, 1.2], Ringing((), -60.0, (), (2.0, 1.4)), Regions(), RATE)
        assert found == ((RATE, 2 * RATE),)


class TestOutcome:
    """What is said of a cleaned mic, against what was done to it."""

    def test_figures(self):
        """A hit that was cut away is not kept, one that was kept is whole, bleed is down by the gain."""
        times = [0.5, 2.0, 3.5]
        x = tom([*times, 5.0], [-10, -12, -11, -20], 0.5, 6.0, -80.0)
        gain = np.full(x.size, 0.1, np.float32)
        gain[round(0.49 * RATE) : round(0.9 * RATE)] = gain[round(3.49 * RATE) : round(3.9 * RATE)] = 1.0
        own = [Hit("tom1", t, -10.0, 100, ghost) for t, ghost in zip(times, (False, True, True), strict=True)]
        found = outcome(x, x * gain, own, {"snare": [Hit("snare", 5.0, -20.0, 90, False)]}, RATE)
        assert (found.own, found.kept, found.ghosts, found.ghosts_kept) == (3, 2, 2, 1)
        assert found.bleed_db == pytest.approx(-20.0, abs=0.1)
        assert found.peak_db == 0.0
        assert found.alike == 1.0


def cut(kit, mic, hits: dict) -> tuple[np.ndarray, np.ndarray]:
    """Return a mic before and after it was cut by hits."""
    x = kit.audio[mic.name]
    times = sorted(h.time_s for h in hits[mic.piece])
    settings = Regions(on=True)
    rings = ringing(kit.readers[mic.name].read, x.size, times, kit.sample_rate_hz)
    mine = spans(times, rings, settings, kit.sample_rate_hz)
    return x, x * gains(settings.replace(spans=mine), np.array, 0, x.size, kit.sample_rate_hz)


def told(kit, hits: dict) -> list:
    """Return the outcome of each tom that is played, judged by the true hits."""
    out = []
    for mic in kit.kit.mics:
        if is_tom(mic.piece) and hits.get(mic.piece):
            others = {piece: mine for piece, mine in kit.hits.items() if piece != mic.piece}
            out.append(outcome(*cut(kit, mic, hits), kit.hits[mic.piece], others, kit.sample_rate_hz))
    return out


def test_toms_of_a_kit_are_down_where_they_are_not_played(straight):
    """By what is set, with every hit that was played, whole."""
    found = find_hits([straight.readers[m.name] for m in straight.kit.mics], straight.channels, RATE, HitSettings())
    for each in told(straight, found):
        assert each.bleed_db <= -18.0
        assert each.kept == each.own
        assert each.peak_db <= 0.5
        assert each.alike >= 0.995


@pytest.mark.long
@pytest.mark.parametrize("seed", seeds(*range(53_100, 53_106)))
@pytest.mark.parametrize("hard", [False, True])
def test_toms_of_many_kits(seed: int, hard: bool):
    """On kits of all styles, of generated and of foreign strokes, with the hits that were found: no tom stays open, hardly a hit is lost."""
    style = ("busy", "straight", "slow")[seed % 3]
    library = {} if seed % 2 else {"strokes_of": ForeignLibrary}
    kit = small_kit(seed=seed, style=style, bpm=72.0 if style == "slow" else 110.0, bars=10, hard=hard, **library)
    found = find_hits([kit.readers[m.name] for m in kit.kit.mics], kit.channels, kit.sample_rate_hz, HitSettings())
    rows = told(kit, found)
    assert all(each.bleed_db <= -18.0 for each in rows)
    assert sum(each.own - each.kept for each in rows) <= (1 if hard else 0)
    assert all(each.peak_db <= 0.5 and each.alike >= 0.995 for each in rows)
