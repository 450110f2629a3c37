"""The gate's settings."""

from dataclasses import dataclass

from arkund.core.settings import Settings, number


@dataclass(frozen=True, slots=True, kw_only=True)
class GateSettings(Settings):
    """When a mic is opened, and how far it is closed in between."""

    on: bool = False
    threshold_db: float = number(-35.0, -90.0, 0.0, step=0.5, unit="dB", help="opens above this level of the key")
    hysteresis_db: float = number(4.0, 0.0, 24.0, step=0.5, unit="dB", help="closes this far below the threshold")
    attack_ms: float = number(0.1, 0.02, 50.0, step=0.02, unit="ms", help="63 % of the way open")
    hold_ms: float = number(40.0, 0.0, 1000.0, step=1.0, unit="ms", help="stays open after the level has fallen")
    release_ms: float = number(120.0, 5.0, 1500.0, step=1.0, unit="ms", help="63 % of the way closed")
    range_db: float = number(18.0, 0.0, 90.0, step=1.0, unit="dB", help="how far it closes; 10 to 20 keeps some life")
    lookahead_ms: float = number(
        1.5, 0.0, 10.0, step=0.1, unit="ms", help="opens this much before the hit; a slow attack takes longer than that"
    )
    key_low_hz: float = number(
        20.0, 20.0, 8000.0, step=1.0, unit="Hz", help="the key hears nothing below; 20 = everything"
    )
    key_high_hz: float = number(
        20000.0, 100.0, 20000.0, step=1.0, unit="Hz", help="the key hears nothing above; 20000 = everything"
    )
