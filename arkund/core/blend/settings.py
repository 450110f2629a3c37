"""How mics, parallel paths and the drum bus add up."""

from dataclasses import dataclass

from arkund.core.punch.settings import CompressorSettings
from arkund.core.settings import Settings, number

OFF_DB = -60.0  # a send at this level is closed


@dataclass(frozen=True, slots=True, kw_only=True)
class MixSettings(Settings):
    """One mic's place in the kit. Sends are taken before the level, so moving it never changes the paths."""

    level_db: float = number(0.0, -60.0, 12.0, step=0.1, unit="dB")
    pan: float = number(0.0, -1.0, 1.0, step=0.01, help="-1 left, 0 middle, 1 right")
    mute: bool = False
    solo: bool = False
    punch_send_db: float = number(OFF_DB, OFF_DB, 12.0, step=0.5, unit="dB", help="-60 = not sent")
    sustain_send_db: float = number(OFF_DB, OFF_DB, 12.0, step=0.5, unit="dB", help="-60 = not sent")


@dataclass(frozen=True, slots=True, kw_only=True)
class PathSettings(Settings):
    """A parallel path: what it is sent is compressed and added to the kit at a level."""

    on: bool = False
    level_db: float = number(-12.0, -60.0, 12.0, step=0.1, unit="dB")
    compressor: CompressorSettings = CompressorSettings(on=True)  # noqa: RUF009 (frozen)


@dataclass(frozen=True, slots=True, kw_only=True)
class BusSettings(Settings):
    """The drum bus: gentle compression, then a true-peak limiter."""

    compressor: CompressorSettings = CompressorSettings(  # noqa: RUF009 (frozen)
        threshold_db=-14.0, ratio=2.0, attack_ms=30.0, release_ms=120.0, knee_db=6.0
    )
    mix: float = number(1.0, 0.0, 1.0, step=0.01, help="share of the compressed sound")
    level_db: float = number(0.0, -24.0, 12.0, step=0.1, unit="dB")
    limiter_on: bool = False
    ceiling_db: float = number(-1.0, -24.0, 0.0, step=0.1, unit="dBTP", help="no true peak above this")
    limiter_release_ms: float = number(60.0, 5.0, 500.0, step=1.0, unit="ms")


PUNCH = PathSettings(
    compressor=CompressorSettings(on=True, threshold_db=-28.0, ratio=10.0, knee_db=3.0, attack_ms=25.0, release_ms=50.0)
)
SUSTAIN = PathSettings(
    compressor=CompressorSettings(
        on=True,
        threshold_db=-36.0,
        ratio=20.0,
        knee_db=3.0,
        attack_ms=0.1,
        release_ms=60.0,
        detector_low_hz=120.0,
    )
)
