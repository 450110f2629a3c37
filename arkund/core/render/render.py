"""What is heard and printed: ``render(plan, recordings, span)``, a pure function with a cache beside it."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from functools import partial

import numpy as np

from arkund.core.beside import at_once
from arkund.core.clean import process as clean
from arkund.core.dsp import _kernels, limiter
from arkund.core.dsp.bank import WIDE, bank_of, filter_bank, widened
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch import process as punch
from arkund.core.render import graph
from arkund.core.render.cache import SpanCache
from arkund.core.render.source import Recordings, Sources, source
from arkund.core.render.stages import Stages
from arkund.core.takes.process import assembled
from arkund.core.units import db_to_gain


def render(
    plan: Plan,
    recordings: Recordings,
    span: tuple[int, int],
    output: str = "kit",
    cache: SpanCache | None = None,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] = lambda: False,
    within: tuple[int, int] | None = None,
) -> np.ndarray:
    """Return a span of one output of a Plan.

    Any span equals the same span of the whole song within -90 dBFS: each node is rendered from as far before the span as it needs
    to settle.

    Parameters
    ----------
    plan, recordings : what is to be done, to what
    span : first sample and the one after the last
    output : ``kit``, ``mix`` (before the bus), ``path:NAME``, ``group:NAME``, ``drum:PIECE``, ``strip:MIC``, ``alone:MIC``
    cache, executor : where given, spans are kept and independent strips run side by side
    within : a span around this one that will be wanted next: mics are rendered for it, sums only for this one

    Returns
    -------
    float32 [shape=(samples, 2)], full scale = 1; ``strip:MIC`` is mono [shape=(samples,)]

    Raises
    ------
    SettingsError : unknown output, a span that is not within
    CancelledError : ``cancelled`` became true between two nodes
    """
    if within and not within[0] <= span[0] <= span[1] <= within[1]:
        raise SettingsError(f"span: {span[0]} to {span[1]} does not lie within {within[0]} to {within[1]}.")
    recordings = assembled(plan, recordings)
    rate = recordings.sample_rate_hz
    nodes = graph.build(plan, recordings, output)
    if output not in nodes:
        known = graph.build(plan, recordings)
        raise SettingsError(f"output: unknown {output!r}; known are {', '.join(sorted(known))}.")
    windows = graph.windows(plan, nodes, span, rate, within)
    return _Work(plan, recordings, nodes, windows, cache or SpanCache(), executor, cancelled).output(output, span)


class _Work:
    """One rendering: what is kept is taken, what is not is made from what it needs."""

    def __init__(self, plan, recordings, nodes, windows, cache, executor, cancelled) -> None:
        self.plan, self.nodes, self.windows = plan, nodes, windows
        self.rate = recordings.sample_rate_hz
        self.cache, self.executor, self.cancelled = cache, executor, cancelled
        self.stages = Stages(Sources(plan, recordings), self.rate, nodes, windows, cache, executor, self.check)
        self.strips: dict[str, list[np.ndarray]] = {}

    def check(self) -> None:
        if self.cancelled():
            raise CancelledError("The render was cancelled.")

    def output(self, name: str, span: tuple[int, int]) -> np.ndarray:
        """Return a span of a node: stereo, a strip's mono."""
        if name.startswith("strip:"):
            parts = self.stages.strips([self.plan.mic(name[6:])])[name[6:]]
            return np.concatenate(parts)[span[0] - self.windows.parts[0][0] :][: span[1] - span[0]]
        if name.startswith("path:"):
            window = self.windows.mix
            return self.node(name, window)[span[0] - window[0] : span[1] - window[0]]
        return self.node(name, span)

    def node(self, name: str, span: tuple[int, int]) -> np.ndarray:
        node = self.nodes[name]
        heard = graph.mics_of(self.nodes, name)
        key = f"{node.key}@{self.windows.content(heard)}"
        found = self.cache.get(key, *span)
        if found is None:
            if not self.strips:
                self.strips = self.stages.strips([mic for mic in self.plan.mics if mic.id in heard])
            self.check()
            found = getattr(self, f"_{node.kind}")(node, span)
            self.cache.put(key, *span, found)
        return found

    def _sum(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        paths = [name for name in node.inputs if name.startswith("path:")]
        levels_db = [mic.mix.level_db for mic in node.settings]
        parts = [partial(self.node, name, self.windows.mix) for name in paths]
        parts.append(partial(self._placed, node.settings, levels_db, span))
        *crushed, out = at_once(*parts, executor=self.executor)
        for name, part in zip(paths, crushed, strict=True):
            seen = part[span[0] - self.windows.mix[0] :][: out.shape[0]]
            level = np.float32(db_to_gain(getattr(self.plan, name[5:]).level_db))
            _kernels.add_scaled(seen.reshape(-1), level, out.reshape(-1))
        return out

    def _path(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        path = getattr(self.plan, node.settings)
        mics = [self.plan.mic(name[6:]) for name in node.inputs]
        window = (self.windows.paths[0], span[1])
        out = self._placed(mics, [graph.send_db(mic, node.settings) for mic in mics], window)
        punch.LinkedCompressor(path.compressor, self.rate).run(out)
        return out[span[0] - window[0] :]

    def _bus(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        window = self.windows.mix
        bus, mix = node.settings, self.node(node.inputs[0], window)
        out = np.empty_like(mix)
        punch.LinkedCompressor(bus.compressor, self.rate).run(mix, bus.mix, out)
        out *= np.float32(db_to_gain(bus.level_db))
        if bus.limiter_on:
            out = limiter.limit(out, bus.ceiling_db, bus.limiter_release_ms, self.rate)
        return out[span[0] - window[0] :][: span[1] - span[0]]

    def _placed(self, mics: Sequence[MicPlan], levels_db: Sequence[float], span: tuple[int, int]) -> np.ndarray:
        """Return mics' strips at levels and their places, summed over a span."""
        gains = [
            [db_to_gain(level) * side for side in pan_gains(mic.mix.pan)]
            for mic, level in zip(mics, levels_db, strict=True)
        ]
        gains, out = np.array(gains, np.float32), np.zeros((span[1] - span[0], 2), np.float32)
        for number, part in enumerate(self.windows.parts):
            start, stop = max(span[0], part[0]), min(span[1], part[1])
            if start < stop:
                rows = [self.strips[mic.id][number][start - part[0] : stop - part[0]] for mic in mics]
                place(rows, gains, out[start - span[0] : stop - span[0]])
        return out


def placed(rows: Sequence[np.ndarray], gains: np.ndarray, length: int) -> np.ndarray:
    """Return the stereo sum of mono signals [each shape=(length,)] with their gains to the left and right [shape=(rows, 2)]."""
    out = np.zeros((length, 2), np.float32)
    place(rows, gains, out)
    return out


def place(rows: Sequence[np.ndarray], gains: np.ndarray, out: np.ndarray) -> None:
    """Add mono signals to a stereo sum [shape=(samples, 2)]: see :func:`placed`."""
    for first in range(0, len(rows), WIDE):
        some, theirs = rows[first : first + WIDE], np.zeros((WIDE, 2), np.float32)
        theirs[: len(some)] = gains[first : first + WIDE]
        _kernels.place(widened(some), len(some), theirs.reshape(-1), out.reshape(-1))


def pan_gains(pan: float) -> tuple[float, float]:
    """Return left and right gain: equal power, 0 dB at the side, -3 dB in the middle."""
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.cos(angle)), float(np.sin(angle))


def key_listen(plan: Plan, recordings: Recordings, mic_id: str, span: tuple[int, int]) -> np.ndarray:
    """Return what a mic's gate listens to, float32 [shape=(samples, 2)]: the source through the key filter."""
    recordings = assembled(plan, recordings)
    mic, rate = plan.mic(mic_id), recordings.sample_rate_hz
    before = graph.rounded(clean.reach(mic.gate.replace(on=True), rate).before, rate)
    bank = bank_of([source(plan, recordings, mic, span[0] - before, span[1])])
    key = filter_bank(bank, [clean.key_filter(mic.gate, rate)])[before:, :1]
    return np.repeat(key, 2, axis=1)
