"""A starting equaliser per mic: what a measured fault asks for, and, offered beside it, the usual lifts and dips; what would hardly be heard is left out."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.rig import rows
from arkund.core.tone.measure import ToneMeasure
from arkund.core.tools.tone import Band, Tone
from arkund.core.units import db_to_power, power_to_db

HAT_HEAVY_DB = -14.0  # bleed above 5 kHz this near to the own sound: no boost of the top
BOX_SHARE, BOX_DB = 0.7, (2.0, 6.0)  # of what stands over its surroundings that is cut; at least and at most
RING_LEFT_DB, RING_DB, RING_Q = 6.0, (4.0, 12.0), 14.0
PINK_SHARE = 0.08  # of the way to pink noise, in octaves
PINK_HZ = (250.0, 500.0, 1000.0, 2000.0, 4000.0)
LEAST_DB = 0.5
WHOLE_HZ, CYMBALS_HZ = 100.0, 400.0  # below, of overheads as the picture of the kit, as cymbals only
FALLS_HZ = 20_000.0


class _Row:
    """Filters with the reason for each; those of taste, which answer no measured fault, by themselves."""

    def __init__(self) -> None:
        self.bands: list[Band] = []
        self.words: list[str] = []
        self.of_taste: list[Band] = []
        self.taste_words: list[str] = []

    def add(
        self, kind: str, frequency: float, gain: float = 0.0, q: float = 0.9, slope: int = 12, why: str = ""
    ) -> None:
        self.bands.append(_band(kind, frequency, gain, q, slope))
        self.words.append(why)

    def offer(
        self, kind: str, frequency: float, gain: float = 0.0, q: float = 0.9, slope: int = 12, why: str = ""
    ) -> None:
        self.of_taste.append(_band(kind, frequency, gain, q, slope))
        self.taste_words.append(why)


def _band(kind: str, frequency: float, gain: float, q: float, slope: int) -> Band:
    return Band(kind=kind, frequency_hz=round(float(frequency), 1), gain_db=round(gain, 1), q=q, slope_db=slope)


def propose(mic, measured: ToneMeasure) -> list[Finding]:
    """Return the starting bands for one mic, each with where its figure comes from: those that it needs, and, offered, with the usual ones beside them."""
    row = _Row()
    _BY_KIND.get(_kind(mic), lambda *_: None)(row, mic, measured)
    out = []
    if row.bands:
        changes, why = rows.put(f"mics.{mic.id}", mic, Tone(bands=tuple(row.bands))), " ".join(row.words)
        plain = len(row.bands) == 1 and row.bands[0].kind == "high_pass"
        kind, short = ("High-passes", f"{mic.name} {row.bands[0].frequency_hz:.0f} Hz") if plain else ("", "")
        title = f"{mic.name}: {_named(row.bands)}"
        out.append(Finding("tone", f"tone:{mic.id}", mic.id, title, why, changes, kind=kind, short=short))
    if row.of_taste:
        bands, why = (*row.bands, *row.of_taste), " ".join([*row.words, *row.taste_words])
        changes = rows.put(f"mics.{mic.id}", mic, Tone(bands=bands))
        title = f"{mic.name}: to taste {_named(row.of_taste)}"
        out.append(Finding("tone", f"tone:{mic.id}:taste", mic.id, title, why, changes, first_choice=False))
    return out


def propose_cymbals(overheads: Sequence[tuple[Any, ToneMeasure]]) -> Finding | None:
    """Return the other school of the overheads, all in one: only their cymbals, without the drums under them."""
    changes, words = {}, []
    for mic, measured in overheads:
        row = _Row()
        row.add("high_pass", CYMBALS_HZ, slope=24)
        _cymbals(row, measured)
        changes |= rows.put(f"mics.{mic.id}", mic, Tone(bands=(*row.bands, *row.of_taste)))
        words.append(mic.name)
    if not changes:
        return None
    why = f"High-pass at {CYMBALS_HZ:.0f} Hz in {', '.join(words)}: the drums come from their own mics alone."
    title = "Or: the overheads as cymbals only"
    return Finding("tone", "tone:cymbals", overheads[0][0].id, title, why, changes, first_choice=False)


def _named(bands: Sequence[Band]) -> str:
    """Return filters in words: "high-pass 85 Hz, 742 Hz -12.0 dB narrow"."""
    return ", ".join(_band_words(band) for band in bands)


def _band_words(band: Band) -> str:
    if band.kind in ("high_pass", "low_pass"):
        return f"{band.kind.replace('_', '-')} {band.frequency_hz:.0f} Hz"
    shelf = f"{band.kind.replace('_', ' ')} " if band.kind != "bell" else ""
    return f"{shelf}{band.frequency_hz:.0f} Hz {band.gain_db:+.1f} dB{' narrow' if band.q >= RING_Q else ''}"


def _kind(mic) -> str:
    if is_tom(mic.piece):
        return "tom"
    if mic.piece in ("hihat", "ride", "crash"):
        return "cymbal"
    return mic.piece if mic.piece in ("kick", "snare") else mic.role


def _kick(row: _Row, mic, m: ToneMeasure) -> None:
    if mic.role == "sub":
        row.add("low_pass", 110, slope=24, why="Sub mic carries the bottom only: low-pass at 110 Hz (usual).")
        return
    f0 = m.fundamental_hz
    why = (
        f"High-pass under the fundamental {f0:.0f} Hz (measured)."
        if f0
        else "High-pass at 30 Hz (usual; it has no own hit to be measured by)."
    )
    row.add("high_pass", max(0.6 * (f0 or 50), 25), why=why)
    _box(row, m)
    if mic.role == "in":
        beater = _loudest(m, 2500, 5000)
        row.offer("bell", beater, 3.5, 1.0, why=f"Beater at {beater:.0f} Hz lifted 3.5 dB (measured peak).")


def _snare(row: _Row, mic, m: ToneMeasure) -> None:
    top = mic.role != "bottom"
    below = 85 if top else 220
    row.add("high_pass", below, slope=24, why=f"High-pass at {below} Hz against the kick (usual).")
    if not top:
        return
    if m.ring is not None:
        cut = float(np.clip(m.ring.above_db - RING_LEFT_DB, *RING_DB))
        why = f"Ring at {m.ring.frequency_hz:.0f} Hz ({m.ring.above_db:.0f} dB high, {m.ring.decay_s:.1f} s, measured) cut by {cut:.0f} dB, narrowly."
        row.add("bell", m.ring.frequency_hz, -cut, RING_Q, why=why)
    _box(row, m)
    row.offer("bell", 3600, 2.5, 0.8, why="Crack at 3.6 kHz lifted 2.5 dB (usual).")
    bleed_db = _bleed_above(m, 5000)
    if bleed_db < HAT_HEAVY_DB:
        row.offer(
            "high_shelf",
            8000,
            2.0,
            0.7,
            why=f"Wires lifted 2 dB above 8 kHz: others are {-bleed_db:.0f} dB under the snare there (measured).",
        )
    else:
        row.taste_words.append(f"Top not lifted: others are only {-bleed_db:.0f} dB under the snare there (measured).")


def _tom(row: _Row, mic, m: ToneMeasure) -> None:
    f0 = m.fundamental_hz
    if f0:
        row.add("high_pass", 0.6 * f0, why=f"High-pass under the fundamental {f0:.0f} Hz (measured).")
        row.offer("bell", f0, 2.0, 1.2, why="Fundamental lifted 2 dB.")
    _box(row, m)
    row.offer("bell", 4000, 3.0, 0.9, why="Stick at 4 kHz lifted 3 dB (usual).")


def _cymbal(row: _Row, mic, m: ToneMeasure) -> None:
    row.add("high_pass", 320, slope=24, why="High-pass at 320 Hz: nothing of the cymbal lies below (usual).")


def _overhead(row: _Row, mic, m: ToneMeasure) -> None:
    row.add(
        "high_pass",
        WHOLE_HZ,
        slope=12,
        why=f"High-pass at {WHOLE_HZ:.0f} Hz: overheads as the picture of the whole kit (usual).",
    )
    row.offer("bell", 450, -2.0, 0.8, why="Low mids scooped 2 dB (usual).")
    _cymbals(row, m)


def _cymbals(row: _Row, m: ToneMeasure) -> None:
    """A step towards pink noise where it is heard, and the lift at 8 kHz with a fall at 20."""
    for hz, gain in towards_pink(m):
        row.offer(
            "bell",
            hz,
            gain,
            1.0,
            why=f"{hz:.0f} Hz {gain:+.1f} dB: {100 * PINK_SHARE:.0f} % of the way to pink noise (measured).",
        )
    row.offer("high_shelf", 8000, 1.5, 0.7, why="Lift of 1.5 dB above 8 kHz (usual).")
    row.offer("low_pass", FALLS_HZ, slope=6, why="Falls gently to 20 kHz.")


def _room(row: _Row, mic, m: ToneMeasure) -> None:
    row.add("high_pass", 60, why="High-pass at 60 Hz (usual).")
    row.offer("bell", 350, -3.0, 0.8, why="Low mids scooped 3 dB (usual).")


_BY_KIND = {
    "kick": _kick,
    "snare": _snare,
    "tom": _tom,
    "cymbal": _cymbal,
    "overhead": _overhead,
    "room": _room,
    "talkback": _room,
}


def _box(row: _Row, m: ToneMeasure) -> None:
    """Cut a share of what stands over the surroundings, and say what is left; nothing where it hardly does."""
    if m.box is None or BOX_SHARE * m.box.above_db < BOX_DB[0]:
        return
    cut = float(np.clip(BOX_SHARE * m.box.above_db, *BOX_DB))
    left = m.box.above_db - cut
    why = f"Box at {m.box.frequency_hz:.0f} Hz stands {m.box.above_db:.1f} dB over its surroundings (measured): cut by {cut:.1f} dB, {left:.1f} left."
    row.add("bell", m.box.frequency_hz, -cut, 1.4, why=why)


def towards_pink(m: ToneMeasure) -> list[tuple[float, float]]:
    """Return by how much octaves of a mic are to be moved towards an even fall of 3 dB an octave, as (Hz, dB); what would not be heard is left out."""
    axis = np.array(m.axis_hz)
    level = power_to_db(0.5 * (db_to_power(np.array(m.own_db)) + db_to_power(np.array(m.others_db)))) + 3.0 * np.log2(
        axis
    )
    octaves = np.array([np.mean(level[(axis >= hz / 2**0.5) & (axis < hz * 2**0.5)]) for hz in PINK_HZ])
    off = octaves - octaves.mean()
    moves = -PINK_SHARE * off
    return [(hz, round(float(db), 1)) for hz, db in zip(PINK_HZ, moves, strict=True) if abs(db) >= LEAST_DB]


def _loudest(m: ToneMeasure, low_hz: float, high_hz: float) -> float:
    """Return the frequency at which the own spectrum stands highest over its fall (3 dB per octave)."""
    axis, own = np.array(m.axis_hz), np.array(m.own_db)
    band = (axis >= low_hz) & (axis <= high_hz)
    tilted = own[band] + 3.0 * np.log2(axis[band] / low_hz)
    return float(axis[band][np.argmax(tilted)])


def _bleed_above(m: ToneMeasure, low_hz: float) -> float:
    """Return the others' level against the own above a frequency, in dB."""
    axis = np.array(m.axis_hz)
    band = axis >= low_hz
    return float(np.mean(np.array(m.others_db)[band]) - np.mean(np.array(m.own_db)[band]))
