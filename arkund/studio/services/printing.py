"""Print: every mic, the group stems and the kit, as heard, with a manifest."""

import json
import re
import shutil
import tempfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

from arkund import __version__
from arkund.core.dsp.loudness import Meter
from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.files.writing import BITS, ENDINGS, Writer
from arkund.core.kit.pieces import GROUPS
from arkund.core.render.graph import build
from arkund.core.render.stream import Stream
from arkund.core.units import gain_to_db
from arkund.studio.models import Print, Session
from arkund.studio.services.recordings import SessionRecordings

WORKERS = 2


@dataclass(slots=True)
class _Sheet:
    """One file while it is written: from which bank and lane its channels come."""

    output: str
    name: str
    channels: int
    bank: int
    lane: int
    writer: Writer
    sha256: str = ""


def print_session(
    session: Session,
    folder: Path,
    format_name: str = "wav24",
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict:
    """Print a session into a folder that becomes visible as a whole; returns the manifest.

    Raises SettingsError for an unknown format, AudioError where the folder cannot be written, CancelledError.
    """
    if format_name not in BITS:
        raise SettingsError(f"format: expected one of {', '.join(BITS)}; got {format_name!r}.")
    if folder.exists() and any(folder.iterdir()):
        raise AudioError(f"{folder.name}: the folder is not empty; choose a new one.")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        making = Path(tempfile.mkdtemp(prefix=".printing-", dir=folder.parent))
    except OSError as error:
        raise AudioError(f"{folder.name}: cannot be written ({error.strerror}); choose another folder.") from error
    try:
        manifest = _print(session, making, format_name, on_progress, cancelled)
        if folder.exists():
            folder.rmdir()
        making.replace(folder)
    except OSError as error:
        raise AudioError(f"{folder.name}: writing failed ({error.strerror}); nothing was kept.") from error
    finally:
        shutil.rmtree(making, ignore_errors=True)
    Print.objects.create(
        session=session, folder=str(folder), format=format_name, version=session.version, manifest=manifest
    )
    return manifest


def _print(session: Session, making: Path, format_name: str, on_progress, cancelled) -> dict:
    plan, recordings = session.plan, SessionRecordings(session)
    rate, length = session.sample_rate_hz, recordings.length(plan.take)
    stream = Stream(plan, recordings)
    places, sheets, done = stream.places(), [], 0
    try:
        for output, name, channels in _outputs(plan, recordings):
            file = making / (name + ENDINGS[format_name])
            writer = Writer(file, format_name, rate, channels, length)
            sheets.append(_Sheet(output, file.name, channels, *places[output], writer))
        meters = [Meter(count, rate) for count in stream.lanes()]
        with ThreadPoolExecutor(WORKERS) as pool:
            for block in stream.blocks(pool, cancelled):
                banks = block.all_banks()
                work = [pool.submit(meters[k].add, bank) for k, bank in enumerate(banks)]
                work += [pool.submit(sheet.writer.write, banks[sheet.bank], sheet.lane) for sheet in sheets]
                for each in work:
                    each.result()
                done += block.stems.shape[0]
                on_progress(done / length, f"{done / rate:.0f} of {length / rate:.0f} s")
            for sheet, sha256 in zip(sheets, pool.map(lambda sheet: sheet.writer.close(), sheets), strict=True):
                sheet.sha256 = sha256
    except CancelledError as error:
        raise CancelledError("The print was cancelled; nothing was kept.") from error
    finally:
        for sheet in sheets:
            sheet.writer.abandon()
    manifest = _manifest(session, plan, format_name, length, sheets, meters)
    (making / "manifest.json").write_text(json.dumps(manifest, indent=1, sort_keys=True))
    return manifest


def _outputs(plan, recordings: SessionRecordings) -> list[tuple[str, str, int]]:
    """Return (output, file name, channels): mics in the plan's order, then stems, paths and the kit."""
    nodes = build(plan, recordings)
    out = [(f"strip:{mic.id}", f"{number:02d} {_safe(mic.name)}", 1) for number, mic in enumerate(plan.mics, 1)]
    number = len(out)
    stems = [f"group:{group}" for group in GROUPS if f"group:{group}" in nodes]
    stems += [f"path:{path}" for path in ("punch", "sustain") if getattr(plan, path).on]
    for stem in [*stems, "kit"]:
        number += 1
        kind, _, what = stem.partition(":")
        out.append((stem, f"{number:02d} {'Kit mix' if kind == 'kit' else f'Stem {what}'}", 2))
    return out


def _safe(name: str) -> str:
    return re.sub(r"[^\w\- .]+", "_", name).strip(" .")[:60] or "mic"


def _manifest(session: Session, plan, format_name: str, length: int, sheets: list[_Sheet], meters) -> dict:
    return {
        "arkund": __version__,
        "session": session.name,
        "plan_version": session.version,
        "sample_rate_hz": session.sample_rate_hz,
        "length_samples": length,
        "format": format_name,
        "bus": "The kit mix has the parallel paths and the drum bus; stems are taken before the bus and without the paths,"
        " so stems plus paths add up to what reaches the bus.",
        "files": [_row(sheet, meters[sheet.bank]) for sheet in sheets],
        "plan": plan.to_json(),
    }


def _row(sheet: _Sheet, meter: Meter) -> dict:
    lanes = range(sheet.lane, sheet.lane + sheet.channels)
    true_peak = meter.true_peak()
    return {
        "file": sheet.name,
        "output": sheet.output,
        "channels": sheet.channels,
        "peak_db": round(float(gain_to_db(max(meter.peak[lane] for lane in lanes))), 2),
        "true_peak_db": round(float(gain_to_db(max(true_peak[lane] for lane in lanes))), 2),
        "loudness_lufs": round(meter.integrated_lufs(lanes), 2),
        "samples_over_full_scale": int(sum(meter.overs[lane] for lane in lanes)),
        "sha256": sheet.sha256,
    }
