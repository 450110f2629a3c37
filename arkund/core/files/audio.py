"""Reading recordings: any usual format in, checked float32 per channel out, in blocks of bounded size."""

import os
import tempfile
import weakref
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
import soxr

from arkund.core.errors import AudioError
from arkund.core.files import checksum, room
from arkund.core.units import gain_to_db

ENDINGS = (".wav", ".wave", ".rf64", ".bw64", ".w64", ".aif", ".aiff", ".aifc", ".flac")
RATES_HZ = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)
MOST_CHANNELS = 2
BLOCK = 1 << 18  # samples per block while importing
SHORTEST_S = 0.05
LONGEST_S = 4 * 3600  # of one recording; a few hundred kB of packed silence would fill a disk otherwise
ROOM_EVERY_BYTES = 64 << 20  # while writing, the disk's room is looked at so often
CLIP_LEVEL = 0.9999  # full scale of 16-bit audio lies 0.00003 below 1
SILENT_DB = -90.0
DC_DB = -46.0

MOST_PEAK = 1000.0  # 60 dB over full scale: nothing that was recorded reaches it


@dataclass(frozen=True, slots=True)
class Probe:
    """What a file's header says."""

    sample_rate_hz: int
    channels: int
    frames: int
    subtype: str


@dataclass(frozen=True, slots=True)
class Channel:
    """One imported channel: where its samples lie and what was noticed while reading."""

    digest: str
    path: Path
    length: int
    peak_db: float
    mean: float
    clipped: int
    not_finite: int


def readable(name: str) -> str:
    """Return a file's name without what is no character of a text: controls, marks of direction, bytes that are not UTF-8."""
    plain = name.encode("utf-8", "surrogateescape").decode("utf-8", "replace").replace("\N{REPLACEMENT CHARACTER}", "_")
    return "".join(c for c in plain if c.isprintable()).strip() or "unnamed"


def probe(path: Path) -> Probe:
    """Return what the header says; raises AudioError where the file cannot be used as a recording."""
    name = readable(path.name)
    if path.stat().st_size == 0:
        raise AudioError(f"{name}: the file is empty; copy it again from the recorder.")
    try:
        with soundfile.SoundFile(os.fsencode(path)) as file:
            found = Probe(file.samplerate, file.channels, file.frames, file.subtype)
    except soundfile.LibsndfileError as error:
        raise AudioError(f"{name}: not a readable WAV, AIFF or FLAC file ({_reason(error)}).") from error
    if found.channels > MOST_CHANNELS:
        raise AudioError(f"{name}: has {found.channels} channels; give one file per mic, mono or stereo.")
    if found.sample_rate_hz not in RATES_HZ:
        raise AudioError(f"{name}: sample rate {found.sample_rate_hz} Hz is not one of 44.1 to 192 kHz.")
    if found.frames < SHORTEST_S * found.sample_rate_hz:
        raise AudioError(f"{name}: only {found.frames} samples long; a recording has at least {SHORTEST_S:g} s.")
    if found.frames > LONGEST_S * found.sample_rate_hz:
        hours = found.frames / found.sample_rate_hz / 3600
        raise AudioError(f"{name}: is {hours:.1f} hours long; a recording has at most {LONGEST_S // 3600} hours.")
    return found


def read_mono(path: Path) -> np.ndarray:
    """Return a whole file as the mean of its channels, float32 [shape=(samples,)]. Raises AudioError where it cannot be read to its end."""
    try:
        with soundfile.SoundFile(os.fsencode(path)) as file:
            return file.read(dtype="float32", always_2d=True).mean(axis=1)
    except (soundfile.LibsndfileError, OSError) as error:
        raise AudioError(f"{readable(path.name)}: cannot be read ({_reason(error)}).") from error


def read_blocks(path: Path, size: int, start: int = 0, stop: int | None = None) -> Iterator[np.ndarray]:
    """Yield a file, or a span of it, in blocks of so many samples, float32 [shape=(samples, channels)]; what is not finite is silence.

    Raises AudioError where it cannot be read, or holds no audio.
    """
    try:
        with soundfile.SoundFile(os.fsencode(path)) as file:
            file.seek(start)
            for at in range(start, file.frames if stop is None else stop, size):
                block = file.read(
                    min(size, (file.frames if stop is None else stop) - at), dtype="float32", always_2d=True
                )
                _silence_what_is_not_finite(block, path.name)
                yield block
    except (soundfile.LibsndfileError, OSError) as error:
        raise AudioError(f"{readable(path.name)}: cannot be read ({_reason(error)}).") from error


def _silence_what_is_not_finite(block: np.ndarray, name: str) -> np.ndarray:
    """Set samples that are not finite to 0; return how many, by channel. Raises AudioError for samples that no audio reaches."""
    bad = ~np.isfinite(block)
    block[bad] = 0.0
    peak = np.abs(block).max(initial=0.0)
    if peak > MOST_PEAK:
        raise AudioError(
            f"{readable(name)}: samples reach {peak:.3g} where full scale is 1; that is no audio, or another format."
        )
    return bad.sum(axis=0)


def _reason(error: Exception) -> str:
    return str(error).rsplit(":", 1)[-1].strip().rstrip(".").lower() or "unknown format"


def ingest(
    path: Path,
    folder: Path,
    sample_rate_hz: int,
    on_progress: Callable[[float], None] = lambda share: None,
    lead: int = 0,
    wanted: str = "",
) -> list[Channel]:
    """Read a file block by block into one checked float32 .npy file per channel, named by content.

    lead : samples of silence that go before it, at sample_rate_hz: what it began later than the others.
    wanted : where given, the hash that the samples of a mono file must have.

    Files whose rate differs are resampled to sample_rate_hz. Samples that are not finite become silence and are counted.
    Raises AudioError where the file ends before its header says so, or holds other samples than wanted, and StorageError where the disk becomes full.
    """
    header = probe(path)
    writers = [_Writer(folder) for _ in range(header.channels)]
    done = 0
    try:
        for first in range(0, lead, BLOCK):
            for writer in writers:
                writer.add(np.zeros(min(BLOCK, lead - first), np.float32), 0)
        with soundfile.SoundFile(os.fsencode(path)) as file:
            resampler = None
            if header.sample_rate_hz != sample_rate_hz:
                resampler = soxr.ResampleStream(header.sample_rate_hz, sample_rate_hz, header.channels, "float32")
            while done < header.frames:
                block = file.read(min(BLOCK, header.frames - done), dtype="float32", always_2d=True)
                if len(block) == 0:
                    break
                done += len(block)
                counts = _silence_what_is_not_finite(block, path.name)
                if resampler is not None:
                    block = resampler.resample_chunk(block, last=done >= header.frames)
                for lane, writer in enumerate(writers):
                    writer.add(block[:, lane], int(counts[lane]))
                on_progress(done / header.frames)
        if done < header.frames:
            raise AudioError(
                f"{readable(path.name)}: ends after {done} of {header.frames} samples; the copy is incomplete, copy it again."
            )
        if wanted and [writer.digest for writer in writers] != [wanted]:
            raise AudioError(f"{readable(path.name)}: does not hold the samples that its name promises.")
        return [writer.finish() for writer in writers]
    except soundfile.LibsndfileError as error:
        raise AudioError(
            f"{readable(path.name)}: is damaged and cannot be read to its end ({_reason(error)})."
        ) from error
    finally:
        for writer in writers:
            writer.discard()


class _Writer:
    """Writes one channel to a temporary .npy file that gets its name from its content at the end."""

    def __init__(self, folder: Path) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=".new-", suffix=".npy", dir=folder)
        self._file, self._path, self._folder = os.fdopen(handle, "w+b"), Path(name), folder
        self._hash = checksum.fresh()
        self._length, self._peak, self._sum, self._clipped, self._bad = 0, 0.0, 0.0, 0, 0
        self._unasked = ROOM_EVERY_BYTES  # bytes since the disk's room was looked at
        self._header(0)
        self._start = self._file.tell()

    def _header(self, length: int) -> None:
        self._file.seek(0)
        np.lib.format.write_array_header_1_0(self._file, {"descr": "<f4", "fortran_order": False, "shape": (length,)})

    def add(self, samples: np.ndarray, not_finite: int) -> None:
        samples = np.ascontiguousarray(samples, "<f4")
        data = samples.tobytes()
        self._hash.update(data)
        self._length += samples.size
        self._bad += not_finite
        if not samples.any():
            self._file.seek(len(data), os.SEEK_CUR)  # silence is a hole in the file and takes no room
            return
        self._unasked += len(data)
        if self._unasked >= ROOM_EVERY_BYTES:
            room.check(self._folder, len(data))
            self._unasked = 0
        self._file.write(data)
        if samples.size:
            size = np.abs(samples)
            self._peak = max(self._peak, float(size.max()))
            self._sum += float(samples.sum(dtype=np.float64))
            self._clipped += int(np.count_nonzero(size >= CLIP_LEVEL))

    @property
    def digest(self) -> str:
        return self._hash.hexdigest()

    def finish(self) -> Channel:
        end = self._file.tell()
        self._header(self._length)
        self._file.flush()
        os.ftruncate(self._file.fileno(), end)
        os.fsync(self._file.fileno())
        self._file.close()
        digest = self.digest
        final = self._folder / f"{digest}.npy"
        self._path.replace(final)
        mean = self._sum / max(self._length, 1)
        return Channel(digest, final, self._length, float(gain_to_db(self._peak)), mean, self._clipped, self._bad)

    def discard(self) -> None:
        if not self._file.closed:
            self._file.close()
        self._path.unlink(missing_ok=True)


def notices(channel: Channel, name: str) -> list[str]:
    """Return what an engineer should know about an imported channel, one sentence each."""
    out = []
    if channel.not_finite:
        out.append(f"{name}: {channel.not_finite} samples are not numbers and were made silent.")
    if channel.peak_db < SILENT_DB:
        out.append(f"{name}: is silent (peak {channel.peak_db:.0f} dBFS).")
        return out
    if channel.clipped > 2:
        out.append(f"{name}: {channel.clipped} samples at full scale; it was probably recorded too hot.")
    if gain_to_db(channel.mean) > DC_DB:
        out.append(f"{name}: carries DC of {channel.mean * 100:.1f} % of full scale; a high-pass removes it.")
    return out


class MicFile:
    """A mic's samples on disk, readable at any place and by several threads; silent outside of the recording.

    Read on demand rather than mapped, so that a long song's pages are the system's, not ours.
    """

    def __init__(self, path: Path) -> None:
        with path.open("rb") as file:
            version = np.lib.format.read_magic(file)
            shape, _, kind = np.lib.format.read_array_header_1_0(file)
            self._begin = file.tell()
        if version != (1, 0) or kind != np.float32 or len(shape) != 1:
            raise AudioError(f"{readable(path.name)}: is not one of our recordings; import the file again.")
        self.length = int(shape[0])
        self._file = os.open(path, os.O_RDONLY)
        weakref.finalize(self, os.close, self._file)

    def read(self, start: int, stop: int) -> np.ndarray:
        """Return float32 [shape=(stop - start,)]."""
        out = np.zeros(max(stop - start, 0), np.float32)
        low, high = max(start, 0), min(stop, self.length)
        if high > low:
            self._fill(memoryview(out[low - start : high - start]).cast("B"), self._begin + 4 * low)
        return out

    def _fill(self, rest: memoryview, at: int) -> None:
        while rest:
            count = os.preadv(self._file, [rest], at)
            if count == 0:
                raise AudioError("A recording in the data folder is shorter than it says; import the file again.")
            rest, at = rest[count:], at + count


def digest_of(path: Path) -> tuple[str, int]:
    """Return the hash of a recording's samples and its length. Raises AudioError, OSError or ValueError where it cannot be read."""
    mic, found = MicFile(path), checksum.fresh()
    for start in range(0, mic.length, BLOCK):
        found.update(mic.read(start, min(start + BLOCK, mic.length)).tobytes())
    return found.hexdigest(), mic.length


def read_padded(samples: np.ndarray, start: int, stop: int) -> np.ndarray:
    """Return a span of an array [shape=(samples,)], silent outside of it."""
    out = np.zeros(max(stop - start, 0), np.float32)
    low, high = max(start, 0), min(stop, samples.shape[0])
    if high > low:
        out[low - start : high - start] = samples[low:high]
    return out


class ArrayMic:
    """A mic held in memory, for short recordings and tests."""

    def __init__(self, samples: np.ndarray) -> None:
        self._samples = np.asarray(samples, np.float32)
        self.length = int(self._samples.shape[0])

    def read(self, start: int, stop: int) -> np.ndarray:
        """Return float32 [shape=(stop - start,)]."""
        return read_padded(self._samples, start, stop)
