"""The transient shaper: a gain for a hit's attack, another for what follows, whatever its level; the same for all, or by up to four bands.

Its own detector misses a hit that follows another within 60 ms and is 12 dB softer: it does not stand out of the ring. Keyed by the found hits of its drum it
misses none down to 20 ms, and hears no bleed.

Bands part at shelves whose gains move and whose poles stand still (see ``dsp.moving``): bands with equal settings add up to the very signal, and nothing turns
its phase. One detector hears all of the stroke, so that the bands move together.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import coefficient, lanes
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.moving import Moving, low_shelf
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, number
from arkund.core.tools import _shaper
from arkund.core.tools.detector import Detectors, key_filter
from arkund.core.tools.tool import Key, Tool, kind
from arkund.core.units import DB_PER_OCTAVE, db_to_gain

BRIGHT_HZ = 2500.0  # an attack is told by what lies above: drums ring below it
ENVELOPE_MS = (
    24.0  # release: half waves of 40 Hz do not look like strokes, a soft stroke an eighth after a loud one does
)
PAST_MS = 3.0  # how slowly the past follows a rise
ONSET_RATIO, FULL_RATIO = 1.7, 2.3  # of the envelope against its past: an onset begins, and is one altogether
ATTACK_MS, FALL_MS = 10.0, 18.0  # the attack's gain is held, and falls to that of the sustain
RISE_MS = 0.1  # so that it does not click
SHAPER_FLOOR = 1e-5  # -100 dBFS: keeps silence from being shaped


MOST_ABOVE = 3
DAMPINGS = (
    2.0 * math.sin(math.pi / 8.0),
    2.0 * math.sin(3.0 * math.pi / 8.0),
)  # of a Butterworth filter of fourth order
KEY_ORDER = 2  # of the key's filters
HIGHEST_SHARE = 0.4  # of the sample rate: bands part no higher


@dataclass(frozen=True, slots=True, kw_only=True)
class Above(Settings):
    """How what lies above a frequency, up to the next one, is shaped."""

    from_hz: float = number(1000.0, 40.0, 8000.0, step=1.0, unit="Hz", help="where the bands part")
    attack_db: float = number(0.0, -15.0, 15.0, step=0.5, unit="dB")
    sustain_db: float = number(0.0, -24.0, 15.0, step=0.5, unit="dB")
    gain_db: float = number(0.0, -15.0, 15.0, step=0.5, unit="dB", help="of all of the band")


@dataclass(frozen=True, slots=True, kw_only=True)
class Shaper(Tool):
    """Attack and sustain, whatever the level of the hit; with ``above`` only of what lies below the first of them."""

    kind: str = kind("shaper")
    attack_db: float = number(
        0.0,
        -15.0,
        15.0,
        step=0.5,
        unit="dB",
        help="the first 10 ms of a hit; keyed by found hits it also catches one 12 dB softer within 60 ms of another",
    )
    sustain_db: float = number(
        0.0, -24.0, 15.0, step=0.5, unit="dB", help="all that follows until the next stroke: ring, room, bleed"
    )

    gain_db: float = number(0.0, -15.0, 15.0, step=0.5, unit="dB", help="of all of it")
    above: tuple[Above, ...] = ()
    key: Key = Key(length_ms=5.0)  # noqa: RUF009 (frozen); as short as can be, so that the hits of a roll do not run together

    def __post_init__(self) -> None:
        Tool.__post_init__(self)
        edges = [each.from_hz for each in self.above]
        if len(edges) > MOST_ABOVE:
            raise SettingsError(f"above: at most {MOST_ABOVE + 1} bands, got {len(edges) + 1}.")
        if edges != sorted(set(edges)):
            raise SettingsError("above: bands must be in order of frequency, one from each.")

    @property
    def bands(self) -> tuple["Shaper | Above", ...]:
        """Return what each band is set to, the lowest first."""
        return (self, *self.above)

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the shaper must hear beyond a span: its envelope and the past of it, and an attack that is under way."""
        attack = Reach(exact=math.ceil((ATTACK_MS + FALL_MS) * sample_rate_hz / 1000.0))
        parted = Reach(sum(each.settle_samples() for row in _parted(self, sample_rate_hz) for each in row))
        key = of_cascades([self.detector(sample_rate_hz)])
        return key + of_follower(ENVELOPE_MS, sample_rate_hz) + of_follower(PAST_MS, sample_rate_hz) + attack + parted

    def detector(self, sample_rate_hz: int) -> tuple[Biquad, ...]:
        """Return the sections that the detector listens through."""
        return key_filter(self.key, KEY_ORDER, sample_rate_hz)


SETTINGS = Shaper
WIRE = Shaper()


def _parted(shaper: Shaper, sample_rate_hz: int) -> list[tuple[Moving, ...]]:
    """Return the sections of the shelves at which its bands part."""
    return [_sections(min(each.from_hz, HIGHEST_SHARE * sample_rate_hz), sample_rate_hz) for each in shaper.above]


def _sections(frequency_hz: float, sample_rate_hz: int) -> tuple[Moving, ...]:
    return tuple(low_shelf(frequency_hz, damping, sample_rate_hz) for damping in DAMPINGS)


class Run:
    """Transient shapers of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    ahead = 0

    def __init__(self, tools: Sequence[Shaper | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        rate, shapers = sample_rate_hz, [each or WIRE for each in tools]
        values = [
            coefficient(1000.0 / (2.0 * np.pi * BRIGHT_HZ), rate),
            coefficient(ENVELOPE_MS, rate),
            coefficient(PAST_MS, rate),
            SHAPER_FLOOR,
            1000.0 / (FALL_MS * rate),
            coefficient(RISE_MS, rate),
            1.0 + ATTACK_MS / FALL_MS,
            ONSET_RATIO,
            1.0 / (FULL_RATIO - ONSET_RATIO),
        ]
        tops = [s.bands[-1] for s in shapers]
        amounts = ([_octaves(band, "attack_db") for band in tops], [_octaves(band, "sustain_db") for band in tops])
        same = ([value] * len(shapers) for value in values)
        self._detectors = Detectors(
            [s.detector(rate) for s in shapers], [0] * len(shapers), [bool(s.key.of) for s in shapers], width
        )
        self._struck = [k for k, s in enumerate(shapers) if s.key.of.startswith("hits:")]
        self._last = np.zeros(len(self._struck), np.float32)
        self._depth = max(len(s.above) for s in shapers)
        parted = [row for k in range(self._depth) for row in zip(*(_shelf(s, k, rate) for s in shapers), strict=True)]
        self._params = lanes([*same, *amounts, [float(linked)] * len(shapers), *parted], width)
        state = [0.0, SHAPER_FLOOR, SHAPER_FLOOR, 0.0, 0.0, *[0.0] * (4 * self._depth)]
        self._state = np.repeat(np.array(state, np.float32), width)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Shape the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place.

        key : a bank of the same shape, for the lanes whose key is elsewhere
        """
        part = bank[:count]
        heard = part if self._detectors.plain else self._detectors.hear(bank, key, count)
        if self._struck and key is not None:
            heard[:, self._struck], self._last = onsets(heard[:, self._struck], self._last)
        loop = _shaper.BANKS[bank.shape[1]].shaper
        loop(part.reshape(-1), heard.reshape(-1), self._depth, self._params, self._state)


def onsets(strikes: np.ndarray, before: np.ndarray | float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """Return a single sample of 1 for each strike of a key that is a row of pulses [shape=(samples, lanes)], whatever its level, and the last row."""
    rises = np.diff(strikes, axis=0, prepend=np.broadcast_to(before, (1, strikes.shape[1]))) > 0.0
    return rises.astype(np.float32), strikes[-1].copy()


def _octaves(band: Shaper | Above, name: str) -> float:
    return (getattr(band, name) + band.gain_db) / DB_PER_OCTAVE


def _shelf(shaper: Shaper, number_: int, rate: int) -> tuple[float, ...]:
    """Return the parameters of one of the frequencies at which a shaper's bands part; of none where it has fewer."""
    if number_ >= len(shaper.above):
        sections, larger = _sections(1000.0, rate), (0.0, 0.0)
    else:
        below, above = shaper.bands[number_ : number_ + 2]
        larger = tuple((_octaves(below, name) - _octaves(above, name)) / 4.0 for name in ("attack_db", "sustain_db"))
        sections = _parted(shaper, rate)[number_]
    return (*(value for each in sections for value in (*each.coefficients(), each.k)), *larger)


def oracle(x: np.ndarray, shaper: Shaper, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] with its attack and sustain shaped, sample by sample in double precision."""
    from arkund.core.tools.plain import filtered

    heard = filtered(np.asarray(x if key is None else key, float), shaper.detector(sample_rate_hz))
    if shaper.key.of.startswith("hits:") and key is not None:
        heard = onsets(heard[:, None])[0][:, 0]
    rate, low, env, past, left, share = sample_rate_hz, 0.0, SHAPER_FLOOR, SHAPER_FLOOR, 0.0, 0.0
    dull = math.exp(-2 * math.pi * BRIGHT_HZ / rate)
    kr, kp, ka = (coefficient(t, rate) for t in (ENVELOPE_MS, PAST_MS, RISE_MS))
    shares: list[float] = []
    for v in heard.tolist():
        low = v + (low - v) * dull
        env = max(abs(v - low) + SHAPER_FLOOR, env * kr)
        past = env + (past - env) * kp if env > past else env
        onset = (env / past - ONSET_RATIO) / (FULL_RATIO - ONSET_RATIO)
        held_from = 1.0 + ATTACK_MS / FALL_MS
        left = max(left - 1000.0 / (FALL_MS * rate), min(max(onset, 0.0), 1.0) * held_from)
        wanted = min(left, 1.0)
        share = wanted + (share - wanted) * ka if wanted > share else wanted
        shares.append(share)
    top = shaper.bands[-1]
    out = np.asarray(x, float) * [float(db_to_gain(_gain_db(top, share))) for share in shares]
    for band, above, sections in zip(shaper.bands, shaper.above, _parted(shaper, rate), strict=False):
        for mine in sections:
            out = _shelved(out, shares, band, above, mine)
    return out


def _gain_db(band: Shaper | Above, share: float) -> float:
    return band.attack_db * share + band.sustain_db * (1.0 - share) + band.gain_db


def _shelved(x: np.ndarray, shares: list[float], below: Shaper | Above, above: Above, mine: Moving) -> np.ndarray:
    """Return a signal through a section of a shelf that makes what lies below as much louder as it is set to, by the trapezoidal rule."""
    g, k, first, second, out = mine.g, mine.k, 0.0, 0.0, np.empty(len(x))
    for i, v in enumerate(x.tolist()):
        band = (first + g * (v - second)) / (1.0 + g * (g + k))
        low = second + g * band
        first, second = 2.0 * band - first, 2.0 * low - second
        root = float(db_to_gain((_gain_db(below, shares[i]) - _gain_db(above, shares[i])) / 4.0))
        out[i] = v + (root * root - 1.0) * low + (root - 1.0) * k * band
    return out
