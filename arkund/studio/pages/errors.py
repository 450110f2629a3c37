"""What went wrong as a clear answer: 400 for bad input, 409 for a stale Plan, 404 for what is not there, 503 where too many ask, 507 where the disk refuses."""

from django.core.exceptions import SuspiciousOperation
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.http.multipartparser import MultiPartParserError
from django.shortcuts import render

from arkund.core.errors import BusyError, CancelledError, SettingsError, StaleError, StorageError
from arkund.core.settings import read_json
from arkund.studio.services import store

STATUS = {StaleError: 409, CancelledError: 409, StorageError: 507, BusyError: 503}
COUNTERS = ("number",)  # may grow without an end
LARGEST = 1e9  # of any number that a page sends: seconds, ms, dB


class ErrorsMiddleware:
    """Turns ArkundError into an answer; anything else stays a 500 that is logged."""

    def __init__(self, get_response) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """Answer a request."""
        return self.get_response(request)

    def process_view(self, request: HttpRequest, view, args, kwargs) -> HttpResponse | None:
        """Read an upload before anything else does, so that a disk that refuses it is answered in a sentence."""
        if request.method == "POST" and request.content_type == "multipart/form-data":
            try:
                request.FILES  # noqa: B018 (reads it)
            except OSError as error:
                if error.errno is not None:
                    return self.process_exception(request, error)
            except (MultiPartParserError, SuspiciousOperation) as error:
                return JsonResponse({"error": f"The upload cannot be read ({error}); send it again."}, status=400)
        return None

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """Answer Arkund's own errors and those of the disk."""
        said = store.refusal(error)
        if said is None:
            return None
        status = next((code for kind, code in STATUS.items() if isinstance(said, kind)), 400)
        if "text/html" in request.headers.get("accept", "") and request.method == "GET":
            return render(request, "error.html", {"message": str(said)}, status=status)
        return JsonResponse({"error": str(said)}, status=status)


def body_of(request: HttpRequest) -> dict:
    """Return the JSON object of a request; raises SettingsError for anything else."""
    try:
        data = read_json(request.body or b"{}")
    except (ValueError, RecursionError) as error:
        raise SettingsError("request: the body is not valid JSON.") from error
    if not isinstance(data, dict):
        raise SettingsError("request: the body must be a JSON object.")
    return data


def wanted(data: dict, key: str, kind: type, default=...):
    """Return a value of a request by key and type; raises SettingsError naming both."""
    value = data.get(key, default)
    if value is ...:
        raise SettingsError(f"{key}: is missing.")
    if value is default:
        return value
    fits = isinstance(value, kind) and not (isinstance(value, bool) and kind is not bool)
    if kind is float:
        fits = isinstance(value, (int, float)) and not isinstance(value, bool)
    if not fits:
        raise SettingsError(f"{key}: expected {kind.__name__}, got {repr(value)[:80]}.")
    if kind in (int, float) and not -LARGEST <= value <= LARGEST and key not in COUNTERS:
        raise SettingsError(f"{key}: a number that large makes no sense here.")
    return float(value) if kind is float else value
