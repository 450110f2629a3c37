"""Recorded drum strokes from the General MIDI banks that Debian packages carry (fluid-soundfont-gm, freepats): what the hit judge is taught on and,
other strokes of them, what the survey tries it on. Nothing of them is shipped.
"""

import logging
import struct
from functools import cache
from importlib.util import find_spec
from pathlib import Path

import numpy as np
import soxr

BANK = Path("/usr/share/sounds/sf2/FluidR3_GM.sf2")
PATCHES = Path("/usr/share/midi/freepats/Drum_000")
PERCUSSION = 128  # the number of the bank with drum kits
QUIET_BEFORE = 0.02  # of the peak: what lies before is cut off
KEPT_BEFORE_S = 0.0005

# Strokes by piece: names in the bank, or numbers of patches. None stands in both tables.
TEACHING = {
    "kick": ("Std Kick", "Std Kick 1", "Std Kick 2", "Std Kick 3", "Std Kick 4", "Room Kick", "Power Kick", "Power Kick 2", "Elec Kick1"),
    "snare": ("Std Snr 1", "Std Snr 2", "Snr 1-1", "Snr 1-2", "RmPwr 1-1", "RmPwr 1-2", "Brush Snr 1", "Electronic Snr 1"),
    "tom1": ("Hi Studio", "MdHi Studio"),
    "tom2": ("Md Studio", "Low Studio"),
    "floor": ("Flr Studio", "Low Flr Studio"),
    "hihat closed": ("Hi-Hat Closed",),
    "hihat foot": ("Hi-Hat Foot",),
    "hihat open": ("Hi-Hat Half-Open",),
    "ride": ("Ride1", "BellRide", "808 Ride"),
    "crash": ("Crsh 1", "China Crash", "Splash", "Orchcrash"),
    "sticks": ("Rim Tap",),
}  # fmt: skip
SURVEY = {
    "kick": (35, 36, "Std Kick 5", "Std Kick 6", "Std Kick 7", "Power Bass Drum 1", "Power Bass Drum 2", "Power Kick 3"),
    "snare": (38, 40, "Power Snare 1", "Power Snare 2", "Piccolo 1-1", "Piccolo 1-2", "Snr 2-1", "Snr 2-2", "RmPwr 2-1"),
    "tom1": ("Tom Hi", 48, 50),
    "tom2": ("Tom Med", 45, 47),
    "floor": ("Tom Floor", 41, 43),
    "hihat closed": (42,),
    "hihat foot": (44,),
    "hihat open": (46,),
    "ride": ("Ride2", 51, 59),
    "crash": ("Crsh 2", 49, 57),
    "sticks": (37,),
}  # fmt: skip


INSTALL = "apt install fluid-soundfont-gm freepats"


def there() -> bool:
    """Say whether the banks are installed, and what reads them."""
    return BANK.exists() and PATCHES.exists() and find_spec("sf2utils") is not None


@cache
def strokes(table_name: str, sound: str, rate: int) -> tuple[np.ndarray, ...]:
    """Return the recorded strokes of a sound (a piece; of a hi-hat "hihat closed" and so on) at a rate, each from its start, with a peak of 1."""
    names = {"teaching": TEACHING, "survey": SURVEY}[table_name][sound]
    return tuple(_from_its_start(*(_patch(n) if isinstance(n, int) else _bank()[n]), rate) for n in names)


def _from_its_start(x: np.ndarray, recorded_hz: int, rate: int) -> np.ndarray:
    x = soxr.resample(x, recorded_hz, rate) if recorded_hz != rate else x
    x = x / np.abs(x).max()
    start = max(int(np.argmax(np.abs(x) > QUIET_BEFORE)) - int(KEPT_BEFORE_S * rate), 0)
    return x[start:]


@cache
def _bank() -> dict[str, tuple[np.ndarray, int]]:
    """Return all left and mono samples of the bank's drum kits by name."""
    from sf2utils.sf2parse import Sf2File  # of the teach extra

    logging.disable(logging.WARNING)  # it tells of loops in sounds that are not ours
    out = {}
    with BANK.open("rb") as file:
        for preset in Sf2File(file).presets:
            if getattr(preset, "bank", None) != PERCUSSION:
                continue
            zones = (zone for bag in preset.bags if bag.instrument for zone in bag.instrument.bags if zone.sample)
            for sample in (zone.sample for zone in zones):
                name = sample.name.removesuffix("(L)").removesuffix("(L").strip()
                if name not in out:
                    out[name] = np.frombuffer(sample.raw_sample_data, "<i2") / 32768.0, sample.sample_rate
    logging.disable(logging.NOTSET)
    return out


@cache
def _patch(number: int) -> tuple[np.ndarray, int]:
    """Return the first sample of a patch file: a header of 239 bytes, then the sample's own of 96, then 16-bit audio."""
    data = next(PATCHES.glob(f"{number:03}_*.pat")).read_bytes()
    size, rate, modes = *struct.unpack_from("<I8xH", data, 239 + 8), data[239 + 55]
    x = np.frombuffer(data, "<i2", size // 2, 239 + 96).astype(float)
    if modes & 2:  # unsigned
        x = np.frombuffer(data, "<u2", size // 2, 239 + 96).astype(float) - 32768.0
    return x / 32768.0, rate
