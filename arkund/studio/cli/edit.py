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
@click.option("--meter", default=None, help="The meter to count the hits in; default: as they are played.")
@click.option(
    "--follow", is_flag=True, help="The map that follows the drummer, even where the playing may be around a click."
)
@click.option("--set", "keep", is_flag=True, help="Take it into the Plan as a Move.")
@json_option
def tempo(
    session: str, source: str | None, file: Path | None, meter: str | None, follow: bool, keep: bool, as_json: bool
) -> None:
    """Show the tempo map: estimated from the hits, of a MIDI file or a click's recording, or as the Plan has it."""
    from arkund.core.errors import SettingsError
    from arkund.core.plan.plan import Tempo
    from arkund.core.timing.bars import meter_of
    from arkund.studio.services import editing, moves

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
        measured = _measured(session)
        guess = measured.tempo_guess(meter_of(meter) if meter else None)
        if guess is None:
            raise SettingsError("tempo: fewer than eight hits; type the tempo or load a MIDI file.")
        taken, heard = guess.following if follow else guess.tempo, measured.meter_guess()
        changes = {"tempo": taken.to_json()}
        words = f"{guess.words} {heard.words}" if heard else guess.words
        data = _tempo_data(taken, source, words, guess.score, guess.sure, guess.steady_left_ms)
        data |= {"map_ms": guess.map_left_ms}
        data |= {"meter": heard.name, "meter_share": heard.share} if heard else {}
    if keep and changes:
        title = f"Tempo {data['bpm']:.2f} BPM from the {source}"
        made = moves.apply(found.pk, changes, step="timing", title=title, measured=data["doubt"], version=found.version)
        data["move"] = made.number
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
@click.option("--swing", type=float, help="Percent; 50 is even, and the default.")
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
    settled = editing.settle_bar_lines(measure.session)
    if settled is not None:
        measure = _measured(session)
    last = editing.last_bar(measure)
    first_bar, last_bar = _bars(given["bars"], last)
    if given["section"]:
        first_bar, last_bar = _section(measure.plan, given["section"], last)
    wanted = dict(SCHOOLS[given["school"]][0]) if given["school"] else {}
    for key, option in (
        ("strength", "strength"),
        ("tolerance_ms", "tolerance"),
        ("most_ms", "most"),
        ("swing", "swing"),
    ):
        if given[option] is not None:
            wanted[key] = given[option]
    if given["groove"]:
        wanted["groove_first"], wanted["groove_last"] = _bars(given["groove"], last)
    settings = QuantiseSettings(
        first_bar=first_bar,
        last_bar=last_bar,
        grid=_grid(given["grid"]),
        method=given["method"],
        pieces=tuple(p.strip() for p in (given["pieces"] or "").split(",") if p.strip()),
        kick_alone=given["kick_alone"],
        split_cymbals=given["split_cymbals"],
        **wanted,
    )
    made, move = editing.quantise_session(measure.session, settings)
    data = dataclasses.asdict(made) | {"move": move.number if move else None, "sample_rate": measure.rate}
    data |= {"tempo": measure.plan.tempo.to_json(), "tempo_move": settled.number if settled else None}
    data["cuts"] = [{"at": c.at, "shift": c.shift, "fade_ms": c.fade_ms, "alike": c.alike} for c in made.cuts]
    data["lone_cuts"] = [{"piece": c.piece, "at": c.at, "shift": c.shift} for c in made.lone_cuts]
    emit(data, as_json, [f"{editing.bars_words(first_bar, last_bar)}: {made.words}" if move else "nothing to move"])


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


@main.command()
@click.argument("session")
@click.option("--propose", "most", type=int, help="Join the best bars with at most so many joins; one Move.")
@click.option("--use", "use", multiple=True, help="Take bars from a take, such as 5-8=take-2; one Move.")
@click.option("--fade", "fade_ms", type=float, help="Crossfade in ms.")
@json_option
def takes(session: str, most: int | None, use: tuple[str, ...], fade_ms: float | None, as_json: bool) -> None:
    """Show the bars of all takes side by side with their scores, and join takes."""
    from arkund.core.errors import SettingsError
    from arkund.core.takes.comp import counted, parts, seam_words
    from arkund.core.takes.settings import CompSettings
    from arkund.studio.services import comping, recordings

    settings = CompSettings() if fade_ms is None else CompSettings(fade_ms=fade_ms)
    found = session_of(session)
    recordings.find_all(found, lambda share: bar(share, "finding hits"))
    all_takes = comping.comp_of(found)
    scored = all_takes.scores()
    bars = max((len(mine) for mine in scored.values()), default=0)
    plan, move = all_takes.plan, None
    if most is not None:
        plan = all_takes.proposal(settings.replace(most_joins=most))
    for each in use:
        range_text, sign, take = each.partition("=")
        if not sign:
            raise SettingsError(f"--use {each}: expected BARS=TAKE, such as 5-8=take-2.")
        first, last = _bars(range_text, bars - 1)
        plan = all_takes.with_bars(plan, first, last, take, settings.fade_ms)
        plan = all_takes.with_chosen(plan, first, last, take)
    seams = all_takes.seams(plan)
    if most is not None or use:
        made = comping.keep(found, all_takes.plan, plan, f"{counted(seams)} of takes", seam_words(seams))
        move = made.number if made else None
    names = dict(found.takes.values_list("key", "name"))
    data = {
        "home": plan.take,
        "takes": [
            {
                "take": key, "name": names[key], "offset_s": all_takes.offsets_s[key],
                "bars": [dataclasses.asdict(row) for row in rows],
            }
            for key, rows in scored.items()
        ],
        "parts": [dataclasses.asdict(part) for part in parts(plan, bars, all_takes.rate)],
        "joins": [
            join.to_json() | {"time_s": round(join.at / all_takes.rate, 6), "steps_db": list(s.steps_db), "heard": s.heard}
            for s in seams for join in [plan.joins[s.number]]
        ],
        "move": move,
    }  # fmt: skip
    lines = [f"{'bar':>4} " + " ".join(f"{names[key][:12]:>12}" for key in scored)]
    lines += [f"{k + 1:>4} " + " ".join(f"{rows[k].score:12.1f}" for rows in scored.values()) for k in range(bars)]
    lines += [f"bars {p['first_bar'] + 1}–{p['last_bar'] + 1}: {names[p['take']]}" for p in data["parts"]]
    emit(data, as_json, [*lines, seam_words(seams)])


@main.command()
@click.argument("session")
@click.option("--school", type=click.Choice(["peaks", "headroom"]), help="Take a school's window into the Plan first.")
@click.option("--accept", is_flag=True, help="Trim every mic outside its window; one Move each.")
@click.option("--repair", is_flag=True, help="Draw short clipped places anew; one Move for each mic that has some.")
@json_option
def level(session: str, school: str | None, accept: bool, repair: bool, as_json: bool) -> None:
    """Show each mic's peaks at its own hits against the window, headroom, noise floor and clipped places."""
    from arkund.core.level.measure import sticking_out
    from arkund.core.level.propose import trim_for
    from arkund.core.level.settings import SCHOOLS
    from arkund.studio.models import MicRecording
    from arkund.studio.services import moves
    from arkund.studio.services.findings import find
    from arkund.studio.services.measuring import Measure
    from arkund.studio.services.unattended import Unattended

    measure = _measured(session)
    if school and SCHOOLS[school][0] != measure.plan.window:
        wanted = {"window": SCHOOLS[school][0].to_json()}
        moves.apply(
            measure.session.pk,
            wanted,
            step="level",
            title=f"Window of the school “{school}”",
            reason=SCHOOLS[school][1],
            version=measure.session.version,
        )
        measure = _measured(session)
    asked = {"level:trim:": (accept, "first choice"), "level:clip:": (repair, "asked for")}
    reasons = {kind: reason for kind, (is_asked, reason) in asked.items() if is_asked}
    if reasons:
        job = Unattended(measure.session.pk)
        for finding in find("level", measure):
            kind = finding.key[: finding.key.rindex(":") + 1]
            if kind in reasons and finding.changes:
                job.accept([finding], measure.session.version, reasons[kind])
        measure = Measure(session_of(session))
    plan, window = measure.plan, measure.plan.window
    files = dict(
        MicRecording.objects.filter(take__session=measure.session, take__key=plan.take).values_list("mic", "file")
    )
    mics = {}
    for mic_id, untrimmed in measure.levels().items():
        mic = plan.mic(mic_id)
        row = untrimmed.trimmed(mic.trim_db)
        low, high = window.of(mic.piece, mic.role)
        mics[files.get(mic_id, mic_id)] = {
            "mic": mic_id, "piece": mic.piece, "role": mic.role, "hits": len(row.hit_peaks_db),
            "hit_peaks_db": list(row.hit_peaks_db), "hit_times_s": list(row.hit_times_s),
            "typical_db": round(row.typical_db, 2), "peak_db": round(row.peak_db, 2),
            "headroom_db": round(row.headroom_db, 2), "noise_db": round(row.noise_db, 2),
            "clipped": len(row.clipped_at_s), "clipped_short": row.clipped_short, "repair": mic.repair,
            "clipped_at_s": [round(at, 5) for at in row.clipped_at_s],
            "trim_db": mic.trim_db, "wanted_trim_db": trim_for(untrimmed, window, mic), "window_db": [low, high],
        }  # fmt: skip
    data = {
        "window": window.to_json(),
        "kit_peak_db": round(measure.kit_peak_db(), 2),
        "mics": mics,
        "sections": {
            piece: [dataclasses.asdict(row) for row in rows] for piece, rows in measure.section_levels().items() if rows
        },
        "sticking_out": {
            piece: [{"time_s": round(at, 4), "over_db": over} for at, over in rows]
            for piece, mine in measure.hits.items()
            if (rows := sticking_out(mine))
        },
    }
    lines = [
        f"{file:<24} own hits {m['typical_db']:6.1f} dBFS (window {m['window_db'][0]:.0f} to {m['window_db'][1]:.0f}),"
        f" headroom {m['headroom_db']:5.1f} dB, noise {m['noise_db']:6.1f} dBFS, clipped {m['clipped']}"
        for file, m in mics.items()
    ]
    emit(data, as_json, [*lines, f"kit sum peaks at {data['kit_peak_db']:.1f} dBFS"])
