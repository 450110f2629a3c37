"""The meter from generated playing whose meter is known."""

import numpy as np
import pytest

from arkund.core.demo.score import HARD_CASES, Playing, play
from arkund.core.timing.meter import METERS, SURE, estimate_meter
from tests.core.timing.playing import hit, hits_of

PLAYED = {"straight": "4/4", "busy": "4/4", "slow": "4/4", "sixeight": "6/8", "three": "3/4"}
TEMPOS = {"straight": (85, 175), "busy": (75, 140), "slow": (60, 85), "sixeight": (45, 105), "three": (80, 180)}


def playing_of(seed: int, **more) -> Playing:
    """Return a part of a style, tempo and length of its own, with some of the hard cases, around a click."""
    rng = np.random.default_rng([seed, 41])
    style = list(PLAYED)[seed % len(PLAYED)]
    return Playing(
        style=style,
        bpm=float(rng.uniform(*TEMPOS[style])),
        bars=int(rng.choice([12, 24, 48])),
        start_s=2.4,
        seed=seed,
        flam_share=0.1,
        cymbal="ride" if rng.random() < 0.3 else "hihat",
        hard=tuple(case for case in HARD_CASES if rng.random() < 0.3),
        **({"wander_ms": 10.0} | more),
    )


class TestEstimateMeter:
    """Of hits alone."""

    @pytest.mark.parametrize("seeds", [range(5000, 5004), pytest.param(range(5004, 5060), marks=pytest.mark.long)])
    def test_usual_ways_to_play(self, seeds):
        """Four, three and six eighths, slow and fast, around a click: all right and sure; the tempo to 2 %, or its double or half."""
        for seed in seeds:
            playing = playing_of(seed)
            found = estimate_meter(hits_of(play(playing)))
            assert found.name == PLAYED[playing.style], seed
            assert found.share >= SURE, seed
            octaves = np.log2(found.bpm / playing.bpm)
            assert abs(octaves - round(octaves)) < 0.03, seed

    @pytest.mark.parametrize("seeds", [range(5100, 5102), pytest.param(range(5102, 5105), marks=pytest.mark.long)])
    def test_without_a_click(self, seeds):
        """Windows hold where the tempo of the whole song does not."""
        for seed in seeds:
            playing = playing_of(seed, wander_ms=0.0, loose_percent=0.4)
            assert estimate_meter(hits_of(play(playing))).name == PLAYED[playing.style], seed

    def test_doubt(self):
        """Kicks alone, evenly: no meter is sure, and the words name another."""
        found = estimate_meter({"kick": [hit("kick", 1.0 + 0.5 * k) for k in range(40)]})
        assert found.share < SURE
        assert f"or {found.other}" in found.words

    def test_too_few_hits(self):
        """Say nothing, nor do those far apart or of toms alone."""
        assert estimate_meter({"kick": [hit("kick", float(k)) for k in range(5)]}) is None
        assert estimate_meter({"kick": [hit("kick", 5.0 * k) for k in range(20)]}) is None
        assert estimate_meter({"tom1": [hit("tom1", 0.5 * k) for k in range(40)]}) is None


def test_shares_of_a_meter_add_up():
    """Each row is a distribution over the bar's sixteenths."""
    for meter in METERS:
        for row in (meter.kick, meter.first, *meter.snares, *meter.hats):
            assert len(row) == meter.places
            assert sum(row) == pytest.approx(1.0)
