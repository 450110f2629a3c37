"""Small generated kits for tests, with the recordings as the core reads them and the truth beside."""

from dataclasses import dataclass, field

import numpy as np

from arkund.core.demo.recording import Kit, Library, TrueHit, record, truth_of, varied_kit
from arkund.core.demo.score import HARD_CASES, Playing, bar_s, play
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.resolve import Hit
from arkund.core.hits.settings import Channel, channels_of
from arkund.core.plan.plan import MicPlan, Plan, Tempo
from arkund.core.rig import usual


@dataclass
class SmallKit:
    """One generated take."""

    kit: Kit
    playing: Playing
    audio: dict[str, np.ndarray]
    truth: dict[str, list[TrueHit]]
    samples: int
    readers: dict[str, ArrayMic] = field(default_factory=dict)

    @property
    def sample_rate_hz(self) -> int:
        return self.kit.sample_rate_hz

    def mic(self, take: str, mic_id: str) -> ArrayMic | None:
        return self.readers.get(mic_id)

    def content(self, take: str, mic_id: str) -> str:
        return f"{self.kit.seed} {take} {mic_id}" if mic_id in self.readers else ""

    def length(self, take: str) -> int:
        return self.samples

    @property
    def plan(self) -> Plan:
        """A Plan that changes nothing: what stands ready is off."""
        mics = tuple(
            MicPlan(id=m.name, name=m.name, piece=m.piece, role=m.role, tools=usual.mic_row()) for m in self.kit.mics
        )
        tempo = Tempo(
            bpm=self.playing.bpm,
            beats_per_bar=6 if self.playing.style == "sixeight" else 4,
            beat_unit=8 if self.playing.style == "sixeight" else 4,
            first_bar_s=self.playing.start_s,
        )
        return Plan(take="take-1", mics=mics, tempo=tempo, kit=usual.kit())

    @property
    def hits(self) -> dict[str, list[Hit]]:
        """The true hits as the steps take them."""
        return {
            piece: [Hit(piece, h.time_s, h.level_db - 8.0, 100, h.ghost) for h in mine]
            for piece, mine in self.truth.items()
        }

    @property
    def channels(self) -> list[Channel]:
        return channels_of(self.plan.mics)


def small_kit(
    *,
    seed: int,
    style: str,
    bpm: float,
    bars: int,
    hard: bool = False,
    rate: int = 48_000,
    drop=(),
    play_with=None,
    strokes_of=Library,
    **kit_with,
) -> SmallKit:
    """Generate a kit with its own tuning and placement and a short part played on it."""
    kit = varied_kit(seed, sample_rate_hz=rate, **kit_with)
    if drop:
        kit = Kit(
            **{f: getattr(kit, f) for f in kit.__dataclass_fields__}
            | {"mics": tuple(m for m in kit.mics if m.name not in drop)}
        )
    playing = Playing(
        style=style, bpm=bpm, bars=bars, seed=seed, start_s=2.4, hard=HARD_CASES if hard else (), **(play_with or {})
    )
    strokes = play(playing)
    length_s = playing.start_s + bars * bar_s(playing) + 1.5
    library = strokes_of(kit)
    audio = {mic.name: np.clip(sound, -1.0, 1.0) for mic, sound in record(kit, strokes, length_s, library)}
    readers = {name: ArrayMic(sound) for name, sound in audio.items()}
    length = max(sound.size for sound in audio.values())
    return SmallKit(kit, playing, audio, truth_of(kit, strokes, library), length, readers)


@dataclass(frozen=True)
class Score:
    """How found hits compare with the truth."""

    right: int
    true: int
    found: int
    errors_s: tuple[float, ...]
    missed: tuple[int, ...]

    @property
    def f(self) -> float:
        return 2 * self.right / (self.true + self.found) if self.true + self.found else 1.0

    def __add__(self, other: "Score") -> "Score":
        return Score(
            self.right + other.right,
            self.true + other.true,
            self.found + other.found,
            self.errors_s + other.errors_s,
            (),
        )


NOTHING = Score(0, 0, 0, (), ())


def compare(true_s: list[float], found_s: list[float], within_s: float = 0.005) -> Score:
    """Pair sorted times one to one within a tolerance."""
    true_s, found_s = sorted(true_s), sorted(found_s)
    i = j = 0
    errors, missed = [], []
    while i < len(true_s):
        if j < len(found_s) and abs(found_s[j] - true_s[i]) <= within_s:
            errors.append(found_s[j] - true_s[i])
            i, j = i + 1, j + 1
        elif j < len(found_s) and found_s[j] < true_s[i]:
            j += 1
        else:
            missed.append(i)
            i += 1
    return Score(len(errors), len(true_s), len(found_s), tuple(errors), tuple(missed))
