"""A whole song printed into a folder: every mic, the group stems, the paths and the kit, each its own file of the same start and length."""

import re
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from math import ceil
from pathlib import Path

import numpy as np

from arkund.core.beside import WORKERS
from arkund.core.dsp.loudness import Meter
from arkund.core.files.writing import ENDINGS, Writer, dithered
from arkund.core.plan.plan import Plan
from arkund.core.render.graph import KIT
from arkund.core.render.source import Recordings
from arkund.core.render.stream import Stream
from arkund.core.takes.process import assembled
from arkund.core.units import db_to_gain, gain_to_db


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
    lowered_db: float = 0.0,
) -> list[dict]:
    """Print into an existing folder; return a row for each file: name, output, peaks in dBFS, loudness in LUFS, BLAKE3.

    lowered_db : by how much the whole set is lower than what is heard, so that no file passes full scale and the balance stays.

    The same Plan gives the same bytes on machines of one kind; elsewhere a library's last bit may differ where a top is drawn anew or a fade is
    shaped. Raises CancelledError, OSError.
    """
    recordings = assembled(plan, recordings)
    stream = Stream(plan, recordings)
    rate, length = recordings.sample_rate_hz, stream.length
    places, sheets, done = stream.places(), [], 0
    try:
        for output, name, channels in _outputs(plan, stream.stems):
            file = folder / (name + ENDINGS[format_name])
            writer = Writer(file, format_name, rate, channels, length)
            sheets.append(_Sheet(output, file.name, channels, *places[output], writer))
        meters = [Meter(count, width, rate) for count, width in stream.lanes()]
        by_bank = [sorted((s for s in sheets if s.bank == k), key=lambda s: s.lane) for k in range(len(meters))]
        with ThreadPoolExecutor(WORKERS) as pool:
            for block in stream.blocks(pool, cancelled):
                banks = block.banks
                if lowered_db:
                    banks = [bank * np.float32(db_to_gain(-lowered_db)) for bank in banks]
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
    return [_row(sheet, meters[sheet.bank]) for sheet in sheets]


def lowering_db(peaks_db: Iterable[float]) -> float:
    """Return by how much a set of files must be lowered so that none of these peaks in dBFS passes full scale, in tenths; 0 where none does."""
    over_db = max(peaks_db, default=0.0)
    return ceil(10.0 * over_db + 1.0) / 10.0 if over_db > 0.0 else 0.0


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
    true_peak = meter.true_peak()
    return {
        "file": sheet.name,
        "output": sheet.output,
        "channels": sheet.channels,
        "peak_db": round(float(gain_to_db(max(meter.peak[lane] for lane in lanes))), 2),
        "true_peak_db": round(float(gain_to_db(max(true_peak[lane] for lane in lanes))), 2),
        "loudness_lufs": round(meter.integrated_lufs(lanes), 2),
        "samples_over_full_scale": int(sum(meter.overs[lane] for lane in lanes)),
        "blake3": sheet.digest,
    }
