"""What pages hear and draw: auditions and waveform peaks, both as plain binary."""

import json

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.rig import changes
from arkund.core.rig.hearing import Listening
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.services import backing, blending, dialling, listening, moves, pictures, shelving, toning, whole
from arkund.studio.services.access import session_or_404, user_of
from arkund.studio.services.measuring import Measure

MOST_NAMES = 1000  # of strips that are soloed or muted


def hits(request: HttpRequest, session_id: int, piece: str) -> JsonResponse:
    """Return the times at which a piece's hits sound, in seconds."""
    session = session_or_404(request, session_id)
    mine = Measure(session).heard_hits.get(piece, [])
    return JsonResponse({"times": sorted(round(h.time_s, 4) for h in mine)})


@require_POST
def audition(request: HttpRequest, session_id: int) -> HttpResponse:
    """Return a loop as planar float32 (all left samples, then all right), its figures in the X-Audition header.

    ``changes`` are tried on without a Move, in a ``scene`` where one is named, so that a slider is heard while it is held. A ``chunk`` belongs
    to the song: it keeps its ends. A ``part`` of a loop is what is under the ear, wanted before the rest.
    """
    session = session_or_404(request, session_id)
    body = body_of(request)
    asker = listening.Asker(user_of(request), wanted(body, "client", str, "")[:40], wanted(body, "number", int, 0))
    asker.begin()
    plan = session.plan
    tried = wanted(body, "changes", dict, {})
    if tried:
        tried = changes.settings(plan, tried, "tried", wanted(body, "scene", str, "")).values
        plan = moves.checked(session, change.put(plan, tried))
    question = listening.Question(
        span=(wanted(body, "start", int), wanted(body, "stop", int)),
        what=wanted(body, "what", str, "kit"),
        version=wanted(body, "version", str, "after"),
        step=wanted(body, "step", str, ""),
        chunk=wanted(body, "chunk", bool, False),
        part=_part(wanted(body, "part", list, [])),
        matched_db=wanted(body, "matched", float, 0.0),
        listening=Listening(_names(body, "solo"), _names(body, "mute")).still_there(plan),
    )
    made = listening.audition(session, plan, question, asker)
    response = HttpResponse(made.audio.T.tobytes(), content_type="application/octet-stream")
    response["X-Audition"] = json.dumps(
        {
            "rate": made.sample_rate_hz,
            "matched_db": made.matched_db,
            "peak_db": made.peak_db,
            "loudness": made.loudness_lufs,
        }
    )
    response["Cache-Control"] = "no-store"
    return response


def _names(body: dict, key: str) -> frozenset[str]:
    """Return the strips that a page has soloed or muted for listening."""
    given = wanted(body, key, list, [])
    if len(given) > MOST_NAMES or any(not isinstance(each, str) for each in given):
        raise SettingsError(f"{key}: expected at most {MOST_NAMES} names of strips.")
    return frozenset(given)


def _part(given: list) -> tuple[int, int] | None:
    if given and (len(given) != 2 or any(type(each) is not int for each in given)):
        raise SettingsError(f"part: expected two whole numbers of samples, got {given!r}.")
    return (given[0], given[1]) if given else None


def peaks(request: HttpRequest, session_id: int, mic: str, level: int) -> HttpResponse:
    """Return one mic's waveform columns at one zoom. Asked for by what they are of, they never change, so browsers keep them."""
    found = pictures.peaks(session_or_404(request, session_id), mic, level)
    if found is None:
        raise Http404("No such recording.")
    data, content = found
    return _binary(data, for_ever=request.GET.get("of") == content)


def song_peaks(request: HttpRequest, session_id: int, mic: str, level: int, block: int | None = None) -> HttpResponse:
    """Return one mic's waveform as it sounds in the song: columns, or a block of samples at level 1."""
    data, content = pictures.of_song(session_or_404(request, session_id), mic, level, block)
    return _binary(data, for_ever=request.GET.get("of") == content)


def whole_peaks(request: HttpRequest, session_id: int, key: str, output: str, level: int) -> HttpResponse:
    """Return the waveform of an output as rendered; another Plan has another key."""
    path = whole.columns(session_or_404(request, session_id), key, output, level)
    return _binary(path.read_bytes(), for_ever=True)


def average_hit(request: HttpRequest, session_id: int, mic: str) -> HttpResponse:
    """Return a mic's average hit as float32 samples at the session's rate: what a mic of doubtful name sounds like."""
    found = Measure(session_or_404(request, session_id)).average_hit(mic)
    if found is None:
        raise Http404("Silence, or no such mic.")
    return _binary(found.tobytes(), for_ever=False)


def sums(request: HttpRequest, session_id: int, mic: str, what: str) -> JsonResponse:
    """Return what is laid over a mic's spectrum: its drum's mics together, the kit, or the rest of the music."""
    return JsonResponse(toning.sums(Measure(session_or_404(request, session_id)), mic, what))


def music(request: HttpRequest, session_id: int) -> JsonResponse:
    """Tell how the kit stands against the rest of the music; no rows where none is on."""
    return JsonResponse(backing.against(Measure(session_or_404(request, session_id))))


def masking(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return who is loudest where in the kit, and who fights."""
    return JsonResponse({"rows": toning.masking(Measure(session_or_404(request, session_id)))})


def raised(request: HttpRequest, session_id: int, path: str) -> JsonResponse:
    """Return a path without and at a few levels, with what it does to the kit, ready to be tried."""
    return JsonResponse(blending.raised(Measure(session_or_404(request, session_id)), path))


@require_POST
def dial(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return a stage of dialling in a compressor: its versions, measured, ready to be tried."""
    session, body = session_or_404(request, session_id), body_of(request)
    strip, tool, school = (wanted(body, name, str) for name in ("strip", "tool", "school"))
    given = wanted(body, "given", dict, None) if body.get("given") is not None else None
    number, notes = wanted(body, "stage", int), wanted(body, "notes", str, "times")
    return JsonResponse(dialling.stage(Measure(session), strip, tool, school, number, given, notes))


def kept_hit(request: HttpRequest, session_id: int, capture: str) -> HttpResponse:
    """Return a hit of the shelf as float32 samples at the session's rate."""
    found = shelving.sound_of(Measure(session_or_404(request, session_id)), capture)
    if found is None:
        raise Http404("No mic has it.")
    return _binary(found.tobytes(), for_ever=False)


def _binary(data: bytes, for_ever: bool) -> HttpResponse:
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Cache-Control"] = "private, max-age=31536000, immutable" if for_ever else "no-store"
    return response
