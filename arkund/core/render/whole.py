"""The whole song once through, to know what it reaches and to draw it: figures and waveforms of every output."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from arkund.core.beside import WORKERS
from arkund.core.dsp.loudness import Loudness, Meter, shown_by
from arkund.core.files.peaks import Columns
from arkund.core.plan.plan import Plan
from arkund.core.render.graph import MIX, build
from arkund.core.render.source import Recordings, Sources
from arkund.core.render.stream import Stream
from arkund.core.render.sums import placed
from arkund.core.rig.hearing import bare
from arkund.core.takes.process import assembled
from arkund.core.timing.bars import Span, section_spans_s
from arkund.core.units import gain_to_db

BLOCK_S = 10.0


@dataclass(frozen=True, slots=True)
class Pace:
    """How the song is gone through: in so many threads, so many samples at a time."""

    threads: int
    block: int


ASIDE = Pace(1, 1 << 15)  # a dozen milliseconds of work: whoever listens waits no longer for it
AWAITED = Pace(WORKERS, 1 << 18)  # somebody waits for just this


@dataclass(frozen=True, slots=True)
class Output:
    """What one output of a Plan does over the song."""

    loudness: Loudness
    overs: int  # samples beyond full scale
    sections_lufs: tuple[float, ...]  # its loudness in each section
    columns: dict[int, np.ndarray]  # by zoom, see ``Columns.levels``; of stereo the wider of both sides


def whole_song(
    plan: Plan,
    recordings: Recordings,
    pace: Pace = ASIDE,
    on_progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict[str, Output]:
    """Return figures and pictures of every strip, stem, path and the kit, by name as in ``render``. Raises CancelledError."""
    recordings = assembled(plan, recordings)
    stream = Stream(plan, recordings)
    lanes = stream.lanes()
    meters = [Meter(count, width, recordings.sample_rate_hz) for count, width in lanes]
    pictures = [Columns(count) for count, _ in lanes]
    length, done = stream.length, 0
    with ThreadPoolExecutor(pace.threads) as pool:
        for block in stream.blocks(pool, cancelled, pace.block):
            for bank, meter, picture in zip(block.banks, meters, pictures, strict=True):
                meter.add(bank)
                picture.add(bank)
            done += block.samples
            on_progress(done / max(length, 1))
    drawn = [picture.levels() for picture in pictures]
    spans, out = section_spans_s(plan, length / recordings.sample_rate_hz), {}
    for name, (bank, lane) in stream.places().items():
        mine = range(lane, lane + (1 if name.startswith("strip:") else 2))
        out[name] = _output(meters[bank], [drawn[bank][k] for k in mine], mine, spans)
    return out


def recorded_peak_db(plan: Plan, recordings: Recordings) -> float:
    """Return the peak in dBFS of the sum of all audible mics as recorded, trimmed, lined up, at their levels and places, before any processing."""
    recordings = assembled(plan, recordings)
    rig, sources = build(bare(plan), recordings), Sources(plan, recordings)
    feeds = rig.outputs[MIX]  # of mics alone, as no strip has a tool
    gains = [(feed.left, feed.right) for feed in feeds]
    length, step, peak = recordings.length(plan.take), int(BLOCK_S * recordings.sample_rate_hz), 0.0
    for start in range(0, length, step):
        stop = min(start + step, length)
        rows = [sources.read(rig.strips[feed.strip].mic, start, stop) for feed in feeds]
        kit = placed(rows, gains, stop - start)
        peak = max(peak, float(np.abs(kit).max(initial=0.0)))
    return float(gain_to_db(peak))


def _output(meter: Meter, drawn: list[dict[int, np.ndarray]], lanes: range, spans: list[Span]) -> Output:
    some, loudness = slice(lanes.start, lanes.stop), shown_by(meter, lanes)
    columns = {}
    for level in drawn[0]:
        both = np.stack([side[level] for side in drawn])
        columns[level] = np.stack([both[..., 0].min(axis=0), both[..., 1].max(axis=0)], axis=-1)
    sections = tuple(round(meter.between_lufs(lanes, *span), 2) for span in spans)
    return Output(loudness, int(meter.overs[some].sum()), sections, columns)
