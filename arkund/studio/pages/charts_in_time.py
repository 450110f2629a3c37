"""Chart data of the pages that work in time: the song's bar lines, the takes side by side, and the song folded by bars."""

import dataclasses

from arkund.core.takes.comp import parts as comp_parts
from arkund.core.takes.settings import CompSettings
from arkund.core.timing.bars import bars_of
from arkund.core.timing.flams import flams, without_graces
from arkund.core.timing.grid import guess, meant_grid
from arkund.core.timing.measure import by_piece, drift
from arkund.core.timing.quantise import rows_of
from arkund.core.timing.settings import AS_MEANT, GRIDS, METHODS, OFFERED_METERS, SCHOOLS, QuantiseSettings
from arkund.studio.services import comping, recordings
from arkund.studio.services.measuring import Measure

MOST_FLAMS = 200
HAND = ("strength", "tolerance_ms", "most_ms", "swing", "method", "kick_alone", "split_cymbals")  # set beside the chart


def lines_of(m: Measure) -> list[float]:
    """Return the bar lines in seconds up to the song's end."""
    return bars_of(m.plan.tempo).lines_s(m.recordings.length(m.plan.take) / m.rate)


def bars_of_song(m: Measure) -> dict:
    """Return the bar lines in seconds up to the song's end, the beats of each bar, and the sections."""
    bars, lines = bars_of(m.plan.tempo), lines_of(m)
    return {
        "lines_s": [round(at, 5) for at in lines],
        "beats": [bars.of(bar).beats for bar in range(len(lines))],
        "sections": [{"name": s.name, "bar": s.bar} for s in m.plan.sections],
    }


def takes(m: Measure, mic_id: str | None) -> dict:
    """Each take's bars with their scores, which of them are heard, and what the joins change in the cymbals."""
    rows = list(m.session.takes.all())
    found = {take.key: recordings.found(m.session, m.plan, take.key) is not None for take in rows}
    known = all(found.values())
    scored, offsets, parts, joins, bars = {}, {}, [], [], 0
    if known:
        all_takes = comping.comp_of(m.session, m.plan)
        scored, offsets = all_takes.scores(), all_takes.offsets_s
        bars = max((len(mine) for mine in scored.values()), default=0)
        parts = [dataclasses.asdict(part) for part in comp_parts(m.plan, bars, m.rate)]
        for seam in all_takes.seams(m.plan):
            join = m.plan.joins[seam.number]
            joins.append(dataclasses.asdict(seam) | {"at_s": join.at / m.rate, "take": join.take})
    return {
        "known": known,
        "settings": CompSettings().to_json(),
        "count": bars,
        "takes": [
            {
                "key": take.key,
                "name": take.name,
                "length_s": take.length / m.rate,
                "found": found[take.key],
                "working": take.key == m.plan.take,
                "offset_ms": round(1000 * offsets.get(take.key, 0.0), 1),
                "bars": [dataclasses.asdict(row) for row in scored.get(take.key, [])],
            }
            for take in rows
        ],
        "parts": parts,
        "joins": joins,
        "comped": bool(m.plan.joins or m.plan.chosen_bars),
    }


def timing(m: Measure, grid_text: str | None) -> dict:
    """Each hit at its distance from the grid, bar by bar, with the figures by piece and section, the drift and the flams."""
    grid = (
        int(grid_text)
        if grid_text and grid_text.isdecimal() and len(grid_text) < 4 and int(grid_text) in (AS_MEANT, *GRIDS)
        else 16
    )
    bars = bars_of(m.plan.tempo)
    rows = rows_of(m.heard_hits, m.plan, QuantiseSettings(grid=grid))
    played = dict(zip(_keys(m.heard_hits), _times(m.hits), strict=True))
    mains = without_graces(rows)
    strong = [d for d in mains if not d.ghost]
    graces = {(d.piece, d.time_s) for d in rows} - {(d.piece, d.time_s) for d in mains}
    told = guess(m.heard_hits, bars)
    return {
        "grid": grid,
        "grids": [AS_MEANT, *GRIDS],
        "methods": list(METHODS),
        "schools": {name: {"settings": settings, "words": words} for name, (settings, words) in SCHOOLS.items()},
        "settings": {name: value for name, value in QuantiseSettings().to_json().items() if name in HAND},
        "tempo": m.plan.tempo.to_json(),
        "meters": OFFERED_METERS,
        "beat_ms": [round(bars.of(bar).beat_s * 1000, 3) for bar in range(len(lines_of(m)))],
        "hits": [
            [
                d.piece,
                d.bar,
                round(d.place, 4),
                round(d.off_ms, 2),
                d.ghost,
                round(d.time_s, 5),
                played[d.piece, d.time_s],
                (d.piece, d.time_s) in graces,
            ]
            for d in rows
        ],
        "by_piece": [dataclasses.asdict(r) for r in by_piece(strong)],
        "by_section": _by_section(m, strong),
        "drift": drift(mains),
        "flams": [dataclasses.asdict(f) for f in flams(rows)[:MOST_FLAMS]],
        "set_meant": [each.to_json() for each in m.plan.meant],
        "meant": {bar: meant_grid(m.plan, bar, kind) for bar, kind in told.items()},
        "cuts": len(m.plan.cuts),
        "lone_cuts": len(m.plan.lone_cuts) // 2,
    }


def _keys(hits) -> list[tuple]:
    return [(piece, h.time_s) for piece, mine in hits.items() for h in mine]


def _times(hits) -> list[float]:
    return [round(h.time_s, 5) for mine in hits.values() for h in mine]


def _by_section(m: Measure, rows) -> list[dict]:
    """Return how kick and snare sit in each section."""
    out, sections = [], m.plan.sections
    for k, section in enumerate(sections):
        until = sections[k + 1].bar if k + 1 < len(sections) else 10**9
        mine = by_piece([d for d in rows if section.bar <= d.bar < until and d.piece in ("kick", "snare")])
        if mine:
            out.append({"name": section.name, "pieces": [dataclasses.asdict(r) for r in mine]})
    return out
