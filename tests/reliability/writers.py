"""Eight writers on one session at the same time, through requests and through the service, thousands of Moves: ``make writers MOVES=4000``.

No update may be lost, none may meet a locked database; who comes too late for what another has set is told so, and only for that. Meanwhile the session is
described again and again, as archives and cards do: each description must be one that can come back.
"""

import random
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.reliability.ground import Child, alone, set_up

WRITERS = 8
SHARED = "tempo.bpm"  # what all of them change


def _begin(writers: int) -> int:
    from arkund.core.plan.plan import MicPlan, Plan
    from arkund.studio.models import MicRecording, Session, Take

    mics = tuple(MicPlan(id=f"mic-{n}", name=f"Mic {n}") for n in range(writers))
    plan = Plan(take="t", mics=mics).to_json()
    session = Session.objects.create(name="s", sample_rate_hz=48_000, plan_json=plan, ready=True)
    take = Take.objects.create(session=session, key="t", name="t")
    for mic in mics:
        MicRecording.objects.create(take=take, mic=mic.id, file=mic.name, digest="0" * 64, length=1, peak_db=0.0)
    return session.pk


def _write(say, session_id: int, writer: int, moves_wanted: int) -> None:
    """Change this writer's own mic and what all share; odd writers as the page does, even ones as the command line does."""
    from django.test import Client

    from arkund.core.errors import StaleError
    from arkund.studio.models import Session
    from arkund.studio.services import moves

    rng, client, done = random.Random(writer), Client(headers={"host": "localhost"}), 0
    while done < moves_wanted:
        path = SHARED if rng.random() < 0.2 else f"mics.mic-{writer}.trim_db"
        value = round(rng.uniform(60, 200), 2) if path == SHARED else round(rng.uniform(-30, 30), 2)
        version = Session.objects.values_list("version", flat=True).get(pk=session_id)
        if writer % 2:
            body = {"changes": {path: value}, "version": version, "step": "level"}
            answer = client.post(f"/s/{session_id}/moves", body, "application/json")
            if answer.status_code == 409:
                told = answer.json()["error"]
                say(
                    "stale"
                    if told.startswith(f"{SHARED} was changed meanwhile") and path == SHARED
                    else f"wrong: {told}"
                )
                continue
            if answer.status_code != 200:
                say(f"wrong: {answer.status_code} {answer.content[:200]!r}")
                return
            number = answer.json()["move"]
        else:
            try:
                number = moves.apply(session_id, {path: value}, step="set", title="set", version=version).number
            except StaleError:
                say("stale")
                continue
        done += 1
        say(f"move {number} {path} {value}")


def _describe(say, session_id: int, moves_wanted: int) -> None:
    """Describe the session until all Moves are made."""
    from arkund.core.errors import SettingsError
    from arkund.studio.models import Session
    from arkund.studio.services.document import Document, describe

    while True:
        session = Session.objects.get(pk=session_id)
        try:
            Document.from_json(describe(session))
            say("described")
        except SettingsError as error:
            say(f"wrong: could not come back: {str(error)[:200]}")
        if session.version >= moves_wanted:
            return


def _check(session_id: int, said: list[list[str]]) -> list[str]:
    from arkund.studio.models import Session

    session = Session.objects.get(pk=session_id)
    kept = {move.number: move.after for move in session.moves.all()}
    wrong = [line for lines in said for line in lines if line.startswith("wrong")]
    accepted = [line.split()[1:] for lines in said for line in lines if line.startswith("move")]
    wrong += [f"Move {n} is lost or other" for n, path, value in accepted if kept.get(int(n)) != {path: float(value)}]
    if not len(kept) == len(accepted) == session.version:
        wrong.append(f"{len(accepted)} accepted, {len(kept)} kept, version {session.version}")
    last: dict[str, float] = {}
    for number in sorted(kept):
        last |= kept[number]
    now = session.plan.to_json()
    found = {SHARED: now["tempo"]["bpm"]} | {f"mics.{mic['id']}.trim_db": mic["trim_db"] for mic in now["mics"]}
    wrong += [
        f"{path} is {found[path]}, the last Move said {value}" for path, value in last.items() if found[path] != value
    ]
    return wrong


def run(moves_wanted: int) -> tuple[Counter, list[str]]:
    """Let all write, and hold what they were told against what is there."""
    with tempfile.TemporaryDirectory(prefix="arkund-writers-") as folder:
        set_up(Path(folder) / "data")
        session_id = alone(lambda: _begin(WRITERS))
        children = [Child(lambda say, n=n: _write(say, session_id, n, moves_wanted // WRITERS)) for n in range(WRITERS)]
        children.append(Child(lambda say: _describe(say, session_id, moves_wanted // WRITERS * WRITERS)))
        results = [child.result() for child in children]
        wrong = [f"writer {n} failed" for n, (code, _) in enumerate(results) if code]
        said = [lines for _, lines in results]
        wrong += alone(lambda: _check(session_id, said))
        return Counter(line.split()[0] for lines in said for line in lines), wrong


if __name__ == "__main__":
    began = time.monotonic()
    counts, faults = run(int(sys.argv[1]))
    took = time.monotonic() - began
    print(f"{WRITERS} writers, {dict(counts)} in {took:.0f} s: {len(faults)} wrong")
    print("\n".join(faults[:20]))
    sys.exit(bool(faults))
