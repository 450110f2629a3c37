"""A starting equaliser per mic: usual zones, tuned to what was measured in this mic."""

import numpy as np

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.rig import rows
from arkund.core.tone.measure import ToneMeasure
from arkund.core.tools.tone import Band, Tone

HAT_HEAVY_DB = -14.0  # bleed above 5 kHz this near to the own sound: no boost of the top


def propose(mic, measured: ToneMeasure) -> Finding | None:
    """Return the starting bands for one mic, each with where its figure comes from."""
    bands, words = _bands(mic, measured)
    if not bands:
        return None
    return Finding(
        "tone",
        f"tone:{mic.id}",
        mic.id,
        f"{mic.name}: {len(bands)} filters",
        " ".join(words),
        rows.put(f"mics.{mic.id}", mic, Tone(bands=tuple(bands))),
    )


def _bands(mic, m: ToneMeasure) -> tuple[list[Band], list[str]]:
    bands, words = [], []

    def add(kind: str, frequency: float, gain: float = 0.0, q: float = 0.9, slope: int = 12, why: str = "") -> None:
        bands.append(Band(kind=kind, frequency_hz=round(float(frequency), 1), gain_db=gain, q=q, slope_db=slope))
        words.append(why)

    f0 = m.fundamental_hz
    if mic.piece == "kick":
        if mic.role == "sub":
            add("low_pass", 110, slope=24, why="Sub mic carries the bottom only: low-pass at 110 Hz (usual).")
        else:
            add(
                "high_pass",
                max(0.6 * (f0 or 50), 25),
                why=f"High-pass under the fundamental {f0:.0f} Hz (measured)."
                if f0
                else "High-pass at 30 Hz (usual; it has no own hit to be measured by).",
            )
            box = _loudest(m, 220, 700)
            add("bell", box, -4.0, 1.2, why=f"Box at {box:.0f} Hz cut 4 dB (measured peak).")
            if mic.role == "in":
                beater = _loudest(m, 2500, 5000)
                add("bell", beater, 3.5, 1.0, why=f"Beater at {beater:.0f} Hz lifted 3.5 dB (measured peak).")
    elif mic.piece == "snare":
        top = mic.role != "bottom"
        add(
            "high_pass",
            85 if top else 220,
            slope=24,
            why=f"High-pass at {85 if top else 220} Hz against the kick (usual).",
        )
        if m.ring is not None and top:
            add(
                "bell",
                m.ring.frequency_hz,
                -7.0,
                12.0,
                why=f"Ring at {m.ring.frequency_hz:.0f} Hz ({m.ring.above_db:.0f} dB high, measured) narrowed out.",
            )
        if top:
            box = _loudest(m, 400, 800)
            add("bell", box, -3.0, 1.4, why=f"Box at {box:.0f} Hz cut 3 dB (measured peak).")
            add("bell", 3600, 2.5, 0.8, why="Crack at 3.6 kHz lifted 2.5 dB (usual).")
            if _bleed_above(m, 5000) < HAT_HEAVY_DB:
                add(
                    "high_shelf",
                    8000,
                    2.0,
                    0.7,
                    why="Wires lifted 2 dB above 8 kHz: the hat is low enough here (measured).",
                )
            else:
                words.append("Top not lifted: the hat is too loud in this mic (measured).")
    elif is_tom(mic.piece):
        if f0:
            add("high_pass", 0.6 * f0, why=f"High-pass under the fundamental {f0:.0f} Hz (measured).")
            add("bell", f0, 2.0, 1.2, why="Fundamental lifted 2 dB.")
        box = _loudest(m, 350, 700)
        add("bell", box, -5.0, 1.2, why=f"Box at {box:.0f} Hz cut 5 dB (measured peak).")
        add("bell", 4000, 3.0, 0.9, why="Stick at 4 kHz lifted 3 dB (usual).")
    elif mic.piece in ("hihat", "ride", "crash"):
        add("high_pass", 320, slope=24, why="High-pass at 320 Hz: nothing of the cymbal lies below (usual).")
    elif mic.role == "overhead":
        add(
            "high_pass",
            100,
            slope=12,
            why="High-pass at 100 Hz: overheads as the picture of the whole kit (usual).",
        )
        add("bell", 450, -2.0, 0.8, why="Low mids scooped 2 dB (usual).")
        add("high_shelf", 8000, 1.5, 0.7, why="Lift of 1.5 dB above 8 kHz (usual).")
    elif mic.role in ("room", "talkback"):
        add("high_pass", 60, why="High-pass at 60 Hz (usual).")
        add("bell", 350, -3.0, 0.8, why="Low mids scooped 3 dB (usual).")
    return bands, [w for w in words if w]


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
