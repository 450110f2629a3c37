"""What is heard and printed: ``render(plan, recordings, span)``, a pure function with a cache beside it."""

from collections.abc import Callable
from concurrent.futures import Executor

import numpy as np

from arkund.core.clean import process as clean
from arkund.core.dsp import _kernels, limiter
from arkund.core.dsp.bank import empty_bank, filter_bank
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import Plan
from arkund.core.punch import process as punch
from arkund.core.render import graph
from arkund.core.render.cache import SpanCache
from arkund.core.render.source import Recordings, source, source_bank
from arkund.core.render.strips import Strips
from arkund.core.units import db_to_gain


def render(
    plan: Plan,
    recordings: Recordings,
    span: tuple[int, int],
    output: str = "kit",
    cache: SpanCache | None = None,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] = lambda: False,
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

    Returns
    -------
    float32 [shape=(samples, 2)], full scale = 1; ``strip:MIC`` is mono [shape=(samples,)]

    Raises
    ------
    SettingsError : unknown output
    CancelledError : ``cancelled`` became true between two nodes
    """
    nodes = graph.build(plan, recordings.sample_rate_hz)
    if output not in nodes:
        raise SettingsError(f"output: unknown {output!r}; known are {', '.join(sorted(nodes))}.")
    work = _Work(plan, recordings, nodes, cache or SpanCache(), executor, cancelled)
    work.prepare(_strips_needed(nodes, output, *span))
    return work.node(output, *span)


def _strips_needed(nodes, output: str, start: int, stop: int) -> dict[str, tuple[int, int]]:
    """Return the span that is needed of each strip, so that all can be rendered together."""
    needed: dict[str, tuple[int, int]] = {}

    def visit(name: str, a: int, b: int) -> None:
        node = nodes[name]
        if node.kind == "strip":
            old = needed.get(name, (a, b))
            needed[name] = (min(a, old[0]), max(b, old[1]))
            return
        for each in node.inputs:
            visit(each, a - node.before, b + node.after)

    visit(output, start, stop)
    return needed


class _Work:
    """One rendering: evaluates nodes from the outputs down, each at most once per span."""

    def __init__(self, plan, recordings, nodes, cache, executor, cancelled) -> None:
        self.plan, self.recordings, self.nodes = plan, recordings, nodes
        self.cache, self.executor, self.cancelled = cache, executor, cancelled
        self.rate = recordings.sample_rate_hz

    def prepare(self, needed: dict[str, tuple[int, int]]) -> None:
        """Render the strips that are not in the cache, in lock-step and side by side."""
        missing: dict[tuple[int, int], list[graph.Node]] = {}
        for name, (a, b) in needed.items():
            if self.cache.get(self.nodes[name].key, a, b) is None:
                missing.setdefault((a, b), []).append(self.nodes[name])
        for (a, b), strips in missing.items():
            groups = graph.batches(strips)
            if self.executor is not None and len(groups) == 1 and len(strips) > 3:
                half = (len(strips) + 1) // 2
                groups = [strips[:half], strips[half:]]
            if self.executor is None:
                for group in groups:
                    self._bank(group, a, b)
            else:
                list(self.executor.map(lambda group, a=a, b=b: self._bank(group, a, b), groups))

    def _bank(self, strips: list[graph.Node], start: int, stop: int) -> None:
        if self.cancelled():
            raise CancelledError("The render was cancelled.")
        mics = [node.settings for node in strips]
        chain, before = Strips(mics, self.rate), strips[0].before
        bank = source_bank(self.plan, self.recordings, mics, start - before, stop + chain.ahead, chain.width)
        bank = chain.run(bank)[before:]
        for lane, node in enumerate(strips):
            self.cache.put(node.key, start, stop, np.ascontiguousarray(bank[:, lane]))

    def node(self, name: str, start: int, stop: int) -> np.ndarray:
        node = self.nodes[name]
        found = self.cache.get(node.key, start, stop)
        if found is not None:
            return found
        if self.cancelled():
            raise CancelledError("The render was cancelled.")
        if node.kind == "strip":
            self._bank([node], start, stop)
            return self.cache.get(node.key, start, stop)
        out = getattr(self, f"_{node.kind}")(node, start, stop)
        self.cache.put(node.key, start, stop, out)
        return out

    def _sum(self, node: graph.Node, start: int, stop: int) -> np.ndarray:
        out = np.zeros((stop - start, 2), np.float32)
        mics = {f"strip:{mic.id}": mic for mic in node.settings}
        paths = [name for name in node.inputs if name not in mics]
        if self.executor is not None and len(paths) > 1:
            list(self.executor.map(lambda name: self.node(name, start, stop), paths))
        for name in node.inputs:
            part = self.node(name, start, stop)
            if name in mics:
                mix = mics[name].mix
                add_placed(out, part, mix.level_db, mix.pan)
            else:
                path = getattr(self.plan, name.split(":")[1])
                out += part * np.float32(db_to_gain(path.level_db))
        return out

    def _path(self, node: graph.Node, start: int, stop: int) -> np.ndarray:
        path = getattr(self.plan, node.settings)
        a, b = start - node.before, stop + node.after
        out = np.zeros((b - a, 2), np.float32)
        for name in node.inputs:
            mic = self.nodes[name].settings
            add_placed(out, self.node(name, a, b), graph.send_db(mic, node.settings), mic.mix.pan)
        punch.LinkedCompressor(path.compressor, self.rate).run(out)
        return out[node.before : node.before + stop - start]

    def _bus(self, node: graph.Node, start: int, stop: int) -> np.ndarray:
        dry = self.node(node.inputs[0], start - node.before, stop + node.after)
        bus, out = node.settings, dry.copy()
        punch.LinkedCompressor(bus.compressor, self.rate).run(out, bus.mix)
        out *= np.float32(db_to_gain(bus.level_db))
        if bus.limiter_on:
            out = limiter.limit(out, bus.ceiling_db, bus.limiter_release_ms, self.rate)
        return out[node.before : node.before + stop - start]


def pan_gains(pan: float) -> tuple[float, float]:
    """Return left and right gain: equal power, 0 dB at the side, -3 dB in the middle."""
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.cos(angle)), float(np.sin(angle))


def add_placed(out: np.ndarray, mono: np.ndarray, level_db: float, pan: float) -> None:
    """Add a mono signal [shape=(samples,)] to a stereo sum at a level and a place."""
    left, right = pan_gains(pan)
    gain = db_to_gain(level_db)
    _kernels.add_placed(out.reshape(-1), mono, np.float32(gain * left), np.float32(gain * right))


def key_listen(plan: Plan, recordings: Recordings, mic_id: str, span: tuple[int, int]) -> np.ndarray:
    """Return what a mic's gate listens to, float32 [shape=(samples, 2)]: the source through the key filter."""
    mic, rate = plan.mic(mic_id), recordings.sample_rate_hz
    before = graph.rounded(clean.reach(mic.gate.replace(on=True), rate)[0], rate)
    bank = empty_bank(span[1] - span[0] + before, 1)
    bank[:, 0] = source(plan, recordings, mic, span[0] - before, span[1])
    key = filter_bank(bank, [clean.key_filter(mic.gate, rate)])[before:, :1]
    return np.repeat(key, 2, axis=1)
