"""Strokes in a room, heard by mics: one take of the whole kit as audio, with its truth."""

import dataclasses
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from scipy import signal

from arkund.core.demo import _kernels
from arkund.core.demo.room import MicPlace, arrival_s, heard, usual_mics, usual_voices
from arkund.core.demo.score import GHOST_BELOW_DB, Stroke
from arkund.core.demo.strokes import LEVELS_DB, VARIANTS, Voice, noise, stroke
from arkund.core.units import db_to_gain

NOISE_DBFS = -78.0
ONSET_SHARE = 0.1  # a hit begins where its direct sound exceeds this share of its peak
REVERB_S = 0.55
DARK_HZ = 900.0
SYMPATHY_DB = -30.0  # tom heads ringing along with kick and snare, against a full tom stroke
BUZZ_DB = -36.0  # snare wires buzzing along with kick and toms, against a full snare stroke


@dataclass(frozen=True, slots=True, kw_only=True)
class Kit:
    """A kit, its mics and everything about the room and the recorder that may vary."""

    sample_rate_hz: int = 48_000
    seed: int = 1
    voices: dict[str, Voice] = field(default_factory=usual_voices)
    mics: tuple[MicPlace, ...] = field(default_factory=usual_mics)
    bleed_db: float = 0.0  # extra bleed into close mics
    sympathy_db: float = SYMPATHY_DB
    buzz_db: float = BUZZ_DB
    noise_dbfs: float = NOISE_DBFS
    hum_dbfs: float | None = None
    dc: float = 0.0
    room_db: float = 0.0


@dataclass(frozen=True, slots=True)
class TrueHit:
    """What really happened: the arrival of a stroke's direct sound in its own close mic."""

    time_s: float
    level_db: float
    ghost: bool
    articulation: str


def varied_kit(seed: int, **changes) -> Kit:
    """Return a kit with its own tuning, decays, placement and levels, drawn from a seed."""
    rng = np.random.default_rng(seed)
    voices = {}
    for name, voice in usual_voices().items():
        voices[name] = dataclasses.replace(
            voice,
            tune_hz=voice.tune_hz * rng.uniform(0.85, 1.18),
            decay_s=voice.decay_s * rng.uniform(0.7, 1.4),
            loudness_db=voice.loudness_db + rng.uniform(-2.5, 2.5),
        )
    mics = tuple(
        dataclasses.replace(
            mic,
            at_m=tuple(np.add(mic.at_m, rng.uniform(-0.02, 0.02, 3) if mic.aim else rng.uniform(-0.3, 0.3, 3))),
            peak_dbfs=mic.peak_dbfs + rng.uniform(-4, 2),
        )
        for mic in usual_mics()
    )
    return Kit(**{"seed": seed, "voices": voices, "mics": mics} | changes)


class Library:
    """Strokes of one kit, made once per level and variant and shared by all takes."""

    def __init__(self, kit: Kit) -> None:
        self.kit = kit
        self._made: dict[tuple, dict[str, np.ndarray]] = {}

    def get(self, piece: str, articulation: str, level_db: float, variant: int) -> tuple[dict[str, np.ndarray], float]:
        """Return the stems of the nearest made level and the factor that brings them to level_db."""
        index = int(np.argmin(np.abs(np.subtract(LEVELS_DB, level_db))))
        key = (piece, articulation, index, variant)
        if key not in self._made:
            seed = abs(hash((self.kit.seed, *map(ord, piece + articulation), index, variant))) % 2**32
            self._made[key] = stroke(
                self.kit.voices[piece], articulation, LEVELS_DB[index], seed, self.kit.sample_rate_hz
            )
        return self._made[key], float(db_to_gain(level_db))


def record(
    kit: Kit, strokes: list[Stroke], length_s: float, library: Library | None = None
) -> Iterator[tuple[MicPlace, np.ndarray]]:
    """Yield each mic with its raw audio, float32 (samples,), full scale 1 and not yet clipped."""
    library = library or Library(kit)
    n = int(length_s * kit.sample_rate_hz)
    tracks = _stem_tracks(kit, strokes, n, library)
    send = _room_send(kit, tracks)
    with ThreadPoolExecutor(2) as pool:
        darker = pool.map(lambda track: _dark(track, kit.sample_rate_hz), tracks.values())
        dark = dict(zip(tracks, darker, strict=True))
        sides = ("left", "right", "middle")
        room = dict(zip(sides, pool.map(lambda side: _reverb(send, side, kit), sides), strict=True))
        yield from pool.map(lambda mic: (mic, _hear(kit, mic, tracks, dark, room, n)), kit.mics)


def truth_of(kit: Kit, strokes: list[Stroke], library: Library | None = None) -> dict[str, list[TrueHit]]:
    """Return for each piece the arrival of every stroke in its own close mic, or in the first overhead."""
    library = library or Library(kit)
    out: dict[str, list[TrueHit]] = {}
    for number, s in enumerate(strokes):
        mic = close_mic(kit, s.piece)
        stems, _ = library.get(s.piece, _shape(s), s.level_db, number % VARIANTS)
        factors = dict(mic.stems) if mic.piece == s.piece else {}
        mixed = sum(factors.get(name, 1.0) * stem for name, stem in stems.items())
        size = np.abs(mixed)
        onset = int(np.argmax(size > ONSET_SHARE * size.max()))
        start = _position(s.time_s + arrival_s(mic, s.piece), kit.sample_rate_hz)[0]
        ghost = s.piece == "snare" and s.level_db < GHOST_BELOW_DB
        hit = TrueHit((start + onset) / kit.sample_rate_hz, s.level_db, ghost, s.articulation)
        out.setdefault(s.piece, []).append(hit)
    return {piece: sorted(hits, key=lambda hit: hit.time_s) for piece, hits in out.items()}


def close_mic(kit: Kit, piece: str) -> MicPlace:
    """Return the mic in which a piece's time is defined: its first own mic, else the first overhead."""
    own = [mic for mic in kit.mics if mic.piece == piece]
    return own[0] if own else next(mic for mic in kit.mics if mic.role in ("overhead", "room"))


def _shape(s: Stroke) -> str:
    return s.articulation or ("closed" if s.piece == "hihat" else "")


def _position(time_s: float, rate: int) -> tuple[int, float]:
    whole = int(np.floor(time_s * rate))
    return whole, time_s * rate - whole


def _stem_tracks(kit: Kit, strokes: list[Stroke], n: int, library: Library) -> dict[tuple[str, str], np.ndarray]:
    rate, tracks = kit.sample_rate_hz, {}
    hats = [s.time_s for s in strokes if s.piece == "hihat"]
    for number, s in enumerate(strokes):
        stems, gain = library.get(s.piece, _shape(s), s.level_db, number % VARIANTS)
        start = int(s.time_s * rate)
        for name, stem in stems.items():
            if (s.piece, name) not in tracks:
                tracks[s.piece, name] = np.zeros(n, np.float32)
            track = tracks[s.piece, name]
            part = stem
            if s.piece == "hihat":
                later = [t for t in hats if t > s.time_s + 0.001]
                part = _choke(stem, (min(later) - s.time_s) if later else np.inf, rate)
            stop = min(start + part.size, n)
            if stop > start:
                track[start:stop] += gain * part[: stop - start]
    for tom in (p for p in kit.voices if p.startswith("tom") or p == "floor"):
        _along(
            ("kick", "snare"),
            _ringing(kit, tom),
            strokes,
            tracks.setdefault((tom, "head"), np.zeros(n, np.float32)),
            kit,
        )
    wires = tracks.setdefault(("snare", "wires"), np.zeros(n, np.float32))
    _along(("kick", "tom1", "tom2", "floor"), _buzzing(kit), strokes, wires, kit)
    return tracks


def _choke(stem: np.ndarray, after_s: float, rate: int) -> np.ndarray:
    """Damp a hat when it is struck or closed again."""
    at, fade = int(min(after_s, 60.0) * rate), int(0.012 * rate)
    if at >= stem.size:
        return stem
    out = stem[: min(at + fade, stem.size)].copy()
    out[at:] *= np.linspace(1.0, 0.0, out.size - at, dtype=np.float32)
    return out


def _ringing(kit: Kit, tom: str) -> np.ndarray:
    """Return how a tom's head rings along with a full stroke of another drum."""
    voice, rate = kit.voices[tom], kit.sample_rate_hz
    t = np.arange(int(4 * voice.decay_s * rate)) / rate
    ring = np.sin(2 * np.pi * voice.tune_hz * t) * np.exp(-t / voice.decay_s) * (1 - np.exp(-t / 0.015))
    return (ring * db_to_gain(kit.sympathy_db)).astype(np.float32)


def _buzzing(kit: Kit) -> np.ndarray:
    """Return how the snare's wires buzz along with a full stroke of another drum: later than their own stroke, and for longer."""
    rate, rng = kit.sample_rate_hz, np.random.default_rng([kit.seed, 13])
    buzz = noise(
        np.arange(int(0.5 * rate)) / rate, 1800, 9000, rng.uniform(0.002, 0.008), rng.uniform(0.05, 0.12), rng, rate
    )
    return (buzz / np.abs(buzz).max() * db_to_gain(kit.buzz_db)).astype(np.float32)


def _along(pieces: tuple[str, ...], sound: np.ndarray, strokes: list[Stroke], track: np.ndarray, kit: Kit) -> None:
    """Add to a track what sounds along with every stroke of some pieces."""
    for s in strokes:
        if s.piece in pieces:
            start = int(s.time_s * kit.sample_rate_hz)
            stop = min(start + sound.size, track.size)
            if stop > start:
                track[start:stop] += db_to_gain(s.level_db) * sound[: stop - start]


def _dark(track: np.ndarray, rate: int) -> np.ndarray:
    b, a = signal.butter(1, DARK_HZ, fs=rate)
    out = signal.lfilter(b.astype(np.float32), a.astype(np.float32), track).astype(np.float32)
    out[np.abs(out) < 1e-9] = 0.0  # denormal tails would make everything after this many times slower
    return out


def _room_send(kit: Kit, tracks) -> np.ndarray:
    return sum(db_to_gain(kit.voices[piece].loudness_db) * track for (piece, _), track in tracks.items())


def _hear(kit: Kit, mic: MicPlace, tracks, dark, room: dict[str, np.ndarray], n: int) -> np.ndarray:
    rate = kit.sample_rate_hz
    rng = np.random.default_rng([kit.seed, *map(ord, mic.name)])
    out = np.zeros(n, np.float32)
    factors = dict(mic.stems)
    close = mic.piece != "kit"
    for (piece, stem), track in tracks.items():
        level, darkness = heard(mic, piece, kit.voices[piece])
        if piece == mic.piece:
            level *= factors.get(stem, 1.0)
        elif close:
            level *= db_to_gain(kit.bleed_db)
        whole, part = _position(arrival_s(mic, piece), rate)
        _add_delayed(out, track, whole, part, level * (1.0 - darkness))
        if darkness > 0.01:
            _add_delayed(out, dark[piece, stem], whole, part, level * darkness)
    own_level = heard(mic, mic.piece, kit.voices[mic.piece])[0] if close else 1.0
    late, part = _position(0.006 + 0.004 * float(np.linalg.norm(mic.at_m)), rate)
    _add_delayed(out, room[_side(mic)], late, part, db_to_gain(mic.room_db + kit.room_db) * own_level)
    reference = own_level * _own_peak(mic) if close else float(np.quantile(np.abs(out[::7]), 0.9999)) + 1e-9
    out *= db_to_gain(mic.peak_dbfs) / reference * mic.polarity
    noise = rng.standard_normal(min(n, 10 * rate), np.float32) * np.float32(db_to_gain(kit.noise_dbfs))
    for start in range(0, n, noise.size):
        out[start : start + noise.size] += noise[: n - start]
    if kit.hum_dbfs is not None:
        t = np.arange(n) / rate
        out += sum(db_to_gain(kit.hum_dbfs - 8 * k) * np.sin(2 * np.pi * 50 * (k + 1) * t) for k in range(3)).astype(
            np.float32
        )
    return out + np.float32(kit.dc)


def _own_peak(mic: MicPlace) -> float:
    return max([abs(factor) for _, factor in mic.stems] or [1.0])


def _add_delayed(out: np.ndarray, track: np.ndarray, whole: int, part: float, gain: float) -> None:
    """Add a track later by whole + part samples; the part by linear interpolation, as air smooths anyway."""
    _kernels.add_delayed(out, track, whole, np.float32(gain * (1.0 - part)), np.float32(gain * part))


def _side(mic: MicPlace) -> str:
    """Return which of the room's decorrelated tails a mic hears."""
    if mic.piece != "kit" or abs(mic.at_m[0]) < 0.3:
        return "middle"
    return "left" if mic.at_m[0] < 0 else "right"


def _reverb(room: np.ndarray, side: str, kit: Kit) -> np.ndarray:
    """Return the room's tail: noise that falls by 60 dB in REVERB_S, softer above 4.5 kHz."""
    rate = kit.sample_rate_hz
    rng = np.random.default_rng([kit.seed, *map(ord, side)])
    t = np.arange(int(REVERB_S * 1.2 * rate)) / rate
    tail = rng.standard_normal(t.size) * np.exp(-t * 6.9 / REVERB_S)
    b, a = signal.butter(1, 4500, fs=rate)
    tail = signal.lfilter(b, a, tail)
    tail /= np.sqrt(np.sum(tail**2))
    return signal.oaconvolve(room.astype(np.float32), tail.astype(np.float32))[: room.size]
