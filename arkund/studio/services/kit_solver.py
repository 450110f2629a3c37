"""The kit worked towards the targets of its style: levers solved for over its busiest part, each deed a Move. What somebody set by hand is left alone."""

from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

from arkund.core.autokit import levers
from arkund.core.autokit.advice import held, served, title
from arkund.core.autokit.levers import OWN_TOOLS, Means
from arkund.core.autokit.objective import objective_of
from arkund.core.autokit.solver import Solution, solve
from arkund.core.beside import WORKERS
from arkund.core.blend.propose import level_for, level_title
from arkund.core.card.clipping import loudest_db, pieces_at
from arkund.core.card.cost import Reading, costs
from arkund.core.card.measure import SLOPE_HZ, kit_figures, octaves_off_db, times
from arkund.core.card.raw import balanced_plan, raw_plan
from arkund.core.card.sound import Sound
from arkund.core.card.targets import Figures, about
from arkund.core.errors import CancelledError, StaleError
from arkund.core.findings import fitting, with_minus
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.replace import layers as laying
from arkund.core.units import SILENCE_DB, peak_db
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, layering, moves, reverting
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of
from arkund.studio.services.unattended import MOST_MEASURED, Unattended
from arkund.studio.steps import KIT

SWEEPS = 4  # of levers, at most
TRIES = 3  # where the Plan is changed meanwhile
WITHOUT = "What you set meanwhile was left out, so less may be reached than this says."
OVER = "Measured over the busiest part."
STOPPED = "Stopped; what was done so far stands in the logbook and can be undone."


@dataclass(frozen=True, slots=True)
class ProposedMove:
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
        deeds = worked_out(session, session.plan, on_progress, cancelled)
        if not job.disturbed(session.version):
            before = len(job.made)
            make(job, deeds, session.version)
            return job.made[before:]
    raise StaleError(
        "The plan was changed again and again while the kit was brought to its targets; nothing of that was kept."
        " Start it again when you let it work."
    )


def make(job: Unattended, deeds: Sequence[ProposedMove], version: int) -> None:
    """Make Moves of deeds that were worked out on a version, but for what somebody else has set since."""
    theirs = job.theirs()
    for deed in deeds:
        free = {path: value for path, value in deed.values.items() if job.is_free(path, theirs)}
        measured = deed.measured if len(free) == len(deed.values) else f"{WITHOUT} {deed.measured}"
        if free:
            job.make(free, version=version, step=KIT, title=deed.title, measured=with_minus(measured))
        else:
            job.left.append(deed.title)


def worked_out(
    session: Session,
    plan: Plan,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[ProposedMove]:
    """Return what brings the kit of a session towards the targets of a Plan, its own with its style or with another; nothing is changed. Raises
    CancelledError.
    """
    measure, by_hand = Measure(session, plan), reverting.set_by_hand(session)
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
            objective_of(origin.school, kit.raw, origin.own_style, _calm_by(measure, kit.figures(measure.plan))),
            lambda values: kit.figures(levers.put(origin, means, values)),
            sweeps=SWEEPS,
            begin=now,
            each=pool.map,
            on_progress=lambda share: on_progress(share, "the mix"),
        )
    return _deeds(measure.plan, origin, means, solution, by_hand)


def _calm_by(measure: Measure, busy: Figures) -> dict[str, float]:
    """Return by how much figures are higher in the song's calmest part than in its busiest as it is now; nothing where no part is calmer."""
    calm = carding.calm(measure)
    return {key: value - busy[key] for key, value in calm.items() if value is not None and busy.get(key) is not None}


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
        self._rows = carding.of_rows(begun, self._span)
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
        return found | self._rows.among(costs(self._balanced, kit)) | clipped | {"plr": now["density"]}

    def _sound(self, plan: Plan) -> Sound:
        audio = rendered(plan, self._recordings, self._span, "kit")
        return Sound(audio, self._hits, self._recordings.sample_rate_hz)

    def of(self, plan: Plan, output: str) -> float | None:
        """Return the peak of an output in dBFS, None for silence."""
        level_db = peak_db(rendered(plan, self._recordings, self._span, output))
        return level_db if level_db > SILENCE_DB else None

    def octaves_off(self, plan: Plan) -> dict[float, float]:
        """Return by how much each octave of the kit lies over the slope, in dB by its middle in Hz."""
        off = octaves_off_db(self._sound(plan).audio, self._recordings.sample_rate_hz)
        return {} if off is None else dict(zip(SLOPE_HZ, off.tolist(), strict=True))

    def loudest_hits(self, plan: Plan, strip: str) -> tuple[float, float] | None:
        """Return the peak of the loudest tenth of a strip's hits behind its tools, and the highest of all, in dBFS."""
        row = row_of(plan, self._recordings, strip, self._span)
        at = times(self._hits, *pieces_at(strip))
        tenth_db = loudest_db(row[-1].T, at, self._recordings.sample_rate_hz) if row else None
        return None if tenth_db is None else (tenth_db, peak_db(row[-1]))


def _deeds(
    plan: Plan, origin: Plan, means: Sequence[Means], solution: Solution, by_hand: Iterable[str]
) -> list[ProposedMove]:
    """Return what differs from a Plan, path by path, each with what it serves; last the kit's level, and what could not be reached."""
    after, by_path = levers.put(origin, means, solution.moved), {}
    for each in means:
        by_path.setdefault(each.path, []).append(each)
    out = []
    for path, mine in by_path.items():
        then, steps = change.get(after, path), [(each, each.value(after), each.value(plan)) for each in mine]
        told = [each.deed(to, before) for each, to, before in steps if to != before]
        if told and then != change.get(plan, path):
            out.append(ProposedMove({path: then}, title(mine[0].strip, told), served(mine, solution)))
    peak = solution.figures["headroom"]
    if peak is not None and "kit.level_db" not in by_hand:
        level_db = level_for(origin.kit, peak)
        out.append(ProposedMove({"kit.level_db": level_db}, level_title(origin.kit, peak), OVER))
    held_words = fitting([out[-1].measured, *held(means, solution)], MOST_MEASURED) if out else ""
    return [*out[:-1], *(replace(each, measured=held_words) for each in out[-1:])]
