"""Hits of the shelf land on strikes to a part of a sample: what lies under a drum adds up to the top of the range."""

import numpy as np
import pytest

from arkund.core.demo.room import usual_voices
from arkund.core.demo.strokes import stroke
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.refine import first_sample
from arkund.core.hits.resolve import Hit, against_usual, usual_level_db
from arkund.core.replace.landing import landed
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.replace.shots import Sound, read
from tests.seeds import seeds

RATE = 48_000
PERIOD = RATE // 2
BEFORE = 144


def later(x: np.ndarray, samples: float) -> np.ndarray:
    """Return a signal delayed by parts of a sample, exactly, by the phase of its spectrum."""
    spectrum = np.fft.rfft(x, 2 * x.size) * np.exp(-2j * np.pi * np.arange(x.size + 1) * samples / (2 * x.size))
    return np.fft.irfft(spectrum)[: x.size]


class Played:
    """A drum's hits at known parts of a sample, in its own mic, with what is found of them."""

    def __init__(self, piece: str, seed: int, count: int = 12, bleed: float = 0.0) -> None:
        rng = np.random.default_rng(seed)
        self.parts = rng.uniform(0.0, 1.0, count)
        self.levels_db = np.concatenate([[0.0], rng.uniform(-15.0, 0.0, count - 1)])
        made = sum(stroke(usual_voices()[piece], "", -2.0, seed, RATE).values())[: PERIOD - 2000]
        made = np.concatenate([np.zeros(1000), made / np.abs(made).max(), np.zeros(500)])
        x = np.zeros(PERIOD * (count + 1))
        for k, (part, db) in enumerate(zip(self.parts, self.levels_db, strict=True)):
            one = 10 ** (db / 20) * later(made, part)
            x[PERIOD * (k + 1) - 1000 :][: one.size] += one[: x.size - PERIOD * (k + 1) + 1000]
        x += bleed * rng.standard_normal(x.size)
        self.x = x.astype(np.float32)
        self.mic = ArrayMic(self.x)
        at = [first_sample(self.mic, PERIOD * (k + 1), RATE)[0] for k in range(count)]
        self.hits = [Hit(piece, a / RATE, float(db), 100, False) for a, db in zip(at, self.levels_db, strict=True)]
        self.sound = Sound(self.mic.read(at[0] - BEFORE, at[0] + PERIOD // 2), BEFORE)
        self.strikes, self.late = landed(self.mic.read, self.hits, {"one": self.sound}, RATE)

    def misses(self) -> np.ndarray:
        """Return by how many samples each strike is off from where the shot's attack would lie on it."""
        true = PERIOD * np.arange(1, self.parts.size + 1) + self.parts
        shot = self.hits[0].time_s * RATE + self.late["one"] - true[0]
        return np.array([at for at, _ in self.strikes]) - true - shot

    def gained_db(self, strikes, late: float, low_hz: float, high_hz: float) -> float:
        """Return by how much a band gets louder where the hit is laid under all of them, as strong as they are."""
        shot = Shot(capture="one", late_samples=late, gain_db=usual_level_db(self.hits) - self.hits[0].level_db)
        mine = Sampled(shots=(shot,), strikes=tuple(strikes))
        under = read(mine, {"one": self.sound}, 0, self.x.size)
        power = lambda x: np.sum(np.abs(np.fft.rfft(x)[slice(*(round(hz * x.size / RATE) for hz in (low_hz, high_hz)))]) ** 2)  # fmt: skip
        return 10.0 * np.log10(power(self.x + under) / power(self.x))


class TestLanded:
    """On the attack, not on the sample at which it was found."""

    @pytest.mark.parametrize("seed", seeds(611, 612, 613))
    @pytest.mark.parametrize("piece", ["kick", "snare", "tom1", "floor"])
    def test_to_a_part_of_a_sample(self, piece, seed):
        """Within a sixteenth of a sample, whatever the strength."""
        assert np.abs(Played(piece, seed).misses()).max() < 1 / 16

    @pytest.mark.parametrize("seed", [614, 615])
    def test_beside_other_sound(self, seed):
        """With noise 40 dB under the hits: within a quarter of a sample for the strong ones."""
        played = Played("snare", seed, bleed=0.01)
        strong = played.levels_db > -8.0
        assert np.abs(played.misses()[strong]).max() < 0.25

    @pytest.mark.parametrize("seed", [616, 617])
    def test_it_adds_up_to_the_top(self, seed):
        """A hit laid under others like it makes 8 to 12 kHz 6.02 dB louder, within 0.1 dB; on whole samples it did not."""
        played = Played("snare", seed)
        assert played.gained_db(played.strikes, played.late["one"], 8000.0, 12_000.0) == pytest.approx(6.02, abs=0.1)
        whole = against_usual(played.hits, RATE)
        assert played.gained_db(whole, 0.0, 8000.0, 12_000.0) < 5.9

    def test_a_sound_that_is_none_of_the_drum_stays(self):
        """Nothing of it can be compared: it begins where it was found."""
        played = Played("kick", 618)
        noise = np.random.default_rng(618).standard_normal(4000).astype(np.float32)
        _, late = landed(played.mic.read, played.hits, {"noise": Sound(noise, BEFORE)}, RATE)
        assert late == {"noise": 0.0}

    def test_one_hit_alone(self):
        """It is its own average."""
        played = Played("tom1", 619, count=1)
        assert played.misses() == pytest.approx([0.0], abs=0.02)


class TestBetweenSamples:
    """A shot that lands between samples is the same shot, later."""

    @pytest.mark.parametrize("late", [0.0, 0.25, 0.5, -0.78125, 3.4375])
    def test_against_the_exact_delay(self, late):
        """Within -70 dB of the one by its spectrum, up to 20 kHz."""
        rng = np.random.default_rng(7)
        spectrum = np.fft.rfft(np.r_[np.zeros(500), rng.standard_normal(2000) * np.hanning(2000), np.zeros(1500)])
        spectrum[round(4000 * 20_000 / RATE) :] = 0.0
        x = np.fft.irfft(spectrum).astype(np.float32)
        mine = Sampled(shots=(Shot(capture="c", late_samples=-late),), strikes=((RATE, 0.0),))
        got = read(mine, {"c": Sound(x, 500)}, RATE - 500, RATE + 3500)
        off = got - later(x.astype(float), late)
        assert 10 * np.log10(np.sum(off**2) / np.sum(x.astype(float) ** 2)) < -70.0
