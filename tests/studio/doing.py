"""What several tests of services do with a session."""

from arkund.studio.models import Session
from arkund.studio.services import rigging
from arkund.studio.services.measuring import Measure


def made(session: Session, change) -> Measure:
    """Make a change as a Move, and return what is measured then."""
    session.refresh_from_db()
    rigging.make(session, change)
    session.refresh_from_db()
    return Measure(session)
