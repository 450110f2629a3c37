"""Sounds that are made: exact in pitch and time, without a click, and never against themselves."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Cut, LineUp, MicPlan, Plan
from arkund.core.render.render import render
from arkund.core.replace import made
from arkund.core.replace.made import EVERY, LEVEL_DB, Made
from tests.core.tools.test_regions import Noise
from tests.stages import RATE

LONG = {"attack_ms": 5.0, "hold_ms": 900.0, "release_ms": 400.0}


def sound(seconds: float = 2.0, rate: int = RATE, **settings) -> np.ndarray:
    mine = Made(**({"strikes": ((1000, 0.0),)} | settings))
    return made.read(mine, 0, round(seconds * rate), rate)


class TestSine:
    """Pitch, envelope, place."""

    @pytest.mark.parametrize("frequency_hz", [20.0, 43.7, 61.3, 200.0])
    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_pitch(self, frequency_hz: float, rate: int):
        """Within a tenth of a hertz, by the phase of what stands."""
        x = sound(rate=rate, frequency_hz=frequency_hz, **LONG)
        t = np.arange(x.size) / rate
        steady = (t > 1000 / rate + 0.1) & (t < 1000 / rate + 0.85)
        beat = (x * np.exp(-2j * np.pi * frequency_hz * t))[steady] * np.hanning(steady.sum())
        halves = [part.sum() for part in np.array_split(beat, 2)]
        drift_hz = np.angle(halves[1] / halves[0]) / (2 * np.pi) / (steady.sum() / 2 / rate)
        assert abs(drift_hz) < 0.1

    def test_times(self):
        """It stands from the attack to the end of the hold, and has fallen by 30 dB half way through the release."""
        x = sound(frequency_hz=200.0, attack_ms=20.0, hold_ms=300.0, release_ms=400.0)
        top = 10 ** (LEVEL_DB / 20)
        peak = lambda at_ms: np.abs(x[1000 + round((at_ms - 5) * 48) : 1000 + round(at_ms * 48)]).max() / top
        assert peak(25.0) == pytest.approx(1.0, abs=0.01)
        assert peak(315.0) == pytest.approx(1.0, abs=0.01)
        assert 20 * np.log10(peak(320.0 + 200.0 + 2.5)) == pytest.approx(-30.0, abs=1.0)
        assert not x[1000 + round(0.72 * RATE) + 1 :].any()
        assert not x[:1000].any()

    @pytest.mark.parametrize("attack_ms", [0.5, 4.0, 30.0])
    def test_no_click(self, attack_ms: float):
        """It begins at nothing, and no step is larger than a sine at its level and a straight attack of that length would make."""
        x = sound(frequency_hz=50.0, attack_ms=attack_ms)
        top = 10 ** (LEVEL_DB / 20)
        assert x[1000] == 0.0
        assert np.abs(np.diff(x)).max() <= top * (2 * np.pi * 50.0 / RATE + 1.5 / (attack_ms / 1000 * RATE))

    def test_a_thump_falls(self):
        """From higher to its note: 63 % of the octaves within the time."""
        x = sound(sort="thump", frequency_hz=50.0, fall_octaves=2.0, fall_ms=60.0, attack_ms=0.5, hold_ms=600.0)
        ups = np.flatnonzero((x[1000:-1] < 0) & (x[1001:] >= 0)) / RATE
        hz, at_s = 1.0 / np.diff(ups), (ups[1:] + ups[:-1]) / 2
        assert hz == pytest.approx(50.0 * 2.0 ** (2.0 * np.exp(-at_s / 0.06)), rel=0.06)
        assert hz[-1] == pytest.approx(50.0, rel=0.01)


class TestStrikes:
    """Which, how strong, and what where they come soon."""

    def test_strength(self):
        """Fixed, or as the hit; softer ones than the least are left out."""
        strikes = ((1000, 0.0), (40_000, -12.0), (80_000, 4.0))
        tops = lambda **more: [
            round(float(20 * np.log10(np.abs(sound(strikes=strikes, **more)[at : at + 9000]).max() + 1e-9)) - LEVEL_DB)
            for at, _ in strikes
        ]
        assert tops() == [0, 0, 0]
        assert tops(follow=1.0) == [0, -12, 4]
        assert tops(follow=0.5) == [0, -6, 2]
        assert tops(least_db=-6.0)[1] < -150

    def test_one_gives_way_to_the_next(self):
        """Two strikes within one sound are never louder than one, and never cancel."""
        near = made.read(Made(frequency_hz=50.0, strikes=((1000, 0.0), (1000 + 2880, 0.0)), **LONG), 0, 60_000, RATE)
        one = made.read(Made(frequency_hz=50.0, strikes=((1000 + 2880, 0.0),), **LONG), 0, 60_000, RATE)
        assert np.array_equal(near[1000 + 2880 :], one[1000 + 2880 :])
        assert np.abs(near).max() <= 10 ** (LEVEL_DB / 20) * 1.0001

    def test_any_part_is_the_whole_there(self):
        """Of ten thousand strikes as of three."""
        rng = np.random.default_rng(5)
        at = np.cumsum(rng.integers(500, 30_000, 10_000))
        mine = Made(follow=0.7, strikes=tuple(zip(at.tolist(), rng.uniform(-20, 3, at.size).tolist(), strict=True)))
        middle = int(at[5000])
        whole = made.read(mine, middle - 50_000, middle + 50_000, RATE)
        for start, length in zip(rng.integers(0, 90_000, 30), rng.integers(1, 10_000, 30), strict=True):
            part = made.read(mine, middle - 50_000 + start, middle - 50_000 + start + length, RATE)
            assert np.array_equal(part, whole[start : start + length])

    @pytest.mark.parametrize(
        ("more", "words"),
        [
            ({"frequency_hz": 19.0}, "frequency_hz: 19 Hz is outside 20 to 200 Hz"),
            ({"frequency_hz": 201.0}, "outside 20 to 200"),
            ({"strikes": ((5, 0.0), (5, 0.0))}, "in order of time"),
            ({"sort": "choir"}, "expected one of sine, thump"),
        ],
    )
    def test_bad_input(self, more: dict, words: str):
        """Said with what and where."""
        with pytest.raises(SettingsError, match=words):
            Made(**more)


class TestRendered:
    """A strip like a mic."""

    def test_it_goes_where_its_hits_go(self):
        """Through cuts and with the delay of its drum's mic, its first sample on the hit's."""
        mine = MicPlan(
            id="low", name="Low", piece="kick", role="layer", made=Made(strikes=((9_000, 0.0), (50_000, 0.0)), **LONG)
        )
        plan = Plan(
            take="t",
            mics=(mine.replace(line_up=LineUp(delay_ms=5.0)),),
            cuts=(Cut(at=20_000, shift=300),),
        )
        heard = render(plan, Noise(), (0, 90_000), "strip:low")
        for at in (9_000 + 240, 50_000 + 300 + 240):
            before, after = heard[at - 40 : at + 1], heard[at + 1 : at + 60]
            assert np.abs(before).max() < 1e-3 or at > 20_000
            assert after[1:].max() > 0
        alone = render(plan.replace(cuts=()), Noise(), (0, 90_000), "strip:low")
        assert np.array_equal(heard[9_240:20_000], alone[9_240:20_000])

    def test_every_is_the_least(self):
        """The end of the range leaves nothing out."""
        assert Made(strikes=((0, -90.0),)).least_db == EVERY
        assert sound(strikes=((1000, -90.0),)).any()
