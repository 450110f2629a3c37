"""A whole song rendered from its start to its end, block after block: what is printed.

Everything keeps its state from block to block, so nothing is rendered twice; ``render`` gives the same for any span by itself.
"""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from arkund.core.blend.settings import OFF_DB
from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import WIDE, empty_bank, kernels, pair, width_for
from arkund.core.dsp.limiter import Limiter
from arkund.core.errors import CancelledError
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch.process import LinkedCompressor
from arkund.core.render import graph
from arkund.core.render.source import Recordings, Sources
from arkund.core.render.strips import Strips
from arkund.core.render.sums import pan_gains
from arkund.core.takes.process import assembled
from arkund.core.units import db_to_gain

BLOCK = 1 << 18  # samples
PIECE = 1 << 12  # samples that are added up at a time: what they are and become stays near the processor
LEAD_S = 0.1  # mics that are moved earlier sound before the start
STEMS_PER_BANK = WIDE // 2
UNITY = np.float32(1.0)


@dataclass(frozen=True, slots=True)
class Block:
    """What became ready: each mic's strip in its bank, the stems, and the kit mix, which is a little behind."""

    banks: list[np.ndarray]  # float32 [shape=(samples, width)], in the order of ``Stream.groups``
    stems: list[np.ndarray]  # the same of the stems, in the order of ``Stream.stems``, two lanes each
    kit: np.ndarray  # float32 [shape=(samples, 2)]

    def all_banks(self) -> list[np.ndarray]:
        """Return strips, stems and kit as banks: see ``Stream.places``."""
        kit = empty_bank(*self.kit.shape)
        pair(kit, 0)[:] = pair(self.kit, 0)
        return [*self.banks, *self.stems, kit]


class Stream:
    """Renders every strip, stem and path and the kit mix of a Plan.

    It goes through the song once; a path's stem is what the path adds to the mix, at its level.
    groups : the mics, bank by bank; stems : ``group:NAME`` and ``path:NAME``, as in ``render``
    """

    def __init__(self, plan: Plan, recordings: Recordings) -> None:
        self._plan, self._recordings = plan, assembled(plan, recordings)
        self._sources = Sources(plan, self._recordings)
        rate = recordings.sample_rate_hz
        mics = plan.mics
        banks = -(-len(mics) // WIDE)  # as wide as they go: sixteen lanes cost little more than eight
        self.groups = [list(part) for part in np.array_split(np.array(mics, object), banks)] if mics else []
        self._strips = [Strips(group, rate) for group in self.groups]
        nodes = graph.build(plan, self._recordings)
        self._paths = [path for path in graph.PATHS if getattr(plan, path).on]
        groups = [name for name in nodes if name.startswith("group:")]
        self.stems = [*groups, *(f"path:{path}" for path in self._paths)]
        self._gains = [self._gains_of(group, nodes) for group in self.groups]
        self._path_compressors = [LinkedCompressor(getattr(plan, path).compressor, rate) for path in self._paths]
        self._bus_compressor = LinkedCompressor(plan.bus.compressor, rate)
        self._skip = 0
        self._limiter = Limiter(plan.bus.ceiling_db, plan.bus.limiter_release_ms, rate) if plan.bus.limiter_on else None

    def places(self) -> dict[str, tuple[int, int]]:
        """Return in which bank of ``Block.all_banks`` and at which lane each output begins; all but the strips have two lanes."""
        out = {}
        for bank, mics in enumerate(self.groups):
            out |= {f"strip:{mic.id}": (bank, lane) for lane, mic in enumerate(mics)}
        after = len(self.groups)
        for number, stem in enumerate(self.stems):
            out[stem] = (after + number // STEMS_PER_BANK, 2 * (number % STEMS_PER_BANK))
        return out | {"kit": (after + -(-len(self.stems) // STEMS_PER_BANK), 0)}

    def lanes(self) -> list[tuple[int, int]]:
        """Return how many lanes each bank of ``Block.all_banks`` uses, and how wide it is."""
        out = [(len(mics), strips.width) for mics, strips in zip(self.groups, self._strips, strict=True)]
        for first in range(0, len(self.stems), STEMS_PER_BANK):
            out.append((2 * min(STEMS_PER_BANK, len(self.stems) - first), WIDE))
        return [*out, (2, width_for(2))]

    def _gains_of(self, mics: list[MicPlan], nodes) -> np.ndarray:
        """Return each mic's gain into the lanes of the stems' banks [shape=(banks, mics, WIDE)]: left and right of every stem and of the mix."""
        heard = {mic.id for mic in graph.audible(self._plan)}
        gains = np.zeros((len(mics), WIDE * (-(-(len(self.stems) + 1) // STEMS_PER_BANK))), np.float32)
        for row, mic in enumerate(mics):
            sides = np.array(pan_gains(mic.mix.pan))
            level = db_to_gain(mic.mix.level_db)
            for column, stem in enumerate(self.stems):
                if stem.startswith("path:"):
                    sent = graph.send_db(mic, stem[5:])
                    gain = db_to_gain(sent) if sent > OFF_DB and mic.id in heard else 0.0
                else:
                    gain = level if f"strip:{mic.id}" in nodes[stem].inputs else 0.0
                gains[row, 2 * column : 2 * column + 2] = gain * sides
            if mic.id in heard:
                gains[row, 2 * len(self.stems) : 2 * len(self.stems) + 2] = level * sides
        return np.ascontiguousarray(gains.reshape(len(mics), -1, WIDE).swapaxes(0, 1))

    def blocks(
        self, executor: Executor, cancelled: Callable[[], bool] = lambda: False, size: int = BLOCK
    ) -> Iterator[Block]:
        """Yield the song block by block of so many samples; the next block's strips are rendered while this one is used.

        How long blocks are changes nothing but how long one takes. Raises CancelledError.
        """
        length, lead = self._recordings.length(self._plan.take), int(LEAD_S * self._recordings.sample_rate_hz)
        spans = [(start, min(start + size, length)) for start in range(0, length, size)]
        early = self._together([self._bank(k, -lead, 0) for k in range(len(self.groups))], last=False)
        self._skip = lead - early.kit.shape[0]

        def begin(span):
            return [executor.submit(self._bank, k, *span) for k in range(len(self.groups))]

        waiting = begin(spans[0]) if spans else []
        for number in range(len(spans)):
            if cancelled():
                for each in waiting:
                    each.cancel()
                raise CancelledError("The render was cancelled.")
            banks = [each.result() for each in waiting]
            waiting = begin(spans[number + 1]) if number + 1 < len(spans) else []
            block = self._together(banks, last=number + 1 == len(spans))
            skip, self._skip = self._skip, max(self._skip - block.kit.shape[0], 0)
            yield Block(block.banks, block.stems, block.kit[skip:])

    def _bank(self, number: int, start: int, stop: int) -> np.ndarray:
        strips = self._strips[number]
        return strips.run(self._sources.bank(self.groups[number], start, stop + strips.ahead))

    def _together(self, banks: list[np.ndarray], last: bool) -> Block:
        rows = banks[0].shape[0]
        sums = [np.empty((rows, WIDE), np.float32) for _ in self._gains[0]]
        kit = np.empty((rows, 2), np.float32)
        for start in range(0, rows, PIECE):
            part = slice(start, start + PIECE)
            self._add_up([bank[part] for bank in banks], [out[part] for out in sums], kit[part])
        if self._limiter is not None:
            kit = self._limiter.push(kit)
            if last:
                kit = np.concatenate([kit, self._limiter.finish()])
        return Block(banks, sums[: -(-len(self.stems) // STEMS_PER_BANK)], kit)

    def _add_up(self, banks: list[np.ndarray], sums: list[np.ndarray], kit: np.ndarray) -> None:
        """Fill a piece of the sums, with the paths compressed, and of the kit before its limiter."""
        for out in sums:
            out.fill(0.0)
        for bank, gains in zip(banks, self._gains, strict=True):
            for mine, out in zip(gains, sums, strict=True):
                kernels(out).mix_down(bank.reshape(-1), bank.shape[1], len(mine), mine.reshape(-1), out.reshape(-1))
        pair(kit, 0)[:] = _stem(sums, len(self.stems))
        for number, path in enumerate(self._paths, len(self.stems) - len(self._paths)):
            lanes = _stem(sums, number)
            crushed = lanes.copy().view(np.float32).reshape(-1, 2)
            level = float(db_to_gain(getattr(self._plan, path).level_db))
            self._path_compressors[number - len(self.stems)].run(crushed, level=level)
            _kernels.add_scaled(crushed.reshape(-1), UNITY, kit.reshape(-1))
            lanes[:] = pair(crushed, 0)
        self._bus_compressor.run(kit, self._plan.bus.mix, level=float(db_to_gain(self._plan.bus.level_db)))


def _stem(banks: list[np.ndarray], number: int) -> np.ndarray:
    """Return a stem's two lanes: see ``pair``."""
    return pair(banks[number // STEMS_PER_BANK], number % STEMS_PER_BANK)
