"""How loud each mic is at its own hits, and where it clips."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Self

import numpy as np

from arkund.core.files.audio import CLIP_LEVEL
from arkund.core.level.process import LONGEST_MS, runs
from arkund.core.timing.bars import Bars
from arkund.core.units import SILENCE_DB, gain_to_db, ms_to_samples, power_to_db

BEFORE_S, AFTER_S = 0.002, 0.03
KIT_AFTER_S = 0.06  # sound reaches the far mics later
MOST_PLACES = 5000  # kept of the clipped places of a mic
BLOCK_S = 10.0
NOISE_BLOCK_S = 0.05
FEWEST_HITS = 8  # of a piece in a section, for its level to tell
STICKS_OUT_DB = 6.0


@dataclass(frozen=True, slots=True)
class MicLevel:
    """Peaks of one mic, dBFS of the recording before any trim."""

    mic: str
    hit_peaks_db: tuple[float, ...]
    hit_times_s: tuple[float, ...]
    typical_db: float  # 90 % of its own hits stay below
    peak_db: float
    noise_db: float
    clipped_at_s: tuple[float, ...]
    clipped_short: int = 0  # of these, flat tops short enough to be drawn anew

    @property
    def headroom_db(self) -> float:
        """Return how far the loudest sample lies below full scale."""
        return -self.peak_db

    def trimmed(self, trim_db: float) -> Self:
        """Return the same levels after a trim."""
        shift = {name: getattr(self, name) + trim_db for name in ("typical_db", "peak_db", "noise_db")}
        return replace(self, **shift)

    @property
    def clipped_places(self) -> str:
        """Return how often it clips, in words."""
        count = len(self.clipped_at_s)
        return f"{count} or more" if count >= MOST_PLACES else f"{count}"


def mic_level(reader, mic_id: str, times_s: list[float], close: bool, sample_rate_hz: int) -> MicLevel:
    """Measure one mic at the given hits (its own piece's, or the whole kit's for a mic of the kit)."""
    rate = sample_rate_hz
    after = AFTER_S if close else KIT_AFTER_S
    peaks = [
        float(gain_to_db(np.abs(reader.read(int((t - BEFORE_S) * rate), int((t + after) * rate))).max(initial=0.0)))
        for t in times_s
    ]
    peak, clipped, drawable, noise = 0.0, [], 0, []
    step = int(BLOCK_S * rate)
    for start in range(0, reader.length, step):
        part = np.abs(reader.read(start, min(start + step, reader.length)))
        peak = max(peak, float(part.max(initial=0.0)))
        if peak >= CLIP_LEVEL and len(clipped) < MOST_PLACES:
            places, few = _clipped_places(part, start, rate)
            clipped, drawable = clipped + places, drawable + few
        short = int(NOISE_BLOCK_S * rate)
        whole = part.size // short * short
        noise += np.mean(part[:whole].reshape(-1, short) ** 2, axis=1).tolist()
    quiet = [power for power in noise if power > 0]
    typical = float(np.quantile(peaks, 0.9)) if peaks else float(gain_to_db(peak))
    return MicLevel(
        mic_id,
        tuple(round(p, 2) for p in peaks),
        tuple(times_s),
        typical,
        float(gain_to_db(peak)),
        float(power_to_db(np.quantile(quiet, 0.05))) if quiet else SILENCE_DB,
        tuple(clipped[:MOST_PLACES]),
        drawable,
    )


def _clipped_places(size: np.ndarray, start: int, rate: int) -> tuple[list[float], int]:
    """Return where flat tops begin, one each 20 ms, and how many of them are short enough to be drawn anew."""
    places, short = [], 0
    for first, end in runs(size):
        if not places or start + first - round(places[-1] * rate) > 0.02 * rate:
            places.append((start + first) / rate)
            short += end - first <= ms_to_samples(LONGEST_MS, rate)
    return places, short


@dataclass(frozen=True, slots=True)
class SectionLevel:
    """How loud a piece is played in a section against the whole song: medians of its hits, dB."""

    section: str
    bar: int
    hits: int
    against_song_db: float


def section_levels(hits: Sequence, sections: Sequence, bars: Bars) -> list[SectionLevel]:
    """Return how loud a piece is in each section that holds at least FEWEST_HITS of its hits."""
    strong = [h for h in hits if not h.ghost]
    if not strong or not sections:
        return []
    number = bars.bar_of(np.array([h.time_s for h in strong]))
    level = np.array([h.level_db for h in strong])
    mine = np.searchsorted([s.bar for s in sections], number, side="right") - 1
    whole, out = float(np.median(level)), []
    for k, section in enumerate(sections):
        inside = level[mine == k]
        if inside.size >= FEWEST_HITS:
            out.append(SectionLevel(section.name, section.bar, inside.size, round(float(np.median(inside)) - whole, 2)))
    return out


def sticking_out(hits: Sequence) -> list[tuple[float, float]]:
    """Return (time_s, dB above the piece's usual hit) of the hits that stick out of a piece's track."""
    strong = [h for h in hits if not h.ghost]
    if len(strong) < 4:
        return []
    usual = float(np.median([h.level_db for h in strong]))
    return [(h.time_s, round(h.level_db - usual, 1)) for h in strong if h.level_db - usual >= STICKS_OUT_DB]
