"""Arrival and polarity against the room's geometry."""

import numpy as np
import pytest

from arkund.core.demo.room import arrival_s
from arkund.core.files.audio import ArrayMic
from arkund.core.lineup import measure as lineup
from arkund.core.lineup.propose import propose
from tests.kits import small_kit


class TestMeasure:
    """Every mic within 0.1 ms; polarity right or said to be unsure."""

    @pytest.mark.parametrize(
        ("seed", "style", "rate"),
        [
            (522, "slow", 44_100),
            pytest.param(511, "straight", 48_000, marks=pytest.mark.long),
            pytest.param(533, "sixeight", 96_000, marks=pytest.mark.long),
        ],
    )
    def test_generated_kits(self, seed, style, rate):
        """Delay from distance over the speed of sound."""
        kit = small_kit(seed=seed, style=style, bpm=84.0, bars=6, rate=rate)
        places = {m.name: m for m in kit.kit.mics}
        for found in lineup.measure(kit.plan, kit, kit.hits):
            true = arrival_s(places[found.mic], found.piece) - arrival_s(places[found.reference], found.piece)
            polarity = -1 if found.mic == "Snr btm" else 1
            if found.sure:
                assert found.delay_ms == pytest.approx(true * 1000, abs=0.1), found.mic
                assert found.polarity == polarity, found.mic

    def test_silence_arrives_at_no_time(self, straight):
        """A mic of digital silence has no row."""
        silent = type(straight)(
            **{**vars(straight), "readers": straight.readers | {"KD out": ArrayMic(np.zeros(straight.samples))}}
        )
        rows = {row.mic for row in lineup.measure(straight.plan, silent, straight.hits)}
        assert "KD out" not in rows
        assert "Snr btm" in rows

    def test_inverted_copy(self, straight):
        """An inverted copy later by 37 samples is found as such, within a hundredth of a millisecond."""
        top = straight.readers["SN top"]
        late = ArrayMic(-np.concatenate([np.zeros(37), top.read(0, top.length)]))
        at = [round(h.time_s * 48_000) for h in straight.truth["snare"] if not h.ghost]
        delay, polarity, spread, sure = lineup.arrival(top, late, at, 6.0, 48_000)
        assert delay == pytest.approx(37 / 48, abs=0.01)
        assert (polarity, sure) == (-1, True)
        assert spread < 0.02

    def test_unrelated_mics_are_unsure(self, straight):
        """Noise has no arrival."""
        rng = np.random.default_rng(6)
        noise = ArrayMic(rng.standard_normal(straight.samples) * 0.1)
        at = [round(h.time_s * 48_000) for h in straight.truth["snare"]]
        *_, sure = lineup.arrival(straight.readers["SN top"], noise, at, 6.0, 48_000)
        assert not sure


class TestPeaksNear:
    """Each hit's own delay."""

    def test_against_an_upsampled_inverse_transform(self):
        """The same places as in the whole correlation, upsampled four times by transforming it back with zeros above, and a parabola."""
        rng, rate, size = np.random.default_rng(12), 48_000, 4096
        kept = slice(6, 768)
        near = rng.standard_normal((5, 1500))
        far = np.stack([np.roll(row, 31 + k) for k, row in enumerate(near)]) + rng.standard_normal((5, 1500)) * 0.2
        cross = (np.fft.rfft(far, size) * np.conj(np.fft.rfft(near, size)))[:, kept]
        found = lineup._peaks_near(33 / 48, cross, kept, size, 6.0, rate)
        for k in range(5):
            spectrum = np.zeros(size // 2 + 1, complex)
            spectrum[kept] = cross[k] / np.abs(cross[k]) ** lineup.WHITEN
            line = np.abs(np.fft.irfft(spectrum, 4 * size))
            best = 80 + int(np.argmax(line[80:181]))
            a, b, c = line[best - 1 : best + 2]
            assert found[k] == pytest.approx((best + 0.5 * (a - c) / (a - 2 * b + c)) / 4 / 48, abs=1e-5)

    def test_not_beyond_what_may_be(self):
        """A delay at the edge of what is looked at is not exceeded."""
        x = np.random.default_rng(1).standard_normal((1, 1000))
        spectrum = np.fft.rfft(x, 2048)[:, 5:300]
        late = np.fft.rfft(np.roll(x, 100), 2048)[:, 5:300]
        (found,) = lineup._peaks_near(1.9, late * np.conj(spectrum), slice(5, 300), 2048, 2.0, 48_000)
        assert found <= 2.0


class TestPropose:
    """What is sure is moved, the kit's mics keep their distance."""

    def test_snare_bottom_is_turned(self, straight):
        """Polarity and delay of the snare's second mic."""
        notes = {f.place: f for f in propose(straight.plan, lineup.measure(straight.plan, straight, straight.hits))}
        assert notes["Snr btm"].changes["mics.Snr btm.line_up.inverted"] is True
        assert "mics.KD out.line_up.delay_ms" in notes["KD out"].changes
        for overhead in ("OH L", "OH R", "Rm L"):
            assert "delay_ms" not in str(notes.get(overhead, ""))

    def test_unsure_is_not_moved(self, straight):
        """An unsure mic is named, never changed."""
        found = lineup.Arrival("OH L", "SN top", "snare", 3.0, 1, 2.0, False, 12)
        (note,) = propose(straight.plan, [found])
        assert note.changes == {}
        assert not note.first_choice


class TestCleanHits:
    """Hits that stand alone are preferred."""

    def test_apart_from_others(self, straight):
        """None of the chosen has a kick or tom near."""
        chosen = lineup.clean_hits(straight.hits, "snare")
        others = [h.time_s for p in ("kick", "tom1", "tom2", "floor") for h in straight.hits.get(p, [])]
        assert chosen
        assert all(min(abs(h.time_s - t) for t in others) > 0.06 for h in chosen)
        assert lineup.clean_hits({}, "snare") == []
