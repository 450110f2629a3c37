"""Who is loudest where: tones and noises of known levels."""

import numpy as np
import pytest

from arkund.core.dsp.filters import magnitude_db
from arkund.core.tone.masking import BANDS_HZ, FIGHT_DB, Fight, masking, parting
from arkund.core.tools.tone import Tone, sections

RATE = 48_000
HITS = (0.2, 0.7, 1.2, 1.7)


def tone(hz: float, level_db: float) -> np.ndarray:
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * np.arange(2 * RATE) / RATE)).astype(np.float32)


def band_of(hz: float) -> int:
    return int(np.argmin(np.abs(np.log2(np.array(BANDS_HZ) / hz))))


class TestMasking:
    """By third of an octave."""

    def test_each_its_own(self):
        """The louder one of a band, and by how much; where nothing sounds nobody."""
        low, high = tone(62.5, -12.0), tone(4000.0, -20.0)
        strips = {"kick": low, "overheads": high + 0.1 * low}
        found = masking(strips, HITS, RATE)
        assert found.loudest[band_of(62.5)] == "kick"
        assert found.leads_db[band_of(62.5)] == pytest.approx(20.0, abs=0.3)
        assert found.loudest[band_of(4000.0)] == "overheads"
        assert found.loudest[band_of(12_000.0)] == ""
        assert found.fights == ()

    @pytest.mark.parametrize("apart_db", [0.5, 2.5, 3.5, 6.0])
    def test_a_fight(self, apart_db):
        """Two within 3 dB, told with the softer one second; further apart they do not fight."""
        strips = {"snare": tone(2000.0, -20.0), "rooms": tone(2000.0, -20.0 - apart_db)}
        found = masking(strips, HITS, RATE).fights
        if apart_db > FIGHT_DB:
            assert found == ()
            return
        (fight,) = found
        assert (fight.first, fight.second) == ("snare", "rooms")
        assert fight.from_hz < 2000.0 < fight.up_to_hz
        assert fight.apart_db == pytest.approx(apart_db, abs=0.1)

    def test_stereo_counts_both_sides(self):
        """The same on two sides is 3 dB louder than on one."""
        both = np.stack([tone(1000.0, -20.0)] * 2, axis=1)
        found = masking({"a": both, "b": tone(1000.0, -20.0)}, HITS, RATE)
        assert found.leads_db[band_of(1000.0)] == pytest.approx(3.0, abs=0.1)

    def test_nothing(self):
        """No strokes, no strips."""
        assert masking({"a": tone(100.0, -6.0)}, [], RATE) is None
        assert masking({}, HITS, RATE) is None


def test_who_gives_way_is_parted():
    """3 dB in the middle of the range, half of that or more left at its ends."""
    band = parting(Fight("a", "b", 800.0, 1600.0, 1.0))
    hz = np.array([800.0, np.sqrt(800.0 * 1600.0), 1600.0])
    low, middle, high = magnitude_db(sections(Tone(bands=(band,)), RATE), hz, RATE)
    assert middle == pytest.approx(-3.0, abs=0.05)
    assert low == pytest.approx(-1.5, abs=0.3)
    assert high == pytest.approx(-1.5, abs=0.3)
