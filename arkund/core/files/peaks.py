"""Waveform pictures: the lowest and highest sample of each stretch, at a few zooms, as signed bytes."""

import numpy as np

LEVELS = (256, 1024, 4096)  # samples per column
BLOCK = 1 << 20


def pyramid(reader) -> dict[int, np.ndarray]:
    """Return for each level int8 [shape=(columns, 2)]: minimum and maximum, 127 = full scale.

    Values are rounded away from zero, so that a soft sound never vanishes.
    """
    fine = np.zeros((-(-reader.length // LEVELS[0]), 2), np.float32)
    for start in range(0, reader.length, BLOCK):
        stop = min(start + BLOCK, reader.length)
        columns = -(-(stop - start) // LEVELS[0])
        part = np.zeros(columns * LEVELS[0], np.float32)
        part[: stop - start] = reader.read(start, stop)
        part = part.reshape(columns, LEVELS[0])
        first = start // LEVELS[0]
        fine[first : first + columns, 0] = part.min(axis=1)
        fine[first : first + columns, 1] = part.max(axis=1)
    out = {}
    for level in LEVELS:
        step = level // LEVELS[0]
        columns = -(-fine.shape[0] // step)
        padded = np.zeros((columns * step, 2), np.float32)
        padded[: fine.shape[0]] = fine
        grouped = padded.reshape(columns, step, 2)
        low, high = grouped[:, :, 0].min(axis=1), grouped[:, :, 1].max(axis=1)
        both = np.stack([np.floor(low * 127), np.ceil(high * 127)], axis=1)
        out[level] = np.clip(both, -127, 127).astype(np.int8)
    return out
