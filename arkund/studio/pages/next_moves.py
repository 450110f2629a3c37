"""What undo and redo would turn, as pages are told."""

from arkund.studio.models import Move, Session
from arkund.studio.services import moves


def next_moves(session: Session) -> dict[str, dict | None]:
    """Return the Moves that undo and redo would turn, None where there is none."""
    return {"undo": _told(moves.next_undo(session)), "redo": _told(moves.next_redo(session))}


def _told(move: Move | None) -> dict | None:
    return {"move": move.number, "title": move.title, "step": move.step} if move else None
