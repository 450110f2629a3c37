"""What the one click did, as an engineer would tell it: largest audible effect first, each deed heard, kept or undone by itself."""

import dataclasses
from dataclasses import dataclass

from arkund.core.autokit.account import faults, left_alone, whose
from arkund.core.card.audible import difference_db
from arkund.core.card.raw import raw_plan
from arkund.core.findings import capital
from arkund.core.load import propose as propose_load
from arkund.core.plan.plan import Plan
from arkund.studio.models import Decision, MicRecording, Move, Session
from arkund.studio.services import carding, reverting
from arkund.studio.services.findings import open_by_step
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered
from arkund.studio.steps import KIT, STEPS

MOST_FIRST = 12  # deeds that are told one by one
LISTENED_S = 8.0  # of the busiest part
INAUDIBLE_DB = 0.05
NOT_PROPOSED = ("takes", "timing", "replace", "punch")  # steps that the one click leaves to the engineer


@dataclass(frozen=True, slots=True)
class Deed:
    """One Move of a job. effect_db : how far apart the kit sounds with and without it, None where that is not known; reverted_by : the
    number of the Move that took it back
    """

    number: int
    step: str
    title: str
    why: str
    whose: str
    effect_db: float | None
    undone: bool
    reverted_by: int | None = None

    @property
    def size(self) -> str:
        """How much it is heard, in words."""
        if self.effect_db is None:
            return "\u2013"
        return f"{self.effect_db:.1f} dB" if self.effect_db >= INAUDIBLE_DB else "not heard"

    @property
    def told_size(self) -> str:
        """The same in a list of words alone; that it is undone, where it is."""
        return "undone" if self.undone else self.size


@dataclass(frozen=True, slots=True)
class Account:
    """What was wrong, what was done, what was left alone, and what waits for an ear. deeds : all, largest effect first"""

    wrong: list[str]
    deeds: list[Deed]
    left_alone: list[str]
    to_your_ear: list[str]

    @property
    def first(self) -> list[Deed]:
        """The deeds that are told one by one."""
        return self.deeds[:MOST_FIRST]

    @property
    def folded(self) -> dict[str, list[Deed]]:
        """The others by drum."""
        out: dict[str, list[Deed]] = {}
        for deed in self.deeds[MOST_FIRST:]:
            out.setdefault(deed.whose, []).append(deed)
        return out

    def lines(self) -> list[str]:
        """Return it as text, a line each."""
        rest = [f"{capital(whose)}: {'; '.join(deed.title for deed in mine)}" for whose, mine in self.folded.items()]
        parts = {
            "What was wrong with the recording": self.wrong,
            f"What was done: {len(self.deeds)} deeds, largest audible effect first": [
                line
                for deed in self.first
                for line in (f"{deed.told_size:>9}  {deed.title}", f"{'':<11}{deed.why}")
                if line.strip()
            ],
            "Smaller ones, by drum": rest,
            "What was left alone": self.left_alone,
            "What is left to your ear": self.to_your_ear,
        }
        return [line for head, mine in parts.items() if mine for line in (head, *(f"  {each}" for each in mine))]

    def to_json(self) -> dict:
        """Return it as plain data."""
        deeds = [dataclasses.asdict(deed) | {"size": deed.size} for deed in self.deeds]
        return dataclasses.asdict(self) | {"deeds": deeds, "first": len(self.first)}


def has_deeds(session: Session) -> bool:
    """Say whether jobs did anything that stands: what an account is about; asking costs nothing."""
    return session.moves.filter(state=Move.DONE, unattended=True).exists()


def account(session: Session, measure: Measure | None = None) -> Account:
    """Tell what jobs did to a session. Effects that are not known yet are measured: a second for each deed or less."""
    measure = measure or Measure(session)
    raw = carding.figures(measure.at(raw_plan(measure.plan)), measure.busy_span())
    return Account(
        faults(measure.plan, raw, _names_and_files(session)),
        deeds(session, measure),
        left_alone(measure.plan, raw),
        _to_your_ear(session, measure),
    )


def deeds(session: Session, measure: Measure) -> list[Deed]:
    """Return what jobs did and still counts, largest effect first; what was undone by itself keeps its place."""
    gone = {m.reverts: m.number for m in reverting.standing(session) if m.reverts is not None}
    mine = list(session.moves.filter(state=Move.DONE, unattended=True).order_by("number"))
    mine = [m for m in mine if m.number in gone or _counts(measure.plan, m)]
    effects = _effects_db([m for m in mine if m.number not in gone], measure)
    effects |= _known_effects_db([m for m in mine if m.number in gone], measure)
    out = [
        Deed(
            move.number, move.step, move.title, _why(move), whose(measure.plan, move.after),
            effects.get(move.number), move.number in gone, gone.get(move.number),
        )
        for move in mine
    ]  # fmt: skip
    return sorted(out, key=lambda deed: -(deed.effect_db if deed.effect_db is not None else 0.0))


def _counts(plan: Plan, move: Move) -> bool:
    """Say whether anything of a Move still stands."""
    return reverting.without_move(plan, move) != plan


def _effects_db(mine: list[Move], measure: Measure) -> dict[int, float]:
    """Return by number how far apart the kit sounds with and without each deed, as it was when that was measured first: the order of an account stays."""
    span, rate = listened(measure), measure.rate

    def compute(other: Measure):
        def found() -> dict:
            kit, apart = (rendered(m.plan, m.recordings, span, "kit") for m in (measure, other))
            return {"db": round(difference_db(kit, apart, rate), 3)}

        return found

    asked = [(_effect_key(move), compute(measure.at(reverting.without_move(measure.plan, move)))) for move in mine]
    return {move.number: found["db"] for move, found in zip(mine, measure.kept_each("deed", asked), strict=True)}


def _known_effects_db(mine: list[Move], measure: Measure) -> dict[int, float]:
    found = {move.number: measure.known("deed", _effect_key(move)) for move in mine}
    return {number: row["db"] for number, row in found.items() if row}


def _effect_key(move: Move) -> list:
    """Return what the size of a deed is kept by; another session of the same recordings has other Moves."""
    return [move.session.uid, move.number, move.title]


def listened(measure: Measure) -> tuple[int, int]:
    """Return the part of the song, in samples, in which effects are measured, and are heard best."""
    start, stop = measure.busy_span()
    return start, min(stop, start + round(LISTENED_S * measure.rate))


def _why(move: Move) -> str:
    return move.measured or move.reason


def _names_and_files(session: Session) -> list[str]:
    """Return what was found wrong with names and files."""
    swaps = session.decisions.filter(verdict=Decision.DONE, move__state=Move.DONE)
    named = swaps.filter(step="load", key__startswith="load:swap")
    clipped = MicRecording.objects.filter(take__session=session, take__key=session.plan.take, clipped__gt=0)
    names = {mic.id: mic.name for mic in session.plan.mics}
    told = [f"named the wrong way round: {decision.title.removesuffix(propose_load.SWAPPED)}" for decision in named]
    files = [names.get(row.mic, row.mic) for row in clipped]
    return [*told, f"clipped in the recording: {', '.join(files)}"] if files else told


def _to_your_ear(session: Session, measure: Measure) -> list[str]:
    """Return what is still off, where notes wait, and what was not touched."""
    waiting = [f"{STEPS[step].name} {found['open']}" for step, found in open_by_step(session).items() if found["open"]]
    done = set(session.moves.filter(state=Move.DONE).values_list("step", flat=True))
    untouched = [STEPS[step].name for step in NOT_PROPOSED if step not in done]
    lines = [
        _off_words(session, measure),
        f"Notes that wait for your judgement: {', '.join(waiting)}." if waiting else "",
        f"Not part of the one click: {', '.join(untouched)}; their pages measure what they offer." if untouched else "",
    ]
    return [line for line in lines if line]


def _off_words(session: Session, measure: Measure) -> str:
    """Return which figures are off their ranges, and what stands in the way by what was measured last."""
    style = measure.plan.school
    rows = [*carding.card(measure, style), *carding.lost(measure, style)]
    off = [f"{row.figure.words} by {row.off:.1f} {row.figure.unit}" for row in rows if row.off > carding.MET_DB]
    last = session.moves.filter(state=Move.DONE, unattended=True, step=KIT).order_by("-number").first()
    held = [each for each in (last.measured if last else "").split(". ") if ", target " in each]
    return f"Off its range: {', '.join(off)}. {'. '.join(held)}".strip() if off else ""
