"""Mics rendered stage by stage: what is kept of a mic is taken, and only the stages from the first missing one on are rendered."""

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from arkund.core.beside import shared
from arkund.core.dsp.bank import NARROW, WIDE, bank_of
from arkund.core.plan.plan import MicPlan
from arkund.core.render.cache import SpanCache
from arkund.core.render.graph import STAGES, Node, Windows
from arkund.core.render.pipeline import Pipeline, Step
from arkund.core.render.source import Sources
from arkund.core.render.strips import Strips


@dataclass(frozen=True, slots=True)
class Row:
    """A mic's audio over a window."""

    audio: np.ndarray
    window: tuple[int, int]

    def over(self, window: tuple[int, int]) -> np.ndarray:
        """Return the part over a window within this one."""
        return self.audio[window[0] - self.window[0] : window[1] - self.window[0]]


@dataclass(frozen=True, slots=True)
class Lane:
    """A mic in one part of the span: the first stage that must be rendered, None for none, and what the one before it gave."""

    mic: MicPlan
    part: int
    first: str | None
    kept: Row | None


@dataclass(frozen=True, slots=True)
class Stages:
    """The mics of a Plan for one request: where each stage is rendered, and what was kept."""

    sources: Sources
    sample_rate_hz: int
    nodes: dict[str, Node]
    windows: Windows
    cache: SpanCache
    executor: Executor | None
    check: Callable[[], None]  # raises where the request was cancelled

    def strips(self, mics: Sequence[MicPlan]) -> dict[str, list[np.ndarray]]:
        """Return each mic's finished strip over each of ``windows.parts`` [float32, shape=(samples,)]."""
        parts = range(len(self.windows.parts))
        lanes = [lane for mic in mics for lane in self._lanes(mic)]
        rows = {(lane.mic.id, lane.part): lane.kept for lane in lanes}
        banks = [bank for stage in STAGES for bank in self._banks([lane for lane in lanes if lane.first == stage])]
        within = self.executor if len(banks) == 1 else None  # its stages side by side, for want of other banks
        for made in shared(lambda bank: self._bank(bank, within), banks, self.executor):
            rows |= made
        return {mic.id: [rows[mic.id, part].over(self.windows.parts[part]) for part in parts] for mic in mics}

    def _lanes(self, mic: MicPlan) -> list[Lane]:
        """Return a mic's lane in each part, from the last stage that was kept."""
        on = [stage for stage in STAGES if f"{stage}:{mic.id}" in self.nodes]
        keys = {stage: self._key(stage, mic) for stage in on}

        def lane(part: int) -> Lane:
            for stage, after in zip(reversed(on), [None, *reversed(on)], strict=False):
                window = self.windows.stage(mic.id, stage, part)
                found = self.cache.get(keys[stage], *window)
                if found is not None:
                    return Lane(mic, part, after, Row(found, window))
            return Lane(mic, part, "source", None)

        return [lane(part) for part in range(len(self.windows.parts))]

    def _banks(self, lanes: list[Lane]) -> list[list[Lane]]:
        """Return lanes in as many banks as keep all workers busy, those that begin early together."""
        count = -(-len(lanes) // WIDE)
        if self.executor and len(lanes) > NARROW:
            count = max(count, 2)
        lanes = sorted(lanes, key=lambda lane: self.windows.beyond[lane.mic.id]["source"])
        each = -(-len(lanes) // max(count, 1))
        return [lanes[k * each : (k + 1) * each] for k in range(count)]

    def _bank(self, lanes: list[Lane], executor: Executor | None) -> dict[tuple[str, int], Row]:
        """Render lanes side by side from a stage on, keep what each stage gave, and return what the last one did.

        All begin with the earliest of them. The others are silent until their own window begins, which is whole blocks later, so that no lane depends
        on those beside it.
        """
        number = max(STAGES.index(lanes[0].first), 1)
        before = STAGES[number - 1]
        rows = [self._source(lane) if lane.first == "source" else lane.kept for lane in lanes]
        leads = self._leads(lanes, before)
        earliest = max(leads)
        windows = [self.windows.stage(lane.mic.id, before, lane.part) for lane in lanes]
        late = [earliest - lead for lead in leads]
        bank = bank_of([row.over(window) for row, window in zip(rows, windows, strict=True)], late)
        steps, kept = [], []
        for stage in STAGES[number:]:
            on = [getattr(lane.mic, stage).on for lane in lanes]
            if any(on):
                made = [self._empty(stage, lane) if is_on else None for lane, is_on in zip(lanes, on, strict=True)]
                rows = [new or old for new, old in zip(made, rows, strict=True)]
                kept += [(self._key(stage, lane.mic), row) for lane, row in zip(lanes, made, strict=True) if row]
                strips, begins = Strips([lane.mic for lane in lanes], self.sample_rate_hz, (stage,)), min(late)
                late = [earliest - lead for lead in self._leads(lanes, stage)]
                steps.append(Step(strips, begins, late, [row and row.audio for row in made]))
        if steps:
            Pipeline(steps, bank, self.check).run(executor)
        for key, row in kept:
            self.cache.put(key, *row.window, row.audio)
        return {(lane.mic.id, lane.part): row for lane, row in zip(lanes, rows, strict=True)}

    def _leads(self, lanes: Sequence[Lane], stage: str) -> list[int]:
        return [self.windows.beyond[lane.mic.id][stage][0] for lane in lanes]

    def _source(self, lane: Lane) -> Row:
        self.check()
        window = self.windows.stage(lane.mic.id, "source", lane.part)
        audio = self.sources.read(lane.mic, *window)
        self.cache.put(self._key("source", lane.mic), *window, audio)
        return Row(audio, window)

    def _empty(self, stage: str, lane: Lane) -> Row:
        start, stop = self.windows.stage(lane.mic.id, stage, lane.part)
        return Row(np.empty(stop - start, np.float32), (start, stop))

    def _key(self, stage: str, mic: MicPlan) -> str:
        return f"{self.nodes[f'{stage}:{mic.id}'].key}@{self.windows.upstream[mic.id][stage]}"
