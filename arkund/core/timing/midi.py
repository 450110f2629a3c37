"""Standard MIDI Files: hits as General MIDI drum notes, and tempo maps with meters and markers, both ways."""

import bisect
import io
import re
import struct
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from time import monotonic

import mido

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Section, Tempo
from arkund.core.timing.bars import bars_of, bpm_of, with_rows

# General MIDI Level 1, percussion key map: written with the first note, read from any.
NOTES = {
    "kick": (36, 35),
    "snare": (38, 40, 37),
    "hihat": (42, 44, 46),
    "tom1": (50,),
    "tom2": (48,),
    "tom3": (47,),
    "tom4": (45,),
    "floor": (43, 41),
    "ride": (51, 53, 59),
    "crash": (49, 57, 52, 55),
}
PIECE_OF = {note: piece for piece, notes in NOTES.items() for note in notes}
DRUM_CHANNEL = 9  # counted from 0: channel 10
TICKS_PER_QUARTER = 9600  # 0.05 ms at 120 BPM
NOTE_S = 0.05
MOST_BYTES = 20_000_000
MOST_EVENTS = 200_000
LONGEST_READ_S = 60.0  # however few events it has
MOST_WARNINGS = 20
MOST_BARS = 20_000
FIRST_BAR = "first bar at tick {}"  # a text by which our own lead-in is known again
KNOWN_BPM = Tempo.ranges()["bpm"]
DEFAULT_TEMPO_US = 500_000  # the standard's, where a file names none


@dataclass(frozen=True, slots=True)
class MidiSong:
    """What a MIDI file says: its tempo map (None without a tempo event), sections from its markers, drum notes by piece, and doubts."""

    tempo: Tempo | None
    sections: tuple[Section, ...]
    hits: dict[str, list[tuple[float, int]]]  # (time_s, velocity)
    warnings: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Clock:
    """Seconds and ticks of a tempo map: (tick, seconds, microseconds per quarter) of each change."""

    rows: tuple[tuple[int, float, int], ...]
    per_quarter: int

    def seconds(self, tick: int) -> float:
        row = self.rows[max(bisect.bisect_right(self.rows, tick, key=lambda r: r[0]) - 1, 0)]
        return row[1] + (tick - row[0]) * row[2] / 1e6 / self.per_quarter

    def tick(self, seconds: float) -> int:
        row = self.rows[max(bisect.bisect_right(self.rows, seconds, key=lambda r: r[1]) - 1, 0)]
        return row[0] + round((seconds - row[1]) * 1e6 * self.per_quarter / row[2])


def write(path: Path, hits: Mapping[str, Sequence], tempo: Tempo, sections: Sequence[Section], length_s: float) -> None:
    """Write hits with velocities, and the song's tempo map, meters and sections as markers.

    The file begins with the recording; where the first bar begins later, one bar or more of another tempo leads in. Notes stand at their
    times to half a tick, whatever the file's whole microseconds per quarter make of the tempo.
    """
    events, clock = _map_events(tempo, sections, length_s)
    conductor = mido.MidiTrack()
    _fill(conductor, events)
    drums = mido.MidiTrack()
    notes: list[tuple[int, int, mido.Message]] = []
    for piece, mine in hits.items():
        if piece not in NOTES:
            continue
        for h in mine:
            at, note = clock.tick(max(h.time_s, 0.0)), NOTES[piece][0]
            end = max(clock.tick(max(h.time_s, 0.0) + NOTE_S), at + 1)
            notes.append((at, 1, mido.Message("note_on", channel=DRUM_CHANNEL, note=note, velocity=h.velocity)))
            notes.append((end, 0, mido.Message("note_off", channel=DRUM_CHANNEL, note=note, velocity=0)))
    _fill(drums, [(0, 0, mido.MetaMessage("track_name", name="Drums")), *notes])
    song = mido.MidiFile(type=1, ticks_per_beat=TICKS_PER_QUARTER)
    song.tracks += [conductor, drums]
    with path.open("wb") as file:
        song.save(file=file)


def _fill(track: mido.MidiTrack, events: list) -> None:
    last = 0
    for at, _, message in sorted(events, key=lambda e: e[:2]):
        track.append(message.copy(time=at - last))
        last = at


def _map_events(tempo: Tempo, sections: Sequence[Section], length_s: float) -> tuple[list, _Clock]:
    """Return (tick, order, message) of the tempo map, and its clock."""
    bars = bars_of(tempo)
    first = 0
    while bars.start_s(first) < 0:
        first += 1
    lead = bars.start_s(first)
    stretches = [(first, bars.of(first))] + [(s.bar, s) for s in bars.stretches if s.bar > first]
    rows, events, tick = [], [], 0

    def begin(stretch, at: int, seconds: float, beat_s: float) -> None:
        micro = round(beat_s * stretch.beat_unit / 4 * 1e6)
        rows.append((at, seconds, micro))
        events.append((at, 0, mido.MetaMessage("set_tempo", tempo=min(max(micro, 1), 0xFFFFFF))))
        meter = {"numerator": stretch.beats, "denominator": stretch.beat_unit}
        events.append((at, 1, mido.MetaMessage("time_signature", **meter)))

    def ticks(stretch, count: int) -> int:
        return count * stretch.beats * 4 * TICKS_PER_QUARTER // stretch.beat_unit

    if lead > 1e-6:
        mine = stretches[0][1]
        count = max(round(lead / mine.bar_s), 1)
        begin(mine, 0, 0.0, lead / count / mine.beats)
        tick = ticks(mine, count)
        events.append((0, 3, mido.MetaMessage("text", text=FIRST_BAR.format(tick))))
    for k, (bar, stretch) in enumerate(stretches):
        begin(stretch, tick, bars.start_s(bar), stretch.beat_s)
        until = stretches[k + 1][0] if k + 1 < len(stretches) else None
        for section in sections:
            if bar <= section.bar and (until is None or section.bar < until):
                events.append(
                    (tick + ticks(stretch, section.bar - bar), 2, mido.MetaMessage("marker", text=section.name))
                )
        tick += ticks(stretch, until - bar) if until is not None else 0
    clock = _Clock(tuple(rows), TICKS_PER_QUARTER)
    events.append((max(clock.tick(length_s), tick), 9, mido.MetaMessage("end_of_track")))
    return events, clock


class _Bounded(io.BytesIO):
    """A file for the parser, which asks for its place before each event: too many, or too long a time, and it is refused."""

    def __init__(self, data: bytes, name: str) -> None:
        super().__init__(data)
        self._name, self._events, self._until = name, 0, monotonic() + LONGEST_READ_S

    def tell(self) -> int:
        self._events += 1
        if self._events > MOST_EVENTS:
            raise SettingsError(
                f"{self._name}: holds more than {MOST_EVENTS} events; a song's MIDI file has far fewer."
            )
        return super().tell()

    def read(self, size: int | None = -1) -> bytes:
        if monotonic() > self._until:
            raise SettingsError(f"{self._name}: takes more than {LONGEST_READ_S:.0f} s to read.")
        return super().read(size)


def read(data: bytes, name: str) -> MidiSong:
    """Return what a Standard MIDI File says. Raises SettingsError for what is none, and for one with more than MOST_EVENTS events."""
    if len(data) > MOST_BYTES:
        raise SettingsError(
            f"{name}: is larger than {MOST_BYTES // 1_000_000} MB; a MIDI file of a song is far smaller."
        )
    if data[:4] != b"MThd" or len(data) < 14:
        raise SettingsError(f"{name}: is not a Standard MIDI File.")
    if struct.unpack(">h", data[12:14])[0] <= 0:
        raise SettingsError(f"{name}: counts time in film frames instead of beats; export it with beats.")
    try:
        song = mido.MidiFile(file=_Bounded(data, name), clip=True)
    except SettingsError:
        raise
    except Exception as error:  # the parser raises whatever its bytes lead it to
        raise SettingsError(f"{name}: is a damaged MIDI file ({type(error).__name__}).") from error
    events = []
    for track in song.tracks:
        at = 0
        for message in track:
            at += message.time
            events.append((at, message))
    events.sort(key=lambda e: e[0])
    clock = _clock(events, song.ticks_per_beat)
    warnings: list[str] = []
    has_tempo = any(m.type == "set_tempo" for _, m in events)
    lines = _bar_ticks(events, song.ticks_per_beat, warnings, name)
    lines = [line for line in lines if line[0] >= _first_bar(events)] or lines
    tempo = _tempo(lines, clock) if has_tempo else None
    if not has_tempo:
        warnings.append(f"{name}: names no tempo; its bar lines are not used.")
    return MidiSong(tempo, _sections(events, lines) if has_tempo else (), _hits(events, clock), tuple(warnings))


def _clock(events, per_quarter: int) -> _Clock:
    rows = [(0, 0.0, DEFAULT_TEMPO_US)]
    for at, message in events:
        if message.type == "set_tempo":
            last = rows[-1]
            seconds = last[1] + (at - last[0]) * last[2] / 1e6 / per_quarter
            if last[0] == at:
                rows.pop()
            rows.append((at, seconds, message.tempo))
    return _Clock(tuple(rows), per_quarter)


def _bar_ticks(events, per_quarter: int, warnings: list[str], name: str) -> list[tuple[int, int, int]]:
    """Return (tick, beats, beat_unit) of each bar, one beyond the last event; a meter that changes within a bar holds from the next one on."""
    meters = [(at, m.numerator, m.denominator) for at, m in events if m.type == "time_signature"]
    end = events[-1][0] if events else 0
    out, at, now, number = [], 0, (4, 4), 0
    while True:
        while number < len(meters) and meters[number][0] <= at:
            if meters[number][0] < at and len(warnings) < MOST_WARNINGS:
                warnings.append(
                    f"{name}: the meter changes within bar {len(out)}; it is taken from bar {len(out) + 1} on."
                )
            now, number = meters[number][1:], number + 1
        if now[0] > 32 or now[1] > 32 or now[0] == 0:
            raise SettingsError(
                f"{name}: bar {len(out) + 1} has a meter of {now[0]}/{now[1]}; at most 32/32 is known here."
            )
        out.append((at, *now))
        if at >= end:
            return out
        if len(out) > MOST_BARS:
            raise SettingsError(f"{name}: holds more than {MOST_BARS} bars.")
        at += max(now[0] * 4 * per_quarter // now[1], 1)


def _tempo(lines, clock: _Clock) -> Tempo:
    rows = {}
    for bar, (at, beats, unit) in enumerate(lines):
        length = clock.seconds(at + max(beats * 4 * clock.per_quarter // unit, 1)) - clock.seconds(at)
        bpm = bpm_of(length, beats, unit)
        if not KNOWN_BPM.low <= bpm <= KNOWN_BPM.high:
            raise SettingsError(f"bar {bar + 1}: {bpm:.1f} BPM is outside {KNOWN_BPM.low:g} to {KNOWN_BPM.high:g} BPM.")
        rows[bar] = {"bpm": round(bpm, 6), "beats_per_bar": beats, "beat_unit": unit}
    return with_rows(Tempo(first_bar_s=round(clock.seconds(lines[0][0]), 6)), rows)


def _first_bar(events) -> int:
    """Return the tick of the first bar where the file says that a lead-in goes before it."""
    texts = (re.fullmatch(FIRST_BAR.format(r"(\d{1,9})"), m.text) for _, m in events if m.type == "text")
    return next((int(match[1]) for match in texts if match), 0)


def _sections(events, lines) -> tuple[Section, ...]:
    starts, found = [at for at, *_ in lines], {}
    for at, message in events:
        if message.type == "marker" and message.text.strip():
            bar = max(bisect.bisect_right(starts, at + 1) - 1, 0)
            found[bar] = "".join(c for c in message.text if c.isprintable()).strip()[:40]
    return tuple(Section(name=name, bar=bar) for bar, name in sorted(found.items()) if name)


def _hits(events, clock: _Clock) -> dict[str, list[tuple[float, int]]]:
    """Return the notes of channel 10, or of all channels where it has none."""
    notes = [(at, m) for at, m in events if m.type == "note_on" and m.velocity > 0]
    drums = [row for row in notes if row[1].channel == DRUM_CHANNEL] or notes
    out: dict[str, list[tuple[float, int]]] = {}
    for at, message in drums:
        if message.note in PIECE_OF:
            out.setdefault(PIECE_OF[message.note], []).append((clock.seconds(at), message.velocity))
    return out
