"""What detectors listen to that is not their own strip: sources of mics and drums, and strikes."""

import functools
from collections.abc import Sequence

import numpy as np

from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.source import Recordings, Sources, edits_key, source_settings
from arkund.core.timing.process import moved_sample, recorded_sample
from arkund.core.tools.tool import Key, Tool, module_of
from arkund.core.units import db_to_gain, ms_to_samples

# A strike is another's where that one is struck no later, or so little earlier, than it.
NEAR_AFTER_MS, NEAR_BEFORE_MS = 40.0, 60.0


class Keys:
    """The keys of a Plan that do not come from a group."""

    def __init__(self, plan: Plan, sources: Sources, sample_rate_hz: int) -> None:
        self._plan, self._sources, self._rate = plan, sources, sample_rate_hz
        self._struck: dict[str, tuple[np.ndarray, np.ndarray]] = {}
        # Thousands of them are not hashed anew for each span.
        self._places: dict[tuple[str, int], tuple[tuple, np.ndarray]] = {}

    def read(self, key: Key, start: int, stop: int) -> np.ndarray:
        """Return a span of a key, float32 [shape=(samples,)]: a source after line up and before tools, or strikes as pulses of their levels."""
        kind, _, name = key.of.partition(":")
        if kind == "hits":
            return self._pulses(key, name, start, stop)
        mics = mics_of(self._plan, key.of)
        return np.sum([self._sources.read(mic, start, stop) for mic in mics], axis=0, dtype=np.float32)

    def _pulses(self, key: Key, piece: str, start: int, stop: int) -> np.ndarray:
        if piece not in self._struck:
            self._struck[piece] = _alone(self._plan, piece, self._rate)
        at, gains = self._struck[piece]
        early, length = (round(ms_to_samples(ms, self._rate)) for ms in (key.early_ms, key.length_ms))
        out = np.zeros(stop - start, np.float32)
        begins = at - early - start
        for begin, gain in zip(begins.tolist(), gains.tolist(), strict=True):
            if -length < begin < out.size:
                part = out[max(begin, 0) : begin + length]
                np.maximum(part, np.float32(gain), out=part)
        return out

    def drawn(self, mic: MicPlan, tool: Tool, start: int, stop: int) -> np.ndarray:
        """Return a span of what is drawn over the song for a mic's tool, float32 [shape=(samples,)]."""
        alone = _alone_cuts(self._plan, mic)
        later = round(ms_to_samples(mic.line_up.delay_ms, self._rate))

        def moved(places: tuple[tuple[int, ...], ...]) -> np.ndarray:
            key = (mic.id, id(places))
            if key not in self._places:
                found = _in_song(places, 1.0 + mic.clock_ppm * 1e-6, alone, self._plan.cuts, later)
                self._places[key] = places, found  # kept with it, so that its id stays its own
            return self._places[key][1]

        return module_of(tool.kind).gains(tool, moved, start, stop, self._rate)


def in_song(plan: Plan, mic: MicPlan, places: Sequence[Sequence[int]], sample_rate_hz: int) -> np.ndarray:
    """Return where places of a mic's recording are in the song, int64 [shape=(rows, per row)], its own delay included."""
    later = round(ms_to_samples(mic.line_up.delay_ms, sample_rate_hz))
    return _in_song(tuple(map(tuple, places)), 1.0 + mic.clock_ppm * 1e-6, _alone_cuts(plan, mic), plan.cuts, later)


def in_recording(plan: Plan, mic: MicPlan, at: int, sample_rate_hz: int) -> int:
    """Return which sample of a mic's recording is heard at a sample of the song: the way back of :func:`in_song`."""
    at -= round(ms_to_samples(mic.line_up.delay_ms, sample_rate_hz))
    found = recorded_sample(_alone_cuts(plan, mic), recorded_sample(plan.cuts, at))
    return max(round(found * (1.0 + mic.clock_ppm * 1e-6)), 0)


def _alone_cuts(plan: Plan, mic: MicPlan) -> tuple:
    """Return the cuts that move a mic with its piece alone."""
    return tuple(cut for cut in plan.lone_cuts if cut.piece == mic.piece and mic.moves_with_piece)


@functools.lru_cache(maxsize=64)
def _in_song(
    places: tuple[tuple[int, ...], ...], speed: float, alone: Sequence, cuts: Sequence, later: int
) -> np.ndarray:
    """Return where places of a mic's recording are in the song, int64 [rows as they are given]: as its sound is moved."""
    at = np.round(np.array(places, float) / speed).astype(np.int64)
    for some in (alone, cuts):
        if some:
            begins, shifts = (np.array([getattr(cut, name) for cut in some], np.int64) for name in ("at", "shift"))
            number = np.searchsorted(begins, at, side="right")
            at = at + np.concatenate([[0], shifts])[number]
    return at + later


def mics_of(plan: Plan, of: str) -> list[MicPlan]:
    """Return the mics whose sources a key is made of; of a drum those that stand at it."""
    kind, _, name = of.partition(":")
    if kind == "mic":
        return [plan.mic(name)]
    return [mic for mic in plan.mics if kind == "drum" and mic.piece == name and is_close(mic.role)]


def _alone(plan: Plan, name: str, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Return where strikes sound, and their levels as factors; of PIECE-OTHER those that no strike of the other is near."""
    piece, _, other = name.partition("-")
    at, gains = _sounding(plan, piece, rate)
    if other and at.size:
        theirs = np.sort(_sounding(plan, other, rate)[0])
        after, before = (round(ms_to_samples(ms, rate)) for ms in (NEAR_AFTER_MS, NEAR_BEFORE_MS))
        near = np.searchsorted(theirs, at + after) > np.searchsorted(theirs, at - before)
        at, gains = at[~near], gains[~near]
    return at, gains


def _sounding(plan: Plan, piece: str, rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Return where a piece's strikes sound, in samples of the song, and their levels as factors: as its own mic has them, lined up and trimmed."""
    rows = next(each.strikes for each in plan.struck if each.piece == piece)
    mic = timing_mic(plan.mics, piece)
    later, trim_db = (ms_to_samples(mic.line_up.delay_ms, rate), mic.trim_db) if mic else (0.0, 0.0)
    alone = tuple(cut for cut in plan.lone_cuts if cut.piece == piece)
    at = np.array(_moved(rows, alone, plan.cuts), np.int64) + round(later)
    return at, np.array([db_to_gain(level_db + trim_db) for _, level_db in rows])


@functools.lru_cache(maxsize=16)
def _moved(rows: Sequence[tuple[int, float]], alone: Sequence, cuts: Sequence) -> list[int]:
    return [moved_sample(cuts, moved_sample(alone, at)) for at, _ in rows]


def content(plan: Plan, recordings: Recordings, of: str) -> object:
    """Return what a key depends on that does not come from a group, as plain data for a content hash."""
    kind, _, name = of.partition(":")
    edits = edits_key(plan)
    if kind == "hits":
        return [_struck_content(plan, piece, edits) for piece in name.split("-")]
    return [source_settings(plan, recordings, mic, edits) for mic in mics_of(plan, of)]


def _struck_content(plan: Plan, piece: str, edits: str) -> list:
    mic = timing_mic(plan.mics, piece)
    place = [mic.line_up.to_json(), mic.trim_db] if mic else None
    rows = next(each.strikes for each in plan.struck if each.piece == piece)
    return [rows, place, [cut.to_json() for cut in plan.lone_cuts if cut.piece == piece], edits]
