"""Strokes of many makings to teach the hit judge on, so that it learns acoustics and not one generator's timbres.

Each making is a kit's strokes library: what a piece keeps from stroke to stroke (tuning, times, colour) is drawn once per kit, the rest for each stroke.
"""

from abc import abstractmethod
from dataclasses import dataclass

import numpy as np
from scipy import signal

from arkund.core.demo.recording import Library
from arkund.core.demo.strokes import LEVELS_DB
from arkund.core.hits.evidence import family
from tools import recorded

# Lowest and highest centre of a sound's parts in Hz, and the longest decay in seconds
RANGES = {"kick": (40, 6000, 0.15), "snare": (120, 10_000, 0.3), "tom": (60, 4000, 0.3), "cymbal": (900, 14_000, 0.09)}
OPEN, FOOT = (3.0, 8.0), (0.4, 0.9)  # an open and a foot-closed hat's decay against a closed one's
WASHES = ("ride", "crash")


@dataclass(frozen=True, slots=True)
class Struck:
    """One stroke to be made: what is struck, how, and the chances that are the kit's and the stroke's own."""

    piece: str
    articulation: str
    hardness: float  # 0.2 soft .. 1 hard
    rate: int
    always: np.random.Generator
    now: np.random.Generator

    @property
    def times_s(self) -> np.ndarray:
        return np.arange(int((2.0 if self.washes else 0.9) * self.rate)) / self.rate

    @property
    def washes(self) -> bool:
        return self.piece in WASHES or self.articulation == "open"

    @property
    def lasts(self) -> float:
        """How many times longer than a plain stroke it decays."""
        factor = {"open": self.always.uniform(*OPEN), "foot": self.always.uniform(*FOOT)}
        return factor.get(self.articulation, 1.0)


class Making(Library):
    """A library whose strokes are all made by ``_stroke``."""

    def get(self, piece: str, articulation: str, level_db: float, variant: int):
        index = int(np.argmin(np.abs(np.subtract(LEVELS_DB, level_db))))
        key = (piece, articulation, index, variant)
        if key not in self._made:
            seed, made = self.kit.seed, super().get(piece, articulation, level_db, variant)[0]
            new = {}
            for name, plain in made.items():
                always = np.random.default_rng([seed, 5, *map(ord, piece + name)])
                now = np.random.default_rng([seed, 6, index + 99, variant, *map(ord, piece + name + articulation)])
                hardness = 10 ** (LEVELS_DB[index] / 40)
                x = self._stroke(Struck(piece, articulation, hardness, self.kit.sample_rate_hz, always, now), plain)
                new[name] = (x / np.max(np.abs(x))).astype(np.float32)
            longest = max(x.size for x in new.values())
            self._made[key] = {name: np.pad(x, (0, longest - x.size)) for name, x in new.items()}
        return self._made[key], float(10 ** (level_db / 20))

    @abstractmethod
    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        """Return the stroke; plain is the generator's."""


class Coloured(Making):
    """The generator's strokes with an equaliser, attack, tail and reflections of their own."""

    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        x, always, rate = plain, struck.always, struck.rate
        for _ in range(4):
            centre = np.exp(always.uniform(np.log(80), np.log(12_000))) * np.exp(struck.now.normal(0, 0.05))
            gain_db, q = always.normal(0, 5) + struck.now.normal(0, 1), always.uniform(0.4, 2)
            x = _bell(x, min(centre, 0.45 * rate), gain_db, q, rate)
        t = np.arange(x.size) / rate
        if always.random() < 0.5:
            x = x * np.exp(-t / always.uniform(0.1, 2))
        if always.random() < 0.3:
            x = x * (1 - 0.9 * np.exp(-t / always.uniform(0.0003, 0.0025)))
        return _reflected(x, always, rate) if always.random() < 0.5 else x


class Noises(Making):
    """Bands of noise that rise and fall each in its own time, and a falling sine under most drums."""

    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        low_hz, high_hz, longest_s = RANGES[family(struck.piece)]
        always, rate, t = struck.always, struck.rate, struck.times_s
        out, lasts = np.zeros(t.size), struck.lasts
        parts = int(always.integers(2, 6))
        edges = np.exp(np.linspace(np.log(low_hz), np.log(high_hz), parts + 1))
        for part in range(parts):
            # the parts share the range, or lie anywhere in it
            spread = (edges[part], edges[part + 1]) if parts % 2 else (low_hz, high_hz)
            centre = np.exp(always.uniform(*np.log(spread)))
            decay_s = np.exp(always.uniform(np.log(0.004), np.log(longest_s))) * lasts
            attack_s = np.exp(always.uniform(np.log(0.0001), np.log(0.004)))
            shape = np.exp(-t / decay_s) * (1.0 - np.exp(-t / attack_s))
            level = always.uniform(0.2, 1.5) * struck.hardness ** (always.uniform(0.0, 1.3) if part else 0.0)
            out += level * _band(struck, centre, always.uniform(1.2, 3.5)) * shape
        if struck.washes:
            wash = _band(struck, 3000.0, 4.0) * np.exp(-t / always.uniform(0.3, 1.5)) * (1 - np.exp(-t / 0.01))
            out += always.uniform(0.05, 0.3) * wash
        if family(struck.piece) != "cymbal" and always.random() < 0.75:
            tune = low_hz * always.uniform(1.0, 2.0)
            turn = 2 * np.pi * tune * (t + always.uniform(0, 0.03) * (1 - np.exp(-t / 0.02)))
            sine = np.sin(turn) * np.exp(-t / always.uniform(0.05, 0.4)) * (1 - np.exp(-t / 0.001))
            out += always.uniform(0.3, 3.0) * sine
        return _reflected(out, always, rate)


class Modes(Making):
    """Sums of decaying modes, denser and longer for metal, with a burst of noise from the stick and, on snares, rattling wires."""

    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        low_hz, high_hz, longest_s = RANGES[family(struck.piece)]
        metal, always, now, rate, t = (
            family(struck.piece) == "cymbal",
            struck.always,
            struck.now,
            struck.rate,
            struck.times_s,
        )
        count = int(always.integers(60, 160) if metal else always.integers(5, 24))
        lowest = low_hz * always.uniform(1.0, 2.2)
        over = always.uniform(0, 1, count) ** always.uniform(0.7, 2.0)
        hz = np.minimum(lowest * np.exp(over * np.log(high_hz / lowest) * (1.0 if metal else 0.7)), 0.45 * rate)
        steep, long_s = always.uniform(0.2, 1.0), always.uniform(0.3, 1.2) * longest_s * (2.0 if struck.washes else 1.0)
        decays = long_s * (hz / lowest) ** -steep * struck.lasts * always.uniform(0.5, 1.5, count)
        tilt = always.uniform(0.0, 1.0) + (1.0 - struck.hardness) * always.uniform(0.0, 1.2)
        gains = (hz / lowest) ** -tilt * always.uniform(0.1, 1.0, count) * now.uniform(0.6, 1.4, count)
        out, phases = np.zeros(t.size), now.uniform(0, 2 * np.pi, count) if metal else np.zeros(count)
        for f, decay_s, gain, phase in zip(hz, decays, gains, phases, strict=True):
            bend = always.uniform(0, 0.02) * struck.hardness * (1 - np.exp(-t / 0.03))
            out += gain * np.sin(2 * np.pi * f * (t + bend) + phase) * np.exp(-t / decay_s)
        attack_s = np.exp(always.uniform(np.log(0.0002), np.log(0.003)))
        out *= (1 - np.exp(-t / attack_s)) / (np.abs(out).max() + 1e-9)
        stick_hz, stick_s = np.exp(always.uniform(np.log(800), np.log(8000))), always.uniform(0.001, 0.008)
        stick = _band(struck, stick_hz, 3.0) * np.exp(-t / stick_s)
        out += always.uniform(0.05, 0.8) * struck.hardness ** always.uniform(0, 1) * stick / np.abs(stick).max()
        if struck.piece == "snare":
            rattle = _band(struck, always.uniform(2500, 7000), 2.5) * np.exp(-t / always.uniform(0.03, 0.25))
            late = 1 - np.exp(-t / always.uniform(0.0005, 0.004))
            buzz = 1.0 + always.uniform(0, 1) * np.sin(2 * np.pi * lowest * t)
            out += always.uniform(0.05, 1.2) * struck.hardness ** always.uniform(-0.3, 0.6) * rattle * late * buzz
        return _reflected(out, always, rate)


class Mixed(Making):
    """The generator's strokes tuned and stretched, with noise of another making mixed in."""

    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        always = struck.always
        tune = np.exp(always.uniform(np.log(0.6), np.log(1.6)) + struck.now.normal(0, 0.005))
        x = np.interp(np.arange(int(plain.size / tune)) * tune, np.arange(plain.size), plain)
        noises = Noises._stroke(self, struck, plain)
        out = np.zeros(max(x.size, noises.size))
        share = always.uniform(0.2, 0.8)
        out[: x.size] += (1.0 - share) * x / (np.abs(x).max() + 1e-9)
        out[: noises.size] += share * noises / (np.abs(noises).max() + 1e-9)
        return out


class Recorded(Making):
    """Recorded strokes: one of a piece for each kit, tuned, coloured and cut short; soft strokes are darker, and no two are the same."""

    table = "teaching"
    tuned = (0.8, 1.25)
    dulls = True  # one recorded foot-closed hat is too few to learn from: closed ones without their stick, dulled, serve as well

    def _stroke(self, struck: Struck, plain: np.ndarray) -> np.ndarray:
        rate, now = struck.rate, struck.now
        kit = np.random.default_rng(
            [self.kit.seed, 7, *map(ord, struck.piece)]
        )  # the same for all stems and articulations
        sound = struck.piece
        if sound == "hihat":
            sound += " " + {"half": "open", "": "closed"}.get(struck.articulation, struck.articulation)
        known = recorded.strokes(self.table, sound, rate)
        dulled = self.dulls and struck.articulation == "foot"
        if dulled:
            known += recorded.strokes(self.table, "hihat closed", rate)
        x = known[int(kit.integers(0, 1 << 30)) % len(known)]
        x = _dulled(x, kit, rate) if dulled else x
        tune = np.exp(kit.uniform(*np.log(self.tuned)) + now.normal(0, 0.004))
        x = np.interp(np.arange(int(x.size / tune)) * tune, np.arange(x.size), x)
        softer = kit.uniform(0.0, 1.2)
        if struck.hardness < 1.0:
            low_hz = min(16_000 * struck.hardness**softer, 0.45 * rate)
            x = signal.sosfilt(signal.butter(1, low_hz, "low", fs=rate, output="sos"), x)
        for _ in range(3):
            centre = np.exp(struck.always.uniform(np.log(80), np.log(12_000)))
            x = _bell(x, min(centre, 0.45 * rate), struck.always.normal(0, 4) + now.normal(0, 1), 0.8, rate)
        if kit.random() < 0.4:
            x = x * np.exp(-np.arange(x.size) / rate / kit.uniform(0.1, 1.0))
        return _reflected(x, struck.always, rate) if kit.random() < 0.4 else x


def _band(struck: Struck, centre_hz: float, wide: float) -> np.ndarray:
    """Return noise around a centre, from centre / wide to centre * wide, of mean square 1."""
    rate = struck.rate
    edges = [centre_hz / wide, min(centre_hz * wide, 0.45 * rate)]
    noise = struck.now.standard_normal(struck.times_s.size)
    x = signal.sosfilt(signal.butter(2, edges, "bandpass", fs=rate, output="sos"), noise)
    return x / (np.std(x) + 1e-9)


def _dulled(x: np.ndarray, kit: np.random.Generator, rate: int) -> np.ndarray:
    """Return a hat's stroke without its stick: rising slowly, dark and short."""
    t = np.arange(x.size) / rate
    x = x * (1.0 - np.exp(-t / kit.uniform(0.0003, 0.004))) * np.exp(-t / kit.uniform(0.012, 0.1))
    low_hz = np.exp(kit.uniform(np.log(2000), np.log(12_000)))
    return signal.sosfilt(signal.butter(1, low_hz, "low", fs=rate, output="sos"), x)


def _reflected(x: np.ndarray, always: np.random.Generator, rate: int) -> np.ndarray:
    out = x.copy()
    for _ in range(int(always.integers(0, 7))):
        late, share = int(always.uniform(0.001, 0.025) * rate), always.uniform(0.03, 0.4) * always.choice([-1, 1])
        out[late:] += share * x[: x.size - late]
    return out


def _bell(x: np.ndarray, centre_hz: float, gain_db: float, q: float, rate: int) -> np.ndarray:
    w, a = 2 * np.pi * centre_hz / rate, 10 ** (gain_db / 40)
    alpha = np.sin(w) / (2 * q)
    return signal.lfilter(
        [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a], [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a], x
    )
