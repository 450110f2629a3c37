"""Names and sounds together: what a file's name leaves open, its sound may say."""

from collections.abc import Sequence

import numpy as np
from scipy.optimize import linear_sum_assignment

from arkund.core.kit.names import Recognised
from arkund.core.kit.pieces import is_tom
from arkund.core.load.sound import KINDS, features_of, fundamental_hz, kind_of, likely

ASKED_BELOW = 0.7  # the confidence from which on a name stands by itself
MOST_BY_SOUND = 0.65  # what a sound alone is trusted with: such a mic is still asked about
LEAST_CHANCE = 0.5
FEWEST_MICS = 4  # a mic is told by its sound against the others
PLACES = {"tom": 4, "overhead": 4, "room": 6, "talkback": 2}  # of a kind; of any other there is one
MIC_OF = {
    "kick in": ("kick", "in"),
    "kick out": ("kick", "out"),
    "kick sub": ("kick", "sub"),
    "snare top": ("snare", "top"),
    "snare bottom": ("snare", "bottom"),
    "hihat": ("hihat", "spot"),
    "floor": ("floor", "close"),
    "ride": ("ride", "spot"),
    "overhead": ("kit", "overhead"),
    "room": ("kit", "room"),
    "talkback": ("kit", "talkback"),
}


def settled(named: Sequence[Recognised], readers: Sequence, sample_rate_hz: int) -> list[Recognised]:
    """Return what the mics of one take are, those whose names leave it open in the light of their sound.

    Names that stand by themselves are left alone. Where names say nothing, the kinds that are still free are shared out so that the sounds fit best together;
    toms whose order is a guess are ordered by pitch. What a sound alone has said stays unsure, and is asked about first.

    Parameters
    ----------
    named : as ``kit.names.recognise_folder`` gives it
    readers : with ``read`` and ``length``, in the same order
    """
    open_ones = [k for k, mine in enumerate(named) if mine.confidence == 0.0]
    guessed = [k for k, mine in enumerate(named) if is_tom(mine.piece) and mine.confidence < ASKED_BELOW]
    out = list(named)
    if open_ones and len(named) >= FEWEST_MICS:
        for k, found in _by_sound(named, open_ones, readers, sample_rate_hz).items():
            out[k] = found
    guessed += [k for k in open_ones if is_tom(out[k].piece)]
    return _by_pitch(out, guessed, readers, sample_rate_hz)


def _by_sound(named: Sequence[Recognised], open_ones: list[int], readers: Sequence, rate: int) -> dict[int, Recognised]:
    logs = likely(features_of(readers, rate))
    open_ones = [k for k in open_ones if logs[k]]
    taken = [kind_of(mine.piece, mine.role) for k, mine in enumerate(named) if mine.confidence > 0.0]
    free = [kind for kind in KINDS for _ in range(max(PLACES.get(kind, 1) - taken.count(kind), 0))]
    if not open_ones or not free:
        return {}
    cost = np.array([[-logs[k][kind] for kind in free] for k in open_ones])
    out, toms = {}, taken.count("tom")
    for row, column in zip(*linear_sum_assignment(cost), strict=True):
        k, kind = open_ones[row], free[column]
        chance = float(np.exp(logs[k][kind]))
        if chance < LEAST_CHANCE:
            continue
        if kind == "tom":
            toms += 1
        piece, role = MIC_OF.get(kind) or (f"tom{min(toms, 4)}", "close")
        out[k] = Recognised(piece, role, named[k].side, round(MOST_BY_SOUND * chance, 2))
    return out


def _by_pitch(named: list[Recognised], guessed: list[int], readers: Sequence, rate: int) -> list[Recognised]:
    """Give the places of the toms whose order is a guess anew, the highest first."""
    pitch_hz = {k: fundamental_hz(readers[k], rate) for k in guessed}
    told = [k for k in guessed if pitch_hz[k]]
    out = list(named)
    if len(told) > 1:
        places = sorted((named[k].piece for k in told), key=lambda piece: (piece == "floor", piece))
        for k, piece in zip(sorted(told, key=lambda k: -pitch_hz[k]), places, strict=True):
            out[k] = Recognised(piece, "close", "", named[k].confidence)
    return out
