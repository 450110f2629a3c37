"""The shelf: hits that stand in for others and lie under them. Which hits of a song are worth keeping, and how one from a file becomes one of them."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files.audio import CLIP_LEVEL, SILENT_DB, ArrayMic
from arkund.core.hits.refine import ONSET_SHARE, first_sample
from arkund.core.plan.plan import Capture, Plan
from arkund.core.replace.sampled import Shot
from arkund.core.tools.tool import free_id
from arkund.core.units import gain_to_db

BEFORE_S, BEFORE_CLEAR_S = 0.003, 0.09
LONGEST_S, LONGEST_TOM_S = {"kick": 0.35, "snare": 0.35}, 0.8
STRENGTHS = (0.15, 0.5, 0.9)  # shares of a piece's full hits that are softer than those proposed
PER_STRENGTH, SOFT_HITS = 2, 6  # proposed of each; ghosts are where there are so many
LEAST_S = 0.03
NEAR_S = 0.05  # a hit is meant where one points so near to it
LEAST_APART_S = 0.001
MOST_SHELF = 500
ONE_SHOT_S = 20.0
EVEN_DB = 1.0  # files whose peaks lie within this were brought to one level, which says nothing about their strength
STEP_DB = 6.0  # between strengths that are only numbered
STRONGEST_QUANTILE = 0.9
WORDS = (
    "ghost pianissimo",
    "piano soft light low",
    "medium med mid normal",
    "loud forte hard strong high",
    "full accent",
)
RANKS = {word: rank for rank, words in enumerate(WORDS) for word in words.split()}  # from the softest on
NUMBERED = re.compile(r"(?:^|[^a-z])(?:v|vel|velocity|l|layer|str|strength|dyn)[-_ ]?(\d{1,3})(?=$|[^0-9])")
VELOCITIES = 20  # a number above this counts as one of 127


def clearness(hits: Mapping[str, Sequence], piece: str) -> list[tuple[object, float, float]]:
    """Return a piece's hits with the seconds that are quiet before each and after it: no drum, and no crash, is struck there."""
    loud = np.sort(
        [h.time_s for name, mine in hits.items() for h in mine if name not in ("hihat", "ride") and not h.ghost]
    )
    longest = LONGEST_S.get(piece, LONGEST_TOM_S)
    out = []
    for hit in hits.get(piece, []):
        gaps = loud - hit.time_s
        after = min(float(gaps[gaps > LEAST_APART_S].min(initial=longest)), longest)
        before = min(float(-gaps[gaps < -LEAST_APART_S].max(initial=-longest)), BEFORE_CLEAR_S)
        out.append((hit, before, after))
    return out


def best(hits: Mapping[str, Sequence], piece: str, level_db: float, count: int, ghosts: bool = False) -> list:
    """Return the hits of a piece that stand most alone about a level, the best first.

    A hit scores by the seconds that are quiet around it minus its distance from the level.
    """
    rows = [
        row
        for row in clearness(hits, piece)
        if row[0].ghost == ghosts and row[0].time_s > BEFORE_CLEAR_S and not row[0].placed
    ]
    scored = sorted(rows, key=lambda row: 0.15 * abs(row[0].level_db - level_db) - 4.0 * row[2] - 6.0 * row[1])
    return [row[0] for row in scored[:count]]


def capture_of(plan: Plan, hits: Mapping[str, Sequence], hit, sample_rate_hz: int) -> Capture:
    """Return a hit of the Plan's take as one of the shelf: as much of it as is heard before the next drum."""
    after = next(after for each, _, after in clearness(hits, hit.piece) if each is hit)
    return Capture(
        id=f"{hit.piece}-{round(hit.time_s * 1000)}",
        name=f"{hit.piece} at {hit.time_s:.2f} s",
        piece=hit.piece,
        take=plan.take,
        at=round(hit.time_s * sample_rate_hz),
        before=min(round(BEFORE_S * sample_rate_hz), round(hit.time_s * sample_rate_hz)),
        length=round(max(after - 2 * BEFORE_S, LEAST_S) * sample_rate_hz),
        level_db=round(hit.level_db, 2),
    )


def at_time(hits: Mapping[str, Sequence], piece: str, time_s: float):
    """Return the hit of a piece at a time. Raises SettingsError where there is none."""
    near = min(hits.get(piece, []), key=lambda h: abs(h.time_s - time_s), default=None)
    if near is None or abs(near.time_s - time_s) > NEAR_S:
        raise SettingsError(f"time_s: no hit of {piece!r} at {time_s:.3f} s; choose one in the picture.")
    return near


def proposed(plan: Plan, hits: Mapping[str, Sequence], piece: str, sample_rate_hz: int) -> list[Capture]:
    """Return hits of a piece worth keeping: clean ones by strength, two of each so that neighbours need not be the same, and ghosts where there are some.

    Raises SettingsError where the piece has no hit that is no ghost.
    """
    full = [h.level_db for h in hits.get(piece, []) if not h.ghost]
    if not full:
        raise SettingsError(f"piece: no hit of {piece!r} that could be captured.")
    found = [h for share in STRENGTHS for h in best(hits, piece, float(np.quantile(full, share)), PER_STRENGTH)]
    soft = [h.level_db for h in hits[piece] if h.ghost]
    if len(soft) >= SOFT_HITS:
        found += best(hits, piece, float(np.median(soft)), PER_STRENGTH, ghosts=True)
    unique = {h.time_s: h for h in found}
    return [capture_of(plan, hits, hit, sample_rate_hz) for hit in sorted(unique.values(), key=lambda h: h.level_db)]


def with_captures(plan: Plan, new: Sequence[Capture]) -> list[Capture]:
    """Return a Plan's shelf with more hits, each once, with ids of their own. Raises SettingsError where it becomes too full."""
    out, places = list(plan.captures), {(c.take, c.piece, c.at) for c in plan.captures}
    for capture in new:
        if (capture.take, capture.piece, capture.at) not in places:
            out.append(capture.replace(id=free_id(capture.id, {each.id for each in out})))
    if len(out) > MOST_SHELF:
        raise SettingsError(f"shelf: at most {MOST_SHELF} hits, these would be {len(out)}; take some away first.")
    return out


def shots_of(
    captures: Sequence[Capture], usual_db: float, levels_db: Sequence[float], late_samples: Mapping[str, float]
) -> tuple[Shot, ...]:
    """Return hits of the shelf as the shots of a layer.

    usual_db : the level of the drum's usual hit in its own mic; levels_db : of all its hits; late_samples : of a hit by its id, see ``landing``. Hits of the
    song stand for their own strength; the strongest from files for the strongest tenth.
    """
    top = float(np.quantile(levels_db, STRONGEST_QUANTILE)) - usual_db if len(levels_db) else 0.0
    return tuple(
        Shot(
            capture=c.id,
            gain_db=round(usual_db - c.level_db, 2),
            for_db=round(top + c.strength_db if c.parts else c.level_db - usual_db, 2),
            late_samples=round(late_samples.get(c.id, 0.0), 2),
        )
        for c in captures
    )


@dataclass(frozen=True, slots=True)
class OneShot:
    """A hit from a file: where it begins, how strong it is, and what is to be told of the file."""

    at: int
    peak_db: float
    told: tuple[str, ...] = ()


def one_shot(samples: np.ndarray, sample_rate_hz: int, name: str) -> OneShot:
    """Return where a hit from a file begins, float32 [shape=(samples,)]. Raises AudioError for what is silent or much longer than a hit."""
    if samples.size > ONE_SHOT_S * sample_rate_hz:
        raise AudioError(
            f"{name}: is {samples.size / sample_rate_hz:.0f} s long; a hit is at most {ONE_SHOT_S:.0f} s. Cut it first."
        )
    size = np.abs(samples)
    peak_db = float(gain_to_db(size.max(initial=0.0)))
    if peak_db < SILENT_DB:
        raise AudioError(f"{name}: is silent; nothing of it was taken.")
    near = int(np.argmax(size >= ONSET_SHARE * size.max()))
    at, _ = first_sample(ArrayMic(samples), near, sample_rate_hz)
    clipped = int(np.count_nonzero(size >= CLIP_LEVEL))
    told = (f"{name}: {clipped} samples at full scale; it is probably clipped.",) if clipped > 2 else ()
    return OneShot(max(min(at, near), 0), round(peak_db, 2), told)


def strengths_db(names: Sequence[str], peaks_db: Sequence[float]) -> list[float]:
    """Return how strong hits from files are against the strongest of them, by what their names say, else by their levels.

    A name says it by a word (soft, medium, hard ...) or by a number after v, vel, layer and the like: one of 127, or a place in order of STEP_DB each.
    """
    numbers = [found[-1] if (found := NUMBERED.findall(name.lower())) else None for name in names]
    if all(numbers) and len(set(numbers)) > 1:
        values = [int(each) for each in numbers]
        if max(values) > VELOCITIES:
            return [round(40.0 * float(np.log10(max(v, 1) / max(values))), 1) for v in values]
        return _by_rank(values)
    words = [[RANKS[w] for w in re.split(r"[^a-z]+", name.lower()) if w in RANKS] for name in names]
    if all(words) and len({each[-1] for each in words}) > 1:
        return _by_rank([each[-1] for each in words])
    if max(peaks_db) - min(peaks_db) <= EVEN_DB:
        return [0.0] * len(peaks_db)
    return [round(db - max(peaks_db), 1) for db in peaks_db]


def _by_rank(values: Sequence[int]) -> list[float]:
    places = {value: k for k, value in enumerate(sorted(set(values), reverse=True))}
    return [-STEP_DB * places[value] for value in values]
