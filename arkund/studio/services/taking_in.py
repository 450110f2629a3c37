"""Files for a session that stands already: hits, a tempo map, a click's recording, a backing track, one-shots, a mix as a style."""

from collections.abc import Callable, Sequence
from pathlib import Path

from arkund.core.errors import SettingsError
from arkund.studio.models import Move, Session
from arkund.studio.services import backing, editing, moves, shelf_files, styles

WHAT = ("hits", "tempo", "click", "backing", "shelf", "reference")
MIDI_ENDINGS = (".mid", ".midi")


def take_in(
    session: Session,
    paths: Sequence[Path],
    what: str,
    piece: str = "",
    allowed: Callable[[int], None] = lambda wanted_bytes: None,
    user_id: int | None = None,
) -> tuple[Move | None, str]:
    """Take a file in as a Move (None where it brings nothing new, or a style), one-shots of a piece several at once; return it and what there is to tell.

    ``allowed`` raises where so many bytes may not be kept; user_id : whose style a mix becomes. Raises SettingsError or AudioError.
    """
    if what not in WHAT:
        raise SettingsError(f"what: expected one of {', '.join(WHAT)}; got {what[:40]!r}.")
    if what == "shelf":
        return shelf_files.load(session, paths, piece)
    path = paths[0]
    if what == "backing":
        return backing.load(session, path, allowed=allowed), ""
    if what == "reference":
        kept = styles.keep_mix(session, path, user_id)
        return (
            None,
            f"style {kept.name} kept: peak-to-loudness ratio, slope and mono loss of that mix; everything else as in {kept.school}",
        )
    if what == "hits":
        count, move = editing.take_in_hits(session, path)
        return move, f"{count} new hits from {path.name}."
    if path.suffix.lower() in MIDI_ENDINGS:
        song = editing.read_midi(path)
        changes, words = editing.tempo_of_midi(song, path.name), " ".join(song.warnings)
    else:
        changes, words = {"tempo": editing.tempo_of_click(path, session.plan.tempo).to_json()}, ""
    move = moves.apply(
        session.pk, changes, step="timing", title=f"Tempo map of {path.name}", measured=words, version=session.version
    )
    return move, words
