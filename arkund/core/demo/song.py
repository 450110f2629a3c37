"""The demo session: three takes of one invented song, with planted problems and a truth file beside the audio."""

import dataclasses
import json
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import soundfile

from arkund.core.demo.recording import Kit, Library, record, truth_of
from arkund.core.demo.room import MicPlace, usual_mics, usual_voices
from arkund.core.demo.score import Playing, Stroke, bar_s, play
from arkund.core.units import db_to_gain

SONG = "Arkund demo song"
BAND = "an invented drummer"
PLACE = "a computed room"
BPM = 112.0
RATE_HZ = 48_000
START_S = 3.2
SECTIONS = (
    ("intro", 4, "verse"),
    ("verse", 12, "verse"),
    ("chorus", 10, "chorus"),
    ("verse 2", 8, "verse"),
    ("bridge", 6, "bridge"),
    ("chorus 2", 8, "chorus"),
)
TAKES = (("Take 1", 101, {}), ("Take 2", 202, {"push_ms": -6.0}), ("Take 3", 303, {"spread_ms": 7.0}))
SWAPPED = ("T1", "T2")
INVERTED = ("Snr btm", "Rm mono")
HOT = "OH L"
CLIP_OVER_DB = 5.0
RIDE_WASH_TAKE = 2


def demo_kit(rate_hz: int = RATE_HZ) -> Kit:
    """Return the demo's kit: a kick without low end, a snare with a ring, an inverted room mic."""
    voices = usual_voices()
    voices["kick"] = dataclasses.replace(voices["kick"], tune_hz=66.0, decay_s=0.05)
    voices["snare"] = dataclasses.replace(voices["snare"], ring_hz=742.0, ring_db=-13.0)
    mics = []
    for mic in usual_mics():
        changed: MicPlace = mic
        if mic.name == "Rm mono":
            changed = dataclasses.replace(mic, polarity=-1)
        if mic.name == HOT:
            changed = dataclasses.replace(mic, peak_dbfs=CLIP_OVER_DB - 2.0)
        mics.append(changed)
    return Kit(sample_rate_hz=rate_hz, seed=7, voices=voices, mics=tuple(mics))


def strokes_of(seed: int, **feel) -> list[Stroke]:
    """Return the strokes of one take of the song."""
    rng = np.random.default_rng(seed)
    out: list[Stroke] = []
    at = START_S
    for number, (_, bars, kind) in enumerate(SECTIONS):
        playing = Playing(
            style="busy" if kind == "bridge" else "straight",
            bpm=BPM,
            bars=bars,
            start_s=at,
            seed=seed + number,
            hard=("count_in",) if number == 0 else ("foot_hats",) if kind == "bridge" else (),
            cymbal="ride" if kind == "chorus" else "hihat",
            hat_db=-14.0 if number == 1 else -5.0,
            flam_share=0.1,
            floor_fills=False,
            drift_ms_per_bar=1.2 if number == 3 else 0.0,
            **feel,
        )
        out += play(playing)
        at += bars * bar_s(playing)
    end = at
    floor_at = START_S + bar_s(playing) * np.array([3.75, 15.875, 25.75, 39.875])
    out += [Stroke(float(t), "floor", float(rng.uniform(-4, -1))) for t in floor_at]
    out += [Stroke(end, "kick", -1.0), Stroke(end + 0.004, "crash", -2.0)]
    return sorted(out, key=lambda s: s.time_s)


def drop_one(strokes: list[Stroke]) -> tuple[list[Stroke], Stroke]:
    """Leave out one backbeat of the second verse, as if the drummer missed it."""
    late = [s for s in strokes if s.piece == "snare" and s.level_db > -6.0 and s.time_s > 60.0]
    gone = late[3]
    return [s for s in strokes if s is not gone], gone


def generate(
    folder: Path, on_progress: Callable[[float, str], None] = lambda share, text: None, takes: int = len(TAKES)
) -> dict:
    """Write the demo's first takes as 24-bit files, one folder a take, with ``truth.json``; returns the truth."""
    kit = demo_kit()
    library = Library(kit)
    length = START_S + sum(bars for _, bars, _ in SECTIONS) * 4 * 60.0 / BPM + 4.0
    truth = {
        "song": SONG,
        "band": BAND,
        "place": PLACE,
        "bpm": BPM,
        "first_bar_s": START_S,
        "sample_rate": RATE_HZ,
        "sections": [{"name": name, "bars": bars} for name, bars, _ in SECTIONS],
        "problems": {
            "inverted": list(INVERTED),
            "swapped_names": list(SWAPPED),
            "clipped": HOT,
            "snare_ring_hz": 742.0,
            "kick_without_low_end": True,
            "floor_tom_strokes": 4,
            "soft_hat_section": SECTIONS[1][0],
            "ride_wash_take": TAKES[RIDE_WASH_TAKE][0],
        },
        "takes": {},
    }
    files = takes * len(kit.mics)
    for number, (name, seed, feel) in enumerate(TAKES[:takes]):
        strokes = strokes_of(seed, **feel)
        dropped = None
        if number == 0:
            strokes, dropped = drop_one(strokes)
        target = folder / name
        target.mkdir(parents=True, exist_ok=True)
        truth["takes"][name] = {
            "dropped_snare_s": dropped.time_s if dropped else None,
            "hits": {p: [dataclasses.asdict(h) for h in hits] for p, hits in truth_of(kit, strokes, library).items()},
        }
        washy = dataclasses.replace(kit, voices=kit.voices | {"ride": _washy(kit)}) if number == RIDE_WASH_TAKE else kit
        with ThreadPoolExecutor(2) as pool:
            waiting = []
            for done, (mic, audio) in enumerate(record(washy, strokes, length, library)):
                waiting.append(pool.submit(_write, target / f"{_file_name(mic.name)}.wav", audio))
                on_progress((number * len(kit.mics) + done + 1) / files, f"{name}: {mic.name}")
            for each in waiting:
                each.result()
    (folder / "truth.json").write_text(json.dumps(truth, indent=1))
    return truth


def _washy(kit: Kit):
    ride = kit.voices["ride"]
    return dataclasses.replace(ride, loudness_db=ride.loudness_db + 8.0)


def _file_name(mic_name: str) -> str:
    """Two tom files carry each other's name."""
    return {SWAPPED[0]: SWAPPED[1], SWAPPED[1]: SWAPPED[0]}.get(mic_name, mic_name)


def _write(path: Path, audio: np.ndarray) -> None:
    soundfile.write(path, np.clip(audio, -1.0, db_to_gain(0.0) - 2.0**-23), RATE_HZ, subtype="PCM_24")
