"""Find every hit of every close-miked piece, and tell it from the bleed of the others."""

from collections.abc import Sequence

import numpy as np

from arkund.core.hits import explain as ex
from arkund.core.hits import onsets
from arkund.core.hits.bands import FRAMES_PER_S, Reader, band_energies
from arkund.core.hits.refine import FoundHit, refine
from arkund.core.hits.settings import Channel, HitSettings

CLUSTER = 28  # frames: strokes nearer than this are explained together
MOST_IN_CLUSTER = 14
FIRST_BY_MS = 0.4  # a stroke's own mic hears it this much before all others
LEARN_RISE_DB = 8.0
LEARN_WITHIN_DB = 14.0  # of the strongest of them: what is softer teaches nothing
LEARN_BLEED_DB = 20.0  # below the loudest in the mic, bleed or not: what is softer is noise
PASSES = 2
QUANTILE = {"kick": 0.4, "snare": 0.55, "tom": 0.75, "cymbal": 0.2}
KIT_QUANTILE = 0.5
# How far above all bleed a hit must stand, and how soft it may be against the piece's strongest: toms are played out,
# a snare has ghost notes.
EXCESS_DB = {"kick": 4.5, "snare": 3.5, "tom": 7.0, "cymbal": 3.0}
SOFTEST_DB = {"kick": -26.0, "snare": -38.0, "tom": -20.0, "cymbal": -32.0}


def family(piece: str) -> str:
    """Return the family of a piece for the hit finder: kick, snare, tom or cymbal."""
    if piece in ("kick", "snare"):
        return piece
    return "tom" if piece.startswith("tom") or piece == "floor" else "cymbal"


def find_hits(
    readers: Sequence[Reader],
    channels: Sequence[Channel],
    sample_rate_hz: int,
    settings: HitSettings,
    on_progress=lambda share: None,
) -> dict[str, list[FoundHit]]:
    """Return the hits of each piece that has a close mic, sorted by time."""
    energy, quick = band_energies(readers, sample_rate_hz, lambda share: on_progress(0.7 * share))
    level = onsets.levels_db(energy)
    pieces = [c.piece for c in channels if c.close and c.first]
    own = [
        [i for i, c in enumerate(channels) if c.close and c.piece == piece and c.first]
        + [i for i, c in enumerate(channels) if c.close and c.piece == piece and not c.first]
        for piece in pieces
    ]
    strokes = _candidates(level, own, settings)
    quantiles = [QUANTILE[family(c.piece)] if c.close else KIT_QUANTILE for c in channels]
    firsts = [mics[0] for mics in own]
    prints = _first_prints(energy, quick[:, firsts], strokes, firsts, quantiles)
    least_db = [EXCESS_DB[family(piece)] + settings.excess_db for piece in pieces]
    softest_db = [SOFTEST_DB[family(piece)] for piece in pieces]
    kept: list[ex.Stroke] = []
    for _ in range(PASSES):
        known = [s for s in strokes if prints[s.piece] is not None]
        needed = []
        for cluster in _clusters(known):
            needed += ex.explain(energy, cluster, prints, own, least_db)
        kept = _loud_enough(needed, softest_db)
        prints = _better_prints(energy, kept, firsts, prints, quantiles)
    on_progress(0.9)
    out: dict[str, list[FoundHit]] = {}
    for number, piece in enumerate(pieces):
        mine = [s for s in kept if s.piece == number]
        out[piece] = refine(readers[firsts[number]], mine, sample_rate_hz, settings)
    on_progress(1.0)
    return out


def _candidates(level: np.ndarray, own: list[list[int]], settings: HitSettings) -> list[ex.Stroke]:
    out = []
    apart = int(settings.apart_ms * FRAMES_PER_S / 1000)
    for piece, mics in enumerate(own):
        rise = np.max([onsets.rise_db(level[:, mic]) for mic in mics], axis=0)
        out += [
            ex.Stroke(piece, int(frame), float(rise[frame])) for frame in onsets.peaks(rise, settings.rise_db, apart)
        ]
    return sorted(out, key=lambda s: s.frame)


def _first_prints(energy, quick, strokes, firsts, quantiles) -> list[np.ndarray | None]:
    """Learn from the strokes that reached their own mic before every other close mic."""
    first: list[list[ex.Stroke]] = [[] for _ in firsts]
    for s in strokes:
        if s.rise_db < LEARN_RISE_DB:
            continue
        arrived = onsets.arrivals_ms(quick, s.frame, 6, 8)
        mine = float(arrived[s.piece])
        if np.isfinite(mine) and mine < np.delete(arrived, s.piece).min(initial=np.inf) - FIRST_BY_MS:
            s.frame = round(mine)
            s.level = ex.own_level(energy, s.frame, firsts[s.piece])
            first[s.piece].append(s)
    prints = []
    for piece, mic in enumerate(firsts):
        loudest = _strong([ex.own_level(energy, s.frame, mic) for s in strokes if s.piece == piece])
        least = max(
            _strong([s.level for s in first[piece]]) * 10 ** (-LEARN_WITHIN_DB / 10),
            loudest * 10 ** (-LEARN_BLEED_DB / 10),
        )
        frames = [s.frame for s in first[piece] if s.level >= least]
        prints.append(ex.learn(energy, frames, mic, quantiles))
    return prints


def _strong(levels: list[float]) -> float:
    """Return what the strongest candidates of a mic reach, bleed or not."""
    return float(np.median(np.sort(levels)[-3:])) if levels else 0.0


def _clusters(strokes: list[ex.Stroke]):
    cluster: list[ex.Stroke] = []
    for s in strokes:
        if cluster and (s.frame - cluster[-1].frame > CLUSTER or len(cluster) >= MOST_IN_CLUSTER):
            yield cluster
            cluster = []
        cluster.append(s)
    if cluster:
        yield cluster


def _loud_enough(strokes: list[ex.Stroke], softest_db: list[float]) -> list[ex.Stroke]:
    """Leave out what is too soft to be a stroke of its piece."""
    kept = []
    for piece in {s.piece for s in strokes}:
        mine = [s for s in strokes if s.piece == piece]
        full = _strong([s.level for s in mine])
        kept += [s for s in mine if s.level >= full * 10 ** (softest_db[piece] / 10)]
    return sorted(kept, key=lambda s: s.frame)


def _better_prints(energy, kept, firsts, prints, quantiles):
    frames = np.array([s.frame for s in kept])
    out = []
    for piece, mic in enumerate(firsts):
        alone = []
        for s in kept:
            if s.piece == piece and np.sum(np.abs(frames - s.frame) < ex.AFTER) <= 1:
                alone.append(s.frame)
        out.append(ex.learn(energy, alone, mic, quantiles) if len(alone) >= 6 else None)
        out[-1] = prints[piece] if out[-1] is None else out[-1]
    return out
