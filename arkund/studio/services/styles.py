"""What each style would make of a kit as it stands: worked out beside each other, heard before one is chosen, and done by Moves."""

import dataclasses
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from django.db.models import QuerySet

from arkund.core.card.own_style import taken_from
from arkund.core.card.raw import raw_plan
from arkund.core.card.reference import figures_of_mix, wanted_of
from arkund.core.card.targets import SCHOOLS
from arkund.core.errors import SettingsError
from arkund.core.files.audio import readable
from arkund.core.findings import with_minus
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.studio.models import Move, Session, Style
from arkund.studio.services import carding, kit_solver, reverting
from arkund.studio.services.kit_solver import ProposedMove
from arkund.studio.services.measuring import Measure
from arkund.studio.services.templates import clean_name
from arkund.studio.services.unattended import Unattended
from arkund.studio.steps import KIT

KIND = "style"  # of what is kept
MOST_NAME = Style._meta.get_field("name").max_length
NAMELESS = "name: a style of your own needs a name of its own."


def own_styles(user_id: int | None) -> QuerySet[Style]:
    """Return a user's own styles by name; without logins those of this machine."""
    return Style.objects.filter(user_id=user_id)


def settings_of(name: str, user_id: int | None = None) -> dict[str, Any]:
    """Return what a style sets of a Plan. Raises SettingsError for an unknown one."""
    if name in SCHOOLS:
        return {"school": name, "own_style": None}
    own = own_styles(user_id).filter(name=name).first()
    if own is None:
        known = ", ".join([*SCHOOLS, *own_styles(user_id).values_list("name", flat=True)])
        raise SettingsError(f"style: expected one of {known}; got {name[:40]!r}.")
    return {"school": own.school, "own_style": own.data}


def name_of(plan: Plan) -> str:
    """Return the name of a Plan's style."""
    return plan.own_style.name if plan.own_style else plan.school


def keep(session: Session, name: str, user_id: int | None = None) -> Style:
    """Keep what a session's kit measures as a style under a name; a former one of that name is replaced.

    Raises SettingsError where it has no name, or that of a style of the table.
    """
    values = {row.figure.key: row.value for row in carding.card(Measure(session), session.plan.school)}
    return _keep(session, name, values, user_id)


def keep_mix(session: Session, path: Path, user_id: int | None = None) -> Style:
    """Keep what a finished mix measures as a style under its file's name, as far as a mix tells; all else stays that of the session's style.

    Raises AudioError where it cannot be read or is silent, SettingsError where its name is that of a style of the table.
    """
    measure = Measure(session)
    raw = carding.figures(measure.at(raw_plan(measure.plan)), measure.busy_span())
    values = wanted_of(figures_of_mix(path), raw["density"])
    return _keep(session, readable(path.stem)[:MOST_NAME], values, user_id)


def _keep(session: Session, name: str, values: Mapping[str, float | None], user_id: int | None) -> Style:
    name = clean_name(name, MOST_NAME, NAMELESS)
    if name in SCHOOLS:
        raise SettingsError(NAMELESS)
    own = taken_from(name, session.plan.school, values)
    given = {"school": session.plan.school, "data": own.to_json()}
    return Style.objects.update_or_create(name=name, user_id=user_id, defaults=given)[0]


def remove(name: str, user_id: int | None = None) -> None:
    """Remove a style of one's own; sessions that use it keep its ranges. Raises SettingsError where there is none."""
    if not own_styles(user_id).filter(name=name).delete()[0]:
        raise SettingsError(f"style: no style of your own is called {name[:40]!r}.")


def work_out(
    session: Session,
    style: str,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
    user_id: int | None = None,
) -> list[ProposedMove]:
    """Return what brings a session's kit to a style's targets, kept for its Plan as it stands; nothing is changed. Raises CancelledError."""
    plan = change.put(session.plan, settings_of(style, user_id))
    measure = Measure(session)

    def compute() -> dict:
        deeds = kit_solver.worked_out(session, plan, on_progress, cancelled)
        return {"deeds": [dataclasses.asdict(deed) for deed in deeds]}

    return _deeds(measure.kept(KIND, _depends(measure, plan), compute))


def known(measure: Measure, style: str, user_id: int | None = None) -> list[ProposedMove] | None:
    """Return the same where it was worked out for the Plan as it stands."""
    found = measure.known(KIND, _depends(measure, change.put(measure.plan, settings_of(style, user_id))))
    return None if found is None else _deeds(found)


def told(measure: Measure, user_id: int | None = None) -> list[dict]:
    """Return each style as a page tells of it: what it sets, its deeds and what they change, None where that was not worked out for the Plan as it stands."""
    out = []
    for style in (*SCHOOLS, *own_styles(user_id).values_list("name", flat=True)):
        sets, deeds = settings_of(style, user_id), known(measure, style, user_id)
        values = {path: value for deed in deeds or () for path, value in deed.values.items()}
        out.append(
            {
                "style": style,
                "own": style not in SCHOOLS,
                "chosen": style == name_of(measure.plan),
                "sets": sets,
                "deeds": None if deeds is None else [with_minus(deed.title) for deed in deeds],
                "changes": None if deeds is None else sets | values,
            }
        )
    return out


def use(session_id: int, style: str, version: int, user_id: int | None = None) -> list[Move]:
    """Do what was worked out for a style, as Moves; the style first where it is another one.

    Raises SettingsError where it was not worked out for the Plan as it stands, or there is nothing to do.
    """
    session = Session.objects.get(pk=session_id)
    sets, deeds = settings_of(style, user_id), known(Measure(session), style, user_id)
    if deeds is None or version != session.version:
        raise SettingsError(f"style: {style} was not worked out for the kit as it stands now; work it out again.")
    job = Unattended(session_id)
    job.make(sets, version=version, step=KIT, title=f"Style: {style}")
    kit_solver.make(job, deeds, version)
    if not job.made:
        raise SettingsError(f"style: the kit is as {style} wants it already; nothing was changed.")
    return job.made


def words(deeds: list[ProposedMove]) -> str:
    """Return in words what was worked out."""
    return f"{len(deeds)} deeds; hear them, then apply" if deeds else "nothing would be changed"


def _deeds(found: dict) -> list[ProposedMove]:
    return [ProposedMove(**deed) for deed in found["deeds"]]


def _depends(measure: Measure, plan: Plan) -> list:
    own = plan.own_style.to_json() if plan.own_style else None
    return [measure.plan.to_json(), plan.school, own, sorted(reverting.set_by_hand(measure.session))]
