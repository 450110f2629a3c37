"""A mic's recording as the Plan wants it before any processing: edited in time, replaced, layered, trimmed, lined up."""

import functools
import hashlib
import json
from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from arkund.core.dsp.bank import bank_of
from arkund.core.dsp.delay import read_at_speed, read_delayed
from arkund.core.hits.bands import Reader
from arkund.core.kit.pieces import is_close
from arkund.core.level.process import repaired, stepped
from arkund.core.plan.plan import SHELF, Capture, Cut, MicPlan, Placement, Plan
from arkund.core.plan.scenes import Steps, laid, trims
from arkund.core.replace import made, shots
from arkund.core.replace.process import captured, with_added, with_placements
from arkund.core.replace.sampled import Sampled
from arkund.core.replace.shots import Sound
from arkund.core.timing.process import Edited
from arkund.core.units import db_to_gain, ms_to_samples

BACKING, BACKING_SIDES = (
    "backing",
    ("left", "right"),
)  # the take under which the backing track is kept, and its two channels

Read = Callable[[int, int], np.ndarray]


class Recordings(Protocol):
    """The takes of a session: immutable audio by take and mic."""

    @property
    def sample_rate_hz(self) -> int: ...

    def mic(self, take: str, mic_id: str) -> Reader | None: ...

    def length(self, take: str) -> int: ...

    def content(self, take: str, mic_id: str) -> str: ...  # a hash of the samples, '' where the take lacks the mic


def silence(start: int, stop: int) -> np.ndarray:
    """Read a mic that this take does not have."""
    return np.zeros(max(stop - start, 0), np.float32)


def raw(plan: Plan, recordings: Recordings, mic_id: str, take: str | None = None) -> Read:
    """Return the reader of a mic's untouched recording."""
    found = recordings.mic(take or plan.take, mic_id)
    return found.read if found is not None else silence


class Sources:
    """The mics of a Plan edited, trimmed and lined up; what all mics or all spans share is worked out once."""

    def __init__(self, plan: Plan, recordings: Recordings) -> None:
        self._plan, self._recordings, self._rate = plan, recordings, recordings.sample_rate_hz
        self._edited = Edited(plan.cuts, plan.crossfade_ms, self._rate) if plan.cuts else None
        self._alone = {
            piece: Edited([c for c in plan.lone_cuts if c.piece == piece], plan.crossfade_ms, self._rate)
            for piece in {cut.piece for cut in plan.lone_cuts}
        }
        self._trims = trims(plan, self._rate) if plan.scenes else {}
        self._laid = laid(plan, self._rate) if plan.scenes else {}
        self._readers: dict[str, Read] = {}

    def read(self, mic: MicPlan, start: int, stop: int) -> np.ndarray:
        """Return a span of a mic, float32 [shape=(samples,)].

        Order: replaced hits and layers that go through this mic (in the time of the recording), cuts of this piece's mics alone, cuts of all
        mics, then trim, polarity and delay of this mic.
        """
        if mic.id not in self._readers:
            self._readers[mic.id] = self._reader(mic)
        delay = ms_to_samples(mic.line_up.delay_ms, self._rate)
        trim_db = 0.0 if mic.id in self._trims else mic.trim_db
        gain = np.float32(db_to_gain(trim_db) * mic.line_up.sign)
        out = read_delayed(self._readers[mic.id], start, stop, delay)
        for layer in (each for each in self._plan.mics if each.into == mic.id and each.id in self._laid):
            if layer.id not in self._readers:
                self._readers[layer.id] = self._in_song(self._layer(layer), mic)
            sound = read_delayed(self._readers[layer.id], start, stop, delay)
            out = out + stepped(sound, *self._laid[layer.id], start) * np.float32(layer.line_up.sign)
        if mic.id in self._trims:
            out = stepped(out, *self._trims[mic.id], start)
        if gain != 1.0:
            out *= gain
        return out

    def bank(self, mics: Sequence[MicPlan], start: int, stop: int) -> np.ndarray:
        """Return a span of several mics side by side, float32 [shape=(samples, width)]."""
        return bank_of([self.read(mic, start, stop) for mic in mics])

    def _reader(self, mic: MicPlan) -> Read:
        plan, rate = self._plan, self._rate
        if mic.is_layer:
            return self._in_song(self._layer(mic), mic)
        read = raw(plan, self._recordings, mic.id)
        if mic.repair:
            read = repaired(read, rate)
        if mic.clock_ppm:
            read = functools.partial(read_at_speed, read, 1.0 + mic.clock_ppm * 1e-6)
        captures, placements, layers = _put_into(plan, mic)
        layers = [each for each in layers if each.id not in self._laid]
        if placements:
            takes = {c.id: raw(plan, self._recordings, *_heard_in(c, mic)) for c in captures.values()}
            read = with_placements(read, placements, captures, takes, rate)
        read = with_added(read, [(self._layer(each), _level_into(each)) for each in layers])
        return self._in_song(read, mic)

    def _layer(self, mic: MicPlan) -> Read:
        """Return a layer's reader in the time of the recording, at full level."""
        if mic.made:
            return functools.partial(_made, mic.made, self._rate)
        return functools.partial(shots.read, mic.sampled, self._sounds(mic.sampled))

    def _sounds(self, mine: Sampled) -> dict[str, Sound]:
        """Return the hits that a layer opens, prepared, by capture."""
        used, of = {shot.capture for shot in mine.shots}, self._plan.mic(mine.of)
        captures = [each for each in self._plan.captures if each.id in used]
        found = shelf_sounds(self._plan, self._recordings, of, captures)
        return {key: shots.prepared(sound, mine.sounding(), self._rate) for key, sound in found.items()}

    def _in_song(self, read: Read, mic: MicPlan) -> Read:
        """Return a reader of what is heard after the edits in time."""
        if mic.moves_with_piece and mic.piece in self._alone:
            read = functools.partial(self._alone[mic.piece].read, read)
        return functools.partial(self._edited.read, read) if self._edited else read


def shelf_sounds(plan: Plan, recordings: Recordings, mic: MicPlan, captures: Sequence[Capture]) -> dict[str, Sound]:
    """Return a mic's part of hits of the shelf as they are kept, by id; none of those that it has no part in."""
    heard = {each.id: (each, _heard_in(each, mic)) for each in captures}
    return {
        key: Sound(captured(raw(plan, recordings, *place), capture, recordings.sample_rate_hz), capture.before)
        for key, (capture, place) in heard.items()
        if place
    }


def _put_into(plan: Plan, mic: MicPlan) -> tuple[dict[str, Capture], list[Placement], list[MicPlan]]:
    """Return what is put into a mic: hits of the shelf, by their ids, where they stand instead of others, and the layers that go through it."""
    captures = {c.id: c for c in plan.captures if _heard_in(c, mic)}
    own = {key for key, c in captures.items() if c.piece == mic.piece and is_close(mic.role)}
    placements = [p for p in plan.placements if p.capture in own or (p.everywhere and p.capture in captures)]
    used = {p.capture for p in placements}
    layers = [each for each in plan.mics if each.into == mic.id and not each.mute]
    return {key: c for key, c in captures.items() if key in used}, placements, layers


def _heard_in(capture: Capture, mic: MicPlan) -> tuple[str, str] | None:
    """Return the recording and the take in which a mic has a hit of the shelf, None where it has none.

    Of a hit from files that is the part of the mic's role, or its only one where the mic stands at the drum.
    """
    if not capture.parts:
        return mic.id, capture.take
    if capture.piece == mic.piece and len(capture.parts) == 1 and is_close(mic.role):
        return capture.parts[0].key, SHELF
    mine = [part.key for part in capture.parts if part.role == mic.role]
    at_drum = capture.piece == mic.piece or not is_close(mic.role)
    return (mine[0], SHELF) if mine and at_drum else None


def _level_into(layer: MicPlan) -> float:
    """Return the factor by which a layer is added to the mic that it goes through."""
    return float(db_to_gain(layer.level_db + layer.trim_db)) * layer.line_up.sign


def _made(sound: made.Made, rate: int, start: int, stop: int) -> np.ndarray:
    return made.read(sound, start, stop, rate)


def source(plan: Plan, recordings: Recordings, mic: MicPlan, start: int, stop: int) -> np.ndarray:
    """Return a span of a mic's edited, trimmed and lined-up recording, float32 [shape=(samples,)]: see :class:`Sources`."""
    return Sources(plan, recordings).read(mic, start, stop)


def backing_span(plan: Plan, recordings: Recordings, start: int, stop: int) -> np.ndarray:
    """Return a span of the backing track where it is heard in the song, float32 [shape=(samples, 2)]; silence where there is none."""
    later = round(ms_to_samples(plan.backing.offset_ms + plan.backing.behind_ms, recordings.sample_rate_hz))
    sides = [raw(plan, recordings, side, BACKING)(start - later, stop - later) for side in BACKING_SIDES]
    return np.stack(sides, axis=1)


def edits_key(plan: Plan) -> str:
    """Return a hash of the edits in time that all mics share."""
    return _cuts_key(plan.crossfade_ms, plan.cuts)


@functools.lru_cache(maxsize=16)
def _cuts_key(crossfade_ms: float, cuts: Sequence[Cut]) -> str:
    content = [crossfade_ms, *([c.at, c.shift, c.fade_ms, c.alike] for c in cuts)]
    return hashlib.sha256(json.dumps(content).encode()).hexdigest()


def source_settings(plan: Plan, recordings: Recordings, mic: MicPlan, edits: str) -> dict:
    """Return what the source of a mic depends on, as plain data for its content hash; ``edits`` is the Plan's :func:`edits_key`."""
    captures, placements, layers = _put_into(plan, mic)
    by_scene = laid(plan, recordings.sample_rate_hz) if plan.scenes else {}
    layers = [each for each in plan.mics if each in layers or (each.into == mic.id and each.id in by_scene)]
    out = {"made": mic.made.to_json()} if mic.made else {}
    if mic.sampled:
        out = {"sampled": _sampled_settings(plan, recordings, mic.sampled)}
    takes = {plan.take, *(c.take for c in captures.values())} - {SHELF}
    return out | {
        "take": plan.take,
        "recordings": {take: recordings.content(take, mic.id) for take in sorted(takes)},
        "repair": mic.repair,
        "clock_ppm": mic.clock_ppm,
        "trim_db": trims(plan, recordings.sample_rate_hz).get(mic.id, mic.trim_db) if plan.scenes else mic.trim_db,
        "line_up": mic.line_up.to_json(),
        "edits": edits,
        "lone_cuts": [c.to_json() for c in plan.lone_cuts if c.piece == mic.piece] if mic.moves_with_piece else [],
        "captures": [_capture_settings(recordings, c) for c in captures.values()],
        "placements": [p.to_json() for p in placements],
        "layers": [_layer_settings(plan, recordings, each, by_scene.get(each.id)) for each in layers],
    }


def _capture_settings(recordings: Recordings, capture: Capture) -> list:
    files = [recordings.content(SHELF, part.key) for part in capture.parts]
    return [capture.replace(name="", origin="").to_json(), files]


def _sampled_settings(plan: Plan, recordings: Recordings, mine: Sampled) -> list:
    """Return what a layer of hits depends on: its settings, the hits, and the recordings that they are in."""
    used = {shot.capture for shot in mine.shots}
    captures = [c for c in plan.captures if c.id in used]
    of = [recordings.content(c.take, mine.of) for c in captures if not c.parts]
    return [mine.to_json(), [_capture_settings(recordings, c) for c in captures], of]


def _layer_settings(plan: Plan, recordings: Recordings, layer: MicPlan, steps: Steps | None) -> list:
    """Return what a layer that goes through a mic is there; steps : its levels where they change over the song."""
    sound = layer.made.to_json() if layer.made else _sampled_settings(plan, recordings, layer.sampled)
    return [sound, [steps, layer.line_up.sign] if steps else _level_into(layer)]
