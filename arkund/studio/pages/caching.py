"""What browsers and proxies may keep of an answer."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse


def caching(get_response: Callable[[HttpRequest], HttpResponse]) -> Callable[[HttpRequest], HttpResponse]:
    """Return the middleware: what a page says is its user's, so no cache keeps it, unless the answer itself says how."""

    def answer(request: HttpRequest) -> HttpResponse:
        response = get_response(request)
        response.headers.setdefault("Cache-Control", "private, no-store")
        return response

    return answer
