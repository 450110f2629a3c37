"""A mic's row of tools by itself: against a C++ library doing the like, and against the plain loop in double precision. Part of ``arkund bench``."""

from concurrent.futures import ThreadPoolExecutor
from time import perf_counter

import numpy as np

MICS, RATE, WORKERS = 16, 48_000, 2
BLOCK = 1 << 16
RESIDUAL_S = 2.0


def chain_figures(seconds: float) -> dict:
    """Return how many times faster than pedalboard the chain runs (None without it), its own speed and its residual in dB."""
    audio = _audio(seconds)
    ours_s = _best(lambda: _ours(audio))
    theirs = _pedalboard()
    theirs_s = _best(lambda: theirs(audio)) if theirs else None
    return {
        "chain_x_realtime": round(seconds / ours_s, 1),
        "chain_ratio_to_pedalboard": round(theirs_s / ours_s, 2) if theirs_s else None,
        "chain_residual_db": round(_residual_db(audio[:, : int(RESIDUAL_S * RATE)]), 1),
    }


def _best(work) -> float:
    times = []
    for _ in range(3):
        began = perf_counter()
        work()
        times.append(perf_counter() - began)
    return min(times)


def _audio(seconds: float) -> np.ndarray:
    """Return decaying bursts of noise, float32 [shape=(mics, samples)]."""
    rng = np.random.default_rng(9)
    fall = np.exp(-(np.arange(int(seconds * RATE)) % (RATE // 4)) / (0.04 * RATE))
    return (0.5 * rng.standard_normal((MICS, fall.size)) * fall).astype(np.float32)


def _row() -> list:
    from arkund.core.tools.compressor import Compressor
    from arkund.core.tools.gate import Gate
    from arkund.core.tools.shaper import Shaper
    from arkund.core.tools.tone import Band, Tone

    bells = tuple(Band(kind="bell", frequency_hz=f, gain_db=3.0, q=1.0) for f in (90.0, 250.0, 700.0, 2500.0, 6000.0))
    return [
        Gate(on=True, threshold_db=-40.0),
        Tone(bands=(Band(kind="high_pass", frequency_hz=40.0, slope_db=12), *bells)),
        Shaper(on=True, attack_db=4.0, sustain_db=-2.0),
        Compressor(on=True, threshold_db=-20.0, ratio=4.0),
    ]


def _ours(audio: np.ndarray) -> None:
    from arkund.core.dsp.bank import empty_bank
    from arkund.core.render.banks import Bank
    from arkund.core.render.pipeline import Pipeline

    def half(rows: list[int]) -> None:
        row = _row()
        strips = Bank([row for _ in rows], 1, RATE)
        for start in range(0, audio.shape[1] - strips.ahead, BLOCK):
            part = audio[rows, start : start + BLOCK + strips.ahead]
            bank = empty_bank(part.shape[1], len(rows))
            bank[:, : len(rows)] = part.T
            Pipeline(strips, bank, [0] * len(strips.runs), _go).run()

    with ThreadPoolExecutor(WORKERS) as pool:
        list(pool.map(half, np.array_split(np.arange(MICS), WORKERS)))


def _go() -> None:
    """Nobody stops it."""


def _pedalboard():
    """Return the like on pedalboard: gate, six filters and two compressors, as it has no transient shaper; None where it is missing."""
    try:
        import pedalboard as pb
    except ImportError:
        return None

    def one(channel: np.ndarray) -> None:
        bells = [pb.PeakFilter(f, 3.0, 1.0) for f in (90.0, 250.0, 700.0, 2500.0, 6000.0)]
        chain = [
            pb.NoiseGate(-40.0),
            pb.HighpassFilter(40.0),
            *bells,
            pb.Compressor(-20.0, 4.0),
            pb.Compressor(-20.0, 2.0),
        ]
        pb.Pedalboard(chain).process(channel, RATE)

    def work(audio: np.ndarray) -> None:
        with ThreadPoolExecutor(WORKERS) as pool:
            list(pool.map(one, audio))

    return work


def _residual_db(audio: np.ndarray) -> float:
    """Return the worst mic's difference from the plain loop against its level, in dB."""
    from arkund.core.dsp.bank import bank_of
    from arkund.core.render.banks import Bank
    from arkund.core.render.pipeline import Pipeline
    from arkund.core.tools.plain import residual_db, row

    strips = Bank([_row()] * MICS, 1, RATE)
    got = np.concatenate([bank_of(list(audio)), np.zeros((strips.ahead, MICS), np.float32)])
    Pipeline(strips, got, [0] * len(strips.runs), _go).run()
    got = got[: audio.shape[1]]
    return max(residual_db(got[:, lane], row(audio[lane], _row(), RATE)) for lane in (0, MICS - 1))
