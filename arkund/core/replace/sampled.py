"""Hits of the shelf laid under a drum, as they are set; ``shots`` is how they sound."""

from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.replace.made import EVERY
from arkund.core.settings import Settings, check_strikes, number, quick_hash, text

MOST_SHOTS = 64
OPEN_LOW_HZ, OPEN_HIGH_HZ = 20.0, 20_000.0  # at these ends a filter is off
WHOLE_MS = 5000.0  # as long as a shot is


@dataclass(frozen=True, slots=True, kw_only=True)
class Shot(Settings):
    """One hit of the shelf in a layer.

    gain_db : brings it to the level of the usual strike; for_db : the strike, against the usual one, that it stands for; late_samples : by how much its attack
    comes later than where it was found, see ``landing``
    """

    capture: str = text(longest=40)
    gain_db: float = number(0.0, -120.0, 120.0, step=0.1, unit="dB")
    for_db: float = number(0.0, -120.0, 120.0, step=0.5, unit="dB")
    late_samples: float = number(0.0, -200.0, 200.0, step=0.01, unit="samples")


@dataclass(frozen=True, slots=True, kw_only=True)
class Sampled(Settings):
    """What strikes open.

    strikes : in order, (sample of the recording in parts, level in dB against the usual strike), frozen when it was laid; of : the mic whose part of each hit
    sounds
    """

    shots: tuple[Shot, ...] = ()
    of: str = text("", longest=60)
    follow: float = number(
        1.0, 0.0, 2.0, step=0.05, help="0 = always the same strength, 1 = as the hit, 2 = twice as far"
    )
    least_db: float = number(
        EVERY, EVERY, 12.0, step=0.5, unit="dB", help="softer strikes, against the usual one, are left out; -60 = none"
    )
    pitch: float = number(0.0, -24.0, 24.0, step=0.1, unit="semitones", help="higher by this, and shorter with it")
    lasts_ms: float = number(WHOLE_MS, 10.0, WHOLE_MS, step=5.0, unit="ms", help="faded out by then; 5000 = whole")
    high_pass_hz: float = number(OPEN_LOW_HZ, OPEN_LOW_HZ, 5000.0, step=1.0, unit="Hz", help="high-pass; 20 = off")
    low_pass_hz: float = number(OPEN_HIGH_HZ, 40.0, OPEN_HIGH_HZ, step=10.0, unit="Hz", help="low-pass; 20000 = off")
    variation: int = number(1, 0, 99_999, step=1, help="another number, another order of variants")
    strikes: tuple[tuple[float, float], ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        check_strikes(self.strikes)
        if len(self.shots) > MOST_SHOTS:
            raise SettingsError(f"shots: at most {MOST_SHOTS} in a layer, got {len(self.shots)}.")

    def __hash__(self) -> int:
        return quick_hash(self, self.strikes)

    def sounding(self) -> "Sampled":
        """Return it without what decides when and how strongly: what the sound of its shots depends on."""
        return Sampled(
            pitch=self.pitch, lasts_ms=self.lasts_ms, high_pass_hz=self.high_pass_hz, low_pass_hz=self.low_pass_hz
        )
