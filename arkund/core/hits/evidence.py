"""What speaks for and against each candidate, measured in all mics: the numbers that the judge weighs.

Nothing here depends on a recording's gain or length: levels are taken against each mic's own strongest strokes.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from arkund.core.beside import at_once, by_slices
from arkund.core.hits import _kernels, fit, onsets, prints
from arkund.core.hits._kernels import KIT
from arkund.core.hits.bands import FRAMES_PER_S, QUARTERS, Bands
from arkund.core.hits.settings import Channel

RISE_DB, QUICK_DB = 2.5, 4.0  # what a candidate must rise by
# Of the cymbals without a mic only those matter that leave something in the mics of others.
FAR_RISE_DB, FAR_QUICK_DB = 4.0, 6.0
SOFT_DB = 1.5  # a cymbal's, over a few milliseconds
STRONGEST = 3  # strokes whose middle one is a mic's full level
FAMILIES = ("kick", "snare", "tom", "cymbal")
ELSEWHERE = "elsewhere"  # all cymbals without a mic, looked for in the overheads: they explain what they leave in the mics of others
BESIDE_HATS = {"ride": 0.5, ELSEWHERE: 0.75}


@dataclass(frozen=True, slots=True)
class Scene:
    """A take as the judge sees it: levels, whose mics there are, and all candidates in order of time."""

    power: np.ndarray  # [shape=(frames, mics, bands)]
    level: np.ndarray  # the same in dB
    quick: np.ndarray  # dB [shape=(quarters, mics, 2)]
    full: np.ndarray  # dB [shape=(mics, bands)]
    quick_full: np.ndarray  # dB [shape=(mics, 2)]
    names: tuple[str, ...]  # pieces
    first: np.ndarray  # own mic of each piece
    second: np.ndarray  # its second mic, -1 for none
    mic_family: np.ndarray
    mic_piece: np.ndarray  # -1 for mics of the whole kit
    piece_family: np.ndarray  # a ride is half a family beside the hi-hat, what has no mic three quarters
    frames: np.ndarray  # of the candidates
    pieces: np.ndarray  # of the candidates, as numbers


def family(piece: str) -> str:
    """Return the family of a piece for the hit finder: kick, snare, tom or cymbal."""
    if piece in ("kick", "snare"):
        return piece
    return "tom" if piece.startswith("tom") or piece == "floor" else "cymbal"


def scene(bands: Bands, channels: Sequence[Channel]) -> Scene:
    """Return a take's scene with all its candidates, in the order of channels; the last piece is ELSEWHERE if there are overheads."""
    level, quick = at_once(partial(onsets.levels_db, bands.power), partial(onsets.quick_levels_db, bands.quick))
    names = tuple(c.piece for c in channels if c.close and c.first)
    own = [sorted(_mics_of(channels, name), key=lambda k: not channels[k].first) for name in names]
    overheads = [k for k, c in enumerate(channels) if c.first and not c.close]
    if names and overheads:
        names, own = (*names, ELSEWHERE), [*own, overheads]
    full, quick_full, *found = at_once(
        partial(_full_level, level, FRAMES_PER_S),
        partial(_full_level, quick, FRAMES_PER_S * QUARTERS),
        *(partial(_begins, level, quick, *piece) for piece in zip(names, own, strict=True)),
    )
    frames = np.concatenate([*found, np.zeros(0, np.int64)])
    pieces = np.repeat(np.arange(len(names)), [f.size for f in found])
    order = np.argsort(frames, kind="stable")
    return Scene(
        power=bands.power,
        level=level,
        quick=quick,
        full=full,
        quick_full=quick_full,
        names=names,
        first=np.array([mics[0] for mics in own], np.int64),
        second=np.array([mics[1] if len(mics) > 1 else -1 for mics in own], np.int64),
        mic_family=np.array([FAMILIES.index(family(c.piece)) if c.close else KIT for c in channels], np.int64),
        mic_piece=np.array([names.index(c.piece) if c.close and c.piece in names else -1 for c in channels], np.int64),
        piece_family=np.array([FAMILIES.index(family(n)) + BESIDE_HATS.get(n, 0.0) for n in names], np.float32),
        frames=frames[order].astype(np.int64),
        pieces=pieces[order].astype(np.int64),
    )


def _begins(level: np.ndarray, quick: np.ndarray, name: str, mics: list[int]) -> np.ndarray:
    """Return the frames where a piece may have been struck. A soft stroke on a cymbal that still rings hardly rises: there less is asked."""
    if name == ELSEWHERE:
        return onsets.candidates(level, quick, mics, FAR_RISE_DB, FAR_QUICK_DB)
    out = onsets.candidates(level, quick, mics, RISE_DB, QUICK_DB)
    return onsets.with_soft_ones(out, level, mics[0], SOFT_DB) if family(name) == "cymbal" else out


def _mics_of(channels: Sequence[Channel], piece: str) -> list[int]:
    return [k for k, c in enumerate(channels) if c.close and c.piece == piece]


def _full_level(level: np.ndarray, per_s: int) -> np.ndarray:
    """Return what each mic's strongest strokes reach [shape=level.shape[1:]]: the middle of the STRONGEST loudest seconds."""
    seconds = max(level.shape[0] // per_s, 1)
    loudest = np.stack([part.max(axis=0) for part in np.array_split(level, seconds)])
    return np.sort(loudest, axis=0)[-STRONGEST:].mean(axis=0).astype(np.float32)


def heard(s: Scene) -> np.ndarray:
    """Return how each candidate rises and falls in its own mics, and what the others heard around it."""
    out = np.zeros((s.frames.size, _kernels.HEARD), np.float32)

    def fill(part: slice) -> None:
        _kernels.heard_evidence(
            s.level, s.quick, s.full, s.quick_full, s.frames[part], s.pieces[part], s.first, s.second,
            s.mic_family, s.mic_piece, s.piece_family, out[part],
        )  # fmt: skip

    by_slices(fill, s.frames.size)
    return out


def explained(s: Scene, sure: np.ndarray, kept: np.ndarray, asked: np.ndarray) -> np.ndarray:
    """Return what of each candidate asked about is left when all likely strokes of other pieces are accounted for, and how much a stroke there explains.

    sure : 0..1 for each candidate, as judged so far; kept : which of them are likely strokes; asked : numbers in order of time, all of the kept among them
    """
    learnt = prints.learn(s.power, s.frames, s.pieces, sure, kept, s.first)
    height, spread = prints.heights(s.power, learnt, s.frames, s.pieces, s.first, asked)
    out, sums, likely = np.zeros((asked.size, _kernels.EXPLAINED), np.float32), learnt.sums, np.flatnonzero(kept)

    def fill(part: slice) -> None:
        _kernels.explained_evidence(
            s.power, sums, s.frames, s.pieces, asked[part], sure, likely, s.first, s.second, s.mic_family, s.mic_piece,
            s.piece_family, learnt.learnt, learnt.alone, learnt.trust, learnt.full, height, spread, out[part],
        )  # fmt: skip

    by_slices(fill, asked.size)
    fitted = fit.fits(s.power, learnt, s.frames, s.pieces, sure, kept, asked, height, s.mic_piece)
    return np.hstack([out, fitted])


def apart(s: Scene, sure: np.ndarray, least: float, apart_ms: float) -> np.ndarray:
    """Return which candidates stand [bool]: at least this sure, and the surest of their piece within apart_ms."""
    kept = np.zeros(s.frames.size, bool)
    reach = int(np.ceil(apart_ms * FRAMES_PER_S / 1000)) - 1
    for piece in range(len(s.names)):
        mine = np.flatnonzero((s.pieces == piece) & (sure >= least))
        taken = np.zeros(s.power.shape[0] + 1, bool)
        for k in mine[np.argsort(-sure[mine], kind="stable")]:
            frame = s.frames[k]
            if not taken[frame]:
                taken[max(frame - reach, 0) : frame + reach + 1] = True
                kept[k] = True
    return kept
