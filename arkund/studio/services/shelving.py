"""The shelf as Moves: hits kept of this song, taken off again, and put in the place of others."""

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_close
from arkund.core.plan.plan import Capture, Plan
from arkund.core.render.source import raw
from arkund.core.replace import shelf
from arkund.core.replace.exchange import exchanged
from arkund.core.replace.process import captured
from arkund.core.replace.shelf_folder import Sound
from arkund.core.rig.changes import Change
from arkund.studio.services.measuring import Measure
from arkund.studio.services.recordings import hits_of


def capture(measure: Measure, piece: str, time_s: float | None = None, take: str = "") -> Change:
    """Keep the hit at a time, or without one clean hits of several strengths.

    take : another one than the working take, by its key. Raises SettingsError where there are none, or they are kept already, and for an unknown take.
    """
    plan, hits = measure.plan, measure.hits
    if take and take != plan.take:
        other = measure.session.takes.filter(key=take).first()
        if other is None:
            raise SettingsError(f"take: there is no {take[:40]!r}.")
        plan, hits = plan.replace(take=take, joins=()), hits_of(measure.session, plan, take)
    if time_s is None:
        new = shelf.proposed(plan, hits, piece, measure.rate)
    else:
        chosen = shelf.at_time(hits, piece, time_s)
        if chosen.placed:
            raise SettingsError(f"time_s: the hit at {time_s:.3f} s was put there; keep the one that it is a copy of.")
        new = [shelf.capture_of(plan, hits, chosen, measure.rate)]
    if plan is not measure.plan:
        new = [each.replace(name=f"{each.name} of {other.name}"[:80]) for each in new]
    rows = shelf.with_captures(plan, new)
    added = rows[len(plan.captures) :]
    if not added:
        raise SettingsError(f"shelf: {new[0].name} is on it already.")
    title = f"Kept {added[0].name}" if len(added) == 1 else f"Kept {len(added)} hits of {piece}"
    return Change(title, {"captures": [c.to_json() for c in rows]})


def remove(plan: Plan, capture_id: str) -> Change:
    """Take a hit off the shelf. Raises SettingsError where it is not there, or used."""
    mine = _capture(plan, capture_id)
    layers = [m.name for m in plan.mics if m.sampled and any(shot.capture == mine.id for shot in m.sampled.shots)]
    placed = sum(p.capture == mine.id for p in plan.placements)
    if layers or placed:
        where = ", ".join([*layers, *([f"{placed} replaced hits"] if placed else [])])
        raise SettingsError(f"capture: {mine.name or mine.id} is used by {where}; take that away first.")
    return Change(
        f"{mine.name or mine.id} off the shelf", {"captures": [c.to_json() for c in plan.captures if c is not mine]}
    )


def _capture(plan: Plan, capture_id: str) -> Capture:
    found = next((c for c in plan.captures if c.id == capture_id), None)
    if found is None:
        raise SettingsError(f"capture: the shelf has no hit {capture_id!r}.")
    return found


def replace(measure: Measure, piece: str, time_s: float, **how) -> Change:
    """Put a hit in the place of the one at a time: see ``core.replace.exchange``."""
    made = exchanged(measure.plan, measure.hits, piece, time_s, measure.rate, **how)
    return Change(f"{piece} at {time_s:.2f} s replaced by {made.words}", made.changes)


def put_back(plan: Plan, time_s: float, rate: int) -> Change:
    """Take away what stands in the place of a hit. Raises SettingsError where nothing does."""
    kept = [p for p in plan.placements if abs(p.at / rate - time_s) > shelf.NEAR_S]
    if len(kept) == len(plan.placements):
        raise SettingsError(f"time_s: nothing stands in the place of a hit at {time_s:.3f} s.")
    return Change(f"Hit at {time_s:.2f} s as it was played", {"placements": [p.to_json() for p in kept]})


def sound_of(measure: Measure, capture_id: str) -> np.ndarray | None:
    """Return a hit of the shelf as it is heard by itself, float32 [shape=(samples,)]: in its drum's first mic, or its first file."""
    found = sounds(measure, _capture(measure.plan, capture_id))
    return found[0][1] if found else None


def sources_of(measure: Measure, mine: Capture) -> list[tuple[str, str]]:
    """Return the mics that a hit is heard in at its drum, or its files: role and id."""
    if mine.parts:
        return [(part.role, part.key) for part in mine.parts]
    mics = [m for m in measure.plan.mics if m.piece == mine.piece and is_close(m.role) and not m.is_layer]
    return [(mic.role, mic.id) for mic in mics]


def sounds(measure: Measure, mine: Capture) -> list[Sound]:
    """Return what a hit is in the mics at its drum, or in its files, with the roles of their mics."""
    return [
        (role, captured(raw(measure.plan, measure.recordings, key, mine.take), mine, measure.rate))
        for role, key in sources_of(measure, mine)
    ]
