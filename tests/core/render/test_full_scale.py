"""Rigs of any settings, printed: what passes full scale is counted in every file, and a file of 24 bits is lowered until nothing does."""

import numpy as np
import pytest
import soundfile

from arkund.core.render.printing import kind_of, lowering_db, print_song
from tests.kits import small_kit
from tests.rigs import random_rig

FULL = 1.0 - 2.0**-23  # the highest step of 24 bits


@pytest.fixture(scope="module")
def kit():
    """Five mics for some seconds."""
    drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Rm mono", "Ride", "T1", "T2", "FT", "KD out", "SNR btm")
    return small_kit(seed=6002, style="straight", bpm=126.0, bars=3, drop=drop, play_with={"floor_fills": False})


@pytest.mark.long
@pytest.mark.parametrize("seed", [6000, 6001, *range(6003, 6033)])
def test_never_unnoticed(kit, tmp_path, seed):
    """As 32-bit float the samples beyond full scale are those that the manifest counts, file by file; at 24 bits all files of a kind are
    lowered alike, by no more than the highest of them needs, and none is clipped.
    """
    plan = random_rig(kit.plan, seed)
    (floating := tmp_path / "float").mkdir()
    (whole := tmp_path / "24 bits").mkdir()
    rows = print_song(plan, kit, floating, "wav32f")
    peaks = {}
    for row in rows:
        x, _ = soundfile.read(floating / row["file"], dtype="float32")
        assert np.all(np.isfinite(x))
        assert row["samples_over_full_scale"] == int(np.sum(np.abs(x) > 1.0)), row["file"]
        peaks[row["output"]] = float(np.abs(x).max(initial=0.0))
    lowered = lowering_db({row["output"]: row["peak_db"] for row in rows}, plan)
    for row in print_song(plan, kit, whole, "wav24", lowered_db=lowered):
        x, _ = soundfile.read(whole / row["file"], dtype="float64")
        down = 10 ** (-lowered[kind_of(row["output"])] / 20)
        assert np.abs(x).max(initial=0.0) == pytest.approx(down * peaks[row["output"]], abs=2e-6)
        assert np.abs(x).max(initial=0.0) < FULL
        assert row["samples_over_full_scale"] == 0
    highest = {
        kind: max((p for output, p in peaks.items() if kind_of(output) == kind), default=0.0) for kind in lowered
    }
    needed = [max(20 * np.log10(peak), 0.0) for peak in highest.values() if peak]
    assert max(lowered.values()) <= max(needed) + 0.21
