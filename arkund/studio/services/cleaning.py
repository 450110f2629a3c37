"""Cleaning as Moves: one mic in one of the ways, the whole kit to a look; and what it did, for the command line and the page."""

import dataclasses
from typing import Any

from arkund.core.clean.by_band import BLEED, RING, bleed, loudest_other, ring
from arkund.core.clean.outcome import Outcome
from arkund.core.clean.propose import SAFE_MARGIN_DB, change, deeper, way_of
from arkund.core.clean.settings import LOOKS, WAYS, down_db
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding
from arkund.core.plan.change import put
from arkund.core.plan.plan import MicPlan
from arkund.core.render.keys import in_recording, in_song
from arkund.core.rig import rows
from arkund.core.rig.changes import Change
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rigging import struck_with

UNMOVED_S = 0.0006  # what is shown is rounded to the millisecond
BY_BAND = {RING: "ring between its hits", BLEED: "bleed"}
WORDS = {"gate": "gated", "cut": "cut by hits", "leave": "left as it is"}


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
    wanted = measure.at(measure.plan.replace(cleaning=measure.plan.cleaning.replace(look=look)))
    values = {"cleaning.look": look}
    proposed = {note.place: note for note in find("clean", wanted) if note.first_choice}
    for mic in wanted.shells():
        down = down_db(look, mic.piece, mic.role)
        if not down:
            values |= _changes(wanted, mic, "leave")
        elif way_of(mic) != "leave":
            values |= deeper(mic, down)
        elif mic.id in proposed:
            values |= proposed[mic.id].changes
    return Change(f"Cleaned: {look}", values)


def set_region(measure: Measure, mic_id: str, number: int | None, span_s: tuple[float, float] | None) -> Change:
    """Return the change by which one region of a mic begins and ends elsewhere, in seconds of the song; number None adds one, span_s None takes it away.

    Every other region stays as it is, to the sample. Raises SettingsError where there is no such region, or it would lie over another.
    """
    mic, rate = measure.plan.mic(mic_id), measure.rate
    tool = mic.first("regions")
    if tool is None:
        raise SettingsError(f"region: {mic.name} is not cut by hits.")
    spans = list(tool.spans)
    if number is not None and not 0 <= number < len(spans):
        raise SettingsError(f"region: there is no number {number + 1}; there are {len(spans)}.")
    was, floors = spans.pop(number) if number is not None else None, dict(tool.floors)
    place, words = f"mics.{mic.id}.tools.{tool.id}", "removed"
    own_db = floors.pop(was[0], None) if was else None
    if span_s is not None:
        begin, end = (in_recording(measure.plan, mic, round(at * rate), rate) for at in span_s)
        if was is not None:  # an edge that was not moved stays where it is, to the sample
            shown = in_song(measure.plan, mic, [was], rate)[0]
            begin, end = (
                old if abs(new_s * rate - at) < rate * UNMOVED_S else new
                for old, new, new_s, at in zip(was, (begin, end), span_s, shown, strict=True)
            )
        spans = sorted([*spans, (begin, end)])
        floors |= {begin: own_db} if own_db is not None else {}
        words = f"from {span_s[0]:.3f} to {span_s[1]:.3f} s" + (" added" if number is None else "")
    which = "" if number is None else f" {number + 1}"
    values: dict[str, Any] = {f"{place}.spans": [list(span) for span in spans]}
    if floors != dict(tool.floors):
        values[f"{place}.floors"] = [list(row) for row in sorted(floors.items())]
    return Change(f"{mic.name}: region{which} {words}", values)


def floors_db(mic: MicPlan) -> list[float]:
    """Return by how much a mic is down after each of its regions, in dB."""
    tool = mic.first("regions")
    own = dict(tool.floors) if tool else {}
    return [own.get(start, tool.down_db) for start, _ in tool.spans] if tool else []


def set_floor(measure: Measure, mic_id: str, number: int, down_db: float | None) -> Change:
    """Return the change by which a mic is down by so much from the end of one region to the next; None: by as much as everywhere else.

    Raises SettingsError where there is no such region.
    """
    mic = measure.plan.mic(mic_id)
    tool = mic.first("regions")
    if tool is None or not 0 <= number < len(tool.spans):
        raise SettingsError(f"region: {mic.name} has no region {number + 1}.")
    floors = {at: db for at, db in tool.floors if at != tool.spans[number][0]}
    if down_db is not None and down_db != tool.down_db:
        floors[tool.spans[number][0]] = down_db
    words = f"{tool.down_db if down_db is None else down_db:g} dB down after region {number + 1}"
    return Change(f"{mic.name}: {words}", {f"mics.{mic.id}.tools.{tool.id}.floors": [list(row) for row in sorted(floors.items())]})  # fmt: skip


def by_band(measure: Measure, mic_id: str, what: str, other: str = "") -> Change:
    """Return the change by which a mic's ring, or the loudest of its bleed, is turned down by frequency, or no more; with what that costs its own hits.

    other : whose bleed, "" = the loudest. Raises SettingsError for another word, and where there is nothing to turn down.
    """
    if what not in BY_BAND:
        raise SettingsError(f"by_band: expected one of {', '.join(BY_BAND)}; got {what[:40]!r}.")
    mic, plan = measure.plan.mic(mic_id), measure.plan
    if mic.tool(what):
        rest = [tool.to_json() for tool in mic.tools if tool.id != what]
        return Change(f"{mic.name}: {BY_BAND[what]} as it was", {f"mics.{mic.id}.tools": rest})
    pieces, words = (mic.piece,), ""
    if what == RING:
        tool = ring(mic.piece, measure.spectra(mic))
    else:
        heard = measure.separation(mic).others_db
        if other and other not in heard:
            raise SettingsError(f"bleed: no hits of {other[:40]!r} are heard alone in this mic.")
        other = other or loudest_other(heard)
        own = mic.piece if measure.hits.get(mic.piece) else ""
        tool, words = bleed(own, other, measure.spectra(mic, other)), f" of the {other}"
        pieces = (own, other) if own else (other,)
    struck = measure.plan.struck
    for piece in pieces:
        struck = struck_with(measure.at(plan.replace(struck=struck)), piece)
    row = rows.with_own_id(mic.tools, tool)
    values = {
        "struck": [each.to_json() for each in struck],
        f"mics.{mic.id}.tools": [each.to_json() for each in row],
    }
    after = measure.at(put(plan, values))
    lost = measure.own_change(mic, after)
    places = ", ".join(f"{band.frequency_hz:.0f}" for band in tool.bands)
    title = f"{mic.name}: {BY_BAND[what]}{words} at {places} Hz; own hits {lost:+.1f} dB"
    return Change(title, values)


def _changes(measure: Measure, mic: MicPlan, way: str) -> dict:
    return change(mic, way, *measure.cleaners(mic)) if measure.hits.get(mic.piece) else {}


def report(measure: Measure, mic: MicPlan, notes: list[Finding]) -> dict:
    """Return how a mic is cleaned and what that did, as plain data; notes : those of the step."""
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
        "words": words_of(done),
    }


def reports(measure: Measure) -> list[dict]:
    """Return how every shell mic is cleaned."""
    notes = find("clean", measure)
    return [report(measure, mic, notes) for mic in measure.shells()]


def words_of(done: Outcome | None) -> str:
    """Return what cleaning did to a mic, in words."""
    if done is None:
        return ""
    bleed = "nothing of others to be turned down"
    if done.bleed_db is not None:
        bleed = f"bleed {done.bleed_db:+.1f} dB".replace("-", "−")
    ghosts = f" (ghosts {done.ghosts_kept} of {done.ghosts})" if done.ghosts else ""
    kept = f"kept {done.kept} of {done.own} own hits{ghosts}"
    return f"{bleed} · {kept} · peaks within {done.peak_db:.1f} dB · open {done.open_share:.0%} of the time"
