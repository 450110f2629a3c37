"""Joined takes as Moves: the session's takes with their hits, and what is kept of a new performance."""

from arkund.core.hits.resolve import resolve
from arkund.core.plan.plan import Plan
from arkund.core.takes.comp import Comp
from arkund.studio.models import Move, Session
from arkund.studio.services import moves
from arkund.studio.services.recordings import recordings_of, rows_of

FORGOTTEN = ("cuts", "lone_cuts", "placements")
SET_ASIDE = "Edits in time, replaced hits, what opens layers and cuts by hits belong to the former performance and are set aside."


def comp_of(session: Session, plan: Plan | None = None) -> Comp:
    """Return the session's takes with their hits, found first where they were not yet."""
    plan = plan or session.plan
    home = plan.replace(joins=())
    hits = {take.key: resolve(rows_of(session, home, take.key), ()) for take in session.takes.all()}
    return Comp(plan, recordings_of(session), hits)


def set_aside(plan: Plan) -> dict:
    """Return the changes by which a Plan lets go of what belongs to its performance: edits in time, hits of the song on the shelf, and what opens layers and
    cuts mics by hits.
    """
    out = {key: [] for key in FORGOTTEN if getattr(plan, key)}
    if any(not c.parts for c in plan.captures):
        out["captures"] = [c.to_json() for c in plan.captures if c.parts]
    gone, mics = {c.id for c in plan.captures if not c.parts}, []
    for mic in plan.mics:
        shots = mic.sampled.shots if mic.sampled else ()
        kept = tuple(shot for shot in shots if shot.capture not in gone)
        if shots and not kept:
            continue
        tools = tuple(tool.bare().replace(on=False) if tool.drawn else tool for tool in mic.tools)
        made, sampled = (sound and sound.replace(strikes=()) for sound in (mic.made, mic.sampled))
        mics.append(mic.replace(tools=tools, made=made, sampled=sampled and sampled.replace(shots=kept)))
    if tuple(mics) != plan.mics:
        out["mics"] = [mic.to_json() for mic in mics]
        if plan.low_owner in {mic.id for mic in plan.mics} - {mic.id for mic in mics}:
            out["low_owner"] = ""
    return out


def keep(session: Session, old: Plan, new: Plan, title: str, measured: str, version: int | None = None) -> Move | None:
    """Make new joins a Move; what was edited in the former performance is set aside, and said."""
    changes = {
        name: [each.to_json() for each in getattr(new, name)]
        for name in ("joins", "chosen_bars")
        if getattr(new, name) != getattr(old, name)
    }
    if not changes:
        return None
    lost = set_aside(old) if "joins" in changes else {}
    if lost:
        measured = f"{measured} {SET_ASIDE}"
    version = moves.read_at(session, version)
    return moves.apply(session.pk, changes | lost, step="takes", title=title, measured=measured, version=version)
