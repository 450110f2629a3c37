"""A strip around its own hits, before any tool and after each: what its tools do to attack and body, and what a change of them costs."""

import functools
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.files.audio import read_padded
from arkund.core.punch.measure import attack_and_body_db, average_envelope
from arkund.core.rig.measure import effect
from arkund.core.units import gain_to_db

NEXT_HIT_S = (0.05, 1.0)  # what is left of a reduction is looked at no earlier and no later
USUAL_GAP_S = 0.5


@dataclass(frozen=True, slots=True)
class Heard:
    """A strip over a part of the song: float32 [each shape=(samples, channels)] before any tool and after each that is on; the hits it is judged by, in s; of a
    single drum those of them that stand in rolls, and how soon the next one comes there.
    """

    audio: tuple[np.ndarray, ...]
    ids: tuple[str, ...]
    hits: tuple
    rate: int
    span: tuple[int, int]
    rolls: tuple = ()
    roll_gap_s: float = 0.0

    def before(self, tool_id: str) -> np.ndarray:
        """What comes into a tool that is on."""
        return self.audio[self.ids.index(tool_id)]

    def after(self, tool_id: str) -> np.ndarray:
        """What leaves a tool that is on."""
        return self.audio[self.ids.index(tool_id) + 1]

    def attack_change_db(self) -> float:
        """By how much the average hit's attack rises against its body through the whole row, in dB."""
        was, now = (self._attack_db(x) for x in (self.audio[0], self.audio[-1]))
        return now - was

    def _attack_db(self, audio: np.ndarray) -> float:
        read = functools.partial(read_padded, np.ascontiguousarray(np.abs(audio).max(axis=1)))
        attack, body = attack_and_body_db(average_envelope(read, list(self.hits), self.rate))
        return attack - body

    @property
    def gap_s(self) -> float:
        """The usual time from a strong hit to the next."""
        gaps = np.diff([h.time_s for h in self.hits if not h.ghost])
        return float(np.clip(np.median(gaps) if gaps.size else USUAL_GAP_S, *NEXT_HIT_S))


def cost_words(was: Heard, now: Heard) -> str:
    """Return what a change costs: by how much what lies between hits rises against them, and the head-room that it uses."""
    at = [round(h.time_s * was.rate) for h in was.hits]
    found = effect(was.audio[-1], now.audio[-1], at, was.rate)
    peaks = [float(gain_to_db(np.max(np.abs(x.audio[-1]), initial=0.0))) for x in (was, now)]
    told = [f"peak {peaks[1] - peaks[0]:+.1f} dB"]
    if found.hits_db is not None and found.between_db is not None:
        told.insert(0, f"what lies between hits {found.between_db - found.hits_db:+.1f} dB against them")
    return ", ".join(told)


def loudness_lufs(audio: np.ndarray, sample_rate_hz: int) -> float:
    """Return the ungated loudness of a strip of one channel or two [shape=(samples, channels)]; one counts as two alike."""
    both = audio if audio.shape[1] == 2 else np.repeat(audio, 2, axis=1)
    return quick_loudness_lufs(np.ascontiguousarray(both), sample_rate_hz)
