"""The kit brought to the targets of a school: measured, corrected, measured again, until all hold or nothing helps any more. Each correction is a Move."""

from collections.abc import Callable
from dataclasses import dataclass

from arkund.core.blend.propose import KIT_PEAK_DB
from arkund.core.card import between, duck, levers, strokes
from arkund.core.card.giving import given_way
from arkund.core.card.levers import Step
from arkund.core.card.measure import STRONG, Sound, octaves_off_db
from arkund.core.card.raw import raw_plan
from arkund.core.card.shares import Shares
from arkund.core.card.targets import (
    INF,
    INSIDE_DB,
    TARGETS,
    WORDS,
    about,
    is_further,
    off_altogether,
    room_db,
    shown,
)
from arkund.core.dsp.spectrum import OCTAVES_HZ
from arkund.core.errors import CancelledError, StaleError
from arkund.core.findings import with_minus
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, layering, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered
from arkund.studio.services.unattended import Unattended
from arkund.studio.steps import KIT

ROUNDS, PATIENCE = 14, 4  # at most; without anything better
WITHOUT = "What you set meanwhile was left out, so less may be reached than the title says."
MOST_MEASURED = 600  # characters
TRIES = 3  # where the Plan is changed meanwhile
STALLED = 2  # after so many without, what is met gives way to what is further off than in the raw kit
STEP_OF = {"attack": "punch", "contrast": "punch", "hat_in_snare": "tone"}
LEAST_ATTACK_DB = 0.05
SECOND_PER_DB = 2.0  # of a strip's level, for a dB more of what all that carries the low end add up to
HARDLY_DB = 0.03  # less is no better
HARDLY_INSIDE_DB = 0.15  # its target: how far density goes for others
THERE_DB = 0.1  # what all figures together may miss by


@dataclass(frozen=True, slots=True)
class Tried:
    """A Plan, what its kit measures, and by how much it misses its targets altogether."""

    plan: Plan
    figures: dict[str, float | None]
    off: float


def settle(
    job: Unattended,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Move]:
    """Correct the kit towards the targets of its school; return the Moves.

    Where somebody changes the Plan meanwhile it is begun again, with what they set left as it is. Raises CancelledError between two rounds, StaleError where
    the Plan never came to rest; what was tried leaves nothing behind then.
    """
    for _ in range(TRIES):
        session = job.session()
        worked_out = _worked_out(session, on_progress, cancelled)
        if not job.disturbed(session.version):
            before, theirs = len(job.made), job.theirs()
            for each in worked_out:
                free = {path: value for path, value in each.values.items() if job.is_free(path, theirs)}
                measured = (
                    each.measured if len(free) == len(each.values) else f"{WITHOUT} {each.measured}"[:MOST_MEASURED]
                )
                if free:
                    job.make(free, version=session.version, title=each.title, step=each.step, measured=measured)
                else:
                    job.left.append(each.title)
            return job.made[before:]
    raise StaleError(
        "The plan was changed again and again while the kit was brought to its targets; nothing of that was kept."
        " Start it again when you let it work."
    )


def _worked_out(
    session: Session, on_progress: Callable[[float, str], None], cancelled: Callable[[], bool]
) -> list["_Correction"]:
    """Return what brings the kit of a Plan to its targets."""
    measure = Measure(session)
    span, school = measure.busy_span(), measure.plan.school
    raw = carding.figures(measure.at(raw_plan(measure.plan)), span)

    def tried(plan: Plan) -> Tried:
        mine = measure.at(plan)
        levelled, found = levers.at_headroom(plan, carding.figures(mine, span))  # which need not be tried
        return Tried(levelled, found, off_altogether(found, raw, school))

    best = now = begun = tried(measure.plan)
    applied: dict[str, dict] = {}
    if turned := levers.turned(measure.plan, layering.turned_over_db(measure, "kick")):
        best = now = tried(change.put(measure.plan, turned.values))
        applied[turned.figure] = dict.fromkeys(turned.values)
    shares, since, giving = Shares(), 0, False
    for number in range(ROUNDS):
        if cancelled():
            raise CancelledError("Stopped; what was done so far stands in the logbook and can be undone.")
        on_progress(number / ROUNDS, "the kit's card")
        missed = shares.of(levers.misses(now.figures, raw, school))
        if giving:
            missed = given_way(missed, now.figures, raw, school)
        made = _Corrections(measure.at(now.plan), now, missed, _rooms(now.figures, raw, school), span)
        if made.plan == now.plan or now.off < THERE_DB:
            break
        before, now = now, tried(made.plan)
        for step in made.steps:
            applied.setdefault(step.figure, {}).update(dict.fromkeys(step.values))
        if now.off < best.off - HARDLY_DB:
            best, since = now, 0
        elif now.off > before.off - HARDLY_DB:  # one that only makes good what the one before it cost does not count
            since += 1
        if since == PATIENCE:
            break
        if since == STALLED and not giving and is_further(best.figures, raw, school):
            giving, now = True, best
    return _kept(begun, best, raw, applied)


def _rooms(figures: dict, raw: dict, school: str) -> dict[str, float]:
    """Return how far some figures may move for others: attack up and hats down for hits to stand out, density up for them, for attack, and for ghosts to
    come down.
    """
    return {
        "attack": room_db("attack", figures, raw, school),
        "density": room_db("density", figures, raw, school, inside_db=HARDLY_INSIDE_DB),
        "cymbals": room_db("cymbals", figures, raw, school, rises=False, inside_db=INSIDE_DB),
    }


class _Corrections:
    """Corrections of what misses its target, one after the other: each is made on what the one before it left."""

    def __init__(
        self, measure: Measure, now: Tried, missed: dict[str, float], rooms: dict[str, float], span: tuple[int, int]
    ) -> None:
        self._measure, self._span, self._missed, self._rooms = measure, span, missed, rooms
        self.plan, self.steps, self._peak_db = now.plan, [], now.figures["headroom"]
        self._short_db = self._between(max(-missed.get("contrast", 0.0), 0.0))
        # Hats that are too soft live on the wash that hits are to stand out of.
        self._wash_db = max(self._short_db + min(missed.get("cymbals", 0.0), 0.0), 0.0)
        self._dip()
        self._punch()
        self._levels()
        self._hats()
        self._kit()

    def _take(self, step: Step | None) -> None:
        if step is not None:
            self.plan = change.put(self.plan, step.values)
            self.steps.append(step)

    def _between(self, short_db: float) -> float:
        """Hits that stand out too little: what is left before them softer, as far as no stroke is touched; return what is still short."""
        was_db = between.closing_db(self.plan)
        if not short_db and not was_db:
            return 0.0
        into_kit = rendered(self.plan, self._measure.recordings, self._span, "mix")
        found = between.floor(Sound(into_kit, carding.heard_hits(self._measure, self._span), self._measure.rate))
        row = between.closed_further(self.plan, found, short_db) if found else None
        if row is None:
            return short_db
        self._take(Step("contrast", {"kit.tools": row}))
        return max(short_db - max(between.closing_db(self.plan) - was_db, 0.0), 0.0)

    def _keep_strikes(self, pieces: tuple[str, ...], figure: str) -> None:
        """Strikes that keys hear, of pieces whose are not kept yet."""
        kept = {each.piece for each in self.plan.struck}
        for piece in sorted(each for each in pieces if each not in kept and self._measure.hits.get(each)):
            struck = rigging.struck_with(self._measure.at(self.plan), piece)
            self._take(Step(figure, {"struck": [each.to_json() for each in struck]}))

    def _dip(self) -> None:
        """Hits that stand out too little: hats and ride that lead them by some milliseconds dip before them."""
        if self._short_db > 0.0 and levers.spots(self.plan):
            self._keep_strikes(STRONG, "contrast")
            self._take(duck.dipped(self.plan, self._measure.hits, self._short_db))

    def _punch(self) -> None:
        """Attack against body, and hits against what is before them: the one helps the other as far as it may still rise."""
        more, short = -0.8 * self._missed.get("attack", 0.0), self._short_db
        if short > 0.0:
            more += min(0.5 * short, 0.7 * self._rooms["attack"])
            spots_db = min(short, max(-self._missed.get("cymbals", 0.0), 0.0))
            self._take(strokes.contrast(self.plan, short, self._wash_db, spots_db, self._rooms["attack"]))
        if abs(more) >= LEAST_ATTACK_DB:
            self._take(strokes.attack(self.plan, more))

    def _levels(self) -> None:
        missed = self._missed
        for key in levers.LEVELS:
            if key in missed:
                self._take(levers.against_back_beats(self.plan, key, -missed[key]))
        if missed.get("ghosts", 0.0) > 0.0:
            self._take(duck.under_ghosts(self.plan, self._measure.hits, missed["ghosts"]))
            self._take(strokes.ghosts(self.plan, missed["ghosts"]))
        self._cymbals(-missed.get("cymbals", 0.0))
        if "middle" in missed:
            self._take(levers.middle(self.plan, missed["middle"]))
        if "low_end" in missed and (carried := layering.carried(self._measure, "kick")):
            self._take(levers.low_end(self.plan, carried.main_db, -SECOND_PER_DB * missed["low_end"]))

    def _cymbals(self, by_db: float) -> None:
        """Hats and ride so much louder. Where hits do not stand out, those without mics of their own are as soft as they may be, for overheads bring both; mics
        at the others make good for what overheads bring less.
        """
        room_db, has_spots = self._rooms["cymbals"], bool(levers.spots(self.plan))
        by_db += max(self._short_db - room_db, 0.0) if has_spots else -min(self._short_db, room_db)
        if not by_db:
            return
        if has_spots:
            self._keep_strikes((duck.SNARE,), "cymbals")
            self._take(duck.tucked(self.plan, self._measure.hits, by_db))
        self._take(levers.cymbals(self.plan, by_db, self._short_db))

    def _hats(self) -> None:
        """Hats in the snare's mic, also where they fill what hits are to stand out of."""
        own = max(self._missed.get("hat_in_snare", 0.0), 0.0)
        over = max(own, self._missed.get("cymbals", 0.0), self._wash_db)
        if over <= 0.0 or not all(self._measure.hits.get(piece) for piece in ("hihat", "snare")):
            return
        self._keep_strikes(("hihat", "snare"), "hat_in_snare")
        self._take(strokes.hat_in_snare(self.plan, over, own))

    def _kit(self) -> None:
        if "balance" in self._missed:
            kit = rendered(self._measure.plan, self._measure.recordings, self._span, "kit")
            residual = octaves_off_db(kit, self._measure.rate)
            if residual is not None:
                self._take(levers.even(self.plan, OCTAVES_HZ, residual, self._missed["balance"]))
        # Peaks that are rounded off take attack, bring ghosts and what is before a hit nearer: less of that, as far as the kit is denser than it must be.
        wanted_db = max(self._missed.get("ghosts", 0.0), self._short_db, -self._missed.get("attack", 0.0))
        more_db = min(wanted_db, self._rooms["density"])
        if "density" in self._missed or more_db:
            over_db = self._missed.get("density", 0.0) - more_db
            self._take(levers.density(self.plan, over_db, self.plan.school, self._peak_db))


@dataclass(frozen=True, slots=True)
class _Correction:
    """What is to become a Move."""

    values: dict
    step: str
    title: str
    measured: str


def _kept(begun: Tried, best: Tried, raw: dict, applied: dict[str, dict]) -> list[_Correction]:
    """Return what differs, with what was wanted and what was reached; figures for which the same was changed share one."""
    made = []
    for figures, places in _together(applied):
        now = {place: change.get(best.plan, place) for place in places if not _below_another(place, places)}
        values = {place: value for place, value in now.items() if value != change.get(begun.plan, place)}
        if not values:
            continue
        was, is_now = ({key: shown(key, about(key, each.figures, raw)) for key in figures} for each in (begun, best))
        told = (f"{WORDS[key]} {was[key]} → {is_now[key]} dB" for key in figures)
        targets = "; ".join(f"{WORDS[key]}: {_range(best.plan.school, key)}" for key in figures)
        step = next((STEP_OF[key] for key in figures if key in STEP_OF), KIT)
        title = f"Kit: {'; '.join(told)}"
        measured = f"Wanted, {best.plan.school}: {targets}. Measured over the busiest part."
        made.append(_correction(values, step, title, measured))
    if best.plan.kit.level_db != begun.plan.kit.level_db:
        title = f"Kit: its level to {best.plan.kit.level_db:+.1f} dB, {best.figures['headroom']:.1f} dBTP"
        measured = f"Wanted: {KIT_PEAK_DB:g} dBTP in the busiest part."
        made.append(_correction({"kit.level_db": best.plan.kit.level_db}, KIT, title, measured))
    return made


def _correction(values: dict, step: str, title: str, measured: str) -> _Correction:
    """Return a correction, what is told of it no longer than that may be."""
    return _Correction(values, step, with_minus(title)[:200], with_minus(measured)[:MOST_MEASURED])


def _together(applied: dict[str, dict]) -> list[tuple[list[str], dict]]:
    """Return which figures were corrected at the same places of the Plan, and where."""
    out: list[tuple[list[str], dict]] = []
    for figure, places in applied.items():
        same = [row for row in out if not row[1].keys().isdisjoint(places)]
        merged = (
            [key for row in same for key in row[0]] + [figure],
            {k: None for row in same for k in row[1]} | places,
        )
        out = [row for row in out if row not in same] + [merged]
    return out


def _below_another(place: str, places: dict) -> bool:
    """Return whether a place of the Plan is part of another one of them."""
    return any(place.startswith(f"{other}.") for other in places)


def _range(school: str, key: str) -> str:
    low, high = TARGETS[school][key]
    if low == -INF:
        return f"{high:g} at most"
    return f"{low:g} at least" if high == INF else f"{low:g} to {high:g}"
