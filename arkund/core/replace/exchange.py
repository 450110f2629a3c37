"""One hit in the place of another: which, how much of it, how strong, in the drum's own mics or in all of them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Capture, Placement, Plan
from arkund.core.replace.copies import LIKE_DB, changes_of, copy_to
from arkund.core.replace.shelf import NEAR_S, best, capture_of, with_captures

LEAST_S = 0.02
MOST_TRIED = 24


@dataclass(frozen=True, slots=True)
class Exchange:
    """What changes, and what is said of it."""

    changes: dict
    words: str


def exchanged(
    plan: Plan,
    hits: Mapping[str, Sequence],
    piece: str,
    time_s: float,
    sample_rate_hz: int,
    *,
    capture_id: str = "",
    everywhere: bool = True,
    as_played: bool = False,
) -> Exchange:
    """Return the changes by which a hit stands in the place of the one at a time, or where one is missing.

    capture_id : a hit of the shelf; without it one that fits is looked for in the song. everywhere : in the mics of the whole kit, so that what sounds with it
    comes along and ends before the next stroke; as_played : as strong as the one that it stands for, else as the drum's usual hit. Raises SettingsError where
    there is no such hit, or none fits.
    """
    mine = hits.get(piece, [])
    full = [h.level_db for h in mine if not h.ghost] or [h.level_db for h in mine]
    if not full:
        raise SettingsError(f"piece: no hits of {piece!r} were found.")
    near = min(mine, key=lambda h: abs(h.time_s - time_s))
    near = near if abs(near.time_s - time_s) <= NEAR_S else None
    level_db = near.level_db if near and as_played else float(np.median(full))
    to_s = near.time_s if near else time_s
    others = {name: [h for h in row if h is not near] for name, row in hits.items()}
    if capture_id:
        capture = next((c for c in plan.captures if c.id == capture_id), None)
        if capture is None:
            raise SettingsError(f"capture: the shelf has no hit {capture_id!r}.")
        return _placed(plan, others, capture, to_s, level_db, everywhere, sample_rate_hz)
    ghosts = near is not None and as_played and near.ghost
    some = [h for h in best(others, piece, level_db, MOST_TRIED, ghosts) if abs(h.level_db - level_db) <= LIKE_DB]
    if everywhere:
        copy = copy_to(piece, to_s, level_db, [h.time_s for h in some], others)
        if copy is None:
            raise SettingsError(_none_fits(piece, level_db, "is free long enough in all mics; try its own mics alone"))
        along = f", with the {' and '.join(copy.others)} that sounds there" if copy.others else ""
        words = f"the hit at {copy.from_s:.2f} s in all mics, {1000 * copy.length_s:.0f} ms of it{along}"
        return Exchange(changes_of(plan, copy, sample_rate_hz), words)
    if not some:
        raise SettingsError(_none_fits(piece, level_db, "was found; choose one of the shelf"))
    capture = capture_of(plan, hits, some[0], sample_rate_hz)
    return _placed(plan, others, capture, to_s, level_db, False, sample_rate_hz)


def _none_fits(piece: str, level_db: float, why: str) -> str:
    return f"capture: no other {piece} hit within {LIKE_DB:g} dB of {level_db:.1f} dBFS {why}."


def _placed(plan: Plan, others, capture: Capture, to_s: float, level_db: float, everywhere: bool, rate: int):
    if capture.piece not in others:
        raise SettingsError(f"capture: {capture.name or capture.id} is of a drum that is not struck here.")
    names = others if everywhere else (capture.piece,)
    later = min((h.time_s for name in names for h in others[name] if h.time_s > to_s + LEAST_S), default=np.inf)
    room = min(later - to_s, capture.length / rate) * rate - capture.before
    placement = Placement(
        capture=capture.id,
        at=round(to_s * rate),
        length=max(round(room), round(LEAST_S * rate)),
        gain_db=round(min(max(level_db - capture.level_db, -60.0), 60.0), 2),
        everywhere=everywhere,
    )
    # Drums struck together are each exchanged in their own mics: neither takes the other away.
    beside = {c.id for c in plan.captures if c.piece != capture.piece}
    kept = [
        p
        for p in plan.placements
        if abs(p.at - placement.at) > LEAST_S * rate or (p.capture in beside and not (p.everywhere or everywhere))
    ]
    changes = {"placements": [p.to_json() for p in sorted((*kept, placement), key=lambda p: p.at)]}
    if all(c.id != capture.id for c in plan.captures):
        changes["captures"] = [c.to_json() for c in with_captures(plan, [capture])]
    where = "in all mics" if everywhere else f"in the mics of the {capture.piece}"
    return Exchange(changes, f"{capture.name or capture.id} {where}, at {placement.gain_db:+.1f} dB")
