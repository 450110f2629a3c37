"""Audio files that are written once from start to end, with their checksum on the way.

WAV is written here, because its length is known beforehand: the header comes first, nothing is gone back to, and so the
checksum needs no second reading. Beyond 4 GB it becomes RF64. FLAC is left to libsndfile.

References
    EBU Tech 3306 (2018), MBWF / RF64: the ds64 chunk.
"""

import errno
import hashlib
import os
import struct
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import soundfile

from arkund.core.dsp import _writing
from arkund.core.dsp.bank import bank_of
from arkund.core.files import checksum

MOST_RIFF_BYTES = 0xFFFF_FFFF - 256
PCM, FLOAT = 1, 3
BITS = {"wav24": 24, "wav32f": 32, "flac24": 24}
ENDINGS = {"wav24": ".wav", "wav32f": ".wav", "flac24": ".flac"}


def wav_header(sample_rate_hz: int, channels: int, samples: int, bits: int) -> bytes:
    """Return all that stands before the samples of a WAV file (32 bits: float, else integers), RF64 where it is too long for RIFF."""
    frame = channels * bits // 8
    data = samples * frame
    kind = FLOAT if bits == 32 else PCM
    chunks = b"fmt " + struct.pack("<IHHIIHH", 16, kind, channels, sample_rate_hz, sample_rate_hz * frame, frame, bits)
    if kind == FLOAT:
        chunks += b"fact" + struct.pack("<II", 4, min(samples, 0xFFFF_FFFF))
    size = 4 + len(chunks) + 8 + data + data % 2
    if size <= MOST_RIFF_BYTES:
        return b"RIFF" + struct.pack("<I", size) + b"WAVE" + chunks + b"data" + struct.pack("<I", data)
    long = b"ds64" + struct.pack("<IQQQI", 28, size + 36, data, samples, 0)
    return b"RF64" + b"\xff" * 4 + b"WAVE" + long + chunks + b"data" + b"\xff" * 4


def dithered(bank: np.ndarray, writers: Sequence["Writer"], place: int) -> list[np.ndarray]:
    """Return what 24-bit files are to hold of a bank [float32, shape=(samples, width)], in the order of their lanes; all have as many channels.

    The triangular dither of one step is seeded by the file's name and the place in it, so that the same Plan gives the same bytes.
    """
    channels = writers[0].channels
    size = bank.shape[0] * channels * 3
    out = np.empty((bank.shape[1] // channels, size + _writing.SPARE_BYTES), np.uint8)
    seeds = np.zeros(out.shape[0], np.uint32)
    seeds[: len(writers)] = [writer.seed for writer in writers]
    _writing.dither_24(bank.reshape(-1), bank.shape[1], channels, place, seeds, out.reshape(-1), out.shape[1])
    return [row[:size] for row in out[: len(writers)]]


class Writer:
    """One audio file in one of the formats of BITS; use as a context."""

    def __init__(self, path: Path, format_name: str, sample_rate_hz: int, channels: int, samples: int) -> None:
        self.path, self.channels, self.dithers = path, channels, BITS[format_name] == 24
        self.seed = int.from_bytes(hashlib.sha256(path.name.encode()).digest()[:4])
        self.place = 0
        self._hash = checksum.fresh()
        self._flac = self._file = None
        if format_name == "flac24":
            self._flac = soundfile.SoundFile(path, "w", sample_rate_hz, channels, "PCM_24", format="FLAC")
        else:
            self._file = path.open("wb")
            self._put(wav_header(sample_rate_hz, channels, samples, BITS[format_name]))
            self._odd = samples * channels * BITS[format_name] // 8 % 2

    def write(self, bank: np.ndarray, first: int) -> None:
        """Append the samples of this file's channels, the lanes of a bank [float32, shape=(samples, width)] from ``first`` on."""
        lanes = np.ascontiguousarray(bank[:, first : first + self.channels])
        if self.dithers:
            self.write_steps(dithered(bank_of(list(lanes.T)), [self], self.place)[0])
        else:
            self._put(lanes)
            self.place += lanes.shape[0]

    def write_steps(self, steps: np.ndarray) -> None:
        """Append what ``dithered`` gave for this file."""
        count = steps.size // (3 * self.channels)
        if self._flac is None:
            self._put(steps)
        else:
            wide = np.zeros((count * self.channels, 4), np.uint8)
            wide[:, 1:] = steps.reshape(-1, 3)
            self._encode(wide.view("<i4").reshape(count, self.channels))
        self.place += count

    def _encode(self, steps: np.ndarray) -> None:
        try:
            self._flac.write(steps)
        except soundfile.LibsndfileError as error:  # it does not say more
            raise OSError(errno.EIO, "the disk refused", self.path.name) from error

    def _put(self, data) -> None:
        data = memoryview(data).cast("B")
        self._hash.update(data)
        self._file.write(data)

    def close(self) -> str:
        """Finish the file, see to it that it is on the disk, and return its BLAKE3."""
        if self._flac is not None:
            self._flac.close()
            with self.path.open("rb") as file:
                os.fsync(file.fileno())
            return checksum.of_file(self.path)
        if self._odd:
            self._put(b"\0")
        self._file.flush()
        os.fsync(self._file.fileno())
        self._file.close()
        return self._hash.hexdigest()

    def abandon(self) -> None:
        """Close the file unfinished."""
        (self._flac or self._file).close()
