"""Tempo and distances from the grid against played truth."""

import numpy as np
import pytest

from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import Tempo
from arkund.core.timing.measure import bar_s, beat_s, by_piece, deviations, estimate_tempo
from arkund.core.timing.propose import propose, quantise
from arkund.core.timing.settings import QuantiseSettings
from tests.kits import small_kit


def hit(piece, time_s, ghost=False):
    return Hit(piece, time_s, -8.0, 110, ghost)


class TestBars:
    """Lengths by meter."""

    @pytest.mark.parametrize(
        ("beats", "unit", "bpm", "bar"), [(4, 4, 120.0, 2.0), (3, 4, 90.0, 2.0), (6, 8, 60.0, 2.0), (7, 8, 120.0, 3.5)]
    )
    def test_bar(self, beats, unit, bpm, bar):
        """Compound meters count dotted beats."""
        tempo = Tempo(bpm=bpm, beats_per_bar=beats, beat_unit=unit)
        assert bar_s(tempo) == pytest.approx(bar)
        assert beat_s(tempo) * beats == pytest.approx(bar)


class TestEstimateTempo:
    """From the hits alone."""

    @pytest.mark.parametrize(
        ("style", "bpm", "seed"), [("straight", 121.3, 61), ("busy", 98.7, 62), ("slow", 71.9, 63)]
    )
    def test_generated_playing(self, style, bpm, seed):
        """Within 0.2 BPM over ten bars of human playing."""
        kit = small_kit(seed=seed, style=style, bpm=bpm, bars=10)
        guess = estimate_tempo(kit.hits)
        assert guess.bpm == pytest.approx(bpm, abs=0.2)
        off = (guess.first_bar_s - kit.playing.start_s) % (240 / bpm)
        assert min(off, 240 / bpm - off) < 0.02

    def test_too_few_hits(self):
        """Seven strokes make no tempo."""
        assert estimate_tempo({"kick": [hit("kick", float(i)) for i in range(7)]}) is None

    def test_random_hits_have_no_tempo(self):
        """Doubt is said."""
        rng = np.random.default_rng(9)
        guess = estimate_tempo({"kick": [hit("kick", float(t)) for t in np.sort(rng.uniform(0, 30, 60))]})
        assert not guess.sure
        assert guess.score < 0.6


class TestDeviations:
    """Signed distance in ms, by bar and place."""

    def test_known_offsets(self):
        """Late is positive."""
        tempo = Tempo(bpm=120.0, first_bar_s=1.0)
        rows = deviations({"kick": [hit("kick", 1.0), hit("kick", 3.01)], "snare": [hit("snare", 1.488)]}, tempo, 16)
        assert [(d.piece, d.bar, d.meant, round(d.off_ms, 3)) for d in rows] == [
            ("kick", 0, 0.0, 0.0),
            ("snare", 0, 1.0, -12.0),
            ("kick", 1, 0.0, 10.0),
        ]

    def test_just_before_the_bar_belongs_to_the_next(self):
        """A pushed first beat is early, not a late sixteenth."""
        (row,) = deviations({"kick": [hit("kick", 2.98)]}, Tempo(bpm=120.0, first_bar_s=1.0), 16)
        assert (row.bar, row.meant) == (1, 0.0)
        assert row.off_ms == pytest.approx(-20.0)

    def test_by_piece(self):
        """Mean push and spread."""
        tempo = Tempo(bpm=120.0)
        rows = deviations({"snare": [hit("snare", 0.49), hit("snare", 1.52)]}, tempo, 16)
        (found,) = by_piece(rows)
        assert (found.hits, found.furthest_ms) == (2, pytest.approx(20.0))
        assert found.mean_ms == pytest.approx(5.0)


class TestQuantise:
    """Cuts from played hits."""

    tempo = Tempo(bpm=120.0, first_bar_s=0.0)

    def hits(self):
        rng = np.random.default_rng(3)
        out = {"kick": [], "snare": [], "hihat": []}
        for i in range(64):
            late = float(rng.normal(0, 0.008))
            piece = ("kick", "hihat", "snare", "hihat")[i % 4]
            out[piece].append(hit(piece, 0.02 + i * 0.25 + late))
        return out

    @pytest.mark.parametrize("strength", [50.0, 100.0])
    def test_strokes_come_nearer_by_the_strength(self, strength):
        """At 100 % they stand on the grid to the sample."""
        rate = 48_000
        settings = QuantiseSettings(first_bar=0, last_bar=7, grid=8, strength=strength, tolerance_ms=0.0)
        cuts = quantise(self.hits(), self.tempo, settings, (), rate)
        from arkund.core.timing.process import moved_sample

        for mine in self.hits().values():
            for h in mine:
                before = h.time_s - round(h.time_s / 0.25) * 0.25
                after = moved_sample(cuts, round(h.time_s * rate)) / rate - round(h.time_s / 0.25) * 0.25
                assert after == pytest.approx(before * (1 - strength / 100), abs=2 / rate)

    def test_nothing_after_the_last_bar_moves(self):
        """The last cut brings the shift back."""
        settings = QuantiseSettings(first_bar=1, last_bar=2, grid=8, tolerance_ms=0.0)
        cuts = quantise(self.hits(), self.tempo, settings, (), 48_000)
        assert cuts[-1].shift == 0
        assert cuts[-1].at <= 6.3 * 48_000
        assert cuts[0].at >= 1.8 * 48_000

    def test_tolerance_leaves_alone(self):
        """What is near enough makes no cut."""
        settings = QuantiseSettings(first_bar=0, last_bar=7, grid=8, tolerance_ms=50.0)
        assert quantise(self.hits(), self.tempo, settings, (), 48_000) == ()

    def test_twice_is_once(self):
        """Pulling the same bars again replaces the earlier cuts."""
        settings = QuantiseSettings(first_bar=0, last_bar=3, grid=8, tolerance_ms=0.0)
        once = quantise(self.hits(), self.tempo, settings, (), 48_000)
        assert quantise(self.hits(), self.tempo, settings, once, 48_000) == once

    def test_outliers_are_named_not_moved(self):
        """A finding without a change."""
        hits = {"snare": [hit("snare", 0.5), hit("snare", 1.53)], "kick": [hit("kick", 0.0)]}
        notes = propose(deviations(hits, self.tempo, 16))
        assert len(notes) == 1
        assert notes[0].changes == {}
