"""Strokes that neither the generator nor the teaching kits make: bands of noise with ramps, a falling sine, four echoes. For the survey."""

import numpy as np
from scipy import signal

from arkund.core.demo.recording import Library
from arkund.core.demo.strokes import LEVELS_DB

# (low Hz, high Hz, decay s, attack s, level) of each band of noise
PARTS = {
    "kick": [(40, 120, 0.12, 0.002, 1.0), (200, 900, 0.02, 0.001, 0.5), (2000, 7000, 0.004, 0.0003, 0.25)],
    "snare": [(150, 350, 0.09, 0.001, 1.0), (700, 3000, 0.05, 0.0005, 0.6), (3000, 12_000, 0.11, 0.001, 0.6)],
    "hihat": [(3000, 9000, 0.03, 0.0005, 0.6), (7000, 15_000, 0.05, 0.0007, 1.0)],
    "tom1": [(120, 260, 0.25, 0.002, 1.0), (600, 2500, 0.03, 0.0005, 0.4)],
    "tom2": [(90, 200, 0.3, 0.002, 1.0), (500, 2000, 0.03, 0.0005, 0.4)],
    "floor": [(60, 140, 0.4, 0.003, 1.0), (400, 1800, 0.03, 0.0005, 0.35)],
    "ride": [(4000, 9000, 0.012, 0.0003, 1.2), (800, 12_000, 1.2, 0.01, 0.2)],
    "crash": [(1000, 14_000, 1.0, 0.004, 1.0)],
    "sticks": [(1500, 5000, 0.01, 0.0002, 1.0)],
}
LONGER = {"open": 6.0, "foot": 0.6}


class ForeignLibrary(Library):
    """A kit's strokes, each with its own noise, the kit with its own tuning and times."""

    def get(self, piece: str, articulation: str, level_db: float, variant: int):
        index = int(np.argmin(np.abs(np.subtract(LEVELS_DB, level_db))))
        key = (piece, articulation, index, variant)
        if key not in self._made:
            names = list(super().get(piece, articulation, level_db, variant)[0])
            stroke = self._stroke(piece, articulation, index, variant)
            self._made[key] = {name: stroke * (1.0 if name == names[0] else 0.5) for name in names}
        return self._made[key], float(10 ** (level_db / 20))

    def _stroke(self, piece: str, articulation: str, index: int, variant: int) -> np.ndarray:
        rate, seed = self.kit.sample_rate_hz, self.kit.seed
        kit = np.random.default_rng([seed, *map(ord, piece)])
        now = np.random.default_rng([seed, index, variant, *map(ord, piece + articulation)])
        t = np.arange(int(rate * (2.5 if piece in ("ride", "crash") else 1.0))) / rate
        out, hardness = np.zeros(t.size), 10 ** (LEVELS_DB[index] / 40)
        for number, (low, high, decay_s, attack_s, level) in enumerate(PARTS[piece]):
            tune = kit.uniform(0.75, 1.3)
            sos = signal.butter(2, [low * tune, min(high * tune, 0.45 * rate)], "bandpass", fs=rate, output="sos")
            noise = signal.sosfilt(sos, now.standard_normal(t.size))
            fall = np.exp(-t / (decay_s * kit.uniform(0.6, 1.6) * LONGER.get(articulation, 1.0)))
            rise = 1 - np.exp(-t / (attack_s * kit.uniform(0.4, 2.5)))
            out += level * kit.uniform(0.5, 1.6) * (hardness if number else 1.0) * noise / np.std(noise) * fall * rise
        if piece in ("kick", "tom1", "tom2", "floor"):
            turn = 2 * np.pi * PARTS[piece][0][0] * 1.3 * kit.uniform(0.85, 1.2) * (t + 0.02 * (1 - np.exp(-t / 0.02)))
            out += 2.5 * np.sin(turn) * np.exp(-t / PARTS[piece][0][2]) * (1 - np.exp(-t / 0.002))
        for _ in range(4):
            late = int(kit.uniform(0.002, 0.02) * rate)
            out[late:] += kit.uniform(-0.3, 0.3) * out[:-late]
        return (out / np.abs(out).max()).astype(np.float32)


# Zeros of Bessel functions against the first: where the modes of an ideal membrane lie.
RATIOS = (1.0, 1.593, 2.136, 2.296, 2.653, 2.918, 3.156, 3.501, 3.6, 4.06)
FIRST_HZ = {"kick": 52.0, "snare": 185.0, "tom1": 150.0, "tom2": 118.0, "floor": 80.0}
LASTS_S = {
    "kick": 0.12,
    "snare": 0.1,
    "tom1": 0.22,
    "tom2": 0.26,
    "floor": 0.34,
    "hihat": 0.035,
    "ride": 0.9,
    "crash": 0.8,
    "sticks": 0.008,
}


class Membranes(ForeignLibrary):
    """Modes of a struck membrane whose pitch glides down, a power law for their fall, plates of many close partials for cymbals."""

    def _stroke(self, piece: str, articulation: str, index: int, variant: int) -> np.ndarray:
        rate, seed = self.kit.sample_rate_hz, self.kit.seed
        kit = np.random.default_rng([seed, 5, *map(ord, piece)])
        now = np.random.default_rng([seed, 6, index, variant, *map(ord, piece + articulation)])
        t = np.arange(int(rate * (2.5 if piece in ("ride", "crash") else 1.0))) / rate
        hardness = 10 ** (LEVELS_DB[index] / 40)
        lasts_s = LASTS_S[piece] * kit.uniform(0.7, 1.4) * LONGER.get(articulation, 1.0)
        fall = lambda s: (1.0 + t / s) ** -3.0  # slower in the end than an exponential
        if piece in FIRST_HZ:
            first = FIRST_HZ[piece] * kit.uniform(0.9, 1.12)
            glide = t + kit.uniform(0.1, 0.4) * 0.03 * (1.0 - np.exp(-t / 0.03))
            out = sum(
                now.uniform(0.6, 1.0)
                / (1 + k)
                * np.sin(2 * np.pi * first * r * glide)
                * fall(lasts_s / (0.7 + 0.3 * r))
                for k, r in enumerate(RATIOS)
                if first * r < 0.4 * rate
            )
            out += kit.uniform(0.3, 0.8) * hardness * now.standard_normal(t.size) * np.exp(-t / 0.0025)
            if piece == "snare":
                wires = signal.sosfilt(
                    signal.butter(2, 1800, "high", fs=rate, output="sos"), now.standard_normal(t.size)
                )
                out += kit.uniform(0.6, 1.2) * wires * fall(0.09)
        else:
            partials = kit.uniform(300 if piece in ("ride", "crash") else 2500, 0.42 * rate, 160)
            turns = 2 * np.pi * partials[:, None] * t[None, :] + now.uniform(0, 2 * np.pi, (160, 1))
            out = np.sin(turns).sum(axis=0) / 12.0 * fall(lasts_s)
            out += hardness * now.standard_normal(t.size) * np.exp(-t / 0.001)
        return (out / np.abs(out).max()).astype(np.float32)


class Grains(ForeignLibrary):
    """Clouds of short clicks, each through a resonance of its drum, thinning out as it falls; the first one is the stick's."""

    def _stroke(self, piece: str, articulation: str, index: int, variant: int) -> np.ndarray:
        rate, seed = self.kit.sample_rate_hz, self.kit.seed
        kit = np.random.default_rng([seed, 7, *map(ord, piece)])
        now = np.random.default_rng([seed, 8, index, variant, *map(ord, piece + articulation)])
        t = np.arange(int(rate * (2.0 if piece in ("ride", "crash") else 1.0))) / rate
        hardness, out = 10 ** (LEVELS_DB[index] / 40), np.zeros(t.size)
        for number, (low, high, decay_s, _, level) in enumerate(PARTS[piece]):
            lasts_s = 0.8 * decay_s * kit.uniform(0.7, 1.5) * LONGER.get(articulation, 1.0)
            clicks = np.where(now.random(t.size) < 0.25 * np.exp(-t / lasts_s), now.standard_normal(t.size), 0.0)
            clicks[0] = 6.0
            tune = kit.uniform(0.8, 1.25)
            sos = signal.cheby1(1, 0.5, [low * tune, min(high * tune, 0.44 * rate)], "bandpass", fs=rate, output="sos")
            grown = signal.sosfilt(sos, clicks) * np.exp(-t / (2 * lasts_s))
            out += level * kit.uniform(0.6, 1.5) * (hardness if number else 1.0) * grown / (np.abs(grown).max() + 1e-9)
        return (out / np.abs(out).max()).astype(np.float32)


FOREIGN = (ForeignLibrary, Membranes, Grains)
