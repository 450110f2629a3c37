"""Sub-commands that do the job: import, sessions, hits, lineup, propose, set, print."""

from pathlib import Path

import click

from arkund.studio.cli.group import bar, emit, main, migrate, session_of

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON as documented in docs/cli.md.")


def import_report(session) -> dict:
    """Return what ``import`` prints."""
    from arkund.studio.models import MicRecording

    plan = session.plan
    rows = MicRecording.objects.filter(take__session=session, take__key=plan.take)
    mics = [
        {
            "file": row.file,
            "name": plan.mic(row.mic).name,
            "role": plan.mic(row.mic).role,
            "piece": plan.mic(row.mic).piece,
            "confidence": row.confidence,
        }
        for row in rows
    ]
    return {"session": session.pk, "mics": mics, "warnings": session.warnings}


@main.command("import")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--name", help="Name of the session; default: the folder's.")
@click.option("--bpm", type=float, help="Tempo, where it is known.")
@click.option("--meter", default="4/4", show_default=True)
@click.option("--template", help="Start from the settings of a template; every tool is loaded but bypassed.")
@json_option
def import_(folder: Path, name: str | None, bpm: float | None, meter: str, template: str | None, as_json: bool) -> None:
    """Import a folder of recordings as a new session; its sub-folders are takes."""
    from arkund.studio.services import templates
    from arkund.studio.services.importing import import_folder

    migrate()
    chosen = templates.named(template) if template else None
    session = import_folder(folder, name=name, bpm=bpm, meter=meter, on_progress=bar)
    if chosen is not None:
        templates.start_from(session, chosen)
        session.refresh_from_db()
    data = import_report(session)
    emit(
        data,
        as_json,
        [f"session {session.pk}: {session.name}"]
        + [f"  {m['file']:<28} {m['piece']:<7} {m['role']:<9} {m['confidence']:.0%}" for m in data["mics"]]
        + [f"  ! {w}" for w in data["warnings"]],
    )


@main.command()
@json_option
def sessions(as_json: bool) -> None:
    """List the sessions."""
    from arkund.studio.models import Session

    migrate()
    rows = [
        {
            "session": s.pk,
            "name": s.name,
            "sample_rate": s.sample_rate_hz,
            "takes": s.takes.count(),
            "version": s.version,
        }
        for s in Session.objects.filter(ready=True)
    ]
    emit(
        {"sessions": rows},
        as_json,
        [f"{r['session']:>4}  {r['name']} ({r['takes']} takes)" for r in rows] or ["none"],
    )


@main.command()
@click.argument("session")
@json_option
def hits(session: str, as_json: bool) -> None:
    """Show the hits of the working take, found first where needed."""
    from arkund.studio.services import recordings

    found = session_of(session)
    plan = found.plan
    if recordings.found(found, plan, plan.take) is None:
        recordings.find(found, plan, plan.take, lambda share: bar(share, "finding hits"))
    pieces = {
        piece: [
            {
                "time_s": round(h.time_s, 6),
                "velocity": h.velocity,
                "ghost": h.ghost,
                "level_db": round(h.level_db, 2),
            }
            for h in mine
        ]
        for piece, mine in recordings.hits_of(found, plan).items()
    }
    emit(
        {"sample_rate": found.sample_rate_hz, "pieces": pieces},
        as_json,
        [f"{p:<7} {len(rows):>5} hits, {sum(r['ghost'] for r in rows)} ghosts" for p, rows in pieces.items()],
    )


@main.command()
@click.argument("session")
@json_option
def lineup(session: str, as_json: bool) -> None:
    """Show arrival and polarity of each mic against its reference."""
    from arkund.studio.models import MicRecording
    from arkund.studio.services.measuring import Measure

    found = session_of(session)
    measure = Measure(found)
    files = dict(
        MicRecording.objects.filter(take__session=found, take__key=measure.plan.take).values_list("mic", "file")
    )
    rows = {
        files[a.mic]: {
            "reference": files[a.reference],
            "delay_ms": round(a.delay_ms, 4),
            "polarity": a.polarity,
            "spread_ms": round(a.spread_ms, 4),
            "sure": a.sure,
        }
        for a in measure.arrivals()
    }
    emit(
        {"mics": rows},
        as_json,
        [
            f"{f:<24} {r['delay_ms']:+8.3f} ms {'+' if r['polarity'] > 0 else '-'} against {r['reference']}"
            f" spread {r['spread_ms']:.2f}{'' if r['sure'] else '  unsure'}"
            for f, r in rows.items()
        ],
    )


@main.command()
@click.argument("session")
@click.option("--anyway", is_flag=True, help="Propose although it is in doubt which mic is which.")
@json_option
def propose(session: str, anyway: bool, as_json: bool) -> None:
    """Accept every first-choice finding; each is a Move in the logbook. Where it is in doubt which mic is which, nothing is done without --anyway."""
    from arkund.core.errors import SettingsError
    from arkund.studio.services import account
    from arkund.studio.services.proposing import propose_all, questions

    found = session_of(session)
    asked = [] if anyway else questions(found)
    if asked:
        titles = "; ".join(finding.title for finding in asked)
        raise SettingsError(
            f"{found.name}: first say which mic is which ({titles}): `arkund set`, the Load page, or --anyway."
        )
    done = propose_all(found.pk, bar)
    rows = [{"move": m.number, "step": m.step, "title": m.title, "measured": m.measured} for m in done.moves]
    found.refresh_from_db()
    told = account.account(found)
    lines = told.lines() if told.deeds else ["nothing to do"]
    data = {"moves": rows, "left": done.left, "account": told.to_json()}
    emit(data, as_json, [*lines, done.words] if done.left else lines)


@main.command("account")
@click.argument("session")
@click.option("--undo", type=int, help="Take back the deed of this Move, whatever came after it.")
@json_option
def account_(session: str, undo: int | None, as_json: bool) -> None:
    """Show what the one click did, largest audible effect first, and why; --undo takes one deed back."""
    from arkund.studio.services import account, reverting

    found = session_of(session)
    if undo is not None:
        move = reverting.revert(found.pk, undo)
        emit({"move": move.number, "title": move.title}, as_json, [f"move {move.number}: {move.title}"])
        return
    told = account.account(found)
    numbered = [f"{deed.number:>4} {deed.told_size:>9}  {deed.title}" for deed in told.deeds]
    emit(
        told.to_json(),
        as_json,
        [*told.lines(), "Moves, for --undo", *numbered] if told.deeds else ["nothing was done by itself yet"],
    )


@main.command("set")
@click.argument("session")
@click.argument("changes", nargs=-1, required=True, metavar="KEY=VALUE...")
@click.option("--reason", default="", help="Why; kept in the logbook.")
@click.option("--scene", default="", help="The id of a scene that is to hold them, where it holds.")
@json_option
def set_(session: str, changes: tuple[str, ...], reason: str, scene: str, as_json: bool) -> None:
    """Change settings of the Plan, such as mics.kd-in.tools.gate.threshold_db=-30, as one Move."""
    from arkund.core.errors import SettingsError
    from arkund.core.plan.change import parse
    from arkund.core.rig.changes import settings
    from arkund.studio.services import moves

    wanted = {}
    for each in changes:
        key, sign, value = each.partition("=")
        if not sign:
            raise SettingsError(f"{each}: expected KEY=VALUE.")
        wanted[key] = parse(value)
    found = session_of(session)
    made = settings(found.plan, wanted, ", ".join(changes), scene)
    move = moves.apply(found.pk, made.values, step="set", title=made.title, reason=reason, version=found.version)
    data = {"move": move.number, "before": move.before, "after": move.after}
    emit(data, as_json, [f"move {move.number}: {move.title}"])


@main.command("print")
@click.argument("session")
@click.argument("outdir", type=click.Path(path_type=Path))
@click.option(
    "--format",
    "format_name",
    type=click.Choice(["wav24", "wav32f", "flac24"]),
    default="wav24",
    show_default=True,
)
@json_option
def print_(session: str, outdir: Path, format_name: str, as_json: bool) -> None:
    """Print every mic, the stems and the kit mix into a new folder, with a manifest."""
    from arkund.studio.services.printing import lowered_words, print_session

    manifest = print_session(session_of(session), outdir.absolute(), format_name, bar)
    lower = lowered_words(manifest["lowered_db"])
    told = [f"Lower than what is heard, so that none clips and the balance stays: {lower}."] if lower else []
    emit(
        manifest,
        as_json,
        told
        + [f"{f['file']:<28} peak {f['peak_db']:7.2f} dBFS  {f['loudness_lufs']:7.2f} LUFS" for f in manifest["files"]],
    )
