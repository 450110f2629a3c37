"""Compile every kernel once, so that the first audition is not a compile. Run at set-up: ``python -m arkund.core.warm``."""

import numpy as np

from arkund.core.dsp import _kernels as k
from arkund.core.dsp.bank import bank_of, separate
from arkund.core.dsp.loudness import Meter, quick_loudness_lufs
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.measure import find_hits
from arkund.core.hits.refine import first_sample
from arkund.core.hits.settings import Channel, HitSettings
from arkund.core.punch.process import Compressor, Shaper
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.render.sums import placed


def warm() -> None:
    """Call each kernel with the types that it is used with; the compiled code is kept beside the module."""
    f = np.float32
    mono, stereo = np.zeros(64, f), np.zeros(128, f)
    for lanes in k.WIDTHS:
        kernels = k.BANKS[lanes]
        bank, gain = np.zeros(64 * lanes, f), np.zeros(64 * lanes, f)
        kernels.svf_cascade(bank, 1, np.zeros(6 * lanes, f), np.zeros(2 * lanes, f))
        kernels.gate(bank, gain, np.ones(8 * lanes, f), np.zeros(5 * lanes, f))
        rows = bank.reshape(-1, lanes)
        Shaper([ShaperSettings(on=True)] * lanes, 48_000, lanes).run(rows)
        Compressor([CompressorSettings(on=True)] * lanes, 48_000, lanes).run(rows)
        kernels.mix_down(bank, lanes, 2, np.zeros(2 * lanes, f), bank.copy())
        Meter(lanes, lanes, 48_000).add(rows)
        one, none = np.ones(lanes, f), np.zeros(0, f)
        filters = (none, none.copy(), np.ones(6 * lanes, f), np.zeros(2 * lanes, f), none.copy(), none.copy())
        early = np.zeros(lanes, np.int64)
        kernels.chain(bank, 64, early, none, one, filters, none, one, none, one)
    pair = k.BANKS[k.PAIR]
    quick_loudness_lufs(stereo.reshape(-1, 2), 48_000)
    k.polynomials(mono + f(1), mono.copy(), mono.copy())
    pair.linked(stereo, np.ones(12, f), np.zeros(4, f), np.ones(6, f), np.zeros(1, f), f(1), f(0), mono, stereo.copy())
    k.dither_24(bank, lanes, 1, 0, np.ones(lanes, np.uint32), np.zeros(lanes * 216, np.uint8), 216)
    k.decibels(mono + f(1), mono[:4] + f(1), mono.copy())
    k.add_scaled(mono, f(1), mono.copy())
    k.hold_back(mono, mono.copy(), f(0.5), f(0))
    k.follow(mono, mono.copy(), f(0.5), f(0.5))
    placed([mono], np.zeros((1, 2), f), mono.size)
    separate(bank_of([mono, mono]), [mono.copy(), mono.copy()], [0, 0])
    k.peaks_between(mono, np.zeros((3, 24), f), 4, f(0), f(0), mono.copy())
    k.add_delayed(mono.copy(), mono, 3, f(1), f(0))
    k.damped_modes(np.zeros(64), np.ones(1), np.ones(1), np.ones(1), np.ones(1), np.ones(1, np.int64))
    noise = np.random.default_rng(1).standard_normal(48_000) * 0.1
    first_sample(ArrayMic(noise), 24_000, 48_000)
    for count in (1, 5, 9):  # of each width
        channels = [Channel("kick", True, True)] + [Channel("kit", False, False)] * (count - 1)
        find_hits([ArrayMic(noise)] * count, channels, 48_000, HitSettings())


if __name__ == "__main__":
    warm()
