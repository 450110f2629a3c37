"""Kits to teach the hit judge on: the generator's, made strange, so that the judge learns acoustics and not one generator's timbres.

Each number gives another kit: style, tempo, hard cases, mics that are missing, bleed, noise, hum, DC, hot and clipped mics, pieces hardly ever
played, and in most of them strokes with a random equaliser, softened attacks, shortened tails and reflections.
"""

import dataclasses

import numpy as np

from arkund.core.demo.recording import Kit, Library, TrueHit, record, truth_of, varied_kit
from arkund.core.demo.room import MicPlace
from arkund.core.demo.score import HARD_CASES, Playing, Stroke, bar_s, play
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.settings import Channel, channels_of
from tools.makings import Coloured, Mixed, Modes, Noises, Recorded

BPM = {"straight": (85, 170), "busy": (80, 140), "slow": (55, 85), "sixeight": (45, 90)}
MISSING = {"Ride": 0.4, "Rm mono": 0.4, "Talkback": 0.5, "Kik sub": 0.3, "Snr btm": 0.25, "KD out": 0.25, "HH": 0.15, "T2": 0.15, "Rm L": 0.2}  # fmt: skip
FEW_SHARE = 0.08
MAKINGS = (
    Library,
    Recorded,
    Coloured,
    Recorded,
    Modes,
    Recorded,
    Noises,
    Recorded,
    Mixed,
    Recorded,
    Recorded,
)  # by number, in turn
FEW = ({"KD in", "SN top"}, {"SN top"}, {"KD in", "SN top", "OH L", "OH R"}, {"KD out", "SN top", "HH", "FT", "OH L"})


@dataclasses.dataclass(frozen=True)
class StrangeKit:
    """A take with its truth, as the hit finder sees it."""

    readers: list[ArrayMic]
    mics: tuple[MicPlace, ...]
    channels: list[Channel]
    sample_rate_hz: int
    truth: dict[str, list[TrueHit]]


def strange_kit(number: int) -> StrangeKit:
    """Generate the kit of a number; numbers have nothing to do with the seeds that tests and surveys use."""
    rng = np.random.default_rng([number, 77_001])
    style = str(rng.choice(list(BPM), p=[0.3, 0.35, 0.15, 0.2]))
    share = rng.choice([0.0, 0.5, 1.0])
    bars = {"slow": 6, "sixeight": 9}.get(style, 10) * int(rng.choice([1, 2, 3], p=[0.75, 0.15, 0.1]))
    playing = Playing(
        style=style,
        bpm=float(rng.uniform(*BPM[style])),
        bars=bars,
        seed=int(rng.integers(1 << 40, 1 << 41)),
        start_s=2.4,
        hard=tuple(case for case in HARD_CASES if rng.random() < share),
        flam_share=float(rng.choice([0, 0.1, 0.3])),
        cymbal="ride" if rng.random() < 0.3 else "hihat",
        hat_db=float(rng.uniform(-11, 0)),
        spread_ms=float(rng.uniform(1, 7)),
        fills=bool(rng.random() < 0.9),
        floor_fills=bool(rng.random() < 0.8),
    )
    kit = varied_kit(
        int(rng.integers(1 << 40, 1 << 41)),
        sample_rate_hz=int(rng.choice([48_000, 44_100, 96_000], p=[0.55, 0.4, 0.05])),
        bleed_db=float(rng.uniform(-4, 7)),
        sympathy_db=float(rng.uniform(-38, -21)),
        buzz_db=float(rng.uniform(-48, -22)),
        noise_dbfs=float(rng.uniform(-88, -66)),
        room_db=float(rng.uniform(-6, 6)),
        hum_dbfs=float(rng.uniform(-75, -55)) if rng.random() < 0.2 else None,
        dc=float(rng.uniform(-0.02, 0.02)) if rng.random() < 0.2 else 0.0,
    )
    whole, kit = kit, dataclasses.replace(kit, mics=_mics(kit, rng))
    strokes = _rarely(play(playing), rng)
    library = MAKINGS[number % len(MAKINGS)](kit)
    length_s = playing.start_s + bars * bar_s(playing) + 1.5
    readers = [ArrayMic(np.clip(sound, -1.0, 1.0)) for _, sound in record(kit, strokes, length_s, library)]
    overheads = tuple(mic for mic in whole.mics if mic.role == "overhead")
    listed = dataclasses.replace(kit, mics=(*kit.mics, *overheads))  # where pieces without a mic have their time
    truth = truth_of(listed, strokes, library)
    return StrangeKit(readers, kit.mics, channels_of(kit.mics), kit.sample_rate_hz, truth)


def _mics(kit: Kit, rng):
    names = {mic.name for mic in kit.mics if rng.random() >= MISSING.get(mic.name, 0.0)}
    if rng.random() < FEW_SHARE:
        names = FEW[int(rng.integers(len(FEW)))]
    hot = rng.random() < 0.1
    return tuple(
        dataclasses.replace(mic, peak_dbfs=mic.peak_dbfs + float(rng.uniform(0, 10) if hot else rng.uniform(-14, 3)))
        for mic in kit.mics
        if mic.name in names
    )


def _rarely(strokes: list[Stroke], rng) -> list[Stroke]:
    """Leave only a stroke or two of some toms and cymbals."""
    for piece in ("tom1", "tom2", "floor", "ride"):
        if rng.random() < 0.15:
            mine = [s for s in strokes if s.piece == piece]
            left = [mine[k] for k in rng.permutation(len(mine))[: int(rng.integers(0, 3))]]
            strokes = [s for s in strokes if s.piece != piece or s in left]
    return strokes
