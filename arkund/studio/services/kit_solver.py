"""The kit worked towards the targets of its style: levers solved for over its busiest part, each deed a Move. What somebody set by hand is left alone."""

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from arkund.core.autokit import levers
from arkund.core.autokit.advice import held, served
from arkund.core.autokit.levers import OWN_TOOLS, Means
from arkund.core.autokit.objective import objective_of
from arkund.core.autokit.solver import Solution, solve
from arkund.core.beside import WORKERS
from arkund.core.blend.propose import level_for
from arkund.core.card.clipping import loudest_db
from arkund.core.card.cost import Reading, costs
from arkund.core.card.measure import STRONG, Sound, kit_figures
from arkund.core.card.raw import balanced_plan, raw_plan
from arkund.core.card.targets import about
from arkund.core.errors import CancelledError, StaleError
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.replace import layers as laying
from arkund.core.rig.places import KIT as KIT_STRIP
from arkund.core.units import gain_to_db
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, layering, moves
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of
from arkund.studio.services.unattended import Unattended
from arkund.studio.steps import KIT

SWEEPS = 2  # of all levers, at most
TRIES = 3  # where the Plan is changed meanwhile
WITHOUT = "What you set meanwhile was left out, so less may be reached than this says."
MOST_MEASURED, MOST_TITLE = 600, 200  # characters
STOPPED = "Stopped; what was done so far stands in the logbook and can be undone."


@dataclass(frozen=True, slots=True)
class Deed:
    """What is to become a Move."""

    values: dict
    title: str
    measured: str


def settle(
    job: Unattended,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Move]:
    """Work the kit towards the targets of its style; return the Moves.

    Where somebody changes the Plan meanwhile it is begun again, with what they set left as it is. Raises CancelledError between two trials, StaleError where
    the Plan never came to rest; what was tried leaves nothing behind then.
    """
    for _ in range(TRIES):
        session = job.session()
        deeds = _worked_out(session, on_progress, cancelled)
        if not job.disturbed(session.version):
            before, theirs = len(job.made), job.theirs()
            for deed in deeds:
                free = {path: value for path, value in deed.values.items() if job.is_free(path, theirs)}
                measured = deed.measured if len(free) == len(deed.values) else f"{WITHOUT} {deed.measured}"
                if free:
                    words = {"title": deed.title[:MOST_TITLE], "measured": measured[:MOST_MEASURED]}
                    job.make(free, version=session.version, step=KIT, **words)
                else:
                    job.left.append(deed.title)
            return job.made[before:]
    raise StaleError(
        "The plan was changed again and again while the kit was brought to its targets; nothing of that was kept."
        " Start it again when you let it work."
    )


def _worked_out(
    session: Session, on_progress: Callable[[float, str], None], cancelled: Callable[[], bool]
) -> list[Deed]:
    """Return what brings the kit of a Plan towards its targets."""
    measure, by_hand = Measure(session), set_by_hand(session)
    origin = _origin(session, measure.plan, by_hand)
    kit = _Kit(measure, origin, cancelled)
    means = [
        each
        for each in levers.levers_of(origin, origin.school, kit)
        if not any(moves.overlap(each.path, path) for path in by_hand)
    ]
    now = {each.lever.key: each.value(measure.plan) for each in means}
    with ThreadPoolExecutor(WORKERS, thread_name_prefix="solve") as pool:
        solution = solve(
            [each.lever for each in means],
            objective_of(origin.school, kit.raw),
            lambda values: kit.figures(levers.put(origin, means, values)),
            sweeps=SWEEPS,
            begin=now,
            each=pool.map,
            on_progress=lambda share: on_progress(share, "the mix"),
        )
    return [*_deeds(measure.plan, origin, means, solution), *_levelled(measure.plan, kit, means, solution, by_hand)]


def set_by_hand(session: Session) -> set[str]:
    """Return the paths of the Plan that somebody has set: no job moves them. What was applied as it was proposed is a proposal still."""
    mine = session.moves.filter(state=Move.DONE, unattended=False, decision__isnull=True)
    rows = mine.values_list("after", flat=True)
    return {path for after in rows for path in after}


def _origin(session: Session, plan: Plan, by_hand: Iterable[str]) -> Plan:
    """Return the Plan before the kit was first worked on by a job: bounds are counted from there, however often that is done."""
    mine = session.moves.filter(state=Move.DONE, step=KIT, unattended=True).order_by("-number")
    values = {path: value for move in mine for path, value in move.before.items() if path.endswith(".level_db")}
    for place, strip in [*((f"groups.{group.id}", group) for group in plan.groups), ("kit", plan.kit)]:
        row = tuple(tool for tool in strip.tools if tool.id not in OWN_TOOLS)
        if row != strip.tools:
            values[f"{place}.tools"] = [tool.to_json() for tool in row]
    kept = {path: v for path, v in values.items() if not any(moves.overlap(path, other) for other in by_hand)}
    known = {f"{field}.{strip.id}" for field in ("mics", "groups", "paths") for strip in getattr(plan, field)} | {"kit"}
    values = {path: v for path, v in kept.items() if path.rpartition(".")[0] in known}
    return change.put(plan, values) if values else plan


class _Kit:
    """A kit over the busiest part of a song: its figures for any mix of it, against its raw sum; peaks for the levers' bounds.

    Only levels, groups, paths and the kit may differ from the Plan that it is made of. It asks no database: several threads measure at once.
    """

    def __init__(self, measure: Measure, origin: Plan, cancelled: Callable[[], bool]) -> None:
        begun = measure.at(origin)
        self._cancelled, self._span, self._recordings = cancelled, measure.busy_span(), measure.recordings
        self._hits = carding.heard_hits(begun, self._span)
        self.raw = carding.figures(measure.at(raw_plan(origin)), self._span)
        self._balanced = Reading(self._sound(balanced_plan(origin)))
        self._bleed = carding.bleed(begun, self._span)
        self._kicks = layering.before_levels(begun, "kick")
        self._low_ends: dict[tuple[float, ...], dict[str, float | None]] = {}  # by the levels of the kick's mics

    def figures(self, plan: Plan) -> dict[str, float | None]:
        """Return what all targets and limits are about. Raises CancelledError where it is to stop."""
        if self._cancelled():
            raise CancelledError(STOPPED)
        kit, (strips, hits_s) = self._sound(plan), self._kicks
        mics = layering.strips_of(plan, "kick")
        levels = tuple(mic.level_db for mic in mics)
        if levels not in self._low_ends:
            self._low_ends[levels] = carding.low_end_sum(laying.at_levels(mics, strips), hits_s, kit.sample_rate_hz)
        now = kit_figures(kit) | self._bleed | self._low_ends[levels]
        found = {key: about(key, now, self.raw) for key in now}
        clipped = carding.clipped(plan, self._recordings, self._span, self._hits)
        return found | costs(self._balanced, kit) | clipped | {"plr": now["density"]}

    def _sound(self, plan: Plan) -> Sound:
        audio = rendered(plan, self._recordings, self._span, "kit")
        return Sound(audio, self._hits, self._recordings.sample_rate_hz)

    def of(self, plan: Plan, output: str) -> float | None:
        """Return the peak of an output in dBFS, None for silence."""
        peak = float(np.abs(rendered(plan, self._recordings, self._span, output)).max(initial=0.0))
        return float(gain_to_db(peak)) if peak > 0.0 else None

    def loudest_hits(self, plan: Plan, strip: str) -> float | None:
        """Return the peak of the loudest tenth of a strip's hits behind its tools, in dBFS."""
        row, rate = row_of(plan, self._recordings, strip, self._span), self._recordings.sample_rate_hz
        pieces = STRONG if strip == KIT_STRIP else (strip.removeprefix("group:"),)
        at = [h.time_s for piece in pieces for h in self._hits.get(piece, []) if not h.ghost]
        return loudest_db(row[-1].T, at, rate) if row and at else None


def _deeds(plan: Plan, origin: Plan, means: Sequence[Means], solution: Solution) -> list[Deed]:
    """Return what differs from a Plan, strip by strip, each with what it serves."""
    values, out = solution.moved, []
    paths = list(dict.fromkeys(each.path for each in means))
    after = levers.put(origin, means, values)
    for path in paths:
        now, then = change.get(plan, path), change.get(after, path)
        if now == then:
            continue
        mine = [each for each in means if each.path == path and each.lever.key in values]
        title = _title([each.title(values[each.lever.key]) for each in mine]) if mine else f"{path}: as it was begun"
        out.append(Deed({path: then}, title, served(mine, solution)))
    return out


def _title(parts: list[str]) -> str:
    """Return deeds at one strip as one title, what they have in common said once."""
    first, sign, _ = parts[0].partition(": ")
    return f"{first}: {'; '.join(part.removeprefix(f'{first}: ') for part in parts)}" if sign else "; ".join(parts)


def _levelled(plan: Plan, kit: _Kit, means: Sequence[Means], solution: Solution, by_hand: Iterable[str]) -> list[Deed]:
    """Return the kit's level by which it leaves its headroom, and with it what could not be reached and what holds it."""
    told = held(means, solution)
    level_db = level_for(plan.kit, solution.figures["headroom"]) if solution.figures["headroom"] is not None else None
    if level_db is None or "kit.level_db" in by_hand:
        return []
    after = solution.figures["headroom"] + level_db - plan.kit.level_db
    title = f"Kit level {level_db:+.1f} dB: peaks at {after:.1f} dBTP"
    return [Deed({"kit.level_db": level_db}, title, f"Measured over the busiest part. {' '.join(told)}".strip())]
