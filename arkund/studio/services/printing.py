"""Print: every mic, the group stems and the kit, as heard, with a manifest."""

import hashlib
import json
import re
import shutil
import tempfile
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile

from arkund import __version__
from arkund.core.dsp.loudness import LoudnessMeter, oversampled_peak
from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.files.audio import dithered_24_bit
from arkund.core.kit.pieces import GROUPS
from arkund.core.render.cache import SpanCache
from arkund.core.render.graph import build
from arkund.core.render.render import render
from arkund.core.units import gain_to_db
from arkund.studio.models import Print, Session
from arkund.studio.services.recordings import SessionRecordings

FORMATS = {
    "wav24": ("WAV", "PCM_24", ".wav"),
    "wav32f": ("WAV", "FLOAT", ".wav"),
    "flac24": ("FLAC", "PCM_24", ".flac"),
}
CHUNK_BYTES = 64 * 1024 * 1024  # of one bank; sets how many seconds are rendered at a time
OVERLAP = 256  # samples that true peak looks back across chunks


@dataclass(slots=True)
class _Sheet:
    """One file while it is written."""

    output: str
    name: str
    channels: int
    file: soundfile.SoundFile
    meter: LoudnessMeter
    peak: float = 0.0
    true_peak: float = 0.0
    clipped: int = 0
    tail: np.ndarray | None = None


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
    if format_name not in FORMATS:
        raise SettingsError(f"format: expected one of {', '.join(FORMATS)}; got {format_name!r}.")
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
    kind, subtype, ending = FORMATS[format_name]
    sheets = []
    for output, name, channels in _outputs(plan, rate):
        file = soundfile.SoundFile(making / (name + ending), "w", rate, channels, subtype, format=kind)
        sheets.append(_Sheet(output, name + ending, channels, file, LoudnessMeter(rate)))
    chunk = max(CHUNK_BYTES // (4 * 16 * max(-(-len(plan.mics) // 16), 1)), rate)
    spans = [(start, min(start + chunk, length)) for start in range(0, length, chunk)]

    def work(span: tuple[int, int]) -> dict[str, np.ndarray]:
        cache = SpanCache()
        kit = render(plan, recordings, span, "kit", cache, cancelled=cancelled)
        parts = {"kit": kit}
        for sheet in sheets:
            if sheet.output not in parts:
                parts[sheet.output] = render(plan, recordings, span, sheet.output, cache, cancelled=cancelled)
        return parts

    with ThreadPoolExecutor(2) as pool:
        waiting = [pool.submit(work, span) for span in spans[:2]]
        for number, span in enumerate(spans):
            if cancelled():
                for each in waiting:
                    each.cancel()
                raise CancelledError("The print was cancelled; nothing was kept.")
            parts = waiting.pop(0).result()
            if number + 2 < len(spans):
                waiting.append(pool.submit(work, spans[number + 2]))
            list(pool.map(lambda sheet, p=parts, n=number: _write(sheet, p[sheet.output], subtype, n), sheets))
            on_progress(span[1] / length, f"{span[1] / rate:.0f} of {length / rate:.0f} s")
    for sheet in sheets:
        sheet.file.close()
    manifest = _manifest(session, plan, format_name, length, sheets, making)
    (making / "manifest.json").write_text(json.dumps(manifest, indent=1, sort_keys=True))
    return manifest


def _outputs(plan, rate: int) -> list[tuple[str, str, int]]:
    """Return (output, file name, channels): mics in the plan's order, then stems, paths and the kit."""
    nodes = build(plan, rate)
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


def _write(sheet: _Sheet, audio: np.ndarray, subtype: str, number: int) -> None:
    block = audio.reshape(audio.shape[0], -1)
    sheet.meter.add(block)
    sheet.peak = max(sheet.peak, float(np.abs(block).max(initial=0.0)))
    sheet.clipped += int(np.count_nonzero(np.abs(block) > 1.0))
    wide = block if sheet.tail is None else np.concatenate([sheet.tail, block])
    sheet.true_peak = max(sheet.true_peak, float(oversampled_peak(wide, 0.5 * sheet.peak).max(initial=0.0)))
    sheet.tail = block[-OVERLAP:].copy()
    if subtype == "PCM_24":
        block = dithered_24_bit(block, [number, *sheet.name.encode()])
    sheet.file.write(block)


def _manifest(session: Session, plan, format_name: str, length: int, sheets: list[_Sheet], folder: Path) -> dict:
    return {
        "arkund": __version__,
        "session": session.name,
        "plan_version": session.version,
        "sample_rate_hz": session.sample_rate_hz,
        "length_samples": length,
        "format": format_name,
        "bus": "The kit mix has the parallel paths and the drum bus; stems are taken before the bus and without the paths,"
        " so stems plus paths add up to what reaches the bus.",
        "files": [
            {
                "file": sheet.name,
                "output": sheet.output,
                "channels": sheet.channels,
                "peak_db": round(float(gain_to_db(sheet.peak)), 2),
                "true_peak_db": round(float(gain_to_db(sheet.true_peak)), 2),
                "loudness_lufs": round(sheet.meter.integrated_lufs(), 2),
                "samples_over_full_scale": sheet.clipped,
                "sha256": _checksum(folder / sheet.name),
            }
            for sheet in sheets
        ],
        "plan": plan.to_json(),
    }


def _checksum(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
