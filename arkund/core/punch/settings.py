"""Transient shaper and compressor."""

from dataclasses import dataclass

from arkund.core.settings import Settings, number


@dataclass(frozen=True, slots=True, kw_only=True)
class ShaperSettings(Settings):
    """Attack and sustain, whatever the level of the hit."""

    on: bool = False
    attack_db: float = number(0.0, -15.0, 15.0, step=0.5, unit="dB", help="the stroke, its first 10 ms")
    sustain_db: float = number(
        0.0, -24.0, 15.0, step=0.5, unit="dB", help="all that follows until the next stroke: ring, room, bleed"
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class CompressorSettings(Settings):
    """When, how strong and how fast."""

    on: bool = False
    threshold_db: float = number(-18.0, -60.0, 0.0, step=0.5, unit="dB", help="reduces what is louder")
    ratio: float = number(4.0, 1.0, 50.0, step=0.1, help="4 lets 1 dB out of each 4")
    knee_db: float = number(3.0, 0.0, 24.0, step=0.5, unit="dB", help="how gradually it sets in")
    attack_ms: float = number(10.0, 0.05, 200.0, step=0.05, unit="ms", help="63 % of the reduction")
    release_ms: float = number(100.0, 5.0, 2000.0, step=1.0, unit="ms", help="63 % of the recovery")
    makeup_db: float = number(0.0, -12.0, 24.0, step=0.1, unit="dB")
    detector_low_hz: float = number(
        20.0, 20.0, 1000.0, step=1.0, unit="Hz", help="the detector hears nothing below; 20 = everything"
    )
