"""What must last: sessions and their recordings, hits, Moves, decisions, jobs and prints."""

from arkund.studio.models.jobs import Job, Print
from arkund.studio.models.logbook import Decision, Move
from arkund.studio.models.recordings import Measured, MicRecording, Take
from arkund.studio.models.session import Session
from arkund.studio.models.templates import Style, Template

__all__ = ["Decision", "Job", "Measured", "MicRecording", "Move", "Print", "Session", "Style", "Take", "Template"]
