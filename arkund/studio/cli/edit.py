"""Sub-commands of the edit half: tempo, takes, quantise, midi, level."""

import dataclasses
import re
from pathlib import Path

import click

from arkund.studio.cli.group import bar, emit, main, session_of
from arkund.studio.cli.work import json_option


def _measured(session: str):
    """Return a session's measurements, its hits found first where they were not."""
    from arkund.studio.services import recordings
    from arkund.studio.services.measuring import Measure

    found = session_of(session)
    if recordings.found(found, found.plan, found.plan.take) is None:
        recordings.find(found, found.plan, found.plan.take, lambda share: bar(share, "finding hits"))
    return Measure(found)


def _tempo_data(tempo, source: str, doubt: str, score: float | None, sure: bool | None, bend_ms: float | None) -> dict:
    changes = [dataclasses.asdict(change) for change in tempo.changes]
    return {
        "source": source,
        "bpm": tempo.bpm,
        "beats_per_bar": tempo.beats_per_bar,
        "beat_unit": tempo.beat_unit,
        "first_bar_s": tempo.first_bar_s,
        "changes": changes,
        "score": score,
        "sure": sure,
        "bend_ms": bend_ms,
        "doubt": doubt,
    }


@main.command()
@click.argument("session")
@click.option("--from", "source", type=click.Choice(["plan", "hits", "midi", "click"]), help="Default: from the hits.")
@click.option("--file", "file", type=click.Path(path_type=Path), help="The MIDI file or the click's recording.")
@click.option("--set", "keep", is_flag=True, help="Take it into the Plan as a Move.")
@json_option
def tempo(session: str, source: str | None, file: Path | None, keep: bool, as_json: bool) -> None:
    """Show the tempo map: estimated from the hits, of a MIDI file or a click's recording, or as the Plan has it."""
    from arkund.core.errors import SettingsError
    from arkund.core.plan.plan import Tempo
    from arkund.core.timing.tempo import estimate_map
    from arkund.studio.services import editing, moves
    from arkund.studio.services.proposing import tempo_words

    source = source or (("midi" if file.suffix.lower() in (".mid", ".midi") else "click") if file else "hits")
    if source in ("midi", "click") and file is None:
        raise SettingsError(f"--file: name the file that holds the {source}.")
    found = session_of(session)
    now, warnings, changes = found.plan.tempo, [], {}
    if source == "midi":
        song = editing.read_midi(file)
        changes, warnings = editing.tempo_of_midi(song, file.name), list(song.warnings)
        data = _tempo_data(Tempo.from_json(changes["tempo"]), source, " ".join(warnings), None, None, None)
    elif source == "click":
        tempo_found = editing.tempo_of_click(file, now)
        changes = {"tempo": tempo_found.to_json()}
        data = _tempo_data(tempo_found, source, "", None, None, None)
    elif source == "plan":
        data = _tempo_data(now, source, "", None, None, None)
    else:
        guess = estimate_map(_measured(session).hits, now.beats_per_bar, now.beat_unit)
        if guess is None:
            raise SettingsError("tempo: fewer than eight hits; type the tempo or load a MIDI file.")
        changes = {"tempo": guess.tempo.to_json()}
        data = _tempo_data(guess.tempo, source, tempo_words(guess), guess.score, guess.sure, guess.bend_ms)
    if keep and changes:
        title = f"Tempo {data['bpm']:.2f} BPM from the {source}"
        data["move"] = moves.apply(found.pk, changes, step="timing", title=title, measured=data["doubt"]).number
    lines = [
        f"{data['bpm']:.3f} BPM {data['beats_per_bar']}/{data['beat_unit']}, first bar at {data['first_bar_s']:.4f} s"
    ]
    lines += [
        f"  from bar {c['bar'] + 1}: {c['bpm']:.3f} BPM {c['beats_per_bar']}/{c['beat_unit']}" for c in data["changes"]
    ]
    emit(data, as_json, lines + ([data["doubt"]] if data["doubt"] else []))


def _bars(text: str, last: int) -> tuple[int, int]:
    """Return the first and last bar, counted from 0, of a text such as 5, 5-8 or all."""
    from arkund.core.errors import SettingsError

    if text == "all":
        return 0, last
    match = re.fullmatch(r"(\d+)(?:-(\d+))?", text)
    if not match or int(match[1]) < 1:
        raise SettingsError(f"--bars: expected something like 5 or 5-8, counted from 1, got {text!r}.")
    return int(match[1]) - 1, int(match[2] or match[1]) - 1


def _grid(text: str) -> int:
    """Return places per whole note of a text such as 1/16, 1/8T or meant."""
    from arkund.core.errors import SettingsError

    match = re.fullmatch(r"1/(\d+)(t?)", text.lower())
    if text == "meant":
        return 0
    if not match:
        raise SettingsError(f"--grid: expected something like 1/16, 1/8t for triplets, or meant; got {text!r}.")
    return int(match[1]) * (3 if match[2] else 2) // 2


@main.command()
@click.argument("session")
@click.option(
    "--grid", default="1/16", show_default=True, help="1/4 to 1/32; 1/8t is eighth triplets; meant: bar by bar."
)
@click.option("--strength", type=float, help="Percent of the way; default 100.")
@click.option("--tolerance", type=float, help="Leave what lies within so many ms; default 0.")
@click.option("--most", type=float, help="Leave what lies further off than so many ms; default 60.")
@click.option("--school", type=click.Choice(["grid", "feel"]), help="Ready values for strength and tolerance.")
@click.option("--bars", default="all", show_default=True, help="Such as 5 or 5-8, counted from 1.")
@click.option("--section", help="The bars of a named section instead.")
@click.option("--swing", type=float, default=50.0, show_default=True, help="Percent; 50 is even.")
@click.option("--method", type=click.Choice(["auto", "slices", "stretch"]), default="auto", show_default=True)
@click.option("--pieces", help="Only strokes with these pieces, such as kick,snare.")
@click.option("--groove", help="Bars whose feel is the target, such as 9-12.")
@click.option("--kick-alone", is_flag=True, help="Bring a kick that fell apart onto its snare in the kick's own mics.")
@click.option("--split-cymbals", is_flag=True, help="Let a snare and a cymbal that fell apart share the error.")
@json_option
def quantise(session: str, as_json: bool, **given) -> None:
    """Pull hits to the grid, all mics together sample for sample; one Move."""
    from arkund.core.timing.settings import SCHOOLS, QuantiseSettings
    from arkund.studio.services import editing

    measure = _measured(session)
    last = editing.last_bar(measure)
    first_bar, last_bar = _bars(given["bars"], last)
    if given["section"]:
        first_bar, last_bar = _section(measure.plan, given["section"], last)
    wanted = dict(SCHOOLS[given["school"]][0]) if given["school"] else {}
    for key, option in (("strength", "strength"), ("tolerance_ms", "tolerance"), ("most_ms", "most")):
        if given[option] is not None:
            wanted[key] = given[option]
    if given["groove"]:
        wanted["groove_first"], wanted["groove_last"] = _bars(given["groove"], last)
    settings = QuantiseSettings(
        first_bar=first_bar,
        last_bar=last_bar,
        grid=_grid(given["grid"]),
        swing=given["swing"],
        method=given["method"],
        pieces=tuple(p.strip() for p in (given["pieces"] or "").split(",") if p.strip()),
        kick_alone=given["kick_alone"],
        split_cymbals=given["split_cymbals"],
        **wanted,
    )
    made, move = editing.quantise_session(measure.session, settings)
    data = dataclasses.asdict(made) | {"move": move.number if move else None, "sample_rate": measure.rate}
    data["cuts"] = [{"at": c.at, "shift": c.shift, "fade_ms": c.fade_ms, "alike": c.alike} for c in made.cuts]
    data["lone_cuts"] = [{"piece": c.piece, "at": c.at, "shift": c.shift} for c in made.lone_cuts]
    emit(data, as_json, [f"{editing.bars_words(settings)}: {made.words}" if move else "nothing to move"])


def _section(plan, name: str, last: int) -> tuple[int, int]:
    from arkund.core.errors import SettingsError

    for k, section in enumerate(plan.sections):
        if section.name == name:
            return section.bar, plan.sections[k + 1].bar - 1 if k + 1 < len(plan.sections) else max(last, section.bar)
    known = ", ".join(s.name for s in plan.sections) or "none"
    raise SettingsError(f"--section: no section {name!r}; there are {known}.")


@main.command()
@click.argument("session")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--read", "read", is_flag=True, help="Take hits in from the file instead.")
@json_option
def midi(session: str, file: Path, read: bool, as_json: bool) -> None:
    """Write the hits with velocities and the tempo map to a .mid, .csv or .json file, or take hits in from one."""
    from arkund.studio.services import editing

    measure = _measured(session)
    if read:
        count, move = editing.take_in_hits(measure.session, file)
        data = {"file": file.name, "hits": count, "move": move.number if move else None}
        emit(data, as_json, [f"{count} new hits from {file.name}"])
        return
    count = editing.export(measure, file)
    emit({"file": file.name, "hits": count}, as_json, [f"{count} hits in {file.name}"])
