"""Which bars of which take to join, and where exactly: just before a loud stroke that both takes share."""

from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np

from arkund.core.takes.measure import BarScore
from arkund.core.takes.settings import CompSettings
from arkund.core.timing.bars import bars_of

BEFORE_S = 0.005  # a join lies this much before the earlier take's stroke
NEAR_BEATS = 0.3  # of the bar line: a stroke further off is not the bar's first


def choose(
    rows: Mapping[str, Sequence[BarScore]], home: str, settings: CompSettings, by_hand: Mapping[int, str] | None = None
) -> list[str]:
    """Return the take of each bar that together score best, with at most ``most_joins`` changes of take.

    by_hand : takes that are chosen already, by bar; they stay, and where they need more changes of take than that, so many are made

    Dynamic programming over (bar, joins so far, take); a change of take costs ``join_costs``. The song begins with any take, which is no
    join; of equals the home take is chosen.
    """
    takes = sorted(rows, key=lambda take: take != home)
    bars = max((len(mine) for mine in rows.values()), default=0)
    if not bars:
        return []
    score = np.array([[rows[t][b].score if b < len(rows[t]) else 0.0 for t in takes] for b in range(bars)])
    score[:, 0] += 1e-3
    fixed = {bar: takes.index(take) for bar, take in (by_hand or {}).items() if bar < bars}
    for bar, k in fixed.items():
        score[bar, np.arange(len(takes)) != k] = -np.inf
    most = max(settings.most_joins, _changes([fixed[bar] for bar in sorted(fixed)]))
    best = np.full((most + 1, len(takes)), -np.inf)
    best[0] = score[0]
    came = np.zeros((bars, most + 1, len(takes), 2), int)
    for bar in range(1, bars):
        new = np.full_like(best, -np.inf)
        for joins in range(most + 1):
            stay = best[joins]
            change = best[joins - 1] if joins else np.full(len(takes), -np.inf)
            for k in range(len(takes)):
                others = np.where(np.arange(len(takes)) == k, -np.inf, change)
                from_take = int(np.argmax(others))
                if stay[k] >= others[from_take] - settings.join_costs:
                    new[joins, k], came[bar, joins, k] = stay[k], (joins, k)
                else:
                    new[joins, k], came[bar, joins, k] = others[from_take] - settings.join_costs, (joins - 1, from_take)
        best = new + score[bar]
    joins, k = np.unravel_index(int(np.argmax(best)), best.shape)
    out = [takes[k]]
    for bar in range(bars - 1, 0, -1):
        joins, k = came[bar, joins, k]
        out.append(takes[k])
    return out[::-1]


def _changes(row: Sequence[int]) -> int:
    """Return how often neighbours differ."""
    return sum(a != b for a, b in pairwise(row))


def place_join(out_hits: Mapping, in_hits: Mapping, tempo, bar: int, in_offset_s: float, nearer: int = 0) -> float:
    """Return where to join at a bar line, in seconds of the song: just before the strokes of both takes, so that neither is cut or doubled.

    out_hits : in the time of the song; in_hits : in the incoming take's own time. Kick and snare go before other pieces; ``nearer`` asks for
    the next better place instead (1, 2, ...): other loud strokes around the line.
    """
    bars = bars_of(tempo)
    line = bars.start_s(bar)
    beat = bars.of(bar).beat_s
    found = []
    for piece in ("kick", "snare", "crash", "tom1", "tom2", "tom3", "tom4", "floor", "hihat", "ride"):
        for h in out_hits.get(piece, []):
            if h.ghost or abs(h.time_s - line) > (NEAR_BEATS + nearer) * beat:
                continue
            pairs = [
                o.time_s - in_offset_s for o in in_hits.get(piece, []) if abs(o.time_s - in_offset_s - h.time_s) < 0.05
            ]
            if pairs:
                drum = piece in ("kick", "snare") or piece.startswith(("tom", "floor"))
                found.append(
                    (not drum, round(abs(h.time_s - line) / beat), -h.level_db, min(h.time_s, *pairs) - BEFORE_S)
                )
    found.sort()
    return found[min(nearer, len(found) - 1)][3] if found else line - BEFORE_S
