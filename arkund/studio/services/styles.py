"""What each style would make of a kit as it stands: worked out beside each other, heard before one is chosen, and done by Moves."""

import dataclasses
from collections.abc import Callable

from arkund.core.card.targets import SCHOOLS
from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.studio.models import Move, Session
from arkund.studio.services import kit_solver, reverting
from arkund.studio.services.kit_solver import ProposedMove
from arkund.studio.services.measuring import Measure
from arkund.studio.services.unattended import Unattended
from arkund.studio.steps import KIT

KIND = "style"  # of what is kept


def check(style: str) -> None:
    """Raise SettingsError for an unknown style."""
    if style not in SCHOOLS:
        raise SettingsError(f"style: expected one of {', '.join(SCHOOLS)}; got {style[:40]!r}.")


def work_out(
    session: Session,
    style: str,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[ProposedMove]:
    """Return what brings a session's kit to a style's targets, kept for its Plan as it stands; nothing is changed. Raises CancelledError."""
    check(style)
    measure = Measure(session)

    def compute() -> dict:
        deeds = kit_solver.worked_out(session, style, on_progress, cancelled)
        return {"deeds": [dataclasses.asdict(deed) for deed in deeds]}

    return _deeds(measure.kept(KIND, _depends(measure, style), compute))


def known(measure: Measure, style: str) -> list[ProposedMove] | None:
    """Return the same where it was worked out for the Plan as it stands."""
    found = measure.known(KIND, _depends(measure, style))
    return None if found is None else _deeds(found)


def told(measure: Measure) -> list[dict]:
    """Return each style as a page tells of it: its deeds and what they change, None where that was not worked out for the Plan as it stands."""
    out = []
    for style in SCHOOLS:
        deeds = known(measure, style)
        changes = None if deeds is None else _changes(measure, style, deeds)
        titles = None if deeds is None else [with_minus(deed.title) for deed in deeds]
        out.append({"style": style, "chosen": style == measure.plan.school, "deeds": titles, "changes": changes})
    return out


def use(session_id: int, style: str, version: int) -> list[Move]:
    """Do what was worked out for a style, as Moves; the style first where it is another one.

    Raises SettingsError where it was not worked out for the Plan as it stands, or there is nothing to do.
    """
    session = Session.objects.get(pk=session_id)
    check(style)
    deeds = known(Measure(session), style)
    if deeds is None or version != session.version:
        raise SettingsError(f"style: {style} was not worked out for the kit as it stands now; work it out again.")
    job = Unattended(session_id)
    if style != session.plan.school:
        job.make({"school": style}, version=version, step=KIT, title=f"Style: {style}")
    kit_solver.make(job, deeds, version)
    if not job.made:
        raise SettingsError(f"style: the kit is as {style} wants it already; nothing was changed.")
    return job.made


def words(deeds: list[ProposedMove]) -> str:
    """Return in words what was worked out."""
    return f"{len(deeds)} deeds; hear them, then apply" if deeds else "nothing would be changed"


def _changes(measure: Measure, style: str, deeds: list[ProposedMove]) -> dict:
    values = {path: value for deed in deeds for path, value in deed.values.items()}
    return values if style == measure.plan.school else {"school": style} | values


def _deeds(found: dict) -> list[ProposedMove]:
    return [ProposedMove(**deed) for deed in found["deeds"]]


def _depends(measure: Measure, style: str) -> list:
    return [measure.plan.to_json(), style, sorted(reverting.set_by_hand(measure.session))]
