"""Mics rendered stage by stage: what is kept of a mic is taken, and only the stages from the first missing one on are rendered."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import WIDE, empty_bank
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.cache import SpanCache
from arkund.core.render.graph import STAGES, Node, Windows
from arkund.core.render.source import Sources
from arkund.core.render.strips import Strips

WORTH_SPLITTING = 4  # as many mics are shared between two workers


@dataclass(frozen=True, slots=True)
class Row:
    """A mic's audio over a window."""

    audio: np.ndarray
    window: tuple[int, int]

    def over(self, window: tuple[int, int]) -> np.ndarray:
        """Return the part over a window within this one."""
        return self.audio[window[0] - self.window[0] : window[1] - self.window[0]]


@dataclass(frozen=True, slots=True)
class Stages:
    """The mics of a Plan for one request: where each stage is rendered, and what was kept."""

    plan: Plan
    sources: Sources
    sample_rate_hz: int
    nodes: dict[str, Node]
    windows: Windows
    cache: SpanCache
    executor: Executor | None
    check: Callable[[], None]  # raises where the request was cancelled

    def strips(self, mics: Sequence[MicPlan]) -> dict[str, np.ndarray]:
        """Return each mic's finished strip over ``windows.strips`` [float32, shape=(samples,)]."""
        strips: dict[str, Row] = {}
        missing: dict[str, list[tuple[MicPlan, Row | None]]] = {}
        for mic in mics:
            stage, kept = self._kept(mic)
            if stage is None:
                strips[mic.id] = kept
            else:
                missing.setdefault(stage, []).append((mic, kept))
        banks = [(stage, part) for stage, some in missing.items() for part in self._shares(some)]
        for made in (self.executor.map if self.executor else map)(lambda bank: self._bank(*bank), banks):
            strips |= made
        return {name: row.over(self.windows.strips) for name, row in strips.items()}

    def _shares(self, some: list) -> list[list]:
        parts = -(-len(some) // WIDE)
        if self.executor and len(some) >= WORTH_SPLITTING:
            parts = max(parts, 2)
        return [some[k::parts] for k in range(parts)]

    def _kept(self, mic: MicPlan) -> tuple[str | None, Row | None]:
        """Return the first stage that must be rendered, None for none, and what the one before it gave."""
        on = [stage for stage in STAGES if f"{stage}:{mic.id}" in self.nodes]
        for number, stage in reversed(list(enumerate(on))):
            window = self.windows.stages[stage]
            found = self.cache.get(self.nodes[f"{stage}:{mic.id}"].key, *window)
            if found is not None:
                return on[number + 1] if number + 1 < len(on) else None, Row(found, window)
        return "source", None

    def _bank(self, first: str, some: list[tuple[MicPlan, Row | None]]) -> dict[str, Row]:
        """Render mics side by side from a stage on, keep what each stage gave, and return what the last one did."""
        mics = [mic for mic, _ in some]
        if first == "source":
            rows = {mic.id: self._source(mic) for mic in mics}
            first = STAGES[1]
        else:
            rows = {mic.id: kept for mic, kept in some}
        number = STAGES.index(first)
        window = self.windows.stages[STAGES[number - 1]]
        bank = empty_bank(window[1] - window[0], len(mics))
        side_by_side = np.stack([rows[mic.id].over(window) for mic in mics])
        _kernels.interleave(side_by_side, bank.reshape(-1), bank.shape[1])
        for stage in STAGES[number:]:
            self.check()
            wanted, on = self.windows.stages[stage], [getattr(mic, stage).on for mic in mics]
            if any(on):
                bank = Strips(mics, self.sample_rate_hz, (stage,)).run(bank)
            bank, window = bank[wanted[0] - window[0] :][: wanted[1] - wanted[0]], wanted
            if any(on):
                _kernels.separate(
                    bank.reshape(-1), bank.shape[1], side_by_side := np.empty((len(mics), bank.shape[0]), np.float32)
                )
                rows |= {mic.id: self._keep(stage, mic, side_by_side[k]) for k, mic in enumerate(mics) if on[k]}
        return rows

    def _source(self, mic: MicPlan) -> Row:
        self.check()
        audio = self.sources.read(mic, *self.windows.stages["source"])
        return self._keep("source", mic, audio)

    def _keep(self, stage: str, mic: MicPlan, audio: np.ndarray) -> Row:
        window, audio = self.windows.stages[stage], audio.copy()
        self.cache.put(self.nodes[f"{stage}:{mic.id}"].key, *window, audio)
        return Row(audio, window)
