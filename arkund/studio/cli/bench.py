"""``arkund bench``: speed and memory on a session of its own, as a table or JSON."""

import os
import platform
import shutil
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path
from time import perf_counter

import click

from arkund.studio.cli.group import emit, main

LOOP_S = 8
AUDITIONS = 25


@main.command()
@click.option("--quick", is_flag=True, help="One minute of audio instead of four.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def bench(quick: bool, as_json: bool) -> None:
    """Measure printing, finding hits, lining up, importing and auditioning, on 16 generated mics."""
    before = os.environ.get("ARKUND_DATA")
    with tempfile.TemporaryDirectory(prefix="arkund-bench-") as folder:
        from django.conf import settings

        settings.DATA = Path(folder) / "data"
        settings.DATA.mkdir()
        settings.DATABASES["default"]["NAME"] = settings.DATA / "arkund.sqlite3"
        from django.db import connections

        connections["default"].settings_dict["NAME"] = str(settings.DATA / "arkund.sqlite3")
        connections.close_all()
        result = _measure(Path(folder), 60.0 if quick else 240.0)
        connections.close_all()
    if before is None:
        os.environ.pop("ARKUND_DATA", None)
    emit(result, as_json, [f"{key:<28} {value}" for key, value in result.items()])


def _measure(folder: Path, seconds: float) -> dict:
    from django.conf import settings

    from arkund.core.timing.settings import QuantiseSettings
    from arkund.studio.cli.chain import chain_figures
    from arkund.studio.cli.full_rig import full_figures
    from arkund.studio.cli.group import migrate
    from arkund.studio.cli.many_strikes import layered_figures
    from arkund.studio.cli.pages import page_figures
    from arkund.studio.memory import give_back
    from arkund.studio.models import Session
    from arkund.studio.services import editing, rendering
    from arkund.studio.services.importing import import_folder
    from arkund.studio.services.measuring import Measure
    from arkund.studio.services.printing import print_session
    from arkund.studio.services.proposing import propose_all
    from arkund.studio.services.recordings import find

    migrate()
    recordings = _record(folder / "in", seconds)
    import_s, session = _timed(lambda: import_folder(recordings, bpm=112.0))
    find_s, _ = _timed(lambda: find(session, session.plan, session.plan.take))
    lineup_s, _ = _timed(lambda: Measure(session).arrivals())
    propose_s, _ = _timed(lambda: propose_all(session.pk))
    session = Session.objects.get(pk=session.pk)
    one, everything = _auditions(session)
    rendering.cache().clear()
    give_back()  # as a print does; what stands before it is not its own
    _forget_peak()
    print_s, _ = _timed(lambda: print_session(session, folder / "out"))
    print_mb = _peak_mb()
    shutil.rmtree(folder / "out")
    rendering.cache().clear()
    layered = layered_figures(session, LOOP_S, _timed)
    full = full_figures(session, folder / "out", seconds, LOOP_S, _timed, _p95)
    shutil.rmtree(folder / "out")
    session = Session.objects.get(pk=session.pk)
    last = editing.last_bar(Measure(session))
    quantise_s, _ = _timed(lambda: editing.quantise_session(session, QuantiseSettings(first_bar=0, last_bar=last)))
    session = Session.objects.get(pk=session.pk)
    rendering.cache().clear()
    edited_s, _ = _timed(lambda: print_session(session, folder / "out"))
    shutil.rmtree(folder / "out")
    return {
        "mics": len(session.plan.mics),
        "audio_s": seconds,
        "import_x_realtime": round(seconds / import_s, 1),
        "hits_x_realtime": round(seconds / find_s, 1),
        "lineup_x_realtime": round(seconds / lineup_s, 1),
        "hits_lineup_x_realtime": round(seconds / (find_s + lineup_s), 1),
        "propose_s": round(propose_s, 2),
        "print_x_realtime": round(seconds / print_s, 1),
        "quantise_s": round(quantise_s, 2),
        "print_quantised_x_realtime": round(seconds / (quantise_s + edited_s), 1),
        "audition_one_mic_ms_median": round(statistics.median(one), 1),
        "audition_one_mic_ms_p95": round(_p95(one), 1),
        "audition_all_mics_ms_median": round(statistics.median(everything), 1),
        "audition_all_mics_ms_p95": round(_p95(everything), 1),
        "print_peak_memory_mb": round(print_mb),
        **layered,
        **full,
        "compile_s": round(_compile_s(), 1),
        **chain_figures(min(seconds, 60.0)),
        **page_figures(Path(settings.DATA), session.pk),
        "start_page_1000_sessions_ms": round(_start_page_ms(session), 1),
        "machine": f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}",
    }


def _compile_s() -> float:
    """Return how long set-up compiles: all loops anew, into a folder that goes again."""
    with tempfile.TemporaryDirectory(prefix="arkund-compile-") as folder:
        command, environment = [sys.executable, "-m", "arkund.core.warm"], os.environ | {"NUMBA_CACHE_DIR": folder}
        return _timed(lambda: subprocess.run(command, check=True, capture_output=True, env=environment))[0]  # noqa: S603


def _start_page_ms(session) -> float:
    """Return the median ms of the start page with a thousand sessions of this one's Plan; they are last in the bench's life."""
    from django.test import Client

    from arkund.studio.models import Session

    Session.objects.bulk_create(
        Session(name=f"song {k}", sample_rate_hz=session.sample_rate_hz, plan_json=session.plan_json, ready=True)
        for k in range(1000)
    )
    client = Client(headers={"host": "localhost"})
    return 1000 * statistics.median(_timed(lambda: client.get("/"))[0] for _ in range(15))


def _record(folder: Path, seconds: float) -> Path:
    """Write 16 mics: half a minute of the demo kit, repeated."""
    import numpy as np
    import soundfile

    from arkund.core.demo.recording import record
    from arkund.core.demo.score import Playing, play
    from arkund.core.demo.song import demo_kit

    folder.mkdir()
    kit = demo_kit()
    part_s = 30.0
    strokes = play(Playing(style="busy", bpm=112.0, bars=13, start_s=0.5, seed=5))
    for mic, audio in record(kit, strokes, part_s):
        repeats = int(np.ceil(seconds / part_s))
        whole = np.tile(np.clip(audio, -1, 1), repeats)[: int(seconds * kit.sample_rate_hz)]
        soundfile.write(folder / f"{mic.name}.wav", whole, kit.sample_rate_hz, subtype="PCM_24")
    return folder


def _auditions(session) -> tuple[list[float], list[float]]:
    """Return the ms from a changed setting to the finished loop: for one mic, every stage of it in turn, and for all mics."""
    from arkund.core.plan import change
    from arkund.studio.services import listening

    rate = session.sample_rate_hz
    span = (20 * rate, (20 + LOOP_S) * rate)
    plan = session.plan
    listening.audition(session, plan, listening.Question(span, step="level"))

    def heard_ms(changes: dict) -> float:
        tried = change.put(plan, changes)
        return 1000 * _timed(lambda: listening.audition(session, tried, listening.Question(span)))[0]

    one, everything = [], []
    for number in range(AUDITIONS):
        mic, stages = plan.mics[number % len(plan.mics)], _stages(number)
        one.append(heard_ms({f"mics.{mic.id}.{path}": v for path, v in stages[number % len(stages)].items()}))
        moved = {f"mics.{m.id}.tools.compressor.threshold_db": -21.0 - 0.41 * number for m in plan.mics}
        everything.append(heard_ms(moved))
    return one, everything


def _stages(number: int) -> list[dict]:
    """Return a change of each stage of a mic, other for each number."""
    bell = {"kind": "bell", "frequency_hz": 900.0 + 10 * number, "gain_db": 2.0, "q": 1.0}
    return [
        {"level_db": -3.0 - 0.1 * number},
        {"tools.compressor.on": True, "tools.compressor.threshold_db": -20.0 - 0.37 * number},
        {"tools.shaper.on": True, "tools.shaper.attack_db": 1.0 + 0.1 * number},
        {"tools.tone.on": True, "tools.tone.bands": [bell]},
        {"tools.gate.on": True, "tools.gate.threshold_db": -40.0 - 0.3 * number},
    ]


def _timed(work) -> tuple[float, object]:
    began = perf_counter()
    result = work()
    return perf_counter() - began, result


def _p95(values: list[float]) -> float:
    ordered = sorted(values)
    return ordered[min(int(0.95 * len(ordered)), len(ordered) - 1)]


def _forget_peak() -> None:
    """Let the kernel count the process's largest resident size anew (Linux)."""
    clear = Path("/proc/self/clear_refs")
    if clear.exists():
        clear.write_text("5")


def _peak_mb() -> float:
    """Return the largest resident size since then, in MB; of the whole run where the system cannot say."""
    status = Path("/proc/self/status")
    if status.exists():
        row = next(line for line in status.read_text().splitlines() if line.startswith("VmHWM"))
        return int(row.split()[1]) / 1024
    import resource

    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
