"""What several tests of services do with a session."""

from contextlib import suppress

from arkund.core.errors import UnchangedError
from arkund.studio.models import Move, Session
from arkund.studio.services import moves, proposing, rigging
from arkund.studio.services.measuring import Measure


def made(session: Session, change) -> Measure:
    """Make a change as a Move, and return what is measured then."""
    session.refresh_from_db()
    rigging.make(session, change)
    session.refresh_from_db()
    return Measure(session)


def apply(session_id: int, changes: dict, **words) -> Move | None:
    """Make a Move on the Plan as it is now; None where it is so already."""
    with suppress(UnchangedError):
        return moves.apply(session_id, changes, version=Session.objects.get(pk=session_id).version, **words)
    return None


def accept(session_id: int, finding, reason: str = "") -> Move:
    """Do what a finding suggests, on the Plan as it is now."""
    return proposing.accept(session_id, finding, reason, Session.objects.get(pk=session_id).version)
