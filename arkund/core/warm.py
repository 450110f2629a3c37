"""Compile every loop once, so that the first audition is not a compile. Run at set-up: ``python -m arkund.core.warm``.

What is compiled is kept beside the package, by what it was made of. Parts that share no loop are compiled side by side, one process each at a time.
"""

import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from time import perf_counter

import numpy as np

from arkund.core.dsp import _filters, _metering, _mixing, _writing, compiled
from arkund.core.dsp.bank import bank_of, empty_bank, filter_bank, separate
from arkund.core.dsp.compiled import FOLDER, KEPT, WIDTHS
from arkund.core.dsp.filters import bell

RATE = 48_000
f = np.float32


def _banks() -> list[np.ndarray]:
    return [empty_bank(64, width) for width in WIDTHS]


def mixing() -> None:
    """Compile banks from channels and back, sums, and what looks ahead."""
    from arkund.core.render.sums import placed

    mono = np.zeros(64, f)
    placed([mono], [(0.0, 0.0)], mono.size)
    separate(bank_of([mono, mono]), [mono.copy(), mono.copy()], [0, 0])
    for bank in _banks():
        width, flat = bank.shape[1], bank.reshape(-1)
        _mixing.BANKS[width].mix_down(flat, width, np.arange(2), np.zeros(2 * width, f), flat.copy())
        _mixing.BANKS[width].looking_ahead(flat, np.zeros(width, np.int64), flat.copy())


def metering() -> None:
    """Compile meters, peaks between samples and followers."""
    from arkund.core.dsp.loudness import Meter, oversampled_peak, quick_loudness_lufs

    mono = np.zeros(64, f)
    for bank in _banks():
        Meter(bank.shape[1], bank.shape[1], RATE).add(bank)
    quick_loudness_lufs(np.zeros((64, 2), f), RATE)
    oversampled_peak(np.ones((64, 2), f))
    _metering.decibels(mono + f(1), mono[:4] + f(1), mono.copy())
    _metering.hold_back(mono, mono.copy(), f(0.5), f(0))
    _metering.follow(mono, mono.copy(), f(0.5), f(0.5))
    _writing.dither_24(np.zeros(64 * 16, f), 16, 1, 0, np.ones(16, np.uint32), np.zeros(16 * 216, np.uint8), 216)


def tool(kind: str) -> Callable[[], None]:
    """Return what compiles a kind of tool."""

    def run() -> None:
        from arkund.core.tools.tool import module_of, settings_of

        for bank in _banks():
            made = module_of(kind).Run([settings_of(kind)(on=True)] * bank.shape[1], RATE, bank.shape[1])
            made.run(np.concatenate([bank, np.zeros((made.ahead, bank.shape[1]), f)]), bank.shape[0])

    return run


def grit() -> None:
    """Compile grit, without the filters around it, which are those of ``hits``."""
    from arkund.core.tools import _grit
    from arkund.core.tools.grit import AFTER, BEFORE, taps

    for bank in _banks():
        width = bank.shape[1]
        known = np.zeros((BEFORE + AFTER + 64) * width, f)
        _grit.BANKS[width].grit(known, bank.reshape(-1), np.zeros(4 * width, f), False, *taps())


def tone() -> None:
    """Compile bands that move, without the filters beside them, which are those of ``hits``."""
    from arkund.core.tools import _tone

    for bank in _banks():
        width, flat = bank.shape[1], bank.reshape(-1)
        _tone.BANKS[width].swaying(flat, flat.copy(), np.zeros(17 * width, f), np.zeros(5 * width, f))


def hits() -> None:
    """Compile filters, what finds hits, for kits of every width, and the trees that judge them."""
    from arkund.core.files.audio import ArrayMic
    from arkund.core.hits.measure import find_hits
    from arkund.core.hits.refine import first_sample
    from arkund.core.hits.settings import Channel, HitSettings

    for bank in _banks():
        filter_bank(bank, [[bell(300.0, 3.0, 1.0, RATE)]])
    _filters.fir(np.zeros(40, f), np.zeros(8, f), np.zeros(33, f))
    noise = np.random.default_rng(1).standard_normal(RATE) * 0.1
    first_sample(ArrayMic(noise), RATE // 2, RATE)
    for count in {1, *(width - 3 for width in WIDTHS if width > 4)}:
        channels = [Channel("kick", True, True)] + [Channel("kit", False, False)] * (count - 1)
        find_hits([ArrayMic(noise)] * count, channels, RATE, HitSettings())


def drawing() -> None:
    """Compile waveforms, and what is drawn and struck along a song."""
    from arkund.core.dsp import _drawing
    from arkund.core.files.peaks import Columns

    for bank in _banks():
        Columns(bank.shape[1]).add(np.zeros((256, bank.shape[1]), f))
    one, places = np.zeros(64), np.zeros(1, np.int64)
    _drawing.raise_spans(one.astype(f), places, places + 8, one.astype(f), one.astype(f))
    _drawing.add_strikes(one, 0, places, np.ones(1), places, places + 8, one.copy(), places + 8, 1)


def demo() -> None:
    """Compile what the synthesised kit is made with."""
    from arkund.core.demo import _kernels

    _kernels.add_delayed(np.zeros(64, f), np.zeros(64, f), 3, f(1), f(0))
    _kernels.damped_modes(np.zeros(64), np.ones(1), np.ones(1), np.ones(1), np.ones(1), np.ones(1, np.int64))


# The longest first. Each loop is compiled in one part only, because two processes must not keep the same one at the same time.
PARTS: dict[str, Callable[[], None]] = {
    "hits": hits,
    "metering": metering,
    "mixing": mixing,
    "grit": grit,
    "space": tool("space"),
    "tone": tone,
    "shaper": tool("shaper"),
    "compressor": tool("compressor"),
    "gate": tool("gate"),
    "drawing": drawing,
    "demo": demo,
}


def warm(names: Sequence[str] = tuple(PARTS)) -> None:
    """Compile parts here and now."""
    for name in names:
        began = perf_counter()
        PARTS[name]()
        print(f"  {name} {perf_counter() - began:.1f} s", file=sys.stderr, flush=True)  # noqa: T201


def _in_a_process(name: str) -> None:
    subprocess.run([sys.executable, "-m", "arkund.core.warm", name], check=True)  # noqa: S603


def main() -> None:
    """Compile all parts side by side, and forget what was compiled of former sources."""
    if len(sys.argv) > 1:
        warm(sys.argv[1:])
        return
    for former in compiled.FOLDER.parent.glob(f"{KEPT}*"):
        if former != FOLDER:
            shutil.rmtree(former, ignore_errors=True)
    with ThreadPoolExecutor(max(os.cpu_count() or 1, 1)) as pool:
        list(pool.map(_in_a_process, PARTS))


if __name__ == "__main__":
    main()
