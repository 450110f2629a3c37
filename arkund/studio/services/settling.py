"""The kit brought to the targets of a school: measured, corrected, measured again, until all hold or nothing helps any more. Each correction is a Move."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from arkund.core.card import levers
from arkund.core.card.levers import Step
from arkund.core.card.measure import OCTAVES_HZ, octaves_off_db
from arkund.core.card.targets import FIGURES, TARGETS, off_by
from arkund.core.errors import CancelledError
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, layering, moves, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

ROUNDS = 10
HEADROOM_DB = -6.0
CHANGES = frozenset(figure.key for figure in FIGURES if figure.against == "change")
WORDS = {figure.key: figure.words for figure in FIGURES}
STEP_OF = {"attack": "punch", "hat_in_snare": "tone", "low_end": "blend"}
ENOUGH = 0.3  # of what all figures together miss, that another round must better


@dataclass(frozen=True, slots=True)
class Tried:
    """A Plan, what its kit measures, and by how much it misses its targets altogether."""

    plan: Plan
    figures: dict[str, float | None]
    off: float


def settle(
    session: Session,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Move]:
    """Correct the kit towards the targets of its school; return the Moves. Raises CancelledError between two rounds; what was tried leaves nothing behind."""
    measure = Measure(session)
    span, school = measure.busy_span(), measure.plan.school
    raw = carding.figures(Measure(session, carding.raw_plan(measure.plan)), span)

    def tried(plan: Plan) -> Tried:
        mine = Measure(session, plan)
        found = carding.figures(mine, span)
        return Tried(plan, found, _off(found, raw, school))

    best = now = tried(measure.plan)
    begun, applied = now, {}
    for number in range(ROUNDS):
        if cancelled():
            raise CancelledError("Stopped; what was done so far stands in the logbook and can be undone.")
        on_progress(number / ROUNDS, "the kit's card")
        steps = [step for step in _steps(Measure(session, now.plan), now, raw, school, span) if step]
        if not steps:
            break
        now = tried(_merged(now.plan, steps))
        for step in steps:
            applied.setdefault(step.figure, {}).update(dict.fromkeys(step.values))
        if now.off < best.off - 1e-9:
            best = now
        elif now.off > best.off + ENOUGH * max(best.off, 1.0):
            now = best  # too far: from there again, by less
    return _kept(session, begun, best, raw, applied)


def _off(figures: dict, raw: dict, school: str) -> float:
    """Return by how much all figures together miss, each against the width that its kind has."""
    total = 0.0
    for key, target in TARGETS[school].items():
        value = figures[key]
        if key in CHANGES and value is not None:
            value = None if raw[key] is None else value - raw[key]
        total += min(off_by(value, target), 12.0)
    return total


def _steps(measure: Measure, now: Tried, raw: dict, school: str, span):
    """Yield the corrections of what misses its target."""
    plan, missed = now.plan, levers.misses(now.figures, raw, school, CHANGES)
    if "attack" in missed:
        yield levers.attack(plan, -0.8 * missed["attack"])
    if "contrast" in missed:
        yield levers.contrast(plan, -missed["contrast"])
    for key, (group, sign) in levers.LEVELS.items():
        if key in missed:
            yield levers.level(plan, group, sign * missed[key], key)
    if "cymbals" in missed:
        for group in levers.CYMBALS:
            yield levers.level(plan, group, -0.7 * missed["cymbals"], "cymbals")
    if "middle" in missed:
        yield levers.middle(plan, missed["middle"])
    if "low_end" in missed and (carried := layering.carried(measure, "kick")):
        yield levers.low_end(plan, carried.main_db)
    if "hat_in_snare" in missed and all(measure.hits.get(piece) for piece in ("hihat", "snare")):
        struck = plan.struck
        for piece in ("hihat", "snare"):
            struck = rigging.struck_with(Measure(measure.session, plan.replace(struck=struck)), piece)
        yield Step("hat_in_snare", {"struck": [each.to_json() for each in struck]})
        yield levers.hat_in_snare(plan, missed["hat_in_snare"])
    row = plan
    if "balance" in missed:
        residual = octaves_off_db(rendered(plan, measure.recordings, span, "kit"), measure.rate)
        step = levers.even(row, OCTAVES_HZ, residual)
        row = change.put(row, step.values)
        yield step
    if "density" in missed:
        step = levers.density(row, missed["density"], school)
        row = change.put(row, step.values)
        yield step
    by_db = HEADROOM_DB - now.figures["headroom"]
    if abs(by_db) > 0.05:
        level = float(np.clip(plan.kit.level_db + by_db, -24.0, 12.0))
        yield Step("headroom", {"kit.level_db": round(level, 1)})


def _merged(plan: Plan, steps: list[Step]) -> Plan:
    """Return a Plan with corrections one after the other."""
    for step in steps:
        plan = change.put(plan, step.values)
    return plan


def _kept(session: Session, begun: Tried, best: Tried, raw: dict, applied: dict) -> list[Move]:
    """Keep what differs as Moves, one for each figure that it was for, with what was wanted and reached."""
    made, done = [], set()
    for figure in (key for key in applied if key != "headroom"):
        places = [place for place in applied[figure] if place not in done]
        values = {p: change.get(best.plan, p) for p in places if change.get(best.plan, p) != change.get(begun.plan, p)}
        if not values:
            continue
        done |= set(values)
        was, reached = (_shown(each.figures[figure], raw[figure], figure) for each in (begun, best))
        title = f"Kit: {WORDS[figure]} {was} → {reached} dB"
        step = STEP_OF.get(figure, "blend")
        made.append(
            moves.apply(session.pk, values, step=step, title=title[:200], measured="Measured over the busiest part.")
        )
    if best.plan.kit.level_db != begun.plan.kit.level_db:
        title = f"Kit: its level to {best.plan.kit.level_db:+.1f} dB, {best.figures['headroom']:.1f} dBTP"
        made.append(moves.apply(session.pk, {"kit.level_db": best.plan.kit.level_db}, step="blend", title=title))
    return made


def _shown(value: float | None, raw: float | None, figure: str) -> str:
    if figure in CHANGES and value is not None and raw is not None:
        return f"{value - raw:+.1f}"
    return "–" if value is None else f"{value:.1f}"
