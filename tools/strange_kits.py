"""Kits to teach the hit judge on: the generator's, made strange, so that the judge learns acoustics and not one generator's timbres.

Each number gives another kit: style, tempo, hard cases, mics that are missing, bleed, noise, hum, DC, hot and clipped mics, pieces hardly ever
played, and in most of them strokes with a random equaliser, softened attacks, shortened tails and reflections.
"""

import dataclasses

import numpy as np
from scipy import signal

from arkund.core.demo.recording import Kit, Library, TrueHit, record, truth_of, varied_kit
from arkund.core.demo.score import HARD_CASES, Playing, Stroke, bar_s, play
from arkund.core.demo.strokes import LEVELS_DB
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.evidence import family
from arkund.core.hits.settings import Channel
from arkund.core.kit.pieces import is_close

BPM = {"straight": (85, 170), "busy": (80, 140), "slow": (55, 85), "sixeight": (45, 90)}
MISSING = {"Ride": 0.4, "Rm mono": 0.4, "Talkback": 0.5, "Kik sub": 0.3, "Snr btm": 0.25, "KD out": 0.25, "HH": 0.15, "T2": 0.15, "Rm L": 0.2}  # fmt: skip
FEW_SHARE = 0.08
OTHER_EVERY = 4  # each fourth kit's strokes are of another making
OTHER = {"kick": (40, 6000, 0.12), "snare": (120, 10_000, 0.15), "tom": (60, 4000, 0.2), "cymbal": (900, 14_000, 0.06)}
FEW = ({"KD in", "SN top"}, {"SN top"}, {"KD in", "SN top", "OH L", "OH R"}, {"KD out", "SN top", "HH", "FT", "OH L"})


class StrangeLibrary(Library):
    """Strokes with a colour, attack, tail and reflections of their own per piece, a little different each time."""

    def get(self, piece: str, articulation: str, level_db: float, variant: int):
        index = int(np.argmin(np.abs(np.subtract(LEVELS_DB, level_db))))
        new = (piece, articulation, index, variant) not in self._made
        stems, gain = super().get(piece, articulation, level_db, variant)
        if new:
            for name in stems:
                always = np.random.default_rng([self.kit.seed, *map(ord, piece + name)])
                now = np.random.default_rng(
                    [self.kit.seed, index + 99, variant, *map(ord, piece + name + articulation)]
                )
                stems[name] = _strange(stems[name], self.kit.sample_rate_hz, always, now)
        return stems, gain


class OtherLibrary(Library):
    """Strokes of quite another making: bands of noise and a falling sine, with times, tunings and levels of their own per piece."""

    def get(self, piece: str, articulation: str, level_db: float, variant: int):
        index = int(np.argmin(np.abs(np.subtract(LEVELS_DB, level_db))))
        key = (piece, articulation, index, variant)
        if key not in self._made:
            rate, seed = self.kit.sample_rate_hz, self.kit.seed
            names = super().get(piece, articulation, level_db, variant)[0]
            self._made[key] = {
                name: _other(
                    piece,
                    articulation,
                    10 ** (LEVELS_DB[index] / 40),
                    rate,
                    np.random.default_rng([seed, 5, *map(ord, piece + name)]),
                    np.random.default_rng([seed, 6, index + 99, variant, *map(ord, piece + name + articulation)]),
                )
                for name in names
            }
        return self._made[key], float(10 ** (level_db / 20))


def _other(piece: str, articulation: str, hardness: float, rate: int, always, now) -> np.ndarray:
    low_hz, high_hz, longest_s = OTHER[family(piece)]
    washes = piece in ("ride", "crash") or articulation == "open"
    t = np.arange(int((2.0 if washes else 0.8) * rate)) / rate
    out = np.zeros(t.size)
    for part in range(int(always.integers(2, 5))):
        centre = np.exp(always.uniform(np.log(low_hz), np.log(high_hz)))
        wide = always.uniform(1.2, 3.0)
        sos = signal.butter(2, [centre / wide, min(centre * wide, 0.45 * rate)], "bandpass", fs=rate, output="sos")
        noise = signal.sosfilt(sos, now.standard_normal(t.size))
        decay_s = np.exp(always.uniform(np.log(0.004), np.log(longest_s))) * (1.0 if articulation != "foot" else 0.5)
        attack_s = np.exp(always.uniform(np.log(0.0001), np.log(0.003)))
        shape = np.exp(-t / decay_s) * (1.0 - np.exp(-t / attack_s))
        level = always.uniform(0.2, 1.5) * (hardness if part % 2 else 1.0)
        out += level * noise / (np.std(noise) + 1e-9) * shape
    if washes:
        wash = signal.sosfilt(
            signal.butter(1, [800, 12_000], "bandpass", fs=rate, output="sos"), now.standard_normal(t.size)
        )
        out += (
            always.uniform(0.05, 0.3)
            * wash
            / np.std(wash)
            * np.exp(-t / always.uniform(0.3, 1.5))
            * (1 - np.exp(-t / 0.01))
        )
    if family(piece) != "cymbal" and always.random() < 0.85:
        tune = low_hz * always.uniform(1.0, 2.0)
        turn = 2 * np.pi * tune * (t + always.uniform(0, 0.03) * (1 - np.exp(-t / 0.02)))
        out += (
            always.uniform(0.5, 3.0) * np.sin(turn) * np.exp(-t / always.uniform(0.05, 0.3)) * (1 - np.exp(-t / 0.001))
        )
    dry = out.copy()
    for _ in range(int(always.integers(0, 6))):
        late = int(always.uniform(0.001, 0.025) * rate)
        out[late:] += always.uniform(-0.35, 0.35) * dry[: out.size - late]
    return (out / np.max(np.abs(out))).astype(np.float32)


def _strange(x: np.ndarray, rate: int, always, now) -> np.ndarray:
    for _ in range(4):
        centre = np.exp(always.uniform(np.log(80), np.log(12_000))) * np.exp(now.normal(0, 0.05))
        gain_db, q = always.normal(0, 5) + now.normal(0, 1), always.uniform(0.4, 2)
        x = _bell(x, min(centre, 0.45 * rate), gain_db, q, rate)
    t = np.arange(x.size) / rate
    if always.random() < 0.5:
        x = x * np.exp(-t / always.uniform(0.1, 2))
    if always.random() < 0.3:
        x = x * (1 - 0.9 * np.exp(-t / always.uniform(0.0003, 0.0025)))
    if always.random() < 0.5:
        dry = x.copy()
        for _ in range(int(always.integers(1, 7))):
            late, share = int(always.uniform(0.001, 0.025) * rate), always.uniform(0.05, 0.4) * always.choice([-1, 1])
            x[late:] += share * dry[: x.size - late]
    return (x / np.max(np.abs(x))).astype(np.float32)


def _bell(x: np.ndarray, centre_hz: float, gain_db: float, q: float, rate: int) -> np.ndarray:
    w, a = 2 * np.pi * centre_hz / rate, 10 ** (gain_db / 40)
    alpha = np.sin(w) / (2 * q)
    return signal.lfilter(
        [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a], [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a], x
    )


@dataclasses.dataclass(frozen=True)
class StrangeKit:
    """A take with its truth, as the hit finder sees it."""

    readers: list[ArrayMic]
    channels: list[Channel]
    sample_rate_hz: int
    truth: dict[str, list[TrueHit]]


def strange_kit(number: int) -> StrangeKit:
    """Generate the kit of a number; numbers have nothing to do with the seeds that tests and surveys use."""
    rng = np.random.default_rng([number, 77_001])
    style = str(rng.choice(list(BPM), p=[0.3, 0.35, 0.15, 0.2]))
    share = rng.choice([0.0, 0.5, 1.0])
    bars = {"slow": 6, "sixeight": 9}.get(style, 10) * int(rng.choice([1, 2, 3], p=[0.75, 0.15, 0.1]))
    playing = Playing(
        style=style,
        bpm=float(rng.uniform(*BPM[style])),
        bars=bars,
        seed=int(rng.integers(1 << 40, 1 << 41)),
        start_s=2.4,
        hard=tuple(case for case in HARD_CASES if rng.random() < share),
        flam_share=float(rng.choice([0, 0.1, 0.3])),
        cymbal="ride" if rng.random() < 0.25 else "hihat",
        hat_db=float(rng.uniform(-11, 0)),
        spread_ms=float(rng.uniform(1, 7)),
        fills=bool(rng.random() < 0.9),
        floor_fills=bool(rng.random() < 0.8),
    )
    kit = varied_kit(
        int(rng.integers(1 << 40, 1 << 41)),
        sample_rate_hz=int(rng.choice([48_000, 44_100, 96_000], p=[0.55, 0.4, 0.05])),
        bleed_db=float(rng.uniform(-4, 7)),
        sympathy_db=float(rng.uniform(-38, -21)),
        noise_dbfs=float(rng.uniform(-88, -66)),
        room_db=float(rng.uniform(-6, 6)),
        hum_dbfs=float(rng.uniform(-75, -55)) if rng.random() < 0.2 else None,
        dc=float(rng.uniform(-0.02, 0.02)) if rng.random() < 0.2 else 0.0,
    )
    whole, kit = kit, dataclasses.replace(kit, mics=_mics(kit, rng))
    strokes = _rarely(play(playing), rng)
    library = (StrangeLibrary if rng.random() < 0.75 else Library)(kit)
    if number % OTHER_EVERY == OTHER_EVERY - 1:
        library = OtherLibrary(kit)
    length_s = playing.start_s + bars * bar_s(playing) + 1.5
    readers = [ArrayMic(np.clip(sound, -1.0, 1.0)) for _, sound in record(kit, strokes, length_s, library)]
    listed = dataclasses.replace(kit, mics=(*kit.mics, *whole.mics))  # pieces without a mic have a time too
    truth = truth_of(listed, strokes, library)
    return StrangeKit(readers, _channels(kit), kit.sample_rate_hz, truth)


def _mics(kit: Kit, rng):
    names = {mic.name for mic in kit.mics if rng.random() >= MISSING.get(mic.name, 0.0)}
    if rng.random() < FEW_SHARE:
        names = FEW[int(rng.integers(len(FEW)))]
    hot = rng.random() < 0.1
    return tuple(
        dataclasses.replace(mic, peak_dbfs=mic.peak_dbfs + float(rng.uniform(0, 10) if hot else rng.uniform(-14, 3)))
        for mic in kit.mics
        if mic.name in names
    )


def _rarely(strokes: list[Stroke], rng) -> list[Stroke]:
    """Leave only a stroke or two of some toms and cymbals."""
    for piece in ("tom1", "tom2", "floor", "ride"):
        if rng.random() < 0.15:
            mine = [s for s in strokes if s.piece == piece]
            left = [mine[k] for k in rng.permutation(len(mine))[: int(rng.integers(0, 3))]]
            strokes = [s for s in strokes if s.piece != piece or s in left]
    return strokes


def _channels(kit: Kit) -> list[Channel]:
    seen, out = set(), []
    for mic in kit.mics:
        close = is_close(mic.role) and mic.piece != "kit"
        out.append(Channel(mic.piece if close else "kit", close, close and mic.piece not in seen))
        seen.add(mic.piece if close else "")
    return out
