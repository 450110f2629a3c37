"""A job's own Moves while an engineer may work on: what was set meanwhile is never written over.

A job measures, decides, and then changes; all that takes a while. Each of its changes names the version that was measured; paths that somebody else has
touched since the job began belong to them from then on, whatever the job would make of them.
"""

from collections.abc import Callable
from typing import Any

from arkund.core.errors import CancelledError, StaleError, UnchangedError
from arkund.core.findings import Finding
from arkund.studio.models import Move, Session
from arkund.studio.services import moves


class Unattended:
    """What one job has done to a session since it began.

    made : its Moves; left : the titles of what it left alone because somebody had set it meanwhile
    """

    def __init__(self, session_id: int, cancelled: Callable[[], bool] = lambda: False) -> None:
        self.session_id, self.made, self.left, self._cancelled = session_id, [], [], cancelled
        self.began = self.session().version

    def session(self) -> Session:
        """Return the session as it is now. Raises CancelledError where the job is to stop."""
        if self._cancelled():
            raise CancelledError("Stopped; what was done so far stands in the logbook and can be undone.")
        return Session.objects.get(pk=self.session_id)

    @property
    def numbers(self) -> list[int]:
        """The numbers of its own Moves."""
        return [move.number for move in self.made]

    def theirs(self) -> dict[str, Move]:
        """Return the paths that others have touched since the job began, with the Move of each."""
        return moves.touched_since(Session.objects.get(pk=self.session_id), self.began, self.numbers)

    def disturbed(self, version: int) -> bool:
        """Say whether others have changed anything since a version."""
        return bool(moves.touched_since(Session.objects.get(pk=self.session_id), version, self.numbers))

    def is_free(self, path: str, theirs: dict[str, Move] | None = None) -> bool:
        """Say whether nobody else has touched a path since the job began."""
        touched = self.theirs() if theirs is None else theirs
        return not any(moves.overlap(path, other) for other in touched)

    def make(self, changes: dict[str, Any], *, version: int, title: str, **words: Any) -> Move | None:
        """Make a Move that was worked out on a version; None where somebody has set any of it meanwhile, or it is so already."""
        theirs = self.theirs()
        if not all(self.is_free(path, theirs) for path in changes):
            self.left.append(title)
            return None
        try:
            move = moves.apply(
                self.session_id, changes, version=version, title=title, mine=self.numbers, unattended=True, **words
            )
        except UnchangedError:
            return None
        except StaleError:
            self.left.append(title)
            return None
        self.made.append(move)
        return move

    def accept(self, finding: Finding, version: int, reason: str) -> Move | None:
        """Do what a finding suggests, that was measured on a version; as :func:`make`."""
        words = {"step": finding.step, "reason": reason, "measured": finding.evidence}
        move = self.make(finding.changes, version=version, title=finding.title, **words)
        if move is not None:
            moves.decide_done(self.session_id, finding, move, reason)
        return move
