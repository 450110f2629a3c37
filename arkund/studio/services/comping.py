"""Joined takes as Moves: the session's takes with their hits, and what is kept of a new performance."""

from arkund.core.hits.resolve import resolve
from arkund.core.plan.plan import Plan
from arkund.core.takes.comp import Comp
from arkund.studio.models import Move, Session
from arkund.studio.services import moves
from arkund.studio.services.recordings import recordings_of, rows_of

FORGOTTEN = {"cuts": [], "lone_cuts": [], "placements": [], "layers": [], "captures": []}
SET_ASIDE = "Edits in time, replaced hits and layers belong to the former performance and are set aside."


def comp_of(session: Session, plan: Plan | None = None) -> Comp:
    """Return the session's takes with their hits, found first where they were not yet."""
    plan = plan or session.plan
    home = plan.replace(joins=())
    hits = {take.key: resolve(rows_of(session, home, take.key), ()) for take in session.takes.all()}
    return Comp(plan, recordings_of(session), hits)


def keep(session: Session, old: Plan, new: Plan, title: str, measured: str, version: int | None = None) -> Move | None:
    """Make new joins a Move; what was edited in the former performance is set aside, and said."""
    if new.joins == old.joins:
        return None
    changes = {"joins": [join.to_json() for join in new.joins]}
    lost = {key: value for key, value in FORGOTTEN.items() if getattr(old, key)}
    if lost:
        measured = f"{measured} {SET_ASIDE}"
    return moves.apply(session.pk, changes | lost, step="takes", title=title, measured=measured, version=version)
