"""Rendering for pages and measurements: one cache and one pool of workers for the whole application."""

import functools
import logging
import math
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from itertools import pairwise
from time import monotonic, sleep

import numpy as np
from django.conf import settings

from arkund.core.beside import HELPERS
from arkund.core.plan.plan import Plan
from arkund.core.render.cache import SpanCache
from arkund.core.render.render import render
from arkund.core.render.render import row_of as render_row
from arkund.core.render.source import Recordings
from arkund.core.rig.hearing import ALL, Listening
from arkund.studio.memory import alone_bytes, kept_spans_bytes, under_way_bytes
from arkund.studio.services.turns import Turns

ROWS_PER_MIC, ROWS_PER_TOOL = 3, 2  # its source, a bank and its sum; what a tool gives, and how far it settles before
PAIR_ROWS = 4  # of a stereo strip: the narrowest bank that it runs in
BYTES_PER_SAMPLE = 4
SETTLING_S = 2  # that a rendering begins before its span, for reckoning its memory; long spaces begin earlier
MOST_PARTS = 16
MOST_WAIT_S = 2.0  # for those who listen, before what a page only shows
MOST_STANDING_BACK_S = 2.0  # of one rendering in all: a page's data need several
QUIET_S = 1.5  # after a render, before background work goes on: changes come in bursts
LOOK_EVERY_S = 0.05
log = logging.getLogger(__name__)
workers = ThreadPoolExecutor(HELPERS, thread_name_prefix="render")


@functools.cache
def cache() -> SpanCache:
    """Return the application's cache of rendered spans."""
    return SpanCache(kept_spans_bytes(settings.MEMORY_BYTES))


@functools.cache
def turns() -> Turns:
    """Return the row in which those who listen wait."""
    return Turns(under_way_bytes(settings.MEMORY_BYTES))


def bytes_under_way(plan: Plan, samples: int) -> int:
    """Return about how much memory a rendering of so many samples takes while it is under way: what comes into each strip and what each of its tools gives."""
    rows = sum(ROWS_PER_MIC + ROWS_PER_TOOL * sum(tool.on for tool in mic.tools) for mic in plan.mics)
    sums = [*plan.groups, *plan.paths, plan.kit]
    rows += sum(PAIR_ROWS * (1 + sum(tool.on for tool in strip.tools)) for strip in sums)
    return int(rows * samples * BYTES_PER_SAMPLE)


def rendered(
    plan: Plan,
    recordings: Recordings,
    span: tuple[int, int],
    output: str = "kit",
    cancelled: Callable[[], bool] = lambda: False,
) -> np.ndarray:
    """Return a span of one output of a Plan, to be measured: see ``render``. Between its pieces it stands back while somebody waits for a sound."""
    pool = None if _under_way else workers  # a helper that works for a measurement is none for who listens
    return _rendered(plan, recordings, span, output, _standing_back(cancelled), pool)


def listened(
    plan: Plan,
    recordings: Recordings,
    span: tuple[int, int],
    output: str,
    cancelled: Callable[[], bool],
    within: tuple[int, int],
    listening: Listening = ALL,
) -> np.ndarray:
    """Return the same for somebody who waits to hear it: measurements and background work stand back meanwhile."""
    with _listening():
        return _rendered(plan, recordings, span, output, cancelled, workers, within, listening)


def _rendered(plan, recordings, span, output, cancelled, pool, within=None, listening=ALL) -> np.ndarray:
    """Return a span, in as many parts as the memory asks for: each of them equals its place in the whole."""
    samples = (within or span)[1] - (within or span)[0] + SETTLING_S * recordings.sample_rate_hz
    count = math.ceil(bytes_under_way(plan, samples) / alone_bytes(settings.MEMORY_BYTES))
    if count > 1:
        edges = np.linspace(*span, min(count, MOST_PARTS) + 1).astype(int)
        parts = [render(plan, recordings, part, output, cache(), pool, cancelled, None, listening) for part in pairwise(edges.tolist())]  # fmt: skip
        return np.concatenate(parts)
    audio = render(plan, recordings, span, output, cache(), pool, cancelled, within, listening)
    log.debug("%s %s: %s", output, span, cache().figures())
    return audio


def _standing_back(cancelled: Callable[[], bool]) -> Callable[[], bool]:
    """Return a check between two pieces that waits while somebody waits for a sound, MOST_STANDING_BACK_S in all; helpers only ask and do not wait."""
    own, left_s = threading.get_ident(), MOST_STANDING_BACK_S

    def stopped() -> bool:
        nonlocal left_s
        while threading.get_ident() == own and _under_way and left_s > 0.0:
            left_s -= LOOK_EVERY_S
            sleep(LOOK_EVERY_S)
        return cancelled()

    return stopped


def row_of(plan: Plan, recordings: Recordings, strip: str, span: tuple[int, int]) -> list[np.ndarray]:
    """Return a span of a strip before any tool and after each: see ``render.row_of``."""
    give_way(MOST_WAIT_S)
    return render_row(plan, recordings, strip, span, cache(), None if _under_way else workers)


_lock = threading.Lock()
_under_way = 0
_last_s = -QUIET_S


@contextmanager
def _listening() -> Iterator[None]:
    global _under_way, _last_s
    with _lock:
        _under_way += 1
    try:
        yield
    finally:
        with _lock:
            _under_way, _last_s = _under_way - 1, monotonic()


def give_way(most_s: float) -> None:
    """Wait while somebody waits for a sound, and a little longer; background work calls this between its steps.

    A low priority alone does not do it: a thread that holds the interpreter's lock and gets no processor keeps all others waiting.
    """
    until = monotonic() + most_s
    while monotonic() < until and (_under_way or monotonic() - _last_s < QUIET_S):
        sleep(LOOK_EVERY_S)
