"""The logbook, the recall sheet and the ear room."""

from django.core.paginator import Paginator
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from arkund.core.kit.pieces import words_of
from arkund.core.plan import difference
from arkund.core.rig import places
from arkund.studio.models import Session
from arkund.studio.pages.fields import label, unit_of
from arkund.studio.pages.scenes import scenes_of
from arkund.studio.services.access import session_or_404
from arkund.studio.steps import STEPS

MOVES_OF_A_PAGE = 200
MOST_LINES = 60  # of one kind of edit, on the recall sheet


def logbook(request: HttpRequest, session_id: int) -> HttpResponse:
    """Show every Move and decision, newest first, so many at a time."""
    session = session_or_404(request, session_id)
    page = Paginator(session.moves.order_by("-number"), MOVES_OF_A_PAGE).get_page(request.GET.get("page"))
    moves = [{"move": m, "lines": _lines(m.before, m.after)} for m in page]
    left = session.decisions.filter(verdict="left") if page.number == 1 else []
    context = _context(session) | {"moves": moves, "page": page, "left": left}
    return render(request, "logbook/logbook.html", context)


def sheet(request: HttpRequest, session_id: int) -> HttpResponse:
    """Show every setting in words that can be read and typed elsewhere."""
    session = session_or_404(request, session_id)
    strips = [
        {
            "name": f"{each.sort} {each.words}" if each.sort in ("group", "path") else each.words,
            "lines": _settings(each.strip.to_json()),
        }
        for each in places.all_of(session.plan)
    ]
    strips += [
        {
            "name": f"scene {each['name']}",
            "lines": [("holds in", _where(each["holds_in"]))]
            + [(held["words"], _text(held["value"], held["place"])) for held in each["held"]],
        }
        for each in scenes_of(session.plan)
    ]
    whole = _settings({"tempo": session.plan.tempo.to_json()}) + _edits(session)
    return render(request, "logbook/sheet.html", {"session": session, "mics": strips, "whole": whole})


def _edits(session: Session) -> list[tuple[str, str]]:
    """Return what was done in time, as it can be done elsewhere: joined takes, cuts of all mics and of one drum's, hits in the place of others."""
    plan, rate = session.plan, session.sample_rate_hz
    names = dict(session.takes.values_list("key", "name"))
    captures = {each.id: each.name or each.id for each in plan.captures}

    def at(sample: int) -> str:
        return f"{sample / rate:.4f} s"

    rows = [
        [
            (
                f"from {at(join.at)}",
                f"{names.get(join.take, join.take)} from {at(join.from_at)}, fade {join.fade_ms:g} ms",
            )
            for join in plan.joins
        ],
        [(f"all mics from {at(cut.at)}", _moved_words(cut.shift, rate)) for cut in plan.cuts],
        [(f"{words_of(cut.piece)} alone from {at(cut.at)}", _moved_words(cut.shift, rate)) for cut in plan.lone_cuts],
        [
            (
                f"at {at(each.at)}",
                f"{captures[each.capture]} at {each.gain_db:+g} dB{', in all mics' if each.everywhere else ''}",
            )
            for each in plan.placements
        ],
    ]
    heads = ("takes joined", "edits in time", "edits of one drum", "hits replaced")
    out = []
    for head, mine in zip(heads, rows, strict=True):
        if mine:
            more = len(mine) - MOST_LINES
            out += [(head, f"{len(mine)} of them"), *mine[:MOST_LINES]]
            out += [("", f"and {more} more: the edit list of Timing has them all")] if more > 0 else []
    return out


def _moved_words(shift: int, rate: int) -> str:
    return "as recorded" if not shift else f"{abs(1000 * shift / rate):.2f} ms {'later' if shift > 0 else 'earlier'}"


def ear(request: HttpRequest, session_id: int) -> HttpResponse:
    """Show what is known about loudness and time, where it is needed."""
    session = session_or_404(request, session_id)
    hours = [(85, "8 h"), (88, "4 h"), (91, "2 h"), (94, "1 h"), (97, "30 min"), (100, "15 min")]
    return render(request, "logbook/ear.html", _context(session) | {"hours": hours})


def _context(session: Session) -> dict:
    return {"session": session, "steps": list(STEPS.values()), "step": None}


def _where(spans: list) -> str:
    return ", ".join(f"bars {first + 1} to {after or 'the end'}" for first, after in spans) or "nowhere"


def _lines(before: dict, after: dict) -> list[str]:
    out = []
    for path, value in after.items():
        was = before.get(path)
        if isinstance(value, (dict, list)) or isinstance(was, (dict, list)):
            out += _deep(path, was, value)
        else:
            out.append(f"{path}: {_text(was, path)} → {_text(value, path)}")
    return out[:24]


def _deep(path: str, was, value) -> list[str]:
    if difference.is_part(value):
        (_, old, had), (_, new, has) = was[difference.PART], value[difference.PART]
        return [f"{path}: {len(old)} of {had} entries → {len(new)} of {has}"]
    if isinstance(value, dict) and isinstance(was, dict):
        changed = [k for k in value if value[k] != was.get(k)]
        return [f"{path}.{k}: {_text(was.get(k), k)} → {_text(value[k], k)}" for k in changed]
    if path.endswith(".held") and isinstance(value, list) and isinstance(was, list):
        old, new = ({each["place"]: each["value"] for each in row} for row in (was, value))
        places_ = sorted(place for place in old | new if old.get(place) != new.get(place))
        shown = {
            place: [_text(row[place], place) if place in row else "as in the song" for row in (old, new)]
            for place in places_
        }
        return [f"{path.split('.')[1]}: {place}: {before} → {after}" for place, (before, after) in shown.items()]
    return [f"{path}: {_text(was)} → {_text(value)}"]


def _text(value, key: str = "") -> str:
    """Return a value in words, with the unit that its name carries."""
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, list):
        return f"{len(value)} entries"
    if isinstance(value, dict):
        return ", ".join(f"{k} {v}" for k, v in list(value.items())[:4])
    if isinstance(value, (int, float)):
        return f"{value:g} {unit_of(key)}".strip()
    return "none" if value is None else str(value)


def _settings(data: dict, prefix: str = "") -> list[tuple[str, str]]:
    """Return the settings of a part of the Plan as (name, value); what is off is said in one line."""
    out = []
    for key, value in data.items():
        name = f"{prefix}{label(key)}"
        if isinstance(value, dict):
            if value.get("on") is False:
                out.append((name, "off"))
            else:
                out += _settings(value, f"{name} · ")
        elif key == "bands":
            out += [(f"{prefix}filter {n}", _band(b)) for n, b in enumerate(value, 1)]
        elif key == "above":
            out += [(f"{name} {n}", _above(each)) for n, each in enumerate(value, 2)]
        elif key == "tools":
            for each in value:
                out += _settings({each["id"]: {k: v for k, v in each.items() if k != "kind"}})
        elif key in ("spans", "strikes"):
            out.append((name, f"{len(value)} of them"))
        elif key == "floors":
            out += [(f"{prefix}after the region at sample {at}", f"{db:g} dB down") for at, db in value]
        elif key == "sends":
            out += [(f"sent to {send['id']}", f"{send['level_db']:g} dB") for send in value]
        elif not isinstance(value, list) and key not in ("id", "on"):
            out.append((name, _text(value, key)))
    return out


def _band(band: dict) -> str:
    kind = band["kind"].replace("_", "-")
    if kind in ("high-pass", "low-pass"):
        words = f"{kind} {band['frequency_hz']:g} Hz, {band['slope_db']} dB/octave"
    else:
        words = f"{kind} {band['frequency_hz']:g} Hz, {band['gain_db']:+g} dB, Q {band['q']:g}"
    if band.get("resonance_db"):
        words += f", resonance {band['resonance_db']:g} dB{', compensated' if band.get('compensated') else ''}"
    if band.get("range_db"):
        words += (
            f", dynamic: up to {band['range_db']:+g} dB above {band['threshold_db']:g} dB, attack {band['attack_ms']:g} ms,"
            f" release {band['release_ms']:g} ms"
        )
    return words if band["on"] else f"{words} (off)"


def _above(band: dict) -> str:
    return f"from {band['from_hz']:g} Hz: attack {band['attack_db']:+g} dB, sustain {band['sustain_db']:+g} dB, gain {band['gain_db']:+g} dB"
