"""What a recorder wrote beside the samples of a WAV file: when it began, what it called the track, and its cue markers."""

from dataclasses import dataclass
from pathlib import Path

from wavinfo import WavInfoReader

WAVE_ENDINGS = (".wav", ".wave", ".bw64", ".rf64")
LONGEST_NAME = 80
MOST_CUES = 200


@dataclass(frozen=True, slots=True)
class Stamps:
    """Begin in samples since midnight (None where it is not said), the track's name ('' likewise), and (sample, name) of each cue."""

    begin: int | None = None
    name: str = ""
    cues: tuple[tuple[int, str], ...] = ()


def stamps(path: Path) -> Stamps:
    """Return what is known; nothing for other formats and for chunks that cannot be read: the samples themselves do not depend on it.

    References
        EBU Tech 3285, Specification of the Broadcast Wave Format: the chunk bext; RIFF: cue, adtl and INFO.
    """
    if path.suffix.lower() not in WAVE_ENDINGS:
        return Stamps()
    try:
        info = WavInfoReader(str(path))
    except Exception:  # whatever a damaged chunk leads the reader to: it is only a help
        return Stamps()
    begin = info.bext.time_reference if info.bext is not None else None
    return Stamps(begin or None, _name(info), tuple(_cues(info)))


def _name(info: WavInfoReader) -> str:
    tracks = getattr(info.ixml, "track_list", None) if info.ixml is not None else None
    try:
        named = [track.name for track in tracks or [] if track.name]
    except Exception:
        named = []
    title = (info.info.title if info.info is not None else "") or ""
    description = (info.bext.description if info.bext is not None else "") or ""
    found = next((text for text in (*named[:1], title, description) if text.strip()), "")
    return "".join(c for c in found if c.isprintable()).strip()[:LONGEST_NAME]


def _cues(info: WavInfoReader) -> list[tuple[int, str]]:
    out = []
    try:
        for cue in list(info.cues.each_cue())[:MOST_CUES] if info.cues is not None else []:
            number, at = cue
            label = info.cues.label_and_note(number)[0] or ""
            out.append((int(at), "".join(c for c in label if c.isprintable()).strip()[:40]))
    except Exception:
        return out
    return sorted(out)
