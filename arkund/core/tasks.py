"""Long work as functions of plain data, so that another process or machine can do it: where recordings lie is handed over, never audio.

Each takes, last, a :class:`Work` through which it tells its progress and asks whether to stop.
"""

import json
import shutil
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from time import monotonic
from typing import Any

from arkund.core.errors import CancelledError
from arkund.core.files.library import Library
from arkund.core.hits.measure import find_hits
from arkund.core.hits.refine import FoundHit
from arkund.core.hits.settings import Channel, HitSettings
from arkund.core.plan.plan import Plan
from arkund.core.render.printing import print_song
from arkund.core.render.whole import Output, Pace, whole_song

TELL_EVERY_S = 0.2


@dataclass(frozen=True, slots=True)
class Work:
    """How to tell progress (a share 0..1, and words where there are any), and to ask whether to stop."""

    progress: Callable[..., None]
    cancelled: Callable[[], bool]


def hits_of_take(
    recordings: Library, take: str, mics: list[str], channels: list[Channel], work: Work
) -> dict[str, list[FoundHit]]:
    """Find the hits of a take in the given mics."""
    readers = [recordings.mic(take, mic) for mic in mics]
    return find_hits(readers, channels, recordings.sample_rate_hz, HitSettings(), work.progress)


def measure_song(plan: Plan, recordings: Library, pace: Pace, work: Work) -> dict[str, Output]:
    """Measure every output over the whole song."""
    return whole_song(plan, recordings, pace, work.progress, work.cancelled)


def print_below(
    plan: Plan, recordings: Library, folder: Path, format_name: str, lowered_db: Mapping[str, float], work: Work
) -> tuple[Path, list[dict]]:
    """Print into a new folder below one; a try that was given up may still be written to somewhere. Return the folder and a row for each file."""
    mine = folder / uuid.uuid4().hex
    mine.mkdir()
    return mine, print_song(plan, recordings, mine, format_name, work.progress, work.cancelled, lowered_db)


def run_elsewhere(function: Callable[..., Any], args: tuple, signs: "Signs") -> Any:
    """Run a task in another process, which tells and asks through signs."""
    return function(*args, Work(signs.tell, signs.stopped))


@dataclass(slots=True)
class Signs:
    """Progress and the wish to stop, as small files in a folder that both sides see."""

    folder: Path
    told_at: float = field(default=0.0)

    def tell(self, share: float, text: str = "") -> None:
        """Tell how far the work is, at most a few times a second. Raises CancelledError where nobody waits for it any more."""
        if monotonic() - self.told_at < TELL_EVERY_S:
            return
        self.told_at = monotonic()
        new = self.folder / uuid.uuid4().hex
        try:
            new.write_text(json.dumps([share, text]))
            new.replace(self.folder / "progress")
        except OSError as error:
            raise CancelledError("Nobody waits for this work any more.") from error

    def told(self) -> tuple[float, str]:
        """Return how far the work is."""
        try:
            share, text = json.loads((self.folder / "progress").read_text())
        except (OSError, ValueError):
            return 0.0, ""
        return share, text

    def stop(self) -> None:
        """Ask the work to stop."""
        (self.folder / "stop").touch()

    def stopped(self) -> bool:
        """Say whether it shall stop."""
        return (self.folder / "stop").exists() or not self.folder.exists()

    def clear(self) -> None:
        """Take the signs away."""
        shutil.rmtree(self.folder, ignore_errors=True)
