"""What a folder of recordings holds: its takes by folder or name, when each file began, and the tempo map that lies beside it."""

import re
from pathlib import Path

import numpy as np

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files import audio
from arkund.core.files.stamps import Stamps
from arkund.core.plan.plan import Section, Tempo
from arkund.core.timing.bars import bars_of
from arkund.core.timing.midi import MidiSong
from arkund.core.timing.midi import read as read_midi

MOST_FILES = 400
MOST_LEAD_S = 600.0  # that a file of a take may begin later than another
TAKE_IN_NAME = re.compile(r"(?P<name>.+?)[ _-]*(?:take|tk)[ _-]?(?P<number>\d{1,3})", re.IGNORECASE)


def takes_in(folder: Path) -> dict[str, list[Path]]:
    """Return the audio files of each take; links that lead out of the folder are left out."""
    inside = folder.resolve()
    takes: dict[str, list[Path]] = {}
    for path in sorted(folder.rglob("*"), key=_natural):
        if path.name.startswith(".") or path.suffix.lower() not in audio.ENDINGS or not path.is_file():
            continue
        if not path.resolve().is_relative_to(inside):
            continue
        relative = path.relative_to(folder)
        takes.setdefault(relative.parent.as_posix() if len(relative.parts) > 1 else "", []).append(path)
    count = sum(map(len, takes.values()))
    if count == 0:
        raise AudioError(f"{folder.name}: holds no WAV, AIFF or FLAC file.")
    if count > MOST_FILES:
        raise AudioError(f"{folder.name}: holds {count} recordings; at most {MOST_FILES} are imported at once.")
    return takes


def _natural(path: Path) -> list:
    return [int(part) if part.isdecimal() else part for part in re.split(r"(\d+)", path.as_posix().lower())]


def usable_files(takes: dict[str, list[Path]], warnings: list[str]) -> dict[str, list[tuple[Path, audio.Probe]]]:
    out: dict[str, list[tuple[Path, audio.Probe]]] = {}
    for take, paths in takes.items():
        for path in paths:
            try:
                header = audio.probe(path)
            except AudioError as error:
                warnings.append(str(error))
            else:
                out.setdefault(take, []).append((path, header))
    if not out:
        raise AudioError("No usable recording: " + " ".join(warnings[:5]))
    return out


def takes_by_name(takes: dict[str, list[Path]]) -> dict[str, list[Path]]:
    """Split folders in which every file's name ends in its take's number, such as ``kick take 2.wav``, into takes."""
    out: dict[str, list[Path]] = {}
    for take, paths in takes.items():
        told = [TAKE_IN_NAME.fullmatch(path.stem) for path in paths]
        numbers = {match["number"] for match in told if match}
        if len(numbers) < 2 or not all(told):
            out[take] = paths
            continue
        for path, match in zip(paths, told, strict=True):
            out.setdefault(f"{take}/Take {int(match['number'])}".lstrip("/"), []).append(path)
    return out


def stem_of(path: Path, take: str) -> str:
    """Return a file's name without its take's number where the takes were told by it."""
    match = TAKE_IN_NAME.fullmatch(path.stem)
    return match["name"] if match and take.endswith(f"Take {int(match['number'])}") else path.stem


def leads_s(usable: dict, stamped: dict[Path, Stamps], warnings: list[str]) -> dict[Path, float]:
    """Return by how many seconds each file began after the first of its take, by their time stamps; only where all of a take have one."""
    out = {}
    for mine in usable.values():
        begins = {path: stamped[path].begin / header.sample_rate_hz for path, header in mine if stamped[path].begin}
        if len(begins) < len(mine) or max(begins.values()) - min(begins.values()) > MOST_LEAD_S:
            continue
        for path, begin in begins.items():
            lead = begin - min(begins.values())
            if lead > 0:
                out[path] = lead
                warnings.append(
                    f"{path.name}: began {lead:.3f} s after the first of its take by its time stamp; placed there."
                )
    return out


def midi_beside(folder: Path, warnings: list[str]) -> MidiSong | None:
    """Return the MIDI file that lies beside the recordings; of several the first by name."""
    found = sorted(p for p in folder.iterdir() if p.suffix.lower() in (".mid", ".midi") and p.is_file())
    for path in found:
        try:
            song = read_midi(path.read_bytes(), path.name)
        except (SettingsError, OSError) as error:
            warnings.append(str(error))
            continue
        warnings += song.warnings
        return song
    return None


def song_of(tempo: Tempo, song: MidiSong | None, stamped: dict[Path, Stamps], files: list[tuple]) -> dict:
    """Return tempo map and sections as parts of the Plan: of the MIDI file where a tempo was not given, sections also from cue markers."""
    if (
        song is not None
        and song.tempo is not None
        and tempo == Tempo(beats_per_bar=tempo.beats_per_bar, beat_unit=tempo.beat_unit)
    ):
        return {"tempo": song.tempo, "sections": song.sections}
    bars, sections = bars_of(tempo), {}
    for _, path, header in files[:1]:
        for at, label in stamped[path].cues:
            if label:
                sections[max(int(bars.bar_of(np.array([at / header.sample_rate_hz + 0.05]))[0]), 0)] = label
    return {"tempo": tempo, "sections": tuple(Section(name=label, bar=bar) for bar, label in sorted(sections.items()))}
