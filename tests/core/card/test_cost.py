"""What must not be lost: mixes that fool the first half of the card fail the second, and honest ones do not."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.card.cost import COSTS, ELSEWHERE, costs, over_limit
from arkund.core.card.sound import Sound
from arkund.core.errors import AudioError
from tests.foreign import FOREIGN
from tests.kits import SmallKit, small_kit
from tests.seeds import seeds

PANS = {"OH L": -0.8, "OH R": 0.8, "Rm L": -1.0, "Rm R": 1.0, "HH": -0.4, "Ride": 0.4, "T1": -0.3, "T2": 0.2, "FT": 0.5}
LEFT_OUT = ("Talkback", "Rm mono")
STYLES = ("busy", "straight", "slow", "sixeight")


def mixed(kit: SmallKit, gains_db: dict[str, float] | None = None) -> Sound:
    """Return the sum of a kit's mics at their places, each louder by so much."""
    out = np.zeros((kit.samples, 2))
    for name, x in kit.audio.items():
        if name not in LEFT_OUT:
            turn = (PANS.get(name, 0.0) + 1.0) * np.pi / 4.0
            gain = 10 ** ((gains_db or {}).get(name, 0.0) / 20)
            out[: x.size] += gain * x[:, None] * [np.cos(turn), np.sin(turn)]
    return Sound(out.astype(np.float32), kit.hits, kit.sample_rate_hz)


def made(seed: int) -> SmallKit:
    """Return a kit of another source and style for each seed."""
    style, sources = STYLES[seed % 4], (None, *FOREIGN)
    more = {"strokes_of": source} if (source := sources[seed % 3]) else {}
    bpm = {"sixeight": 66.0, "slow": 76.0}.get(style, 104.0)
    return small_kit(seed=seed, style=style, bpm=bpm, bars=8, play_with={"cymbal": "hihat"}, **more)


def strokes_s(kit: SmallKit) -> np.ndarray:
    return np.sort([h.time_s for mine in kit.hits.values() for h in mine])


def chopped(x: np.ndarray, kit: SmallKit) -> np.ndarray:
    """Silent from 140 ms after each stroke."""
    t, hits = np.arange(x.shape[0]) / kit.sample_rate_hz, strokes_s(kit)
    last = np.searchsorted(hits, t, "right") - 1
    return x * np.where((last >= 0) & (t - hits[np.maximum(last, 0)] < 0.14), 1.0, 0.0)[:, None]


def highs_at_7_hz(x: np.ndarray, kit: SmallKit) -> np.ndarray:
    """Above 5 kHz 6 dB up and down, seven times a second."""
    sos = signal.butter(4, 5000.0, "highpass", fs=kit.sample_rate_hz, output="sos")
    high = signal.sosfiltfilt(sos, x, axis=0)
    turn = np.sin(2 * np.pi * 7.0 * np.arange(x.shape[0]) / kit.sample_rate_hz)
    return x - high + high * np.where(turn > 0, 1.0, 0.5)[:, None]


def mono(x: np.ndarray, kit: SmallKit) -> np.ndarray:
    """The same on both sides."""
    return np.repeat(x.mean(axis=1, keepdims=True), 2, axis=1)


def below_11_khz(x: np.ndarray, kit: SmallKit) -> np.ndarray:
    """Nothing above 11 kHz."""
    return signal.sosfilt(signal.butter(6, 11_000.0, fs=kit.sample_rate_hz, output="sos"), x, axis=0)


def every_accent_equal(x: np.ndarray, kit: SmallKit) -> np.ndarray:
    """Each kick and back-beat as loud as every other."""
    out, rate = x.copy(), kit.sample_rate_hz
    for piece in ("kick", "snare"):
        places = [round(h.time_s * rate) for h in kit.hits[piece] if not h.ghost]
        peaks = [np.abs(x[at : at + rate // 60]).max() for at in places]
        for at, peak in zip(places, peaks, strict=True):
            out[at - 20 : at + rate // 10] *= np.median(peaks) / peak
    return out


DAMAGES = {
    chopped: {"tails"},
    highs_at_7_hz: {"hats_even"},
    mono: {"width"},
    below_11_khz: {"top"},
    every_accent_equal: {"accents_kick", "accents_snare"},
}


class TestCosts:
    """On kits of four styles and four sources of strokes."""

    @pytest.mark.parametrize("seed", seeds(93_400, *range(93_401, 93_420)))
    def test_damaged_mixes(self, seed):
        """Each fails by its own figure, in the style that allows the most but one; the raw sum itself loses nothing."""
        kit = made(seed)
        raw = mixed(kit)
        assert over_limit(costs(raw, raw), "punchy") == {}
        for damage, wanted in DAMAGES.items():
            now = Sound(np.float32(damage(raw.audio.astype(float), kit)), kit.hits, kit.sample_rate_hz)
            figures = costs(raw, now)
            told = {key for key in wanted if figures[key] is not None}
            assert told, (damage.__name__, figures)
            assert told & over_limit(figures, "punchy").keys(), (damage.__name__, figures)

    @pytest.mark.parametrize("seed", seeds(93_500, *range(93_501, 93_520)))
    def test_an_honest_balance(self, seed):
        """Mics moved by up to 3 dB each lose nothing."""
        kit, rng = made(seed), np.random.default_rng(seed)
        pairs = {"OH R": "OH L", "Rm R": "Rm L"}
        gains = {name: float(rng.uniform(-3.0, 3.0)) for name in kit.audio}
        gains |= {name: gains[other] for name, other in pairs.items()}
        raw = mixed(kit)
        assert over_limit(costs(raw, mixed(kit, gains)), "punchy") == {}

    def test_not_told(self):
        """Too few hits tell nothing; two parts of other lengths are refused."""
        silent = Sound(np.zeros((48_000, 2), np.float32), {}, 48_000)
        figures = costs(silent, silent)
        assert figures["accents_kick"] is figures["tails"] is figures["hats_even"] is figures["floor"] is None
        assert {*ELSEWHERE, *figures} == {cost.figure.key for cost in COSTS}
        with pytest.raises(AudioError, match="the same part of the song twice"):
            costs(silent, Sound(silent.audio[:-1], {}, 48_000))
