"""A kick's mics share its range: the low end of their sum never falls, and the filters fit each other."""

import functools

import numpy as np
import pytest

from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.replace.low_end import low_end
from arkund.core.tone.split import Part, in_order, split
from arkund.core.tools.tone import sections
from arkund.core.units import db_to_gain
from tests.kits import small_kit

RATE = 48_000
KITS = ((57701, "straight", 108.0), (57702, "busy", 94.0), (57703, "slow", 74.0), (57704, "sixeight", 63.0))


@functools.lru_cache(maxsize=1)
def made(seed: int, style: str, bpm: float):
    return small_kit(seed=seed, style=style, bpm=bpm, bars=6)


def through(x: np.ndarray, part: Part) -> np.ndarray:
    """Return a strip as its part leaves it, by the tools themselves."""
    return filter_bank(bank_of([x.astype(np.float32)]), [sections(part.tool, RATE)])[:, 0] * db_to_gain(part.gain_db)


class TestSplit:
    """On kits of their own."""

    @pytest.mark.parametrize("names", [("Kik sub", "KD out", "KD in"), ("KD out", "KD in")])
    @pytest.mark.parametrize(("seed", "style", "bpm"), KITS)
    @pytest.mark.long
    def test_never_less(self, seed, style, bpm, names):
        """Through the filters themselves 40 to 110 Hz of the sum are at least as loud as before, within 0.1 dB, and what is told is what comes out."""
        kit = made(seed, style, bpm)
        strips, hits = {name: kit.audio[name] for name in names}, [h.time_s for h in kit.hits["kick"]]
        found = split(strips, hits, RATE)
        after = {part.mic: through(strips[part.mic], part) for part in found.parts}
        was, now = (low_end(each, hits, RATE).sum_main_db for each in (strips, after))
        assert now >= was - 0.1
        assert now - was == pytest.approx(found.main_change_db, abs=0.7)
        assert [part.mic for part in found.parts] == list(names)
        assert found.parts[0].from_hz is None
        assert found.parts[-1].up_to_hz is None
        assert found.parts[-2].up_to_hz == found.parts[-1].from_hz

    def test_filters_that_fit(self):
        """Of the same sound in both mics, low and high part add up to the whole within 0.1 dB everywhere."""
        x = np.zeros(1 << 16, np.float32)
        x[1000] = 1.0
        both = through(x, Part("a", None, 120.0, 0.0)) + through(x, Part("b", 120.0, None, 0.0))
        level = 20 * np.log10(np.abs(np.fft.rfft(both)) + 1e-9)
        hz = np.fft.rfftfreq(x.size, 1 / RATE)
        assert np.abs(level[(hz > 20) & (hz < 15_000)]).max() < 0.1

    def test_too_few(self):
        """One mic, or no hits: nothing."""
        x = np.zeros(RATE, np.float32)
        assert split({"a": x}, [0.2], RATE) is None
        assert split({"a": x, "b": x}, [], RATE) is None

    def test_who_is_lowest(self):
        """By role, one of a kind."""
        roles = [("i", "in"), ("o", "out"), ("o2", "close"), ("s", "sub"), ("l", "layer")]
        mics = [type("Mic", (), {"id": name, "role": role}) for name, role in roles]
        assert [mic.id for mic in in_order(mics)] == ["s", "o", "i"]
