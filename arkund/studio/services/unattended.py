"""A job's own Moves while an engineer may work on: what was set meanwhile is never written over.

A job measures, decides, and then changes; all that takes a while. Each of its changes names the version that was measured; paths that somebody else has
touched since the job began belong to them from then on, whatever the job would make of them.
"""

import dataclasses
from collections.abc import Callable, Sequence
from typing import Any

from arkund.core.errors import CancelledError, StaleError, UnchangedError
from arkund.core.findings import Finding, fitting
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.plan.revert import set_paths
from arkund.core.rig import places
from arkund.studio.models import Move, Session
from arkund.studio.services import moves, reverting

MOST_TITLE = Move._meta.get_field("title").max_length
MOST_MEASURED = Move._meta.get_field("measured").max_length


class Unattended:
    """What one job has done to a session since it began.

    made : its Moves; left : the titles of what it left alone because somebody had set it meanwhile
    """

    def __init__(self, session_id: int, cancelled: Callable[[], bool] = lambda: False) -> None:
        self.session_id, self.made, self.left, self._cancelled = session_id, [], [], cancelled
        session = self.session()
        self.began, self._by_hand = session.version, reverting.set_by_hand(session)

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

    def but_by_hand(self, finding: Finding, plan: Plan) -> Finding | None:
        """Return a finding without the strips in which it would move what was set by hand before the job began; None where none is left."""
        hands = {
            _strip(path)
            for path, value in finding.changes.items()
            for leaf in set_paths(change.get(plan, path), value, path)
            if any(moves.overlap(leaf, each) for each in self._by_hand)
        }
        if not hands:
            return finding
        kept = {path: value for path, value in finding.changes.items() if _strip(path) not in hands}
        names = {each.place: each.words for each in places.all_of(plan)}
        whose = ", ".join(sorted(names.get(strip, strip) for strip in hands))
        self.left.append(f"{finding.title} ({whose})" if kept else finding.title)
        return dataclasses.replace(finding, changes=kept) if kept else None

    def accept(self, findings: Sequence[Finding], version: int, reason: str) -> Move | None:
        """Do what some findings suggest, as one Move, that were measured on a version; as :func:`make`. Of several those are left out that somebody has set
        meanwhile.
        """
        theirs = self.theirs()
        free = [each for each in findings if all(self.is_free(path, theirs) for path in each.changes)]
        self.left += [each.title for each in findings if each not in free]
        if not free:
            return None
        first, several = free[0], len(free) > 1
        changes = {path: value for each in free for path, value in each.changes.items()}
        title = _title(first.kind, [each.short for each in free]) if several else first.title
        told = [f"{each.short}: {each.evidence}" for each in free]
        measured = fitting(told, MOST_MEASURED) if several else first.evidence
        words = {"step": first.step, "reason": reason, "measured": measured}
        move = self.make(changes, version=version, title=title, **words)
        if move is not None:
            for each in free:
                moves.decide_done(self.session_id, each, move, reason)
        return move


def _strip(path: str) -> str:
    """Return the place of the strip that a path belongs to, or the path of what belongs to none."""
    parts = path.split(".")
    return ".".join(parts[:2]) if parts[0] in ("mics", "groups", "paths") else parts[0] if parts[0] == "kit" else path


def _title(kind: str, parts: Sequence[str]) -> str:
    """Return a title that names as many parts as there is room for."""
    for count in range(len(parts), 0, -1):
        more = f" and {len(parts) - count} more" if count < len(parts) else ""
        title = f"{kind}: {', '.join(parts[:count])}{more}"
        if len(title) <= MOST_TITLE:
            return title
    return f"{kind}: {len(parts)} mics"
