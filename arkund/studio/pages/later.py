"""Pages that are imported when they are first asked for: what computes needs a second or more, and the start page none of it."""

import pkgutil
import threading
from importlib import import_module

from django.http import HttpRequest, HttpResponse


class Later:
    """A module of views by name, each of which imports it."""

    def __init__(self, module: str) -> None:
        self._module = f"{__package__}.{module}"

    def __getattr__(self, name: str):
        """Return a view."""
        module = self._module

        def view(request: HttpRequest, **given) -> HttpResponse:
            return getattr(import_module(module), name)(request, **given)

        view.__name__ = view.__qualname__ = name
        return view


def fetch_all() -> threading.Thread:
    """Import all pages in the background, so that the first is not kept waiting and the second is there."""
    names = [each.name for each in pkgutil.iter_modules(import_module(__package__).__path__)]
    thread = threading.Thread(target=lambda: [import_module(f"{__package__}.{each}") for each in names], daemon=True)
    thread.start()
    return thread
