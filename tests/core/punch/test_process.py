"""Compressor against its static curve and time constants; shaper independent of level."""

import numpy as np
import pytest

from arkund.core.demo.room import usual_voices
from arkund.core.demo.strokes import stroke
from arkund.core.dsp.bank import NARROW, bank_of, filter_bank
from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import MicPlan
from arkund.core.punch import process as punch
from arkund.core.punch.measure import attack_and_body_db, average_envelope, hits_before, taken, threshold_for_hits
from arkund.core.punch.propose import first_settings, propose
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from tests.stages import compressor_gain, through

RATE = 48_000


def gain_db(x: np.ndarray, s: CompressorSettings) -> np.ndarray:
    return 20 * np.log10(compressor_gain(bank_of([x.astype(np.float32)]), [s], RATE)[:, 0])


class TestStaticCurve:
    """(L - T)(1 - 1/R) above the knee."""

    @pytest.mark.parametrize("ratio", [1.5, 4.0, 20.0])
    @pytest.mark.parametrize("knee_db", [0.0, 6.0])
    @pytest.mark.parametrize("level_db", [-30.0, -20.5, -19.0, -12.0, -3.0])
    def test_settled_reduction(self, ratio, knee_db, level_db):
        """A steady level settles on the curve within 0.02 dB."""
        s = CompressorSettings(on=True, threshold_db=-20.0, ratio=ratio, knee_db=knee_db, attack_ms=1.0, release_ms=5.0)
        x = np.full(RATE // 2, 10 ** (level_db / 20))
        assert -gain_db(x, s)[-1] == pytest.approx(float(punch.static_reduction_db(level_db, s)), abs=0.02)

    def test_four_to_one_lets_one_out(self):
        """12 dB over the threshold at 4:1 leaves 3."""
        s = CompressorSettings(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0)
        assert punch.static_reduction_db(np.array([-8.0]), s) == pytest.approx([9.0])

    def test_make_up(self):
        """Below the threshold only the make-up is left."""
        s = CompressorSettings(on=True, threshold_db=-10.0, makeup_db=4.0)
        assert gain_db(np.full(4800, 0.01), s)[-1] == pytest.approx(4.0, abs=1e-3)


class TestTimes:
    """63 % of the way after the attack and the release."""

    @pytest.mark.parametrize("attack_ms", [1.0, 10.0, 30.0])
    def test_attack(self, attack_ms):
        """Within 1 % of 1 - 1/e."""
        s = CompressorSettings(
            on=True, threshold_db=-20.0, ratio=10.0, knee_db=0.0, attack_ms=attack_ms, release_ms=100.0
        )
        x = np.concatenate([np.full(4800, 1e-4), np.full(RATE, 0.5)])
        reduction = -gain_db(x, s)
        at = 4800 + int(attack_ms * RATE / 1000)
        assert reduction[at] / reduction[-1] == pytest.approx(1 - np.exp(-1), abs=0.01)

    @pytest.mark.parametrize("release_ms", [50.0, 200.0])
    def test_release(self, release_ms):
        """Within 1 % of 1/e left."""
        s = CompressorSettings(
            on=True, threshold_db=-20.0, ratio=10.0, knee_db=0.0, attack_ms=1.0, release_ms=release_ms
        )
        x = np.concatenate([np.full(RATE, 0.5), np.full(RATE, 1e-4)])
        reduction = -gain_db(x, s)
        at = RATE + int(release_ms * RATE / 1000)
        assert reduction[at] / reduction[RATE - 1] == pytest.approx(np.exp(-1), abs=0.01)


class TestDetector:
    """Key high-pass and linked pairs."""

    def test_high_passed_detector_ignores_the_kick(self):
        """50 Hz at full level no longer pumps."""
        t = np.arange(RATE) / RATE
        low = 0.5 * np.sin(2 * np.pi * 50 * t)
        wide = CompressorSettings(on=True, threshold_db=-30.0, ratio=10.0)
        assert gain_db(low, wide)[-1] < -8
        assert gain_db(low, wide.replace(detector_low_hz=400.0))[-1] > -1.0

    def test_linked_pair_moves_together(self):
        """A hit on the left lowers both sides by the same gain."""
        left, right = np.full(9600, 0.8, np.float32), np.full(9600, 0.05, np.float32)
        s = CompressorSettings(on=True, threshold_db=-20.0, ratio=8.0)
        stereo = np.stack([left, right], axis=1)
        linked = punch.LinkedCompressor(s, RATE).gain(stereo)
        apart = compressor_gain(bank_of([left, right]), [s, s], RATE)
        assert np.allclose(
            linked, apart[:, 0], rtol=1e-5
        )  # 0.0001 dB: one multiplies and adds at once, the other does not
        assert apart[-1, 1] == pytest.approx(1.0, rel=1e-5)
        out = stereo.copy()
        punch.LinkedCompressor(s, RATE).run(out, 0.5)
        assert np.allclose(out, stereo * (0.5 * linked + 0.5)[:, None], rtol=1e-6)

    @pytest.mark.parametrize("times", [{"attack_ms": 3.0, "release_ms": 60.0}, {"attack_ms": 30.0, "release_ms": 5.0}])
    @pytest.mark.parametrize("detector_low_hz", [20.0, 120.0])
    def test_a_pair_in_pieces(self, detector_low_hz, times):
        """The louder side leads sample by sample, and the pieces' borders do not show."""
        rng = np.random.default_rng(4)
        stereo = (rng.standard_normal((30_000, 2)) * np.exp(-(np.arange(30_000) % 9000) / 1500)[:, None]).astype(
            np.float32
        )
        s = CompressorSettings(on=True, threshold_db=-25.0, ratio=5.0, detector_low_hz=detector_low_hz, **times)
        whole = stereo.copy()
        punch.LinkedCompressor(s, RATE).run(whole)
        parts, compressor = np.array_split(stereo, [256, 8192, 8704]), punch.LinkedCompressor(s, RATE)
        parts = [part.copy() for part in parts]
        for part in parts:
            compressor.run(part)
        assert np.abs(np.concatenate(parts) - whole).max() < 1e-6
        key = np.abs(filter_bank(bank_of(list(stereo.T)), [punch.detector(s, RATE)] * 2)[:, :2]).max(axis=1)
        flat = s.replace(detector_low_hz=20.0)
        gain = compressor_gain(bank_of([key]), [flat], RATE)[:, :1]
        assert np.abs(whole - stereo * gain).max() < 1e-5


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
    return through(punch.Shaper([ShaperSettings(on=True, **settings)], RATE, NARROW), bank_of([x]))[:, 0]


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
        s = ShaperSettings(on=True, attack_db=8.0, sustain_db=-8.0)
        loud, soft = hit(0.5), hit(0.025)
        a = through(punch.Shaper([s], RATE, NARROW), bank_of([loud]))[:, 0] / loud
        b = through(punch.Shaper([s], RATE, NARROW), bank_of([soft]))[:, 0] / soft
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


class TestMeasureAndPropose:
    """Envelopes of real hits and the settings that follow."""

    def test_average_envelope(self, straight):
        """The peak of the average lies within 5 ms after the hit."""
        found = average_envelope(straight.readers["SN top"].read, straight.hits["snare"], RATE)
        at = found.time_ms[int(np.argmax(found.level_db))]
        assert -1.0 <= at <= 6.0
        attack, body = attack_and_body_db(found)
        assert attack > body + 3

    def test_release_follows_the_music(self):
        """95 % recovered by the next own hit."""
        mic = MicPlan(id="s", name="S", piece="snare", role="top")
        _, compressor = first_settings(mic, 0.45)
        assert compressor.release_ms == pytest.approx(150.0)

    def test_cymbals_are_left(self):
        """No compressor for a hat at first choice."""
        assert first_settings(MicPlan(id="h", name="H", piece="hihat", role="spot"), 0.2) is None

    @pytest.mark.parametrize("piece", ["kick", "snare", "floor"])
    def test_the_threshold_takes_what_is_wanted(self, piece):
        """Whatever the attack lets through: rendered, the usual hit loses 4 dB at its deepest, and the note tells what is left later."""
        x = np.tile(struck(piece, 471, -6.0)[: RATE // 2], 8)
        hits = [Hit(piece, (AT + k * RATE // 2) / RATE, -6.0, 120, False) for k in range(1, 7)]
        read = lambda a, b: x[a:b]
        mic = MicPlan(id="m", name="M", piece=piece, role="close")
        shaper, compressor = first_settings(mic, 0.5)
        heard = hits_before(read, hits, 0.5, RATE)
        compressor = compressor.replace(threshold_db=threshold_for_hits(heard, compressor, 4.0, RATE))
        gain = gain_db(x, compressor.replace(makeup_db=0.0))
        deepest = [-gain[round(h.time_s * RATE) :][: RATE // 8].min() for h in hits]
        assert np.median(deepest) == pytest.approx(4.0, abs=0.25)
        found = taken(heard, compressor, RATE)
        assert found.deepest_db == pytest.approx(4.0, abs=0.15)
        note = propose(mic, shaper, compressor, found)
        assert f"takes {found.deepest_db:.1f} dB" in note.evidence

    def test_less_than_the_curve(self):
        """A steady tone of 100 Hz loses less than the curve says, and what is told is what is lost."""
        x = (0.5 * np.sin(2 * np.pi * 100 * np.arange(RATE) / RATE)).astype(np.float32)
        s = CompressorSettings(on=True, threshold_db=-18.0, ratio=4.0, attack_ms=25.0, release_ms=50.0)
        told = taken([x], s, RATE)
        assert told.left_db == pytest.approx(-gain_db(x, s)[-1], abs=0.01)
        assert told.left_db < float(punch.static_reduction_db(-6.02, s)) - 1.0

    def test_nothing_played(self):
        """Takes nothing."""
        assert taken([], CompressorSettings(), RATE).deepest_db == 0.0
