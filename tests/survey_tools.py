"""What tools measure from outside: ``make survey-tools``. Takes a minute; figures go to docs/tools.md.

Tools are fed signals and what comes out is measured by NumPy and SciPy alone: no filter, follower, meter or closed form of the application has a part in it.
Each line tells the figure, and the most that it may be.
"""

import sys

import numpy as np
from scipy import signal

from arkund.core.tools.gate import Gate
from arkund.core.tools.limiter import Limiter
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.space import Space
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key
from tests.stages import through

RATE, RATES = 48_000, (44_100, 48_000, 96_000)
BAND_HZ = 20e3


def db(x) -> np.ndarray:
    """Return amplitudes in dB."""
    return 20 * np.log10(np.abs(x) + 1e-30)


def band_of(x: np.ndarray, low_hz: float, high_hz: float, rate: int) -> np.ndarray:
    """Return what lies between two frequencies, by the spectrum."""
    spectrum, hz = np.fft.rfft(x), np.fft.rfftfreq(x.size, 1 / rate)
    return np.fft.irfft(np.where((hz >= low_hz) & (hz < high_hz), spectrum, 0), x.size)


def peak_db(x: np.ndarray) -> float:
    """Return the peak between samples, read 64 times as finely over the whole band."""
    return float(db(signal.resample(np.pad(x, x.size), 64 * 3 * x.size)).max())


def limiter() -> list[tuple[str, float, float]]:
    """Return by how much peaks up to 20 kHz, and of the whole band, pass a ceiling of -1 dB."""
    out = []
    for rate in RATES:
        rng, n = np.random.default_rng(rate), np.arange(300)
        noise = rng.standard_normal(16_000)
        hits = np.zeros(16_000)
        for at in range(500, 14_000, 1500):
            hits[at : at + 1200] += (
                rng.uniform(0.5, 4) * rng.standard_normal(1200) * np.exp(-np.arange(1200) / rng.uniform(10, 300))
            )
        tones = np.concatenate(
            [np.pad(np.sin(2 * np.pi * hz / rate * n + hz), 900) for hz in np.linspace(8e3, 19.9e3, 9)]
        )
        nyquist = np.pad(np.cos(np.pi * n + 0.4) * np.hanning(n.size), 3000)
        for name, x in (
            ("white noise", noise),
            ("clipped noise", np.clip(3 * noise, -1, 1)),
            ("hits of noise", hits),
            ("bursts of tones", tones),
        ):
            for to_hz, told, most in ((BAND_HZ, "to 20 kHz", 0.1), (rate, "whole band", 1.5)):
                if to_hz > rate / 2 or rate < 96_000:
                    y = through(Limiter(ceiling_db=-1.0), np.float32(2 * band_of(x, 0, to_hz, rate)), rate=rate)
                    out.append((f"limiter, {rate} Hz, {name} {told}: over the ceiling, dB", peak_db(y) + 1.0, most))
        y = through(Limiter(ceiling_db=-1.0), np.float32(3 * nyquist), rate=rate)
        out.append((f"limiter, {rate} Hz, burst at half the rate: over the ceiling, dB", peak_db(y) + 1.0, 3.5))
    return out


def response_db(tool: Tone, hz: np.ndarray, rate: int) -> np.ndarray:
    """Return what an impulse through a tool shows at frequencies."""
    impulse = np.zeros(1 << 16, np.float32)
    impulse[0] = 1.0
    y = through(tool, impulse, rate=rate).astype(float)
    return db(np.exp(-2j * np.pi * np.outer(hz, np.arange(y.size)) / rate) @ y)


def sine_gain_db(tool: Tone, hz: float, rate: int, level_db: float = -3.0) -> float:
    """Return what a tool does to a steady tone."""
    t = np.arange(2 * rate) / rate
    x = 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t)
    y = through(tool, x.astype(np.float32), rate=rate)
    seen = np.exp(-2j * np.pi * hz * t[rate:])
    return float(db(np.sum(y[rate:] * seen) / np.sum(x[rate:] * seen)))


def _bell_db(hz: np.ndarray, centre_hz: float, gain_db: float, q: float) -> np.ndarray:
    a, s = 10 ** (gain_db / 40), 1j * hz / centre_hz
    return db((s * s + s * a / q + 1) / (s * s + s / (a * q) + 1))


def filters() -> list[tuple[str, float, float]]:
    """Return how far filters are from their analogue curves, and moving bands from the static ones."""
    out = []
    for rate in RATES:
        worst_pass, worst_stop, worst_bell = 0.0, 0.0, 0.0
        for slope in (12, 24, 48):
            for cut_hz in (60.0, 1000.0, 3000.0, 8000.0):
                for kind, btype in (("high_pass", "high"), ("low_pass", "low")):
                    hz = np.geomspace(max(cut_hz / 16, 20), min(16 * cut_hz, BAND_HZ), 80)
                    b, a = signal.butter(slope // 6, 2 * np.pi * cut_hz, btype, analog=True)
                    wanted = db(signal.freqs(b, a, 2 * np.pi * hz)[1])
                    got = response_db(Tone(bands=(Band(kind=kind, frequency_hz=cut_hz, slope_db=slope),)), hz, rate)
                    off = np.abs(got - wanted)
                    worst_pass = max(worst_pass, off[wanted > -12].max())
                    worst_stop = max(worst_stop, off[(wanted <= -12) & (wanted > -72)].max(initial=0.0))
        hz = np.geomspace(20, BAND_HZ, 80)
        for centre_hz in (50.0, 900.0, 9000.0, 16_000.0):
            for gain_db in (-12.0, 6.0, 15.0):
                got = response_db(Tone(bands=(Band(frequency_hz=centre_hz, gain_db=gain_db, q=1.4),)), hz, rate)
                worst_bell = max(worst_bell, np.abs(got - _bell_db(hz, centre_hz, gain_db, 1.4)).max())
        out += [
            (f"filters, {rate} Hz: high- and low-pass to -12 dB against Butterworth, dB", worst_pass, 0.5),
            (f"filters, {rate} Hz: high- and low-pass from -12 to -72 dB, dB", worst_stop, 3.0),
            (f"filters, {rate} Hz: bells against the analogue curve to 20 kHz, dB", worst_bell, 0.3),
        ]
        worst = 0.0
        for kind, centre_hz, at_hz in (
            ("bell", 17_000.0, (15e3, 17e3, 19e3)),
            ("low_shelf", 100.0, (25.0, 100.0)),
            ("high_shelf", 6000.0, (6e3, 18e3)),
        ):
            for gain_db in (12.0, -12.0):
                for each in at_hz:
                    moved = Band(kind=kind, frequency_hz=centre_hz, q=0.7, range_db=gain_db, threshold_db=-80.0)
                    still = Band(kind=kind, frequency_hz=centre_hz, q=0.7, gain_db=gain_db)
                    worst = max(
                        worst,
                        abs(
                            sine_gain_db(Tone(bands=(moved,)), each, rate)
                            - sine_gain_db(Tone(bands=(still,)), each, rate)
                        ),
                    )
        out.append((f"filters, {rate} Hz: bands moved by 12 dB against static ones, dB", worst, 0.3))
    return out


def gate() -> list[tuple[str, float, float]]:
    """Return how often a ringing low tone opens a gate again, and what of a hit's first samples is lost."""
    t = np.arange(2 * RATE) / RATE
    out = []
    for hz in (40.0, 60.0, 90.0):
        x = 0.5 * np.sin(2 * np.pi * hz * t) * np.exp(-t / 0.25)
        y = through(
            Gate(threshold_db=-30.0, hysteresis_db=4.0, hold_ms=0.0, release_ms=20.0),
            np.float32(np.r_[np.zeros(4800), x]),
        )[4800:]
        seen = np.abs(x) > 1e-4
        open_ = np.abs(y[seen] / x[seen]) > 0.9
        out.append(
            (
                f"gate, {hz:.0f} Hz that rings, no hold: opened again, times",
                float(np.sum(np.diff(open_.astype(int)) > 0)),
                0.0,
            )
        )
    hit = np.r_[
        np.zeros(4800), np.exp(-np.arange(9600) / 2000) * np.random.default_rng(3).standard_normal(9600)
    ].astype(np.float32)
    y = through(Gate(threshold_db=-30.0, range_db=90.0), hit)
    out.append(
        (
            "gate: lost of a hit's first millisecond, dB",
            float(-db(np.linalg.norm(y[4800:4848]) / np.linalg.norm(hit[4800:4848]))),
            0.1,
        )
    )
    return out


def stroke(seed: int) -> np.ndarray:
    """Return half a second of a head of a few modes with a burst of noise at its beginning, full scale."""
    rng, t = np.random.default_rng(seed), np.arange(RATE // 2) / RATE
    out = 0.8 * rng.standard_normal(t.size) * np.exp(-t / rng.uniform(0.004, 0.04))
    for ratio in (1.0, 1.59, 2.14, 2.30, 2.65):
        out += (
            rng.uniform(0.2, 1.0)
            * np.sin(2 * np.pi * 120 * rng.uniform(0.7, 1.8) * ratio * t)
            * np.exp(-t / rng.uniform(0.03, 0.15))
        )
    return out / np.abs(out).max()


def shaper() -> list[tuple[str, float, float]]:
    """Return how far the attack of foreign strokes is from what is set, by itself and for a second stroke soon after, keyed by hits."""
    first, again = [], []
    for seed in range(7100, 7112):
        one = stroke(seed)
        for softer_db in (0.0, -12.0):
            x, key = np.zeros(RATE), np.zeros(RATE, np.float32)
            for at, level_db in ((9600, -6.0), (9600 + round(0.062 * RATE), -6.0 + softer_db)):
                part = 10 ** (level_db / 20) * one[: RATE - at]
                x[at : at + part.size] += part
                key[at : at + 240] = 10 ** (level_db / 20)
            y = through(
                Shaper(on=True, attack_db=6.0, key=Key(of="hits:snare", length_ms=5.0)), x.astype(np.float32), key=key
            )
            for at, into in ((9600, first), (9600 + round(0.062 * RATE), again)):
                part = slice(at, at + round(0.006 * RATE))
                into.append(abs(db(np.abs(y[part]).max() / np.abs(x[part]).max()) - 6.0))
    return [
        ("shaper, +6 dB: attack of a stroke off, dB (worst)", max(first), 1.0),
        ("shaper, +6 dB: attack of a stroke 62 ms later, same and 12 dB softer, off, dB (worst)", max(again), 1.0),
    ]


def impulses(space: Space) -> np.ndarray:
    """Return what an impulse on both sides leaves [shape=(samples, 2)]."""
    one = np.zeros(round((space.decay_s * 1.5 + 0.5) * RATE), np.float32)
    one[0] = 1.0
    return through(space, one, one).astype(float)


def falls_s(x: np.ndarray, low_hz: float, high_hz: float) -> float:
    """Return the time for 60 dB, from -5 to -35 dB of the energy still to come (Schroeder, 1965)."""
    sos = signal.butter(4, [low_hz, high_hz], "bandpass", fs=RATE, output="sos")
    power = np.sum(signal.sosfiltfilt(sos, x, axis=0) ** 2, axis=1)
    left = np.cumsum(power[::-1])[::-1]
    level = 10 * np.log10(left / left[0] + 1e-30)
    seen = np.flatnonzero((level < -5) & (level > -35))
    return -60.0 / np.polyfit(seen / RATE, level[seen], 1)[0]


def space() -> list[tuple[str, float, float]]:
    """Return how a space's decay, pre-delay and level hold, and how even its spectrum is (Gaussian noise: 5.6 dB)."""
    out, levels = [], []
    for size_m, decay_s in ((30.0, 0.1), (5.0, 0.4), (10.0, 0.8), (4.0, 2.5), (20.0, 3.0)):
        x = impulses(Space(on=True, pre_delay_ms=0.0, size_m=size_m, decay_s=decay_s, highs=1.0))
        off = 100 * abs(falls_s(x, 350, 2800) / decay_s - 1)
        most = 5.0 if decay_s > 0.2 else 20.0  # the diffusers alone ring for a part of a tenth of a second
        out.append((f"space, {size_m:.0f} m, {decay_s:g} s: decay off, %", off, most))
        hz = np.fft.rfftfreq(x.shape[0], 1 / RATE)
        spread = np.std(db(np.fft.rfft(x[:, 0]))[(hz > 300) & (hz < 6000)])
        out.append((f"space, {size_m:.0f} m, {decay_s:g} s: spread of its spectrum, dB", float(spread), 7.2))
    for size_m in (3.0, 6.0, 12.0, 20.0, 30.0):
        levels.append(10 * np.log10(np.sum(impulses(Space(on=True, size_m=size_m, decay_s=1.0)) ** 2)))
    out.append(("space, 3 to 30 m at 1 s: range of its level, dB", float(np.ptp(levels)), 1.0))
    for set_ms in (0.0, 20.0, 80.0):
        for size_m in (5.0, 12.0, 25.0):
            y = np.abs(impulses(Space(on=True, pre_delay_ms=set_ms, size_m=size_m, decay_s=1.0))).max(axis=1)
            first_ms = 1000 * np.flatnonzero(y > 0.02 * y.max())[0] / RATE
            out.append(
                (f"space, {size_m:.0f} m, pre-delay {set_ms:.0f} ms: first of it off, ms", abs(first_ms - set_ms), 6.0)
            )
    return out


def main() -> int:
    """Print all figures; end with an error where one passes what it may be."""
    wrong = 0
    for part in (limiter, filters, gate, shaper, space):
        for name, figure, most in part():
            passed = figure > most + 1e-9
            wrong += passed
            print(f"{name}: {figure:.2f} ({'OVER' if passed else 'most'} {most:g})", flush=True)
    print(f"{wrong} over what they may be")
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main())
