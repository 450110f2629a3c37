"""Edits in time as Moves: bars and single strokes to the grid, tempo maps from a file, hits out and in."""

import bisect
import csv
import io
import json
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.files import audio
from arkund.core.kit.pieces import PIECES
from arkund.core.plan.plan import HitChange, Plan, Tempo
from arkund.core.render.moment import half_samples, moments
from arkund.core.timing import midi
from arkund.core.timing.bars import bars_of, with_line_at
from arkund.core.timing.click import click_tempo
from arkund.core.timing.quantise import Edit, move_stroke, quantise
from arkund.core.timing.settings import AS_MEANT, QuantiseSettings
from arkund.core.units import samples
from arkund.studio.models import Move, Session
from arkund.studio.services import moves
from arkund.studio.services.measuring import Measure

MOST_HITS = 20_000  # that a file may add
WORTH_TAKING = 0.7  # of the hits must lie on a tempo map that is taken without being asked for
SAME_S = 0.008  # a loaded hit this near to a found one is the same
EXPORTS = (".mid", ".csv", ".json")


def quantise_session(
    session: Session, settings: QuantiseSettings, version: int | None = None
) -> tuple[Edit, Move | None]:
    """Pull a range of bars to the grid as one Move; None where nothing was to be changed."""
    measure = Measure(session)
    made = quantise(measure.hits, measure.plan, settings, measure.rate, measure.sum_of_mics)
    grid = "as meant" if settings.grid == AS_MEANT else f"to the 1/{settings.grid} grid"
    title = f"{bars_words(settings.first_bar, settings.last_bar)} {grid}, {settings.strength:.0f} %"
    return made, _keep(session, measure.plan, made, title, moves.read_at(session, version))


def settle_bar_lines(session: Session) -> Move | None:
    """Take the hits' tempo map where nobody has set bar lines yet, as a Move; None where they stand, or where the hits don't tell them.

    A recording that was imported with a tempo alone begins its first bar at 0 s, and a grid that lies beside the playing would move every hit.
    """
    set_before = any("tempo" in path for move in session.moves.filter(state=Move.DONE) for path in move.after)
    if set_before or session.plan.tempo.first_bar_s != 0.0 or session.plan.tempo.changes:
        return None
    measure = Measure(session)
    guess, meter = measure.tempo_guess(), measure.meter_guess()
    if guess is None or guess.score < WORTH_TAKING:
        return None
    title = f"Tempo map of the hits: {guess.tempo.bpm:.2f} BPM in {guess.tempo.beats_per_bar}/{guess.tempo.beat_unit}"
    words = f"{guess.words} {meter.words}" if meter else guess.words
    return moves.apply(
        session.pk,
        {"tempo": guess.tempo.to_json()},
        step="timing",
        title=title,
        measured=words,
        version=session.version,
    )


def settle_untold(session: Session, told_bpm: float | None) -> Move | None:
    """Take the hits' tempo map after an import that nobody told a tempo, neither by hand nor by a file; see :func:`settle_bar_lines`."""
    untold = told_bpm is None and session.plan.tempo.bpm == Tempo().bpm
    return settle_bar_lines(session) if untold else None


def move_one(session: Session, time_s: float, by_ms: float, version: int | None = None) -> tuple[Edit, Move | None]:
    """Move the stroke at a time of the recording by some ms, all mics together, the strokes around it staying where they are."""
    measure = Measure(session)
    if not any(measure.hits.values()):
        raise SettingsError("time_s: there are no hits.")
    made = move_stroke(measure.hits, measure.plan, time_s, by_ms, measure.rate, measure.sum_of_mics)
    title = f"Stroke at {time_s:.3f} s moved {by_ms:+.1f} ms"
    return made, _keep(session, measure.plan, made, title, moves.read_at(session, version))


def _keep(session: Session, plan: Plan, made: Edit, title: str, version: int) -> Move | None:
    changes = {}
    if made.cuts != plan.cuts:
        changes["cuts"] = [cut.to_json() for cut in made.cuts]
    if made.lone_cuts != plan.lone_cuts:
        changes["lone_cuts"] = [cut.to_json() for cut in made.lone_cuts]
    if not changes:
        return None
    return moves.apply(session.pk, changes, step="timing", title=title, measured=made.words, version=version)


def bars_words(first_bar: int, last_bar: int) -> str:
    """Return a range of bars as people count them."""
    return f"Bar {first_bar + 1}" if first_bar == last_bar else f"Bars {first_bar + 1}–{last_bar + 1}"


def last_bar(measure: Measure) -> int:
    """Return the bar of the last hit, 0 without hits."""
    times = [h.time_s for mine in measure.hits.values() for h in mine]
    return max(int(bars_of(measure.plan.tempo).bar_of(max(times))), 0) if times else 0


def read_midi(path: Path) -> midi.MidiSong:
    """Return what a MIDI file says. Raises SettingsError with its name."""
    try:
        data = path.read_bytes()
    except OSError as error:
        raise SettingsError(f"{path.name}: cannot be read ({error.strerror}).") from error
    return midi.read(data, path.name)


def tempo_of_midi(song: midi.MidiSong, name: str) -> dict:
    """Return a MIDI file's tempo map and sections as Plan changes."""
    if song.tempo is None:
        raise SettingsError(f"{name}: names no tempo; nothing was changed.")
    changes = {"tempo": song.tempo.to_json()}
    if song.sections:
        changes["sections"] = [section.to_json() for section in song.sections]
    return changes


def tempo_of_click(path: Path, tempo: Tempo) -> Tempo:
    """Return the tempo map of a click's recording, which begins with the takes."""
    header = audio.probe(path)
    samples = audio.read_mono(path)
    return click_tempo(audio.ArrayMic(samples), header.sample_rate_hz, tempo.beats_per_bar, tempo.beat_unit, path.name)


def move_line(session: Session, bar: int, time_s: float, version: int | None = None) -> Move:
    """Put a bar line to a time; its neighbours stay."""
    tempo = with_line_at(session.plan.tempo, bar, time_s)
    return moves.apply(
        session.pk,
        {"tempo": tempo.to_json()},
        step="timing",
        title=f"Bar line {bar + 1} at {time_s:.3f} s",
        version=moves.read_at(session, version),
    )


def export(measure: Measure, path: Path) -> int:
    """Write the hits where they sound, as MIDI, CSV or JSON by the file's ending; return how many."""
    hits = measure.heard_hits
    length_s = measure.recordings.length(measure.plan.take) / measure.rate
    try:
        if path.suffix == ".mid":
            midi.write(path, hits, measure.plan.tempo, measure.plan.sections, length_s)
        elif path.suffix == ".csv":
            path.write_text(_as_csv(hits), newline="")
        elif path.suffix == ".json":
            path.write_text(json.dumps(edit_list(measure), indent=1))
        else:
            raise SettingsError(f"{path.name}: expected a name that ends in {', '.join(EXPORTS)}.")
    except OSError as error:
        raise SettingsError(f"{path.name}: cannot be written ({error.strerror}).") from error
    return sum(map(len, hits.values()))


def _as_csv(hits: Mapping[str, Sequence]) -> str:
    out = io.StringIO()
    rows = csv.writer(out)
    rows.writerow(["piece", "time_s", "velocity", "ghost", "level_db"])
    for h in sorted((h for mine in hits.values() for h in mine), key=lambda h: h.time_s):
        rows.writerow([h.piece, f"{h.time_s:.6f}", h.velocity, int(h.ghost), f"{h.level_db:.2f}"])
    return out.getvalue()


def edit_list(measure: Measure) -> dict:
    """Return hits, tempo map and all edits in time as plain data."""
    plan = measure.plan
    return {
        "sample_rate": measure.rate,
        "tempo": plan.tempo.to_json(),
        "sections": [s.to_json() for s in plan.sections],
        "take": plan.take,
        "joins": [join.to_json() for join in plan.joins],
        "cuts": [cut.to_json() for cut in plan.cuts],
        "lone_cuts": [cut.to_json() for cut in plan.lone_cuts],
        "hits": {
            piece: [
                {
                    "time_s": round(h.time_s, 6),
                    "velocity": h.velocity,
                    "ghost": h.ghost,
                    "level_db": round(h.level_db, 2),
                }
                for h in mine
            ]
            for piece, mine in measure.heard_hits.items()
        },
    }


def around(measure: Measure, at_s: float) -> dict:
    """Return one moment in all mics as plain data: see ``moments``."""
    plan, at = measure.plan, samples(at_s, measure.rate)
    rows = moments(plan, measure.recordings, at)
    return {
        "at_s": at / measure.rate,
        "half": half_samples(measure.rate),
        "sample_ms": 1000 / measure.rate,
        "edited": bool(plan.cuts or plan.lone_cuts),
        "rows": [
            {"id": row.mic, "name": plan.mic(row.mic).name}
            | {side: np.round(getattr(row, side), 3).tolist() for side in ("before", "after")}
            for row in rows
        ],
    }


def read_hits(path: Path) -> dict[str, list[float]]:
    """Return the times of the hits of a MIDI, CSV or JSON file, by piece. Raises SettingsError saying what and where."""
    if path.suffix == ".mid":
        found = {piece: [time_s for time_s, _ in mine] for piece, mine in read_midi(path).hits.items()}
    else:
        try:
            text = path.read_text()
        except (OSError, UnicodeDecodeError) as error:
            raise SettingsError(f"{path.name}: cannot be read ({error}).") from error
        found = _from_csv(text, path.name) if path.suffix == ".csv" else _from_json(text, path.name)
    count = sum(map(len, found.values()))
    if count == 0:
        raise SettingsError(f"{path.name}: holds no hit of a piece that is known here.")
    if count > MOST_HITS:
        raise SettingsError(f"{path.name}: holds {count} hits; at most {MOST_HITS} are taken.")
    return found


def _from_csv(text: str, name: str) -> dict[str, list[float]]:
    out: dict[str, list[float]] = {}
    rows = csv.DictReader(io.StringIO(text))
    if not {"piece", "time_s"} <= set(rows.fieldnames or ()):
        raise SettingsError(f"{name}: line 1 must name the columns, piece and time_s among them.")
    for number, row in enumerate(rows, 2):
        _take_in(out, row["piece"], row["time_s"], f"{name}: line {number}")
    return out


def _from_json(text: str, name: str) -> dict[str, list[float]]:
    try:
        data = json.loads(text)
        pieces = data.get("hits", data.get("pieces"))
        rows = [(piece, hit["time_s"]) for piece, mine in pieces.items() for hit in mine]
    except (ValueError, AttributeError, KeyError, TypeError) as error:
        raise SettingsError(f"{name}: expected hits as `arkund midi` or `arkund hits --json` write them.") from error
    out: dict[str, list[float]] = {}
    for number, (piece, time_s) in enumerate(rows, 1):
        _take_in(out, piece, time_s, f"{name}: hit {number}")
    return out


def _take_in(out: dict[str, list[float]], piece, time_s, where: str) -> None:
    if piece not in PIECES:
        raise SettingsError(f"{where}: unknown piece {piece!r}; known are {', '.join(PIECES)}.")
    try:
        at = float(time_s)
    except (TypeError, ValueError) as error:
        raise SettingsError(f"{where}: time_s {time_s!r} is no number.") from error
    if not 0.0 <= at <= 36000.0:
        raise SettingsError(f"{where}: {at:g} s is outside 0 to 36000 s.")
    out.setdefault(piece, []).append(at)


def take_in_hits(session: Session, path: Path, version: int | None = None) -> tuple[int, Move | None]:
    """Add the hits of a file, in the time of the recording, that were not found here; return how many are new, and the Move."""
    wanted = read_hits(path)
    measure = Measure(session)
    new: list[HitChange] = []
    length_s = measure.recordings.length(measure.plan.take) / measure.rate
    for piece, times in wanted.items():
        known = sorted(h.time_s for h in measure.hits.get(piece, []))
        for at in sorted(times):
            if at >= length_s:
                raise SettingsError(
                    f"{path.name}: {piece} at {at:.3f} s lies after the end of the recording ({length_s:.1f} s)."
                )
            near = bisect.bisect_left(known, at - SAME_S)
            if near == len(known) or known[near] > at + SAME_S:
                new.append(HitChange(kind="add", piece=piece, time_s=at))
    if not new:
        return 0, None
    changes = [change.to_json() for change in (*measure.plan.hit_changes, *new)]
    title = f"{len(new)} hits from {path.name}"
    version = moves.read_at(session, version)
    return len(new), moves.apply(session.pk, {"hit_changes": changes}, step="load", title=title, version=version)
