"""Rendering for pages and measurements: one cache and one pool of workers for the whole application."""

import functools
import logging
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from arkund.core.plan.plan import Plan
from arkund.core.render.cache import SpanCache
from arkund.core.render.render import render
from arkund.core.render.source import Recordings
from arkund.studio.services import store

WORKERS = 2
log = logging.getLogger(__name__)
workers = ThreadPoolExecutor(WORKERS, thread_name_prefix="render")


@functools.cache
def cache() -> SpanCache:
    """Return the application's cache of rendered spans; its files lie in the data folder."""
    return SpanCache(folder=store.cache_folder())


def rendered(
    plan: Plan,
    recordings: Recordings,
    span: tuple[int, int],
    output: str = "kit",
    cancelled: Callable[[], bool] = lambda: False,
) -> np.ndarray:
    """Return a span of one output of a Plan: see ``render``."""
    audio = render(plan, recordings, span, output, cache(), workers, cancelled)
    log.debug("%s %s: %s", output, span, cache().figures())
    return audio
