"""The findings of each step, with what was decided about them."""

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.blend import arcs
from arkund.core.blend.propose import propose_headroom, propose_mix
from arkund.core.blend.propose import propose_kit as propose_over_kit
from arkund.core.clean.propose import propose as propose_clean
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding, with_minus
from arkund.core.kit.pieces import is_tom, timing_mic, words_of
from arkund.core.level.measure import sticking_out
from arkund.core.level.propose import propose as propose_level
from arkund.core.level.propose import propose_kit, propose_outliers, propose_sections
from arkund.core.lineup.propose import propose as propose_lineup
from arkund.core.lineup.propose import propose_drift
from arkund.core.load import propose as propose_load
from arkund.core.load.sound import sounds_like_another
from arkund.core.plan import change, difference
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.replace.propose import propose as propose_replace
from arkund.core.timing import sections as song_sections
from arkund.core.timing.bars import bars_of
from arkund.core.timing.measure import deviations
from arkund.core.timing.propose import propose as propose_timing
from arkund.core.timing.propose import propose_tempo
from arkund.core.tone import owner
from arkund.core.tone.propose import propose as propose_tone
from arkund.core.tone.propose import propose_cymbals
from arkund.studio.models import Decision, Measured, MicRecording, Move, Session
from arkund.studio.services import blending, grouping, layering, moves, reverting, solving, toning, whole
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS

LOW_CONFIDENCE = 0.7
ENOUGH_HITS = 40  # of all drums, before one that has none counts as never played
MOST_PAST = 60  # of what was done and is no longer found: the first of them are shown
OPEN = "open"  # a note that waits for a decision


@dataclass(frozen=True, slots=True)
class Note:
    """A finding as it is shown: numbered, and open, done or left. changed : it was done, and what it set was set otherwise since; it is told as measured now"""

    number: int
    finding: Finding
    state: str
    reason: str = ""
    changed: bool = False


def parts(step: str) -> int:
    """Return in how many parts a step is found: each after the first hangs on what was done of the one before it."""
    return len(_FINDERS.get(step, ()))


def find(step: str, measure: Measure) -> list[Finding]:
    """Measure one step and return what asks for a decision, and then what is only offered."""
    asked = [finding for part in range(parts(step)) for finding in find_part(step, part, measure)]
    return asked + [_worded(finding) for finder in _OFFERED.get(step, ()) for finding in finder(measure)]


def find_part(step: str, part: int, measure: Measure) -> list[Finding]:
    """Measure one part of a step and return what asks for a decision."""
    return [_worded(finding) for finding in _FINDERS[step][part](measure)]


def _worded(finding: Finding) -> Finding:
    told = {name: with_minus(getattr(finding, name)) for name in ("title", "evidence", "short")}
    return dataclasses.replace(finding, **told)


def notes(step: str, session: Session, measure: Measure) -> list[Note]:
    """Return the step's findings with their decisions, and what was done and is no longer found, for it helped; a change that already stands counts as done.
    What was done is told as it was measured then.
    """
    found, plan, out = find(step, measure), measure.plan, []
    decided = standing_decisions(session, [finding.key for finding in found])
    past = session.decisions.filter(verdict=Decision.DONE, step=step, move__state=Move.DONE)
    past = past.exclude(key__in=decided).exclude(move__number__in=reverting.reverted_numbers(session))
    gone = list(past.select_related("move")[:MOST_PAST])
    done = [decision.move.number for decision in (*decided.values(), *gone) if decision.verdict == Decision.DONE]
    by_hand = _set_by_hand(session, min(done)) if done else {}
    for number, finding in enumerate(found, 1):
        decision = decided.get(finding.key)
        state = decision.verdict if decision else OPEN
        changed = state == Decision.DONE and not _holds(plan, decision.move, by_hand)
        if state == Decision.DONE and not changed:
            finding = dataclasses.replace(finding, title=decision.title, evidence=_measured_then(decision))
        elif state == OPEN and finding.changes and _is_so(plan, finding.changes):
            state = Decision.DONE
        out.append(Note(number, finding, state, decision.reason if decision else "", changed))
    for decision in gone:
        if _holds(plan, decision.move, by_hand):
            told = Finding(step, decision.key, _place_of(decision.key), decision.title, _measured_then(decision))
            out.append(Note(len(out) + 1, told, Decision.DONE))
    return out


def _measured_then(decision: Decision) -> str:
    """Return what was measured when something was done: of several notes that one Move did each its own."""
    return decision.evidence or decision.move.measured


def _place_of(key: str) -> str:
    """Return where the finding of a key was pinned: at a mic, or at a bar."""
    steps = key.split(":")
    return steps[2] if steps[0] == "replace" and len(steps) > 2 else steps[-1]


def remember_open(session: Session, step: str, found: list[Note]) -> None:
    """Remember which notes of a step wait, as measured at the session's version: the rail of every page shows how many."""
    told = {"version": session.version, "open": [note.finding.key for note in found if note.state == OPEN]}
    row, _ = Measured.objects.get_or_create(pk=_open_key(session, step), defaults={"session": session, "data": told})
    if row.data != told and row.data["version"] <= session.version:
        Measured.objects.filter(pk=row.pk).update(data=told)


def open_by_step(session: Session) -> dict[str, dict]:
    """Return by step how many notes wait, and whether that was measured since the last change; steps that were never measured are left out.

    What was decided since then, on whichever page, waits no longer.
    """
    steps = {_open_key(session, step): step for step in STEPS}
    told = {steps[pk]: data for pk, data in Measured.objects.filter(pk__in=steps).values_list("pk", "data")}
    decided = standing_decisions(session, [key for data in told.values() for key in data["open"]])
    return {
        step: {
            "open": sum(key not in decided for key in data["open"]),
            "fresh": data["version"] == session.version,
        }
        for step, data in told.items()
    }


def _open_key(session: Session, step: str) -> str:
    return f"waiting notes {session.pk} {step}"


def standing_decisions(session: Session, keys: Sequence[str]) -> dict[str, Decision]:
    """Return by key what was decided of some findings and still holds."""
    rows = Decision.objects.filter(session=session, key__in=keys).select_related("move")
    gone = reverting.reverted_numbers(session)
    return {each.key: each for each in rows if each.verdict == Decision.LEFT or _done(each.move, gone)}


def _done(move: Move | None, gone: set[int]) -> bool:
    """Say whether a Move stands; gone : the numbers of those that were taken back by themselves"""
    return move is not None and move.state == Move.DONE and move.number not in gone


def _holds(plan: Plan, move: Move, by_hand: dict[str, int]) -> bool:
    """Say whether nobody has set otherwise what a Move changed of a Plan; by_hand : as of :func:`_set_by_hand`"""
    since = [path for path, number in by_hand.items() if number > move.number]
    touched = {
        path: after
        for path, after in change.of_today(move.after).items()
        if any(moves.overlap(path, each) for each in since)
    }
    try:
        return all(
            difference.still_stands(change.get(plan, path), move.before.get(path), after)
            for path, after in touched.items()
        )
    except SettingsError:
        return False  # what it changed is gone


def _set_by_hand(session: Session, since: int) -> dict[str, int]:
    """Return what was set by hand since a Move, with the number of the last one; notes and jobs go on from each other, and contradict none."""
    mine = [move for move in reverting.made_by_hand(session) if move.number > since]
    return {path: move.number for move in mine for path in move.after}


def _is_so(plan: Plan, changes: dict) -> bool:
    return all(difference.stands(change.get(plan, path), value) for path, value in changes.items())


def _load(m: Measure) -> list[Finding]:
    out, doubtful = [], _doubtful(m)
    rows = MicRecording.objects.filter(take__session=m.session, take__key=m.plan.take)
    for row in sorted(rows, key=lambda row: row.confidence):  # the least sure is asked first
        mic = m.plan.mic(row.mic)
        if row.mic in doubtful:
            out.append(
                Finding(
                    "load",
                    f"load:name:{row.mic}",
                    row.mic,
                    f"{row.file}: taken as {words_of(mic.piece, mic.role)}",
                    f"Name and sound say this with a confidence of {row.confidence:.0%} only{_sounds_like(m, mic)}; hear its average hit, and name it by hand"
                    " where it is wrong.",
                    first_choice=False,
                )
            )
    toms = [mic for mic in m.plan.mics if is_tom(mic.piece) and m.hits.get(mic.piece)]
    pitch_hz = {mic.id: m.tone(mic).fundamental_hz or 0.0 for mic in toms}
    found = propose_load.swapped(m.plan, m.couples(), m.heard(), pitch_hz)
    found += propose_load.doubled(m.plan, m.alike())
    found += propose_load.sides(m.plan, m.pairs())
    found += song_sections.propose(m.plan, song_sections.sections(m.hits, bars_of(m.plan.tempo)))
    return out + found


def _sounds_like(m: Measure, mic: MicPlan) -> str:
    """Return in words which kind of mic one of doubtful name sounds like most; sound alone is never more than a hint."""
    likely_of = m.likelihoods().get(mic.id)
    return f"; it sounds most like a {max(likely_of, key=likely_of.__getitem__)}" if likely_of else ""


def _doubtful(m: Measure) -> set[str]:
    """Return the mics whose names were never clear, and that nobody has named by hand."""
    rows = MicRecording.objects.filter(take__session=m.session, take__key=m.plan.take, confidence__lt=LOW_CONFIDENCE)
    return set(rows.values_list("mic", flat=True)) - _named_by_hand(m.session)


def _named_by_hand(session: Session) -> set[str]:
    """Return the mics whose piece or role somebody has set."""
    rows = session.moves.filter(state=Move.DONE, step="load").values_list("after", flat=True)
    paths = (path for after in rows for path in after)
    steps = (path.split(".") for path in paths)
    return {parts[1] for parts in steps if len(parts) == 3 and parts[0] == "mics" and parts[2] in ("piece", "role")}


def _level(m: Measure) -> list[Finding]:
    out = propose_level(m.plan, m.levels(), m.plan.window)
    out += propose_kit(m.plan, m.kit_peak_db(), m.plan.window)
    out += propose_sections(m.plan, m.section_levels())
    return out + propose_outliers(m.plan, {piece: sticking_out(mine) for piece, mine in m.hits.items()})


def _lineup(m: Measure) -> list[Finding]:
    overheads = m.overheads_ms() if m.plan.alignment.school == "overheads" else None
    return propose_lineup(m.plan, m.arrivals(), overheads) + propose_drift(m.plan, m.drifts())


def _timing(m: Measure) -> list[Finding]:
    rows = deviations(m.heard_hits, m.plan.tempo, 16, m.plan.meant)
    return propose_tempo(m.plan.tempo, m.tempo_guess(), m.meter_guess()) + propose_timing(rows)


def _clean(m: Measure) -> list[Finding]:
    look, doubtful = m.plan.cleaning.look, _doubtful(m)
    likely = m.likelihoods() if doubtful else {}
    mics, unplayed = [mic for mic in m.shells() if m.hits.get(mic.piece)], _unplayed(m)
    separated, _ = m.separations(mics), m.ringings(mics)  # of all at once: the cleaners of each ask for them again
    found = [
        propose_clean(mic, *m.cleaners(mic), mine, look, _another(mic, doubtful, likely))
        for mic, mine in zip(mics, separated, strict=True)
    ]
    return unplayed + [f for f in found if f is not None]


def _unplayed(m: Measure) -> list[Finding]:
    """Return notes on mics of drums that are never struck, where enough of others is."""
    if sum(map(len, m.hits.values())) < ENOUGH_HITS:
        return []
    return [
        Finding(
            "clean", f"clean:unplayed:{mic.id}", mic.id, f"{mic.name}: off in the mix, its drum is never played",
            f"No hit of the {words_of(mic.piece)} was found in this take; all that the mic adds is bleed of others.",
            {f"mics.{mic.id}.mute": True},
        )
        for mic in m.shells()
        if is_tom(mic.piece) and not m.hits.get(mic.piece)
    ]  # fmt: skip


def _another(mic: MicPlan, doubtful: set[str], likely: dict) -> str:
    """Return which kind of mic one of doubtful name surely is by its sound; a clear name stands."""
    return sounds_like_another(mic.piece, likely.get(mic.id, {})) if mic.id in doubtful else ""


def _replace(m: Measure) -> list[Finding]:
    return propose_replace(m.plan, m.hits, m.heard_hits, m.rate)


def _tone(m: Measure) -> list[Finding]:
    mics = [mic for mic in m.plan.mics if not mic.is_layer and not (is_tom(mic.piece) and not m.hits.get(mic.piece))]
    measured = list(zip(mics, m.tones(mics), strict=True))
    found = [each for mic, tone in measured for each in propose_tone(mic, tone)]
    cymbals = propose_cymbals([(mic, tone) for mic, tone in measured if mic.role == "overhead"])
    return [f for f in (*_low_end(m), *found, cymbals, toning.split_note(m)) if f is not None]


def _low_end(m: Measure) -> list[Finding | None]:
    """Return the notes on who owns the low end."""
    carried, mic = layering.carried(m, owner.PIECE), timing_mic(m.plan.mics, owner.PIECE)
    if carried is None or mic is None:
        return []
    names = {each.id: each.name for each in m.plan.mics}
    asked = owner.undecided(m.plan, carried, names)
    return [asked] if asked else owner.competing(m.plan, carried, names, m.tone(mic).fundamental_hz)


def _turned(m: Measure) -> list[Finding]:
    """Return the notes on mics that take from the kick's low end as it is heard: filters turn phase, so that is known once they are set."""
    if layering.carried(m, owner.PIECE) is None:
        return []
    return owner.turned(m.plan, layering.turned_over_db(m, owner.PIECE))


def _tuck(m: Measure) -> list[Finding]:
    tucked = solving.tuck(m)
    return [tucked] if tucked else []


def _arcs(m: Measure) -> list[Finding]:
    return arcs.propose(m.plan, arcs.intensities(m.hits, m.plan.sections, bars_of(m.plan.tempo)))


def _mix(m: Measure) -> list[Finding]:
    return [propose_mix(m.plan, blending.first_mix(m))]


def _over_kit(m: Measure) -> list[Finding]:
    kit = m.kit()
    return [propose_over_kit(m.plan, kit["kit"]["peak_db"], kit["mix"]["peak_db"], kit["kit_threshold_db"])]


def _print(m: Measure) -> list[Finding]:
    peak_db = whole.true_peak_db(m.session, m.plan)
    found = None if peak_db is None else propose_headroom(m.plan, peak_db)
    return [found] if found else []


_FINDERS = {
    "load": (_load,),
    "level": (_level,),
    "lineup": (_lineup,),
    "timing": (_timing,),
    "clean": (_clean,),
    "replace": (_replace,),
    "tone": (_tone, _turned),
    "punch": (solving.starts,),
    "blend": (_mix, _over_kit),
    "print": (_print,),
}

# What is no first choice anywhere, and is not measured where everything is proposed.
_OFFERED = {"punch": (_tuck,), "blend": (_arcs, grouping.starts)}
