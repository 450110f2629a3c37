"""A finished mix as a reference, measured as far as it can be without its tracks: peak-to-loudness ratio, slope and mono loss."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from arkund.core.card.measure import kit_figures
from arkund.core.card.sound import Sound
from arkund.core.card.targets import TARGETS
from arkund.core.errors import AudioError
from arkund.core.files.audio import probe, read_blocks, readable

TELLS = ("density", "slope", "mono")
PART_S, STEP_S = 16.0, 1.0  # of the mix that is measured: its loudest
DENSEST_DB, LEAST_DENSE_DB = TARGETS["heavy"]["density"][0], TARGETS["natural"]["density"][1]


def figures_of_mix(path: Path) -> dict[str, float]:
    """Return what the loudest PART_S of a mix measure, of TELLS those that are known.

    Raises AudioError where the file is no readable recording, or silent.
    """
    header = probe(path)
    rate, step = header.sample_rate_hz, round(STEP_S * header.sample_rate_hz)
    first = step * _loudest([float(np.mean(np.square(block))) for block in read_blocks(path, step)])
    audio = np.concatenate([*read_blocks(path, step, first, min(first + round(PART_S * rate), header.frames))])
    both = np.ascontiguousarray(audio[:, :2] if audio.shape[1] > 1 else np.repeat(audio, 2, axis=1))
    found = kit_figures(Sound(both, {}, rate))
    if found["density"] is None:
        raise AudioError(f"{readable(path.name)}: is silent; give a mix that is to be measured.")
    return {key: float(found[key]) for key in TELLS if found[key] is not None}


def wanted_of(mix: dict[str, float], raw_density_db: float | None) -> dict[str, float]:
    """Return what the card's targets are about in a mix: its peak-to-loudness ratio as a change against a session's raw kit, no further than the styles go.

    A master is denser than a kit may be made.
    """
    out = {key: value for key, value in mix.items() if key != "density"}
    if raw_density_db is not None:
        out["density"] = float(np.clip(mix["density"] - raw_density_db, DENSEST_DB, LEAST_DENSE_DB))
    return out


def _loudest(powers: Sequence[float]) -> int:
    """Return at which of steps whose mean powers are given the loudest PART_S begins."""
    size = min(round(PART_S / STEP_S), len(powers))
    return int(np.argmax(np.convolve(powers, np.ones(size), "valid")))
