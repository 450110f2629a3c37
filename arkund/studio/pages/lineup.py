"""What the Line up page shows: the arrival ladder, and what the sums gain by band."""

import numpy as np

from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.lineup.measure import averaged, clean_hits, windows
from arkund.core.lineup.settings import SCHOOLS
from arkund.core.lineup.sums import BANDS_HZ, most_gain_db, pair_gain_db, sum_gain_db
from arkund.core.plan.plan import LineUp
from arkund.core.render.source import source
from arkund.core.replace.layers import without_layers
from arkund.core.units import ms_to_cm
from arkund.studio.services.measuring import Measure

LADDER_BEFORE_MS, LADDER_AFTER_MS = 3.0, 16.0


def lineup(m: Measure, mic_id: str | None) -> dict:
    """The average hit of one drum in every mic on one time axis, and what the sums gain by band."""
    piece = mic_id if mic_id in m.hits else ("snare" if "snare" in m.hits else next(iter(m.hits), None))
    if piece is None:
        return {"rows": [], "pieces": []}
    hits = clean_hits(m.recorded_hits, piece)
    reference = timing_mic(m.plan.mics, piece)
    arrivals = {a.mic: a for a in m.arrivals()}
    rows = []
    for mic in m.plan.mics:
        reader = m.recordings.mic(m.plan.take, mic.id)
        if reader is None or (is_close(mic.role) and mic.piece != piece):
            continue
        wave = averaged(reader, hits, m.rate, LADDER_BEFORE_MS, LADDER_AFTER_MS)
        peak = float(np.abs(wave).max()) or 1.0
        a = arrivals.get(mic.id)
        rows.append(
            {
                "id": mic.id,
                "name": mic.name,
                "reference": mic.id == reference.id,
                "wave": np.round(wave / peak, 3).tolist(),
                "delay_ms": mic.line_up.delay_ms,
                "inverted": mic.line_up.inverted,
                "arrival_ms": a.delay_ms if a and a.piece == piece else None,
                "distance_cm": ms_to_cm(a.delay_ms, m.plan.alignment.temperature_c) if a and a.piece == piece else None,
                "polarity": a.polarity if a and a.piece == piece else None,
                "spread_ms": a.spread_ms if a and a.piece == piece else None,
                "sure": a.sure if a and a.piece == piece else True,
            }
        )
    return {
        "piece": piece,
        "pieces": [p for p in m.hits if m.hits[p]],
        "hits": len(hits),
        "before_ms": LADDER_BEFORE_MS,
        "sample_ms": 1000 / m.rate,
        "cm_per_ms": ms_to_cm(1.0, m.plan.alignment.temperature_c),
        "alignment": m.plan.alignment.to_json(),
        "schools": [{"name": name, "words": words} for name, words in SCHOOLS.items()],
        "rows": rows,
        "sums": _sums(m, piece, hits, reference),
    }


def _sums(m: Measure, piece: str, hits: list, reference) -> dict | None:
    """What the mics that hear a drum gain by band, as recorded and as planned: each with the timing mic, and all at their levels together."""
    at = [round(h.time_s * m.rate) for h in hits]
    heard = [reference]
    heard += [x for x in m.plan.mics if x.id != reference.id and (x.piece == piece or x.role == "overhead")]
    heard = [mic for mic in heard if m.recordings.mic(m.plan.take, mic.id) is not None]
    if len(heard) < 2 or not at:
        return None
    bare = [mic.replace(line_up=LineUp(), clock_ppm=0.0) for mic in heard]
    before, after = ([windows(_Planned(m, mic), at, m.rate) for mic in mics] for mics in (bare, heard))
    levels_db = [mic.level_db for mic in heard]

    def both(figures) -> dict:
        return {"before": _tenths(figures(before)), "after": _tenths(figures(after))}

    pairs = [
        {"id": mic.id, "name": mic.name, **both(lambda part, k=k: pair_gain_db(part[0], part[k], m.rate))}
        for k, mic in enumerate(heard[1:], 1)
    ]
    together = both(lambda part: sum_gain_db(part, levels_db, m.rate))
    return {
        "edges": [list(b) for b in BANDS_HZ],
        "pairs": pairs,
        "together": {"mics": len(heard), "most_db": round(most_gain_db(len(heard)), 1), **together},
    }


def _tenths(figures: list[float]) -> list[float]:
    return [round(each, 1) for each in figures]


class _Planned:
    """A mic lined up as planned, read in the time of the recording."""

    def __init__(self, m: Measure, mic) -> None:
        self._m, self._mic = m, mic
        self._plan = without_layers(m.plan.replace(cuts=(), lone_cuts=(), placements=()))

    def read(self, start: int, stop: int) -> np.ndarray:
        return source(self._plan, self._m.recordings, self._mic, start, stop)
