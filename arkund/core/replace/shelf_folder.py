"""A shelf as a folder: sounds as WAV files and a description in JSON, which docs/formats.md tells."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from json import dumps
from pathlib import Path

import numpy as np
import soundfile
import soxr

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files import audio
from arkund.core.kit.pieces import PIECES, ROLES
from arkund.core.replace.shelf import MOST_SHELF, ONE_SHOT_S, OneShot, one_shot
from arkund.core.settings import Settings, choice, number, read_json, text

CONTENTS, FORMAT = "shelf.json", 1
MOST_JSON_BYTES = 4 * 1024**2
MOST_FILES_OF_A_HIT = 64
FILE_NAME = r"[^/\\\x00-\x1f.][^/\\\x00-\x1f]*\.(wav|aif|aiff|flac)"  # beside the description, nowhere else
Sound = tuple[str, np.ndarray]  # the role of its mic, and its samples


@dataclass(frozen=True, slots=True, kw_only=True)
class HitFile(Settings):
    """What one mic holds of a hit."""

    role: str = choice("close", ROLES)
    file: str = text(longest=200, pattern=FILE_NAME)


@dataclass(frozen=True, slots=True, kw_only=True)
class ShelfHit(Settings):
    """One hit. at : its first sample in its files; length : the samples from there on; level_db : its peak; strength_db : against the strongest of its kind"""

    name: str = text(longest=80)
    piece: str = choice("snare", PIECES)
    origin: str = text("", longest=200)
    at: int = number(0, 0, 10**7, step=1, unit="samples")
    length: int = number(1, 1, 10**7, step=1, unit="samples")
    level_db: float = number(0.0, -120.0, 40.0, step=0.1, unit="dB")
    strength_db: float = number(0.0, -120.0, 0.0, step=0.1, unit="dB")
    files: tuple[HitFile, ...] = ()

    def at_rate(self, ratio: float) -> "ShelfHit":
        """Return it with its samples counted at another rate."""
        return self.replace(at=round(self.at * ratio), length=max(round(self.length * ratio), 1))


@dataclass(frozen=True, slots=True, kw_only=True)
class Shelf(Settings):
    """The description of a folder."""

    arkund_shelf: int = number(FORMAT, FORMAT, FORMAT, step=1)
    sample_rate_hz: int = number(48_000, min(audio.RATES_HZ), max(audio.RATES_HZ), step=1, unit="Hz")
    hits: tuple[ShelfHit, ...]


def write(folder: Path, sample_rate_hz: int, hits: Sequence[ShelfHit], sounds: Iterable[Sequence[Sound]]) -> None:
    """Write a shelf into a new folder. Raises AudioError where it is there already, or cannot be written."""
    rows = []
    try:
        folder.mkdir(parents=True)
        for number_, (hit, row) in enumerate(zip(hits, sounds, strict=True), 1):
            files = []
            for role, samples in row:
                stem = re.sub(r"[^\w\-]+", "-", f"{number_:03d}-{hit.piece}-{role}")
                name = f"{stem}-{len(files) + 1}.wav" if role in {each.role for each in files} else f"{stem}.wav"
                soundfile.write(folder / name, samples, sample_rate_hz, subtype="FLOAT")
                files.append(HitFile(role=role, file=name))
            rows.append(hit.replace(files=tuple(files)))
        described = Shelf(sample_rate_hz=sample_rate_hz, hits=tuple(rows)).to_json()
        (folder / CONTENTS).write_text(dumps(described, indent=1, sort_keys=True))
    except FileExistsError as error:
        raise AudioError(f"{folder.name}: is there already; choose another name.") from error
    except (OSError, soundfile.LibsndfileError) as error:
        why = getattr(error, "strerror", None) or "the disk refused"
        raise AudioError(f"{folder.name}: cannot be written ({why}).") from error


def read(folder: Path, sample_rate_hz: int) -> tuple[list[ShelfHit], list[list[Sound]]]:
    """Return the hits of a folder and their sounds at a rate. Raises AudioError with what is wrong and where; then nothing of it is taken."""
    path = folder / CONTENTS
    try:
        if path.stat().st_size > MOST_JSON_BYTES:
            raise AudioError(f"{CONTENTS}: is larger than {MOST_JSON_BYTES // 1024**2} MB.")
        found = Shelf.from_json(read_json(path.read_bytes()))
    except FileNotFoundError as error:
        raise AudioError(f"{folder.name}: is no shelf (no {CONTENTS} in it).") from error
    except OSError as error:
        raise AudioError(f"{CONTENTS}: cannot be read ({error.strerror}).") from error
    except (ValueError, RecursionError, SettingsError) as error:
        raise AudioError(f"{CONTENTS}: does not describe a shelf ({str(error)[:300]}).") from error
    if not 0 < len(found.hits) <= MOST_SHELF:
        raise AudioError(f"{CONTENTS}: has {len(found.hits)} hits; a shelf has 1 to {MOST_SHELF}.")
    for number_, hit in enumerate(found.hits):
        if len(hit.files) > MOST_FILES_OF_A_HIT:
            raise AudioError(f"{CONTENTS}: hits.{number_}: has {len(hit.files)} files; at most {MOST_FILES_OF_A_HIT}.")
    names = {each.file for hit in found.hits for each in hit.files}
    once = {name: _read(folder / name, found.sample_rate_hz, sample_rate_hz) for name in sorted(names)}
    hits, sounds = [], []
    for number_, hit in enumerate(found.hits, 1):
        row = [(each.role, once[each.file]) for each in hit.files]
        if not row or any(hit.at >= samples.size * found.sample_rate_hz / sample_rate_hz for _, samples in row):
            raise AudioError(f"{CONTENTS}: hits.{number_ - 1}: has no file, or begins after its end.")
        hits.append(hit.at_rate(sample_rate_hz / found.sample_rate_hz).replace(files=()))
        sounds.append(row)
    return hits, sounds


def _read(path: Path, told_hz: int, sample_rate_hz: int) -> np.ndarray:
    if path.is_symlink() or not path.is_file():
        raise AudioError(f"{path.name}: is not in the shelf's folder.")
    samples, header_hz, _ = _samples(path, sample_rate_hz)
    if header_hz != told_hz:
        raise AudioError(f"{path.name}: has {header_hz} Hz, {CONTENTS} says {told_hz} Hz.")
    return samples


def read_one(path: Path, sample_rate_hz: int) -> tuple[np.ndarray, OneShot]:
    """Return a one-shot's samples at a rate, and where its hit begins, with what is to be told of it. Raises AudioError for what is no hit."""
    samples, _, told = _samples(path, sample_rate_hz)
    one = one_shot(samples, sample_rate_hz, path.name)
    return samples, OneShot(one.at, one.peak_db, (*told, *one.told))


def _samples(path: Path, sample_rate_hz: int) -> tuple[np.ndarray, int, list[str]]:
    header, told = audio.probe(path), []
    if header.frames > ONE_SHOT_S * header.sample_rate_hz:
        long_s = header.frames / header.sample_rate_hz
        raise AudioError(f"{path.name}: is {long_s:.0f} s long; a hit is at most {ONE_SHOT_S:.0f} s. Cut it first.")
    samples = audio.read_mono(path)
    bad = ~np.isfinite(samples)
    if bad.any():
        told.append(f"{path.name}: {int(bad.sum())} samples are not numbers and were made silent.")
        samples[bad] = 0.0
    if header.channels > 1:
        told.append(f"{path.name}: stereo, both sides together.")
    if header.sample_rate_hz != sample_rate_hz:
        told.append(f"{path.name}: resampled from {header.sample_rate_hz} Hz.")
        samples = soxr.resample(samples, header.sample_rate_hz, sample_rate_hz).astype(np.float32)
    return samples, header.sample_rate_hz, told
