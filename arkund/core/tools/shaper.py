"""The transient shaper: a gain for a stroke's attack, another for what follows, whatever its level."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import coefficient, lanes
from arkund.core.dsp.reach import Reach, of_follower
from arkund.core.settings import number
from arkund.core.tools import _shaper
from arkund.core.tools.tool import Tool, kind
from arkund.core.units import DB_PER_OCTAVE, db_to_gain

BRIGHT_HZ = 2500.0  # an attack is told by what lies above: drums ring below it
ENVELOPE_MS = (
    24.0  # release: half waves of 40 Hz do not look like strokes, a soft stroke an eighth after a loud one does
)
PAST_MS = 3.0  # how slowly the past follows a rise
ONSET_RATIO, FULL_RATIO = 1.7, 2.3  # of the envelope against its past: an onset begins, and is one altogether
ATTACK_MS, FALL_MS = 10.0, 18.0  # the attack's gain is held, and falls to that of the sustain
RISE_MS = 0.1  # so that it does not click
SHAPER_FLOOR = 1e-5  # -100 dBFS: keeps silence from being shaped


@dataclass(frozen=True, slots=True, kw_only=True)
class Shaper(Tool):
    """Attack and sustain, whatever the level of the hit."""

    kind: str = kind("shaper")
    attack_db: float = number(0.0, -15.0, 15.0, step=0.5, unit="dB", help="the stroke, its first 10 ms")
    sustain_db: float = number(
        0.0, -24.0, 15.0, step=0.5, unit="dB", help="all that follows until the next stroke: ring, room, bleed"
    )

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the shaper must hear beyond a span: its envelope and the past of it, and an attack that is under way."""
        attack = Reach(exact=math.ceil((ATTACK_MS + FALL_MS) * sample_rate_hz / 1000.0))
        return of_follower(ENVELOPE_MS, sample_rate_hz) + of_follower(PAST_MS, sample_rate_hz) + attack


SETTINGS = Shaper
WIRE = Shaper()


class Run:
    """Transient shapers of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    ahead = 0

    def __init__(self, tools: Sequence[Shaper | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        rate, shapers = sample_rate_hz, [each or WIRE for each in tools]
        values = [
            coefficient(1000.0 / (2.0 * np.pi * BRIGHT_HZ), rate),
            coefficient(ENVELOPE_MS, rate),
            coefficient(PAST_MS, rate),
            SHAPER_FLOOR,
            1000.0 / (FALL_MS * rate),
            coefficient(RISE_MS, rate),
            1.0 + ATTACK_MS / FALL_MS,
            ONSET_RATIO,
            1.0 / (FULL_RATIO - ONSET_RATIO),
        ]
        amounts = ([s.attack_db / DB_PER_OCTAVE for s in shapers], [s.sustain_db / DB_PER_OCTAVE for s in shapers])
        same = ([value] * len(shapers) for value in values)
        self._params = lanes([*same, *amounts, [float(linked)] * len(shapers)], width)
        self._state = np.repeat(np.array([0.0, SHAPER_FLOOR, SHAPER_FLOOR, 0.0, 0.0], np.float32), width)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Shape the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place."""
        _shaper.BANKS[bank.shape[1]].shaper(bank[:count].reshape(-1), self._params, self._state)


def oracle(x: np.ndarray, shaper: Shaper, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] with its attack and sustain shaped, sample by sample in double precision."""
    rate, low, env, past, left, share = sample_rate_hz, 0.0, SHAPER_FLOOR, SHAPER_FLOOR, 0.0, 0.0
    dull = math.exp(-2 * math.pi * BRIGHT_HZ / rate)
    kr, kp, ka = (coefficient(t, rate) for t in (ENVELOPE_MS, PAST_MS, RISE_MS))
    out = np.empty(len(x))
    for i, v in enumerate(x.tolist()):
        low = v + (low - v) * dull
        env = max(abs(v - low) + SHAPER_FLOOR, env * kr)
        past = env + (past - env) * kp if env > past else env
        onset = (env / past - ONSET_RATIO) / (FULL_RATIO - ONSET_RATIO)
        held_from = 1.0 + ATTACK_MS / FALL_MS
        left = max(left - 1000.0 / (FALL_MS * rate), min(max(onset, 0.0), 1.0) * held_from)
        wanted = min(left, 1.0)
        share = wanted + (share - wanted) * ka if wanted > share else wanted
        out[i] = v * float(db_to_gain(shaper.attack_db * share + shaper.sustain_db * (1.0 - share)))
    return out
