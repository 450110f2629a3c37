"""The whole song as the Plan stands: measured in the background after each change, so that meters and pictures soon tell the truth."""

import dataclasses
import hashlib
import json
import shutil
import uuid
from collections.abc import Callable
from pathlib import Path

from arkund.core import tasks
from arkund.core.errors import SettingsError
from arkund.core.files.peaks import LEVELS
from arkund.core.plan.plan import Plan
from arkund.core.render.whole import ASIDE, Pace
from arkund.core.rig.places import KIT
from arkund.studio.models import Measured, Session
from arkund.studio.services import places, rendering, store
from arkund.studio.services.recordings import recordings_of

MOST_WAIT_S = 3.0  # for those who listen, at each step
VERSION = 3  # raised when it is measured in another way


def key_of(session: Session, plan: Plan) -> str:
    """Return the name under which the song's measurement is kept."""
    content = json.dumps([VERSION, "whole", session.pk, plan.to_json()], sort_keys=True)
    return hashlib.sha256(content.encode()).hexdigest()


def found(session: Session, plan: Plan) -> dict | None:
    """Return the figures by output (peak_db, true_peak_db, loudness_lufs, overs, sections_lufs), None where they are still to be measured."""
    row = Measured.objects.filter(pk=key_of(session, plan)).first()
    return row.data if row is not None and _folder(session, row.pk).is_dir() else None


def true_peak_db(session: Session, plan: Plan) -> float | None:
    """Return the kit's true peak over the song, None where it is still to be measured. Its level comes last: at another one it is known too."""
    row = Measured.objects.filter(pk=_at_rest(session, plan)).first()
    return row.data["true_peak_db"] + plan.kit.level_db if row is not None else None


def _at_rest(session: Session, plan: Plan) -> str:
    """Return the name under which the kit's true peak is kept, whatever its level."""
    content = json.dumps([VERSION, "at rest", key_of(session, plan.replace(kit=plan.kit.replace(level_db=0.0)))])
    return hashlib.sha256(content.encode()).hexdigest()


def measure(
    session: Session,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
    pace: Pace = ASIDE,
) -> dict:
    """Measure the song as the Plan stands, and forget what was measured at former Plans. Raises CancelledError."""
    plan = session.plan
    key = key_of(session, plan)
    known = found(session, plan)
    if known is not None:
        return known

    def politely(share: float, text: str) -> None:
        on_progress(share, text)
        rendering.give_way(MOST_WAIT_S)

    asked = tasks.measure_song, plan, recordings_of(session), pace
    outputs = places.run(*asked, on_progress=politely, cancelled=cancelled)
    folder = _folder(session, key)
    new = folder.with_name(f".new-{uuid.uuid4().hex}")
    new.mkdir(parents=True)
    for name, output in outputs.items():
        for level, columns in output.columns.items():
            (new / _file(name, level)).write_bytes(columns.tobytes())
    shutil.rmtree(folder, ignore_errors=True)
    new.rename(folder)
    data = {
        name: dataclasses.asdict(each.loudness) | {"overs": each.overs, "sections_lufs": list(each.sections_lufs)}
        for name, each in outputs.items()
    }
    Measured.objects.update_or_create(pk=key, defaults={"session": session, "data": data})
    at_rest = {"true_peak_db": data[KIT]["true_peak_db"] - plan.kit.level_db}
    Measured.objects.update_or_create(pk=_at_rest(session, plan), defaults={"session": session, "data": at_rest})
    fresh = Session.objects.get(pk=session.pk)
    wanted = {folder.name, key_of(fresh, fresh.plan)}  # the Plan may have gone back to what is still there
    for other in folder.parent.iterdir():
        if other.name not in wanted and not other.name.startswith(".new-"):
            shutil.rmtree(other, ignore_errors=True)
            Measured.objects.filter(pk=other.name).delete()
    return data


def columns(session: Session, key: str, output: str, level: int) -> Path:
    """Return the file of an output's waveform at a zoom. Raises SettingsError where it is not (or no longer) there."""
    if level not in LEVELS:
        raise SettingsError(f"level: expected one of {LEVELS}, got {level!r}.")
    if not all(c in "0123456789abcdef" for c in key):
        raise SettingsError("whole: not a measurement's name.")
    path = _folder(session, key) / _file(output, level)
    if not path.is_file():
        raise SettingsError("output: this waveform is not there; the song is measured anew after each change.")
    return path


def _folder(session: Session, key: str) -> Path:
    return store.whole_folder() / str(session.pk) / key


def _file(output: str, level: int) -> str:
    return f"{hashlib.sha256(output.encode()).hexdigest()[:24]}-{level}.bin"
