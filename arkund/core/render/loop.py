"""A rendered span made fit for listening: matched in loudness, soft at its ends, never over full scale."""

from dataclasses import dataclass

import numpy as np

from arkund.core.plan.plan import Plan
from arkund.core.rig.scenes import Held
from arkund.core.rig.strips import OFF_DB
from arkund.core.units import SILENCE_DB, db_to_gain, gain_to_db

FADE_MS = 3.0
SAFE_PEAK = 0.98
MOST_MATCH_DB = 24.0
QUIETEST_MATCHED_LUFS = SILENCE_DB + 60.0
DIM_DB = -9.0  # the other drums, when one is listened to within the kit
LOWEST_LEVEL_DB = -60.0


@dataclass(frozen=True, slots=True)
class Loop:
    """What is played: audio float32 [shape=(samples, 2)] and by how much it was raised or lowered."""

    audio: np.ndarray
    sample_rate_hz: int
    matched_db: float
    peak_db: float
    loudness_lufs: float


def match_db(wanted_lufs: float, found_lufs: float) -> float:
    """Return the gain in dB that brings one loudness to another; 0 where one of them is silence."""
    if min(wanted_lufs, found_lufs) <= QUIETEST_MATCHED_LUFS:
        return 0.0
    return float(np.clip(wanted_lufs - found_lufs, -MOST_MATCH_DB, MOST_MATCH_DB))


def finish(
    audio: np.ndarray, sample_rate_hz: int, matched_db: float, loudness_lufs: float, fade_ms: float = FADE_MS
) -> Loop:
    """Return audio [shape=(samples, 2)] of a known loudness at a gain, faded at both ends and kept below full scale, so that no
    player clips it.
    """
    peak = float(max(audio.max(initial=0.0), -audio.min(initial=0.0)) * db_to_gain(matched_db))
    if peak > SAFE_PEAK:
        matched_db += float(gain_to_db(SAFE_PEAK / peak))
    out = np.multiply(
        audio.T, np.float32(db_to_gain(matched_db)), order="C"
    ).T  # one channel after the other, as it is sent
    fade = min(int(fade_ms * sample_rate_hz / 1000), out.shape[0] // 2)
    ramp = np.linspace(0.0, 1.0, fade, dtype=np.float32)[:, None]
    out[:fade] *= ramp
    out[out.shape[0] - fade :] *= ramp[::-1]
    return Loop(
        out,
        sample_rate_hz,
        round(matched_db, 2),
        round(float(gain_to_db(min(peak, SAFE_PEAK))), 2),
        round(max(loudness_lufs + matched_db, SILENCE_DB), 2),
    )


def with_backing(audio: np.ndarray, backing: np.ndarray, level_db: float, matched_db: float) -> np.ndarray:
    """Return drums with the rest of the music [both shape=(samples, 2)].

    The loop is raised by matched_db later on; the music is lowered by it before, so that it keeps its level when a version is switched.
    """
    return audio + backing * np.float32(db_to_gain(level_db - matched_db))


def as_chunk(audio: np.ndarray, sample_rate_hz: int, loudness_lufs: float) -> Loop:
    """Return a chunk of the song as it is, so that the next one follows it without a seam: neither matched nor faded."""
    peak = float(max(audio.max(initial=0.0), -audio.min(initial=0.0)))
    return Loop(audio, sample_rate_hz, 0.0, round(float(gain_to_db(peak)), 2), round(max(loudness_lufs, SILENCE_DB), 2))


def in_front(plan: Plan, piece: str) -> Plan:
    """Return the Plan with all drums but one lowered by DIM_DB, in the mix and in what the paths are sent, which is taken before the level."""
    mics = []
    for mic in plan.mics:
        if mic.piece == piece:
            mics.append(mic)
            continue
        sends = tuple(send.replace(level_db=max(send.level_db + DIM_DB, OFF_DB)) for send in mic.sends)
        mics.append(mic.replace(level_db=max(mic.level_db + DIM_DB, LOWEST_LEVEL_DB), sends=sends))
    others = tuple(f"mics.{mic.id}." for mic in plan.mics if mic.piece != piece)
    scenes = [scene.replace(held=tuple(_lowered(each, others) for each in scene.held)) for scene in plan.scenes]
    return plan.replace(mics=tuple(mics), scenes=tuple(scenes))


def _lowered(held: Held, others: tuple[str, ...]) -> Held:
    """Return what a scene holds, lowered where it is a level or a send of one of the others."""
    _, _, what = held.place.partition(".")[2].partition(".")
    if held.place.startswith(others) and (what == "level_db" or what.startswith("sends.")):
        return held.replace(value=max(held.value + DIM_DB, LOWEST_LEVEL_DB))
    return held
