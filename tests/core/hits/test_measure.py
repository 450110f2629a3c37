"""Found hits against the generator's truth, on kits that were not used while building."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits.measure import family, find_hits
from arkund.core.hits.settings import Channel, HitSettings
from tests.kits import NOTHING, compare, small_kit

SHELLS = ("kick", "snare", "tom1", "tom2", "floor")


def found_in(kit) -> dict[str, list[float]]:
    readers = [kit.readers[m.name] for m in kit.kit.mics]
    hits = find_hits(readers, kit.channels, kit.sample_rate_hz, HitSettings())
    return {piece: [h.time_s for h in mine] for piece, mine in hits.items()}


def score(kit, found, pieces):
    total = NOTHING
    for piece in pieces:
        total += compare([h.time_s for h in kit.truth.get(piece, [])], found.get(piece, []))
    return total


class TestFindHits:
    """F-measure at +-5 ms; the larger survey over styles and hard cases is `make survey`."""

    def test_straight(self, straight):
        """Kick, snare and toms of a straight beat."""
        total = score(straight, found_in(straight), SHELLS)
        assert total.f >= 0.97
        assert np.median(np.abs(total.errors_s)) < 0.0005

    def test_no_hits_in_silence(self):
        """A silent recording has no hits, and is no error."""
        silent = [ArrayMic(np.zeros(96_000)) for _ in range(2)]
        channels = [Channel("kick", True, True), Channel("snare", True, True)]
        assert find_hits(silent, channels, 48_000, HitSettings()) == {"kick": [], "snare": []}

    def test_noise_alone(self):
        """Steady noise holds few or no hits."""
        rng = np.random.default_rng(3)
        mics = [ArrayMic(rng.standard_normal(144_000) * 0.01) for _ in range(3)]
        channels = [Channel(p, True, True) for p in ("kick", "snare", "tom1")]
        found = find_hits(mics, channels, 48_000, HitSettings())
        assert sum(map(len, found.values())) <= 3

    def test_one_mic_alone(self):
        """A single close mic needs no others."""
        kit = small_kit(seed=91, style="slow", bpm=80.0, bars=3, play_with={"fills": False, "cymbal": "hihat"})
        top = kit.readers["SN top"]
        found = find_hits([top], [Channel("snare", True, True)], 48_000, HitSettings())
        strong = [h.time_s for h in kit.truth["snare"] if not h.ghost]
        assert compare(strong, [h.time_s for h in found["snare"]]).right >= len(strong) - 1

    @pytest.mark.parametrize(
        ("piece", "name"), [("kick", "kick"), ("snare", "snare"), ("tom3", "tom"), ("floor", "tom"), ("ride", "cymbal")]
    )
    def test_family(self, piece, name):
        """Pieces that are judged alike."""
        assert family(piece) == name
