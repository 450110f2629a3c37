"""The Plan: everything that is to be done to the recordings, immutable and complete.

A Plan is plain data. ``render(plan, recordings, span)`` is a pure function of it; every change is a Move.
"""

from dataclasses import dataclass

from arkund.core.card.own_style import OwnStyle
from arkund.core.card.targets import FIRST_SCHOOL, SCHOOLS
from arkund.core.clean.settings import Cleaning
from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import PIECES, ROLES, is_close
from arkund.core.level.settings import Window
from arkund.core.lineup.settings import LineUpSettings
from arkund.core.replace.made import Made
from arkund.core.replace.notes import NOTES
from arkund.core.replace.sampled import Sampled
from arkund.core.rig import wiring
from arkund.core.rig.scenes import LAST_BAR, Scene
from arkund.core.rig.strips import Group, Kit, Path, Strip, once
from arkund.core.rig.usual import FIRST_GROUPS
from arkund.core.settings import Settings, choice, number, text

SCHEMA = 3
BACKING_OWNS = "backing"  # as who owns the low end: the bass of the rest of the music
SHELF = "shelf"  # the take under which hits from files are kept
ID = r"[^.\s\x00-\x1f][^.\x00-\x1f]*"  # no dots, which part the steps of a path


@dataclass(frozen=True, slots=True, kw_only=True)
class LineUp(Settings):
    """How a mic is brought into step with the others."""

    delay_ms: float = number(0.0, -60.0, 60.0, step=0.01, unit="ms", help="later by this; negative = earlier")
    inverted: bool = False
    turned: bool = False  # over once more, against what the strip's own filters turn

    @property
    def sign(self) -> float:
        """The factor of its polarity."""
        return -1.0 if self.inverted != self.turned else 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class MicPlan(Strip):
    """One mic from its recording to its place in the kit, or a layer. group : a group's id, "" = the one that its piece and role belong to, where there is one;
    into : of a layer the mic through whose tools it goes, "" = a strip of its own
    """

    id: str = text(longest=60, pattern=ID)
    name: str = text()
    piece: str = choice("kit", PIECES)
    role: str = choice("room", ROLES)
    side: str = choice("", ("", "L", "R"))  # of a pair
    trim_db: float = number(0.0, -40.0, 40.0, step=0.1, unit="dB")
    line_up: LineUp = LineUp()
    clock_ppm: float = number(0.0, -500.0, 500.0, step=0.1, unit="ppm", help="how much faster its recording is read")
    repair: bool = False  # short clipped tops are drawn anew
    group: str = text("", longest=40)
    made: Made | None = None  # of a layer whose sound is made
    sampled: Sampled | None = None  # of a layer whose sounds are hits of the shelf
    into: str = text("", longest=60)

    def __post_init__(self) -> None:
        Strip.__post_init__(self)
        if self.made and self.sampled:
            raise SettingsError(f"{self.id}: a layer is made or of hits of the shelf, not both.")
        if self.into and not self.is_layer:
            raise SettingsError(f"{self.id}.into: only a layer goes through the tools of a mic.")
        if self.into and (self.tools or self.sends):
            raise SettingsError(f"{self.id}.into: has tools or sends of its own; take them away first.")

    @property
    def is_layer(self) -> bool:
        """Whether it is opened by strikes, and no recording."""
        return self.made is not None or self.sampled is not None

    @property
    def strikes(self) -> tuple[tuple[int, float], ...]:
        """What opens a layer; none of a mic."""
        sound = self.made or self.sampled
        return sound.strikes if sound else ()

    @property
    def moves_with_piece(self) -> bool:
        """Whether cuts of its piece alone move it."""
        return is_close(self.role) or self.is_layer


@dataclass(frozen=True, slots=True, kw_only=True)
class Meter(Settings):
    """A tempo and a meter; bpm counts beats of the meter's lower figure, dotted groups of three in compound meters."""

    bpm: float = number(120.0, 20.0, 400.0, step=0.01, unit="BPM")
    beats_per_bar: int = number(4, 1, 32, step=1)
    beat_unit: int = number(4, 1, 32, step=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class TempoChange(Meter):
    """Another tempo or meter from a bar on (counted from 0)."""

    bar: int = number(1, 1, LAST_BAR, step=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Tempo(Meter):
    """The tempo map: where bar 0 begins, its tempo and meter, and their changes at later bar lines."""

    first_bar_s: float = number(0.0, -60.0, 36000.0, step=0.001, unit="s")
    changes: tuple[TempoChange, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if [c.bar for c in self.changes] != sorted({c.bar for c in self.changes}):
            raise SettingsError("changes: must be in order of bars, one at a bar.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Meant(Settings):
    """Which grid the strokes of one bar are meant on."""

    bar: int = number(0, 0, LAST_BAR, step=1)
    grid: int = number(16, 1, 64, step=1, help="places per whole note")


@dataclass(frozen=True, slots=True, kw_only=True)
class Section(Settings):
    """A named part of the song, from the first bar given (counted from 0) to the next section."""

    name: str = text(longest=40)
    bar: int = number(0, 0, LAST_BAR, step=1)


@dataclass(frozen=True, slots=True, kw_only=True)
class Cut(Settings):
    """From this sample of the recording on, all mics are moved later by ``shift`` samples, until the next cut.

    The old piece fades into the new one; ``alike`` is how much the two correlate there, which decides the fade's law.
    """

    at: int = number(0, 0, 10**11, step=1)
    shift: int = number(0, -(10**7), 10**7, step=1)
    fade_ms: float | None = number(None, 0.1, 50.0, step=0.1, unit="ms", help="none = the Plan's crossfade")
    alike: float = number(1.0, 0.0, 1.0, step=0.01)


@dataclass(frozen=True, slots=True, kw_only=True)
class LoneCut(Cut):
    """A cut of one piece's own mics alone, in the time of the recording, before the cuts of all mics."""

    piece: str = choice("kick", PIECES)


@dataclass(frozen=True, slots=True, kw_only=True)
class Join(Settings):
    """From this sample of the song on, a take is heard from ``from_at`` of its own time on, in all mics, until the next join."""

    at: int = number(0, 0, 10**11, step=1)
    take: str = text(longest=40)
    from_at: int = number(0, 0, 10**11, step=1)
    fade_ms: float = number(2.0, 0.1, 50.0, step=0.1, unit="ms")
    alike: float = number(1.0, 0.0, 1.0, step=0.01)


@dataclass(frozen=True, slots=True, kw_only=True)
class ChosenBar(Settings):
    """A bar for which somebody has chosen a take: what is proposed leaves it alone."""

    bar: int = number(0, 0, LAST_BAR, step=1)
    take: str = text(longest=40)


@dataclass(frozen=True, slots=True, kw_only=True)
class HitChange(Settings):
    """A correction of the hits that were found: added, moved or removed by hand."""

    kind: str = choice("add", ("add", "move", "remove"))
    piece: str = choice("kick", PIECES)
    time_s: float = number(0.0, 0.0, 36000.0, step=0.0001, unit="s")
    to_s: float | None = number(None, 0.0, 36000.0, step=0.0001, unit="s")
    level_db: float | None = number(None, -120.0, 40.0, step=0.1, unit="dB")


@dataclass(frozen=True, slots=True, kw_only=True)
class Part(Settings):
    """What one mic holds of a hit from files. key : the recording of the shelf's take, named by its content"""

    role: str = choice("close", ROLES)
    key: str = text(longest=60, pattern=r"[-_a-z0-9]+")


MOST_HIT_SAMPLES = 4_000_000  # of a hit of the shelf: 20 s at the highest rate


@dataclass(frozen=True, slots=True, kw_only=True)
class Capture(Settings):
    """A hit of the shelf: a place in a recording, where nothing is copied; or, with parts, in files of its own.

    at, before, length : its first sample, and the samples before it and from it on that belong to it; level_db : its peak in the drum's own mic;
    strength_db : of one from files, against the strongest of its kind
    """

    id: str = text(longest=40, pattern=ID)
    name: str = text("", longest=80)
    origin: str = text("", longest=200)  # where it came from
    parts: tuple[Part, ...] = ()
    strength_db: float = number(0.0, -120.0, 0.0, step=0.1, unit="dB")
    piece: str = choice("snare", PIECES)
    take: str = text(longest=40)
    at: int = number(0, 0, 10**11, step=1)
    before: int = number(0, 0, 10**6, step=1)
    length: int = number(1, 1, MOST_HIT_SAMPLES, step=1)
    level_db: float = number(0.0, -120.0, 40.0, step=0.1, unit="dB")

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if bool(self.parts) != (self.take == SHELF):
            raise SettingsError(f"{self.id}: a hit from files has parts, and the take {SHELF!r}; another has neither.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Placement(Settings):
    """A captured hit in the place of one hit of its piece (times in the recording), in the mics at its piece or in those of the whole kit."""

    capture: str = text(longest=40)
    at: int = number(0, 0, 10**11, step=1)
    length: int = number(1, 1, MOST_HIT_SAMPLES, step=1)
    gain_db: float = number(0.0, -60.0, 60.0, step=0.1, unit="dB")
    everywhere: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Struck(Settings):
    """The strikes of a piece as keys hear them, frozen when a key was set to them: (sample of the recording, level in dBFS in the piece's own mic)."""

    piece: str = choice("snare", PIECES)
    strikes: tuple[tuple[int, float], ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Backing(Settings):
    """The rest of the music, listened to with the drums and never printed into them."""

    on: bool = False
    level_db: float = number(-6.0, -60.0, 12.0, step=0.5, unit="dB")
    offset_ms: float = number(0.0, -600_000.0, 600_000.0, step=1, unit="ms", help="later by this; negative = earlier")
    behind_ms: float = number(
        0.0, 0.0, 20.0, step=0.5, unit="ms", help="later still, so that cymbals are heard before it"
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan(Settings):
    """Everything that is to be done to one session."""

    schema: int = number(SCHEMA, SCHEMA, SCHEMA, step=1)
    take: str = text("", longest=40)
    mics: tuple[MicPlan, ...] = ()
    alignment: LineUpSettings = LineUpSettings()  # noqa: RUF009
    window: Window = Window()  # noqa: RUF009
    cleaning: Cleaning = Cleaning()  # noqa: RUF009
    tempo: Tempo = Tempo()
    sections: tuple[Section, ...] = ()
    joins: tuple[Join, ...] = ()
    chosen_bars: tuple[ChosenBar, ...] = ()
    crossfade_ms: float = number(2.0, 0.1, 20.0, step=0.1, unit="ms")
    meant: tuple[Meant, ...] = ()
    cuts: tuple[Cut, ...] = ()
    lone_cuts: tuple[LoneCut, ...] = ()
    hit_changes: tuple[HitChange, ...] = ()
    captures: tuple[Capture, ...] = ()
    placements: tuple[Placement, ...] = ()
    struck: tuple[Struck, ...] = ()
    backing: Backing = Backing()
    school: str = choice(FIRST_SCHOOL, SCHOOLS)  # whose targets the kit is brought to
    own_style: OwnStyle | None = None  # whose ranges stand in the place of the school's
    key: str = choice("", ("", *NOTES))  # the song's first note, where somebody has told it
    low_owner: str = text("", longest=60)  # the mic or layer that carries the low end, BACKING_OWNS, "" = not decided
    groups: tuple[Group, ...] = FIRST_GROUPS
    paths: tuple[Path, ...] = ()
    kit: Kit = Kit()  # noqa: RUF009
    scenes: tuple[Scene, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        once("mics", [mic.id for mic in self.mics])
        once("struck", [each.piece for each in self.struck])
        wiring.check(self.mics, self.groups, self.paths, self.kit, {each.piece for each in self.struck})
        if [join.at for join in self.joins] != sorted({join.at for join in self.joins}):
            raise SettingsError("joins: must be in order of time, one at a place.")
        if [each.bar for each in self.chosen_bars] != sorted({each.bar for each in self.chosen_bars}):
            raise SettingsError("chosen_bars: must be in order, one at a bar.")
        if [cut.at for cut in self.cuts] != sorted({cut.at for cut in self.cuts}):
            raise SettingsError("cuts: must be in order of time, one at a place.")
        lone = [(cut.piece, cut.at) for cut in self.lone_cuts]
        if lone != sorted(set(lone)):
            raise SettingsError("lone_cuts: must be in order of piece and time, one at a place.")
        pairs = list(zip(self.lone_cuts[::2], self.lone_cuts[1::2], strict=False))
        if 2 * len(pairs) != len(self.lone_cuts) or any(a.piece != b.piece or b.shift != 0 for a, b in pairs):
            raise SettingsError("lone_cuts: come in pairs, one there and one back to 0.")
        once("captures", [capture.id for capture in self.captures])
        known = {capture.id for capture in self.captures}
        shots = [shot for mic in self.mics if mic.sampled for shot in mic.sampled.shots]
        for used in (*self.placements, *shots):
            if used.capture not in known:
                raise SettingsError(f"capture: {used.capture!r} is not one of the shelf's hits.")
        if self.low_owner not in ("", BACKING_OWNS, *(mic.id for mic in self.mics)):
            raise SettingsError(f"low_owner: no mic or layer {self.low_owner!r}.")
        recorded = {mic.id for mic in self.mics if not mic.is_layer}
        for mic in self.mics:
            of = mic.sampled.of if mic.sampled else ""
            if (mic.into and mic.into not in recorded) or (of and of not in recorded):
                raise SettingsError(f"mics.{mic.id}: no mic {mic.into or of!r} to go into or to be of.")

    @property
    def standing(self) -> tuple[MicPlan, ...]:
        """Return the mics and layers that are strips of their own."""
        return tuple(mic for mic in self.mics if not mic.into)

    def mic(self, mic_id: str) -> MicPlan:
        """Return a mic by its id; raises SettingsError where there is none."""
        for mic in self.mics:
            if mic.id == mic_id:
                return mic
        raise SettingsError(f"mics: no mic {mic_id!r}; there are {', '.join(m.id for m in self.mics)}.")
