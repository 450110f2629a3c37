"""Strips side by side: which of them share a bank, and what a bank's row of tools is."""

from collections.abc import Sequence
from functools import lru_cache, reduce
from itertools import accumulate, combinations

from arkund.core.dsp.bank import BLOCK, WIDE, width_for
from arkund.core.tools.tool import Tool, module_of

Kinds = tuple[str, ...]
Group = tuple[Kinds, list[int]]  # kinds of tools, and the strips that go through them
COST = {4: 1.0, 8: 1.2, 16: 1.7}  # of a tool over a bank, by its width


class Bank:
    """The tools of strips that are rendered in lock-step, with all that they remember.

    No strip hears another, and how the audio is cut into calls changes nothing, so a strip's samples depend neither on its bank nor on its pieces. A strip
    that lacks one of the bank's tools passes it unchanged.
    """

    def __init__(self, rows: Sequence[Sequence[Tool]], channels: int, sample_rate_hz: int) -> None:
        kinds, self.places = merged(tuple(tuple(tool.kind for tool in row) for row in rows))
        self.width = width_for(len(rows) * channels)
        self.runs = []
        for place, kind in enumerate(kinds):
            mine = [row[at.index(place)] if place in at else None for row, at in zip(rows, self.places, strict=True)]
            lanes = [tool for tool in mine for _ in range(channels)]
            self.runs.append(module_of(kind).Run(lanes, sample_rate_hz, self.width, channels == 2))
        # In whole blocks, so that no strip's samples depend on how far those beside it look ahead.
        self.aheads = tuple(-(-run.ahead // BLOCK) * BLOCK for run in self.runs)
        self.behind = tuple(accumulate(self.aheads))  # rows by which each tool ends earlier than what is known
        self.ahead = sum(self.aheads)  # samples beyond those that are done that must be known


@lru_cache(maxsize=1024)
def merged(rows: tuple[Kinds, ...]) -> tuple[Kinds, tuple[tuple[int, ...], ...]]:
    """Return the kinds of tools that a bank needs in order, so that each row is a part of them, and at which of them the tools of each row stand."""
    kinds = reduce(_supersequence, rows, ())
    places = [_places(row, kinds) for row in rows]
    used = sorted({place for mine in places for place in mine})
    return tuple(kinds[k] for k in used), tuple(tuple(used.index(place) for place in mine) for mine in places)


@lru_cache(maxsize=4096)
def _supersequence(a: Kinds, b: Kinds) -> Kinds:
    """Return the shortest row that holds both, by dynamic programming over their common parts."""
    common = [[0] * (len(b) + 1) for _ in range(len(a) + 1)]  # the most that the rest of both have in common
    for i in reversed(range(len(a))):
        mine, below = common[i], common[i + 1]
        for k in reversed(range(len(b))):
            mine[k] = below[k + 1] + 1 if a[i] == b[k] else max(below[k], mine[k + 1])
    out, i, k = [], 0, 0
    while i < len(a) and k < len(b):
        both = a[i] == b[k]
        first = both or common[i + 1][k] >= common[i][k + 1]
        out.append(a[i] if first else b[k])
        i, k = i + first, k + (both or not first)
    return (*out, *a[i:], *b[k:])


def _places(row: Kinds, kinds: Kinds) -> tuple[int, ...]:
    out, at = [], 0
    for kind in row:
        at = kinds.index(kind, at)
        out.append(at)
        at += 1
    return tuple(out)


@lru_cache(maxsize=256)
def shared_out(rows: tuple[Kinds, ...], channels: int, least: int = 1) -> tuple[tuple[int, ...], ...]:
    """Return which strips (by their place in ``rows``) share a bank, so that all banks together cost least.

    Strips with the same tools stand together, others where what they lack costs less than a bank of their own. least : of banks, where all
    would be one
    """
    groups: dict[Kinds, list[int]] = {}
    for number, row in enumerate(rows):
        groups.setdefault(row, []).append(number)
    banks = list(groups.items())
    while len(banks) > 1:
        saving, one, other = max((_saving(*pair, channels), *pair) for pair in combinations(banks, 2))
        if saving <= 0.0:
            break
        banks = [bank for bank in banks if bank not in (one, other)] + [_together(one, other)]
    banks.sort(key=lambda bank: bank[1][0])
    return tuple(part for _, members in banks for part in _parts(members, channels, least if len(banks) == 1 else 1))


def _together(a: Group, b: Group) -> Group:
    return _supersequence(a[0], b[0]), sorted(a[1] + b[1])


def _saving(a: Group, b: Group, channels: int) -> float:
    return _cost(a, channels) + _cost(b, channels) - _cost(_together(a, b), channels)


def _cost(bank: Group, channels: int) -> float:
    kinds, members = bank
    full, rest = divmod(len(members) * channels, WIDE)
    return (len(kinds) + 0.5) * (full * COST[WIDE] + (COST[width_for(rest)] if rest else 0.0))


def _parts(members: list[int], channels: int, least: int) -> list[tuple[int, ...]]:
    """Return members in banks of about equal size."""
    count = max(-(-len(members) * channels // WIDE), least)
    each = -(-len(members) // count)
    return [tuple(members[k : k + each]) for k in range(0, len(members), each)]
