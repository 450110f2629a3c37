"""The transient shaper: what is set is what a struck drum shows, whatever its level."""

import numpy as np
import pytest

from arkund.core.demo.room import usual_voices
from arkund.core.demo.strokes import stroke
from arkund.core.dsp.bank import bank_of
from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import Hit
from arkund.core.punch.measure import attack_and_body_db, average_envelope
from arkund.core.tools import shaper
from arkund.core.tools.plain import residual_db
from arkund.core.tools.shaper import Above, Shaper
from arkund.core.tools.tool import Key
from tests.core.dsp.test_bank import drums
from tests.seeds import seeds
from tests.stages import RATE, through


def hit(level: float, body_s: float = 0.1) -> np.ndarray:
    t = np.arange(RATE // 2) / RATE
    rng = np.random.default_rng(3)
    return (level * rng.standard_normal(t.size) * (np.exp(-t / body_s) + 2 * np.exp(-t / 0.004))).astype(np.float32)


AT = 9600


def struck(piece: str, seed: int, level_db: float) -> np.ndarray:
    """Return a second with one generated stroke at AT, over a little noise."""
    made = sum(stroke(usual_voices()[piece], "", -2.0, seed, RATE).values())
    x = 1e-5 * np.random.default_rng(seed).standard_normal(RATE)
    part = made[: RATE - AT]
    x[AT : AT + part.size] += part / np.abs(made).max()
    return (x * 10 ** (level_db / 20)).astype(np.float32)


def shaped(x: np.ndarray, **settings) -> np.ndarray:
    return through(Shaper(on=True, **settings), x)


def gain_of(x: np.ndarray, **settings) -> np.ndarray:
    """Return a shaper's gain in dB at every sample, between those that are too small to see it by as a line."""
    seen = np.flatnonzero(np.abs(x) > 1e-6)
    gain = 20 * np.log10(np.abs(shaped(x, **settings)[seen] / x[seen]) + 1e-9)
    return np.interp(np.arange(x.size), seen, gain)


def change_db(x: np.ndarray, **settings) -> tuple[float, float]:
    """Return by how much the peak of the first 12 ms and the mean level from 30 to 120 ms change."""
    figures = []
    for each in (x, shaped(x, **settings)):
        hit = [Hit("snare", AT / RATE, 0.0, 127, False)]
        figures.append(attack_and_body_db(average_envelope(lambda a, b, each=each: each[a:b], hit, RATE)))
    (attack, body), (new_attack, new_body) = figures
    return new_attack - attack, new_body - body


class TestShaper:
    """Attack and sustain, whatever the level."""

    def test_level_independent(self):
        """The same hit 26 dB softer is shaped by the same gain."""
        s = Shaper(on=True, attack_db=8.0, sustain_db=-8.0)
        loud, soft = hit(0.5), hit(0.025)
        a = through(s, loud) / loud
        b = through(s, soft) / soft
        part = slice(0, RATE // 8)
        assert np.median(np.abs(20 * np.log10(np.abs(a[part] / b[part])))) < 0.1

    @pytest.mark.parametrize("level_db", [0.0, -20.0, -40.0])
    @pytest.mark.parametrize("piece", ["kick", "snare", "tom1", "floor"])
    def test_keeps_its_word(self, piece, level_db):
        """What is set is what a struck drum shows, within 1 dB at any level: its peak by the attack, 30 to 120 ms by the sustain, neither by both."""
        for seed in (401, 402, 403):
            x = struck(piece, seed, level_db)
            for attack_db, sustain_db in ((6.0, 0.0), (-6.0, 0.0), (0.0, 6.0), (0.0, -12.0), (9.0, -9.0)):
                attack, body = change_db(x, attack_db=attack_db, sustain_db=sustain_db)
                assert attack == pytest.approx(attack_db, abs=1.0)
                assert body == pytest.approx(sustain_db, abs=1.0)

    def test_a_ringing_tom_is_let_go_of(self):
        """400 ms after the stroke the sustain is all there."""
        x = struck("floor", 411, -6.0)
        out = shaped(x, sustain_db=-24.0)
        late = slice(AT + int(0.38 * RATE), AT + int(0.42 * RATE))
        assert 10 * np.log10(np.sum(out[late] ** 2) / np.sum(x[late] ** 2)) == pytest.approx(-24.0, abs=0.1)

    def test_every_stroke_of_a_roll(self):
        """Toms that hardly fall between strokes get their attack each time."""
        stroke_of = struck("floor", 421, -6.0)[AT:]
        x = np.zeros(RATE, np.float32)
        for k in range(7):
            part = x[2000 + 6000 * k :][: stroke_of.size]
            part += stroke_of[: part.size]
        gain = gain_of(x, attack_db=6.0)
        assert [gain[2000 + 6000 * k : 2400 + 6000 * k].max() for k in range(7)] == pytest.approx([6.0] * 7, abs=0.2)

    def test_a_soft_stroke_after_a_loud_one(self):
        """125 ms after a stroke of 60 dB in 0.15 s one that is 22 dB softer gets as much."""
        rng, t = np.random.default_rng(431), np.arange(RATE // 2) / RATE
        one = rng.standard_normal(t.size) * np.exp(-t / 0.022)
        x = 0.2 * one
        x[6000:] += 0.2 * 10 ** (-22 / 20) * one[:-6000]
        assert gain_of(x.astype(np.float32), attack_db=6.0)[6000:6500].max() == pytest.approx(6.0, abs=0.1)

    @pytest.mark.parametrize("hz", [40.0, 50.0, 100.0, 1000.0])
    def test_a_steady_tone_is_left_whole(self, hz):
        """Its gain does not move once it has begun: nothing is distorted."""
        x = 0.5 * np.sin(2 * np.pi * hz * np.arange(RATE) / RATE).astype(np.float32)
        gain = gain_of(x, attack_db=6.0, sustain_db=-6.0)[RATE // 2 :]
        assert np.ptp(gain) < 1e-3

    def test_steady_noise_is_no_row_of_strokes(self):
        """Its attack is heard once."""
        x = 0.1 * np.random.default_rng(441).standard_normal(4 * RATE).astype(np.float32)
        gain = gain_of(x, attack_db=6.0)[RATE // 2 :]
        assert np.mean(gain > 1.0) < 0.01

    def test_nothing_set_is_a_wire(self):
        """On, with both at 0 dB: the same samples."""
        x = struck("snare", 451, -6.0)
        assert np.array_equal(shaped(x, attack_db=0.0), x)

    def test_no_click_at_the_ends_of_the_ranges(self):
        """From the least sustain to the most attack the gain takes a tenth of a millisecond and more: no step of a sample is larger than a third of it."""
        gain = gain_of(struck("tom1", 461, -6.0), attack_db=15.0, sustain_db=-24.0)
        assert np.abs(np.diff(gain)).max() < (15.0 + 24.0) / 3

    def test_a_stereo_strip_moves_together(self):
        """A stroke on the left shapes the right by the same gain."""
        left, right = struck("snare", 471, -6.0), 0.05 * struck("snare", 472, -40.0)
        both = through(Shaper(on=True, attack_db=9.0), left, right)
        seen = np.abs(right) > 1e-6
        assert np.allclose(
            (both[:, 1] / right)[seen], np.interp(np.arange(RATE), *_gain(both[:, 0], left))[seen], rtol=1e-3
        )

    @pytest.mark.parametrize("seed", seeds(31, 32))
    def test_against_the_plain_loop(self, seed):
        """Attack up, sustain down, and the other way round: the same within -90 dB of double precision."""
        for s in (Shaper(on=True, attack_db=9.0, sustain_db=-12.0), Shaper(on=True, attack_db=-6.0, sustain_db=8.0)):
            x = drums(seed)
            assert residual_db(through(s, x), shaper.oracle(x, s, RATE)) < -90


HITS = Key(of="hits:snare", length_ms=5.0)


def pulses(*strikes: tuple[int, float]) -> np.ndarray:
    """Return what a key of found hits gives: pulses of 5 ms at their levels."""
    key = np.zeros(RATE, np.float32)
    for at, level_db in strikes:
        key[at : at + RATE // 200] = np.maximum(key[at : at + RATE // 200], 10 ** (level_db / 20))
    return key


class TestKeyedByHits:
    """What the found hits tell is not missed, and nothing else is taken for a hit."""

    @pytest.mark.parametrize("softer_db", [0.0, -12.0, -30.0])
    @pytest.mark.parametrize("later_ms", [62, 40, 21])
    def test_a_second_hit_is_seen(self, later_ms, softer_db):
        """However soft, as soon as 21 ms after the first: the full attack on both."""
        second = AT + later_ms * RATE // 1000
        key = pulses((AT, -3.0), (second, -3.0 + softer_db))
        x = struck("snare", 491, -3.0)
        x[second:] += (0.5 * 10 ** (softer_db / 20) * struck("snare", 492, -3.0)[AT : AT + RATE - second]).astype("f4")
        gain = self.gain(x, key, attack_db=6.0)
        for at in (AT, second):
            assert gain[at + 24 : at + 480] == pytest.approx(6.0, abs=0.05)

    def test_by_itself_it_misses_that(self):
        """Which is why: a snare's second hit 62 ms later, 20 dB softer, is not seen in the ring of the first."""
        second = AT + 62 * RATE // 1000
        x = struck("snare", 491, -3.0)
        x[second:] += (0.1 * struck("snare", 492, -3.0)[AT : AT + RATE - second]).astype("f4")
        assert gain_of(x, attack_db=6.0)[second : second + 480].max() < 4.0

    def test_bleed_opens_nothing(self):
        """A hit of another drum, as loud, that is not among the found ones gets no attack."""
        x = struck("snare", 493, -3.0) + np.roll(struck("kick", 494, -3.0), RATE // 4)
        gain = self.gain(x, pulses((AT, -3.0)), attack_db=6.0)
        assert gain[AT + 24 : AT + 480] == pytest.approx(6.0, abs=0.05)
        assert np.abs(gain[AT + RATE // 5 :]).max() < 1e-3

    def test_in_pieces(self):
        """A bank that goes on block by block gives the very samples of the whole."""
        s = Shaper(on=True, attack_db=9.0, sustain_db=-6.0, key=HITS)
        x, key = struck("snare", 495, -6.0), pulses((AT, -6.0), (AT + 3000, -20.0))
        whole, run, bank = through(s, x, key=key), *self.run(s, x)
        keys = bank_of([key] * bank.shape[1])
        for at in range(0, RATE, 2304):
            run.run(bank[at : at + 2304], len(bank[at : at + 2304]), keys[at : at + 2304])
        assert np.array_equal(bank[:, 0], whole)

    def test_against_the_plain_loop(self):
        s = Shaper(on=True, attack_db=9.0, sustain_db=-12.0, key=HITS)
        x, key = drums(35), pulses(*[(k, -12.0 - k % 7) for k in range(500, RATE - 500, 3001)])
        x = x[:RATE]
        assert residual_db(through(s, x, key=key[: x.size]), shaper.oracle(x, s, RATE, key[: x.size])) < -90

    @staticmethod
    def gain(x: np.ndarray, key: np.ndarray, **settings) -> np.ndarray:
        """Return the gain in dB at every sample of a shaper that hears a key."""
        seen = np.abs(x) > 1e-6
        out = through(Shaper(on=True, key=HITS, **settings), x, key=key)
        gain = 20 * np.log10(np.abs(out[seen] / x[seen]) + 1e-9)
        return np.interp(np.arange(x.size), np.flatnonzero(seen), gain)

    @staticmethod
    def run(s: Shaper, x: np.ndarray) -> tuple:
        bank = bank_of([x]).copy()
        return shaper.Run([s], RATE, bank.shape[1]), bank


BODY = (0.03, 0.12)  # seconds after a stroke: what follows it


def in_band(x: np.ndarray, low_hz: float, high_hz: float) -> np.ndarray:
    """Return what lies between two frequencies, by steep filters without a phase."""
    spectrum, hz = np.fft.rfft(x.astype(float)), np.fft.rfftfreq(x.size, 1 / RATE)
    return np.fft.irfft(np.where((hz >= low_hz) & (hz < high_hz), spectrum, 0), x.size)


class TestBands:
    """Several bands, each with its attack and sustain."""

    EDGES = (150.0, 1000.0, 4000.0)

    def bands(self, *settings: dict) -> Shaper:
        first, *others = settings
        above = tuple(Above(from_hz=hz, **each) for hz, each in zip(self.EDGES, others, strict=False))
        return Shaper(on=True, above=above, **first)

    @pytest.mark.parametrize("count", [1, 2, 3, 4])
    def test_they_add_up(self, count):
        """Bands with equal settings are one band: within a hundredth of a decibel; with none, the very signal."""
        x = struck("snare", 481, -6.0)
        assert np.array_equal(through(self.bands(*[{}] * count), x), x)
        equal = through(self.bands(*[{"attack_db": 6.0, "sustain_db": -6.0}] * count), x)
        assert residual_db(equal, through(self.bands({"attack_db": 6.0, "sustain_db": -6.0}), x)) < -60.0

    @pytest.mark.parametrize("band", range(4))
    @pytest.mark.parametrize("level_db", [0.0, -40.0])
    def test_each_keeps_its_word(self, band, level_db):
        """Gain, sustain and attack of a band, where it is alone: within a decibel of what was set, the others by hardly anything."""
        rng = np.random.default_rng(482)
        noise = rng.standard_normal(RATE) * np.exp(-np.maximum(np.arange(RATE) - AT, 0) / (0.15 * RATE))
        x = (noise * (np.arange(RATE) >= AT) * 0.2 * 10 ** (level_db / 20)).astype(np.float32)
        middles = ((30.0, 70.0), (330.0, 460.0), (1800.0, 2300.0), (9000.0, 20_000.0))
        change = lambda tool, span, at: (
            10 * np.log10(np.sum(in_band(through(tool, x), *span)[at] ** 2) / np.sum(in_band(x, *span)[at] ** 2))
        )
        body = slice(AT + int(BODY[0] * RATE), AT + int(BODY[1] * RATE))
        for name, db in (("gain_db", 6.0), ("sustain_db", -9.0)):
            tool = self.bands(*[{name: db} if k == band else {} for k in range(4)])
            assert change(tool, middles[band], body) == pytest.approx(db, abs=1.0)
            for other in set(range(4)) - {band}:
                assert abs(change(tool, middles[other], body)) < 1.0
        tool = self.bands(*[{"attack_db": 6.0} if k == band else {} for k in range(4)])
        first = slice(AT, AT + int(0.009 * RATE))
        if band >= 2:  # a period of lower ones is longer than the attack
            assert change(tool, middles[band], first) == pytest.approx(6.0, abs=1.0)

    @pytest.mark.parametrize("seed", seeds(33, 34))
    def test_against_the_plain_loop(self, seed):
        """Four bands of any settings."""
        rng, x = np.random.default_rng(seed), drums(seed)
        names = {"attack_db": 12.0, "sustain_db": 12.0, "gain_db": 6.0}
        settings = [{name: float(rng.uniform(-most, most)) for name, most in names.items()} for _ in range(4)]
        s = self.bands(*settings)
        assert residual_db(through(s, x), shaper.oracle(x, s, RATE)) < -90

    def test_refused(self):
        """Too many, and out of order."""
        with pytest.raises(SettingsError, match="at most 4 bands"):
            Shaper(above=tuple(Above(from_hz=100.0 * k) for k in range(1, 5)))
        with pytest.raises(SettingsError, match="in order of frequency"):
            Shaper(above=(Above(from_hz=900.0), Above(from_hz=300.0)))


def _gain(out: np.ndarray, x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return a gain where it can be seen: places and values."""
    seen = np.flatnonzero(np.abs(x) > 1e-6)
    return seen, out[seen] / x[seen]
