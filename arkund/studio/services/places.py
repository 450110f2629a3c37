"""Where long work of the core runs: here, or on the machines of a cluster that ARKUND_EXECUTOR names.

What is handed over is plain data (a Plan, where its recordings lie), never audio: the machines share the data folder. docs/scaling.md says how a
studio sets that up.
"""

import functools
import uuid
from collections.abc import Callable
from concurrent.futures import Executor, Future
from time import sleep
from typing import Any

from django.conf import settings

from arkund.core.errors import CancelledError, SettingsError
from arkund.core.tasks import Signs, Work, run_elsewhere
from arkund.studio.services import store

CLUSTER = "dask://"
LOOK_EVERY_S = 0.1
REACH_WITHIN_S = 4
STOPS_WITHIN_S = 5


def run(
    function: Callable[..., Any],
    *args: Any,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Any:
    """Return what a task of ``core/tasks.py`` gives, worked out here or on the cluster; raises what it raises, and CancelledError.

    Work that a lost machine did not finish is begun again on another.
    """
    if not on_cluster():
        return function(*args, Work(lambda share, text="": on_progress(share, text), cancelled))
    signs = Signs(store.work_folder() / uuid.uuid4().hex)
    signs.folder.mkdir(parents=True)
    try:
        future = _cluster().submit(run_elsewhere, function, args, signs)
        while not future.done():
            sleep(LOOK_EVERY_S)
            on_progress(*signs.told())
            if cancelled():
                signs.stop()
                return _stopped(future)
        return future.result()
    finally:
        signs.clear()


def _stopped(future: Future) -> Any:
    """Return what work that was asked to stop gives all the same, or give it up where no machine answers."""
    try:
        return future.result(timeout=STOPS_WITHIN_S)
    except TimeoutError as error:
        future.cancel()
        raise CancelledError("Cancelled; nothing was kept.") from error


def on_cluster() -> bool:
    """Say whether work goes to a cluster."""
    return settings.EXECUTOR.startswith(CLUSTER)


def side_by_side() -> int:
    """Return how many pieces of long work make sense at the same time."""
    return max(len(_client().scheduler_info()["workers"]), 1) if on_cluster() else 1


def _cluster() -> Executor:
    return _client().get_executor(pure=False)


@functools.cache
def _client():
    try:
        from distributed import Client
    except ImportError as error:
        raise SettingsError("ARKUND_EXECUTOR: a cluster needs the extra: pip install 'arkund[cluster]'.") from error
    address = "tcp://" + settings.EXECUTOR.removeprefix(CLUSTER)
    try:
        return Client(address, timeout=REACH_WITHIN_S, set_as_default=False)
    except OSError as error:
        raise SettingsError(f"ARKUND_EXECUTOR: no scheduler answers at {address}; start it, or unset it.") from error
