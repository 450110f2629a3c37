"""Cleaning as Moves: one mic in one of the ways, the whole kit to a look; and what it did, for the command line and the page."""

import dataclasses

from arkund.core.clean.propose import SAFE_MARGIN_DB, change, is_cleaned
from arkund.core.clean.settings import LOOKS, WAYS, down_db
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding
from arkund.core.plan.plan import MicPlan
from arkund.core.rig.changes import Change
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure

WORDS = {"gate": "gated", "cut": "cut by hits", "leave": "left as it is"}


def way_of(mic: MicPlan) -> str:
    """Return in which of the WAYS a mic is cleaned as it stands: cut where both are on, because what is cut is not heard again."""
    on = {tool.kind for tool in mic.tools if tool.on}
    return "cut" if "regions" in on else "gate" if "gate" in on else "leave"


def set_way(measure: Measure, mic_id: str, way: str) -> Change:
    """Return the change by which a mic is cleaned in a way, with what is measured for it. Raises SettingsError for an unknown way, and without hits."""
    if way not in WAYS:
        raise SettingsError(f"way: expected one of {', '.join(WAYS)}; got {way!r}.")
    mic = measure.plan.mic(mic_id)
    if way != "leave" and not measure.hits.get(mic.piece):
        raise SettingsError(f"way: nothing of {mic.piece} was found, by which {mic.name} could be {WORDS[way]}.")
    return Change(f"{mic.name}: {WORDS[way]}", _changes(measure, mic, way))


def set_look(measure: Measure, look: str) -> Change:
    """Return the change by which the whole kit is cleaned to a look: every shell in the way that its measurement proposes, those already cleaned in theirs."""
    if look not in LOOKS:
        raise SettingsError(f"look: expected one of {', '.join(LOOKS)}; got {look!r}.")
    wanted = Measure(measure.session, measure.plan.replace(cleaning=measure.plan.cleaning.replace(look=look)))
    values = {"cleaning.look": look}
    proposed = {note.place: note for note in find("clean", wanted) if note.first_choice}
    for mic in _cleaned(wanted):
        if not down_db(look, mic.piece, mic.role):
            values |= _changes(wanted, mic, "leave")
        elif way_of(mic) != "leave":
            values |= _deeper(mic, down_db(look, mic.piece, mic.role))
        elif mic.id in proposed:
            values |= proposed[mic.id].changes
    return Change(f"Cleaned: {look}", values)


def _cleaned(measure: Measure) -> list[MicPlan]:
    return [mic for mic in measure.shells() if is_cleaned(mic) and measure.hits.get(mic.piece)]


def _deeper(mic: MicPlan, down: float) -> dict:
    """Return the changes by which what cleans a mic goes as far down as it should; its regions and threshold stay."""
    depth = {"regions": "down_db", "gate": "range_db"}
    return {
        f"mics.{mic.id}.tools.{tool.id}.{depth[tool.kind]}": down
        for tool in mic.tools
        if tool.kind in depth and tool.on
    }


def _changes(measure: Measure, mic: MicPlan, way: str) -> dict:
    return change(mic, way, *measure.cleaners(mic)) if measure.hits.get(mic.piece) else {}


def report(measure: Measure, mic: MicPlan, notes: list[Finding] | None = None) -> dict:
    """Return how a mic is cleaned and what that did, as plain data; notes : those of the step, where they are known."""
    notes = find("clean", measure) if notes is None else notes
    separated, done = measure.separation(mic), measure.cleaned(mic)
    note = next((each for each in notes if each.place == mic.id), None)
    return {
        "mic": mic.id,
        "name": mic.name,
        "way": way_of(mic),
        "proposed": {"title": note.title, "why": note.evidence, "first_choice": note.first_choice} if note else None,
        "margin_db": round(separated.margin_db, 1) if separated.own_db and separated.others_db else None,
        "threshold_tells": separated.margin_db >= SAFE_MARGIN_DB if separated.own_db else None,
        "done": dataclasses.asdict(done) if done else None,
    }


def reports(measure: Measure) -> list[dict]:
    """Return how every shell mic is cleaned."""
    notes = find("clean", measure)
    return [report(measure, mic, notes) for mic in measure.shells()]


def words_of(done: dict | None) -> str:
    """Return what cleaning did to a mic, in words."""
    if done is None:
        return ""
    bleed = (
        "nothing of others to be turned down"
        if done["bleed_db"] is None
        else f"bleed {done['bleed_db']:+.1f} dB".replace("-", "−")
    )
    ghosts = f" (ghosts {done['ghosts_kept']} of {done['ghosts']})" if done["ghosts"] else ""
    peak = f"peaks within {done['peak_db']:.1f} dB"
    return f"{bleed} · kept {done['kept']} of {done['own']} own hits{ghosts} · {peak} · open {done['open_share']:.0%} of the time"
