"""The tempo map of a click track's own recording."""

import numpy as np

from arkund.core.dsp.envelope import frame_peaks
from arkund.core.errors import AudioError, SettingsError
from arkund.core.plan.plan import Tempo
from arkund.core.timing.bars import bpm_of
from arkund.core.timing.tempo import straightened
from arkund.core.units import gain_to_db

FRAME_S = 0.001
APART_S = 0.09
LOUD_SHARE = 0.25  # of the loudest click: what is softer is no click
FEWEST = 8
EVEN = 0.12  # of the local interval: how much neighbouring intervals may differ
MOST_ODD = 0.1  # share of intervals that may
ACCENT_DB = 1.5


def click_times(reader, sample_rate_hz: int) -> tuple[np.ndarray, np.ndarray]:
    """Return when the clicks begin, in seconds, and how loud each is, in dB [both shape=(clicks,)]."""
    rate, frame = sample_rate_hz, max(int(FRAME_S * sample_rate_hz), 1)
    level = frame_peaks(reader.read, reader.length, frame)
    if not level.size or level.max() <= 1e-4:
        return np.zeros(0), np.zeros(0)
    apart = int(APART_S / FRAME_S)
    loud = np.flatnonzero(level > LOUD_SHARE * level.max())
    begins = [int(at) for k, at in enumerate(loud) if k == 0 or at - loud[k - 1] > apart]
    times, levels = [], []
    for at in begins:
        top = float(level[at : at + apart // 2].max())
        span = np.abs(reader.read((at - 3) * frame, (at + apart // 2) * frame))
        first = int(np.argmax(span >= 0.1 * top))
        times.append(((at - 3) * frame + first) / rate)
        levels.append(float(gain_to_db(top)))
    return np.array(times), np.array(levels)


def click_tempo(reader, sample_rate_hz: int, beats_per_bar: int, beat_unit: int, name: str) -> Tempo:
    """Return the tempo map of a click, one click a beat; accents say where bars begin.

    Raises AudioError where the file is not a click: too few, or not even.
    """
    times, levels = click_times(reader, sample_rate_hz)
    if times.size < FEWEST:
        raise AudioError(f"{name}: is not a click track; {times.size} clicks were found, at least {FEWEST} are needed.")
    gaps = np.diff(times)
    local = np.array([np.median(gaps[max(k - 4, 0) : k + 5]) for k in range(gaps.size)])
    odd = float(np.mean(np.abs(gaps / local - 1.0) > EVEN))
    if odd > MOST_ODD:
        raise AudioError(f"{name}: is not a click track; {odd:.0%} of its intervals are uneven.")
    first = _first_accent(levels, beats_per_bar)
    lines = times[first::beats_per_bar]
    if lines.size < 2:
        raise AudioError(f"{name}: is shorter than two bars.")
    bpm = bpm_of(float(np.median(gaps)) * beats_per_bar, beats_per_bar, beat_unit)
    try:
        tempo = Tempo(bpm=round(bpm, 3), beats_per_bar=beats_per_bar, beat_unit=beat_unit)
    except SettingsError as error:
        raise AudioError(f"{name}: its clicks make no tempo ({error})") from error
    return straightened(lines, tempo, None)


def _first_accent(levels: np.ndarray, beats: int) -> int:
    """Return which click begins the first bar: the first of those that are regularly louder; the first of all where none are."""
    means = [float(np.mean(levels[k::beats])) for k in range(min(beats, levels.size))]
    best = int(np.argmax(means))
    others = [m for k, m in enumerate(means) if k != best]
    return best if others and means[best] - max(others) > ACCENT_DB else 0
