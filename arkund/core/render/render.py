"""What is heard and printed: ``render(plan, recordings, span)``, a pure function with a cache beside it."""

import functools
from collections.abc import Callable, Sequence
from concurrent.futures import Executor

import numpy as np

from arkund.core.beside import shared
from arkund.core.clean import process as clean
from arkund.core.dsp import _kernels, limiter
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import Plan
from arkund.core.punch import process as punch
from arkund.core.render import graph
from arkund.core.render.cache import SpanCache
from arkund.core.render.source import Recordings, Sources, source
from arkund.core.render.stages import Stages
from arkund.core.render.sums import Share, empty_sum, place
from arkund.core.takes.process import assembled
from arkund.core.units import db_to_gain

UNITY = np.float32(1.0)


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
    output : ``kit``, ``mix`` (before the bus), ``path:NAME`` (at its level), ``group:NAME``, ``drum:PIECE``, ``strip:MIC``, ``alone:MIC``
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


def _check(cancelled: Callable[[], bool]) -> None:
    if cancelled():
        raise CancelledError("The render was cancelled.")


class _Work:
    """One rendering: what is kept is taken, what is not is made from what it needs."""

    def __init__(self, plan, recordings, nodes, windows, cache, executor, cancelled) -> None:
        self.plan, self.nodes, self.windows = plan, nodes, windows
        self.rate = recordings.sample_rate_hz
        self.cache, self.executor = cache, executor
        # Nothing here may refer to this object again: in a circle, all that it rendered would stay until the collector comes by.
        self.check = functools.partial(_check, cancelled)
        self.stages = Stages(Sources(plan, recordings), self.rate, nodes, windows, cache, executor, self.check)
        self.strips: dict[str, list[np.ndarray]] = {}

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
        node, found = self.nodes[name], self._kept(name, span)
        if found is None:
            if not self.strips:
                heard = graph.mics_of(self.nodes, name)
                self.strips = self.stages.strips([mic for mic in self.plan.mics if mic.id in heard])
            self.check()
            found = self._keep(name, span, getattr(self, f"_{node.kind}")(node, span))
        return found

    def _kept(self, name: str, span: tuple[int, int]) -> np.ndarray | None:
        return self.cache.get(self._place(name), *span)

    def _keep(self, name: str, span: tuple[int, int], audio: np.ndarray) -> np.ndarray:
        self.cache.put(self._place(name), *span, audio)
        return audio

    def _place(self, name: str) -> str:
        return f"{self.nodes[name].key}@{self.windows.content(graph.mics_of(self.nodes, name))}"

    def _sum(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        paths = [name for name in node.inputs if name.startswith("path:")]
        ready = {name: self._kept(name, self.windows.mix) for name in paths}
        lacking = [name for name in paths if ready[name] is None]
        levels_db = [mic.mix.level_db for mic in node.settings]
        out, *sent = self._placed([Share.of(node.settings, levels_db, span), *map(self._sent, lacking)])
        for name, crushed in zip(
            lacking, shared(self._crushed, zip(lacking, sent, strict=True), self.executor), strict=True
        ):
            ready[name] = self._keep(name, self.windows.mix, crushed)
        for part in ready.values():
            seen = part[span[0] - self.windows.mix[0] :][: out.shape[0]]
            _kernels.add_scaled(seen.reshape(-1), UNITY, out.reshape(-1))
        return out

    def _path(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        return self._crushed((node.name, *self._placed([self._sent(node.name)])))

    def _sent(self, name: str) -> Share:
        """Return what a path gets, from early enough for its compressor to settle."""
        node, start = self.nodes[name], self.windows.paths[0]
        mics = [self.plan.mic(each[6:]) for each in node.inputs]
        return Share.of(mics, [graph.send_db(mic, node.settings) for mic in mics], (start, self.windows.mix[1]))

    def _crushed(self, given: tuple[str, np.ndarray]) -> np.ndarray:
        name, sent = given
        path = getattr(self.plan, name[5:])
        punch.LinkedCompressor(path.compressor, self.rate).run(sent, level=float(db_to_gain(path.level_db)))
        return sent[self.windows.mix[0] - self.windows.paths[0] :]

    def _bus(self, node: graph.Node, span: tuple[int, int]) -> np.ndarray:
        window = self.windows.mix
        bus, mix = node.settings, self.node(node.inputs[0], window)
        out = np.empty_like(mix)
        punch.LinkedCompressor(bus.compressor, self.rate).run(mix, bus.mix, out, float(db_to_gain(bus.level_db)))
        if bus.limiter_on:
            out = limiter.limit(out, bus.ceiling_db, bus.limiter_release_ms, self.rate)
        return out[span[0] - window[0] :][: span[1] - span[0]]

    def _placed(self, shares: Sequence[Share]) -> list[np.ndarray]:
        """Return the sum of each share of the mics' strips."""
        heard = [mic.id for mic in self.plan.mics if any(mic.id in share.gains for share in shares)]
        gains = np.array([[share.gains.get(mic, (0.0, 0.0)) for mic in heard] for share in shares], np.float32)
        outs = [empty_sum(share.span[1] - share.span[0], len(heard)) for share in shares]

        def part(number: int) -> None:
            late = [share.span[0] - self.windows.parts[number][0] for share in shares]
            place([self.strips[mic][number] for mic in heard], gains, outs, late)

        shared(part, range(len(self.windows.parts)), self.executor)
        return outs


def key_listen(plan: Plan, recordings: Recordings, mic_id: str, span: tuple[int, int]) -> np.ndarray:
    """Return what a mic's gate listens to, float32 [shape=(samples, 2)]: the source through the key filter."""
    recordings = assembled(plan, recordings)
    mic, rate = plan.mic(mic_id), recordings.sample_rate_hz
    before = graph.rounded(clean.reach(mic.gate.replace(on=True), rate).before, rate)
    bank = bank_of([source(plan, recordings, mic, span[0] - before, span[1])])
    key = filter_bank(bank, [clean.key_filter(mic.gate, rate)])[before:, :1]
    return np.repeat(key, 2, axis=1)
