"""A whole song printed into a folder: every mic, the group stems, the paths and the kit, each its own file of the same start and length."""

import re
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from math import ceil
from pathlib import Path

import numpy as np

from arkund.core.beside import WORKERS
from arkund.core.dsp.loudness import Meter, shown_by
from arkund.core.files import room
from arkund.core.files.writing import BITS, ENDINGS, Writer, dithered
from arkund.core.plan.plan import Plan
from arkund.core.render.graph import KIT
from arkund.core.render.source import Recordings
from arkund.core.render.stream import Stream
from arkund.core.takes.process import assembled
from arkund.core.units import db_to_gain

KINDS = ("kit", "stems", "mics")


@dataclass(slots=True)
class _Sheet:
    """One file while it is written: from which bank and lane its channels come."""

    output: str
    name: str
    channels: int
    bank: int
    lane: int
    writer: Writer
    digest: str = ""


def print_song(
    plan: Plan,
    recordings: Recordings,
    folder: Path,
    format_name: str,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
    lowered_db: Mapping[str, float] | None = None,
) -> list[dict]:
    """Print into an existing folder; return a row for each file: name, output, peaks in dBFS, loudness in LUFS, BLAKE3.

    lowered_db : by how much the files of a kind (see :func:`kind_of`) are lower than what is heard, so that none passes full scale and their balance stays.

    The same Plan gives the same bytes on machines of one kind; elsewhere a library's last bit may differ where a top is drawn anew or a fade is
    shaped. Raises CancelledError, OSError, StorageError where the disk has no room for it.
    """
    recordings = assembled(plan, recordings)
    stream, lowered_db = Stream(plan, recordings), lowered_db or {}
    rate, length = recordings.sample_rate_hz, stream.length
    places, sheets, done = stream.places(), [], 0
    outputs = _outputs(plan, stream.stems)
    room.check(folder, sum(channels for *_, channels in outputs) * length * BITS[format_name] // 8)
    try:
        for output, name, channels in outputs:
            file = folder / (name + ENDINGS[format_name])
            writer = Writer(file, format_name, rate, channels, length)
            sheets.append(_Sheet(output, file.name, channels, *places[output], writer))
        meters = [Meter(count, width, rate) for count, width in stream.lanes()]
        gains = _gains(sheets, [width for _, width in stream.lanes()], lowered_db)
        by_bank = [sorted((s for s in sheets if s.bank == k), key=lambda s: s.lane) for k in range(len(meters))]
        with ThreadPoolExecutor(WORKERS) as pool:
            for block in stream.blocks(pool, cancelled):
                banks = [bank if gain is None else bank * gain for bank, gain in zip(block.banks, gains, strict=True)]
                work = [pool.submit(_write, bank, mine) for bank, mine in zip(banks, by_bank, strict=True)]
                work += [pool.submit(meters[k].add, bank) for k, bank in enumerate(banks)]
                for each in work:
                    each.result()
                done += block.samples
                on_progress(done / length, f"{done / rate:.0f} of {length / rate:.0f} s")
            for sheet, digest in zip(sheets, pool.map(lambda sheet: sheet.writer.close(), sheets), strict=True):
                sheet.digest = digest
    finally:
        for sheet in sheets:
            sheet.writer.abandon()
    return [
        _row(sheet, meters[sheet.bank]) | {"lowered_db": lowered_db.get(kind_of(sheet.output), 0.0)} for sheet in sheets
    ]


def kind_of(output: str) -> str:
    """Return with which others an output keeps its balance: mics with mics, stems and paths with each other, the kit mix by itself."""
    return "mics" if output.startswith("strip:") else "kit" if output == KIT else "stems"


def lowering_db(peaks_db: Mapping[str, float], plan: Plan) -> dict[str, float]:
    """Return by how much the files of each kind must be lowered so that none of these peaks in dBFS, by output, passes full scale, in tenths.

    Where nothing is on in the kit's row, stems and paths add up to the kit mix, and all of them are lowered alike.
    """
    over = dict.fromkeys(KINDS, 0.0)
    for output, peak_db in peaks_db.items():
        over[kind_of(output)] = max(over[kind_of(output)], peak_db)
    lowered = {kind: ceil(10.0 * db + 1.0) / 10.0 if db > 0.0 else 0.0 for kind, db in over.items()}
    if not any(tool.on for tool in plan.kit.tools):
        lowered["kit"] = lowered["stems"] = max(lowered["kit"], lowered["stems"])
    return lowered


def _gains(sheets: list[_Sheet], widths: list[int], lowered_db: Mapping[str, float]) -> list[np.ndarray | None]:
    """Return a row of gains for the lanes of each bank, None where all of it stays as it is."""
    gains = [np.ones(width, np.float32) for width in widths]
    for sheet in sheets:
        gain = db_to_gain(-lowered_db.get(kind_of(sheet.output), 0.0))
        gains[sheet.bank][sheet.lane : sheet.lane + sheet.channels] = gain
    return [None if np.all(each == 1.0) else each for each in gains]


def _write(bank: np.ndarray, sheets: list[_Sheet]) -> None:
    """Append a bank to its files, which use its lanes from the first on without a gap."""
    writers = [sheet.writer for sheet in sheets]
    if writers[0].dithers:
        for writer, steps in zip(writers, dithered(bank, writers, writers[0].place), strict=True):
            writer.write_steps(steps)
    else:
        for sheet in sheets:
            sheet.writer.write(bank, sheet.lane)


def _outputs(plan: Plan, stems: list[str]) -> list[tuple[str, str, int]]:
    """Return (output, file name, channels): mics in the plan's order, then groups, paths and the kit."""
    names = {f"group:{group.id}": f"Stem {group.name}" for group in plan.groups}
    names |= {f"path:{path.id}": f"Path {path.name}" for path in plan.paths}
    names |= {f"alone:{mic.id}": f"Stem {mic.name}" for mic in plan.standing}
    rows = [(f"strip:{mic.id}", mic.name, 1) for mic in plan.standing]
    rows += [(stem, names[stem], 2) for stem in stems] + [(KIT, "Kit mix", 2)]
    return [
        (output, f"{number:02d} {_safe(name)}", channels) for number, (output, name, channels) in enumerate(rows, 1)
    ]


def _safe(name: str) -> str:
    return re.sub(r"[^\w\- .]+", "_", name).strip(" .")[:60] or "mic"


def _row(sheet: _Sheet, meter: Meter) -> dict:
    lanes = range(sheet.lane, sheet.lane + sheet.channels)
    figures = {
        name: None if value is None else round(value, 1 if name == "range_lu" else 2)
        for name, value in asdict(shown_by(meter, lanes)).items()
    }
    return {
        "file": sheet.name,
        "output": sheet.output,
        "channels": sheet.channels,
        **figures,
        "samples_over_full_scale": int(sum(meter.overs[lane] for lane in lanes)),
        "blake3": sheet.digest,
    }
