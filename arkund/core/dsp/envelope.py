"""How loud a signal is, frame by frame."""

from collections.abc import Callable

import numpy as np

BLOCK_FRAMES = 20_000


def frame_peaks(read: Callable[[int, int], np.ndarray], length: int, frame: int) -> np.ndarray:
    """Return the largest magnitude in each frame of a recording, float32 [shape=(frames,)]; read block by block.

    read(start, stop) gives float32 [shape=(samples,)]; frame : samples
    """
    step = BLOCK_FRAMES * frame
    peaks = [
        np.pad(np.abs(part := read(start, min(start + step, length))), (0, -part.size % frame))
        .reshape(-1, frame)
        .max(axis=1)
        for start in range(0, length, step)
    ]
    return np.concatenate(peaks) if peaks else np.zeros(0, np.float32)
