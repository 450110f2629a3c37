"""Kick mics that came inverted and late, lined up and shared out: the low end of their sum, as rendered."""

import numpy as np
import pytest
import soundfile

from arkund.studio.models import Session
from arkund.studio.services import layering
from arkund.studio.services.findings import find
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from tests.kits import small_kit
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db
DROP = ("Talkback", "Rm L", "Rm R", "Rm mono", "Ride", "HH", "T1", "T2", "FT", "OH R", "Snr btm")
LATE = 120  # samples


def loaded(seed: int, folder, inverted: str, late: str) -> Session:
    """Import a kit with one kick mic inverted and another late."""
    kit = small_kit(seed=seed, style="straight", bpm=112.0, bars=5, drop=DROP)
    for name, audio in kit.audio.items():
        sound = -audio if name == inverted else audio
        if name == late:
            sound = np.concatenate([np.zeros(LATE, sound.dtype), sound[:-LATE]])
        soundfile.write(folder / f"{name}.wav", sound, kit.sample_rate_hz, subtype="PCM_24")
    return import_folder(folder, bpm=112.0)


@pytest.mark.parametrize(
    ("seed", "inverted", "late"),
    [
        (57801, "KD out", "Kik sub"),
        (57802, "KD in", "KD out"),
        (57803, "Kik sub", "KD in"),
        (57804, "KD out", "KD in"),
    ],
)
@pytest.mark.long
def test_after_line_up(db, tmp_path, seed, inverted, late):
    """40 to 110 Hz of the sum rise by at least 1 dB against the raw sum; by the split alone they do not fall."""
    session = loaded(seed, tmp_path, inverted, late)
    raw = layering.carried(Measure(session), "kick").sum_main_db
    for note in find("lineup", Measure(session)):
        if note.changes and note.first_choice:
            apply(session.pk, dict(note.changes), step="lineup", title=note.title)
    session.refresh_from_db()
    measure = Measure(session)
    lined_up = layering.carried(measure, "kick").sum_main_db
    note = next(f for f in find("tone", measure) if f.key == "tone:split")
    assert not note.first_choice
    apply(session.pk, dict(note.changes), step="tone", title=note.title)
    session.refresh_from_db()
    shared = layering.carried(Measure(session), "kick").sum_main_db
    assert shared >= lined_up - 0.05
    assert shared >= raw + 1.0
    told = float(note.evidence.partition("change by ")[2].partition(" dB")[0].replace("−", "-"))
    assert shared - lined_up == pytest.approx(told, abs=0.1)
