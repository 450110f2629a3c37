"""Where hits of the shelf land: each on its strike to a part of a sample, so that what they have in common adds up to the top of the range.

A hit's found moment is the first sample that stands out, which lies a few samples earlier in strong hits than in soft ones. Two sounds of the same drum half a
sample apart lose 0.5 dB at 10 kHz when they are added, three samples apart they cancel there. So each strike, and each hit that is laid under them, is compared
with the drum's average hit in its own mic; the strongest correlation tells by how much its attack comes later or earlier than that of the average.
"""

from collections.abc import Mapping, Sequence

import numpy as np
from scipy.signal import butter, resample_poly, sosfiltfilt

from arkund.core.files.audio import read_padded
from arkund.core.hits.resolve import Hit, against_usual
from arkund.core.replace.process import Read
from arkund.core.replace.shots import Sound
from arkund.core.units import ms_to_samples

BEFORE_MS, AFTER_MS = 1.0, 6.0  # what is compared, from a hit's found moment
MOST_MS = 0.5  # a hit is found no further from where it is
LEAST_ALIKE = 0.6  # correlation below which a sound is none of the drum's own: it stays where it was found
ABOVE_HZ = 700.0  # what is compared: the ring of a drum lies below, the same in each hit whenever that began
UP = 8  # places between samples at which the correlation is looked at, before a parabola finds its top
ROUNDS = 2  # the average is sharper once its hits stand together
LEAST_AVERAGED, MOST_AVERAGED = 8, 60
TINY = 1e-20


def average(read: Read, at: Sequence[int], sample_rate_hz: int) -> np.ndarray:
    """Return the average attack of a drum in its own mic, each hit as strong as the others [shape=(samples,)], to compare with :func:`later`.

    at : the found samples of its strong hits; the first MOST_AVERAGED of them count
    """
    pieces = [_bright(read, sample, sample_rate_hz) for sample in at[:MOST_AVERAGED]]
    most = _most(sample_rate_hz)
    moved = [0] * len(pieces)
    for turn in range(ROUNDS + 1):
        cut = [piece[most + k : piece.size - most + k] for piece, k in zip(pieces, moved, strict=True)]
        out = np.mean([_scaled(piece) for piece in cut], axis=0)
        if turn < ROUNDS:
            moved = [round(_later(piece, out)[0]) for piece in pieces]
    return out


def later(read: Read, at: int, like: np.ndarray, sample_rate_hz: int) -> float:
    """Return by how many samples, in parts, the attack of a hit found at a sample comes later than that of the average; 0 where it is not like it."""
    samples, alike = _later(_bright(read, at, sample_rate_hz), like)
    return float(samples) if alike >= LEAST_ALIKE else 0.0


def landed(
    read: Read, hits: Sequence[Hit], sounds: Mapping[str, Sound], sample_rate_hz: int
) -> tuple[tuple[tuple[float, float], ...], dict[str, float]]:
    """Return a drum's hits as the strikes of a layer, and by how many samples each sound's attack comes later than where it was found.

    read : the drum's own mic as it was recorded; sounds : what is laid under them, by id
    """
    frozen = against_usual(hits, sample_rate_hz)
    strongest = sorted(frozen, key=lambda row: -row[1])[: max(len(frozen) // 2, min(len(frozen), LEAST_AVERAGED))]
    like = average(read, [at for at, _ in strongest], sample_rate_hz)
    strikes = {round(at + later(read, at, like, sample_rate_hz), 2): db for at, db in frozen}
    late = {key: later(_reader(sound), sound.before, like, sample_rate_hz) for key, sound in sounds.items()}
    return tuple(sorted(strikes.items())), late


def _reader(sound: Sound) -> Read:
    return lambda start, stop: read_padded(sound.samples, start, stop)


def _most(rate: int) -> int:
    return round(ms_to_samples(MOST_MS, rate))


def _bright(read: Read, at: int, rate: int) -> np.ndarray:
    """Return what is compared of a hit, and MOST_MS more on either side."""
    before, after = (round(ms_to_samples(ms, rate)) + _most(rate) for ms in (BEFORE_MS, AFTER_MS))
    rest = 4 * after  # the filter begins and ends in it
    x = read(at - before - rest, at + after + rest).astype(float)
    return sosfiltfilt(butter(2, ABOVE_HZ, "highpass", fs=rate, output="sos"), x)[rest:-rest]


def _later(piece: np.ndarray, like: np.ndarray) -> tuple[float, float]:
    """Return where in a longer piece the average is found best, in samples from its middle, and how alike they are there."""
    products = np.correlate(piece, like, "valid")
    power = np.convolve(piece**2, np.ones(like.size), "valid")
    fine = resample_poly(products / np.sqrt(np.maximum(power, TINY) * max(np.sum(like**2), TINY)), UP, 1)
    fine = fine[: (products.size - 1) * UP + 1]
    best = int(np.argmax(fine))
    shift = 0.0
    if 0 < best < fine.size - 1:
        left, top, right = fine[best - 1 : best + 2]
        bend = left - 2.0 * top + right
        shift = 0.5 * (left - right) / bend if bend < 0.0 else 0.0
    return (best + shift) / UP - (products.size - 1) / 2.0, float(fine[best])


def _scaled(x: np.ndarray) -> np.ndarray:
    return x / max(float(np.sqrt(np.sum(x**2))), TINY)
