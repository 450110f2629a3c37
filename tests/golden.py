"""Plans whose rendering is known, kept as digests and short parts: what must stay as it is while code is moved. ``python -m tests.golden`` tells the verdict;
where a tool was put right on purpose, ``python -m tests.golden --keep`` keeps what it does now.

Every case names its kit, its Plan as it was stored (schema 1), and what is rendered; the kit comes from the generator, so that little is kept.
"""

import base64
import gzip
import hashlib
import json
import sys
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

import numpy as np

from arkund.core.plan.versions import read_plan
from arkund.core.render.render import render
from arkund.core.render.stream import Stream
from arkund.core.rig.hearing import Listening
from arkund.core.units import gain_to_db
from tests.kits import SmallKit, small_kit

FILE = Path(__file__).parent / "core" / "render" / "golden.json.gz"
KEPT = 200  # samples of each rendering, from its loudest place


class TwoTakes:
    """A small kit of as many mics as a case wants; every other take is the same playing a little later."""

    def __init__(self, kit: SmallKit, mic_of: dict[str, str], later: int) -> None:
        self._kit, self._mic_of, self._later = kit, mic_of, later
        self.sample_rate_hz = kit.sample_rate_hz

    def mic(self, take: str, mic_id: str):
        """Return a mic's reader."""
        found = self._kit.mic("take-1", self._mic_of.get(mic_id, mic_id))
        return found if take == "take-1" or found is None else _Later(found, self._later)

    def content(self, take: str, mic_id: str) -> str:
        """Return what a mic's samples are known by."""
        return f"{take} {self._kit.content(take, self._mic_of.get(mic_id, mic_id))}"

    def length(self, take: str) -> int:
        """Return a take's length in samples."""
        return self._kit.length(take)


class _Later:
    def __init__(self, reader, later: int) -> None:
        self._reader, self._later, self.length = reader, later, reader.length

    def read(self, start: int, stop: int) -> np.ndarray:
        return self._reader.read(start - self._later, stop - self._later)


@lru_cache(maxsize=4)
def kit_of(content: str) -> SmallKit:
    """Return a generated kit by its making, as JSON."""
    return small_kit(**json.loads(content))


def recordings_of(case: dict) -> TwoTakes:
    """Return what a case is rendered of."""
    return TwoTakes(kit_of(json.dumps(case["kit"], sort_keys=True)), case["mic_of"], case["later"])


def soloed(stored: dict) -> Listening:
    """Return what a stored Plan had soloed: once a part of it, now of who listens."""
    return Listening(solo=frozenset(f"mic:{mic['id']}" for mic in stored["mics"] if mic.get("mix", {}).get("solo")))


def rendered(case: dict, plan) -> dict[str, np.ndarray]:
    """Return all that a case renders: spans by output, and each printed output from start to end."""
    recordings, out, listening = recordings_of(case), {}, soloed(case["plan"])
    for output, start, stop in case["spans"]:
        out[f"{output} {start} {stop}"] = render(plan, recordings, (start, stop), output, listening=listening)
    if case["printed"]:
        stream = Stream(plan, recordings)
        with ThreadPoolExecutor(2) as pool:
            blocks = [block.banks for block in stream.blocks(pool, size=50_021)]
        for name, (bank, lane) in stream.places().items():
            lanes = slice(lane, lane + (1 if name.startswith("strip:") else 2))
            out[f"printed {name}"] = np.concatenate([banks[bank][:, lanes] for banks in blocks])
    return out


def kept_of(audio: np.ndarray) -> dict:
    """Return what is kept of a rendering."""
    loudest = int(np.argmax(np.abs(audio).reshape(audio.shape[0], -1).max(axis=1)))
    at = min(max(loudest - KEPT // 2, 0), max(audio.shape[0] - KEPT, 0))
    part = np.ascontiguousarray(audio[at : at + KEPT], np.float32)
    digest = hashlib.sha256(np.ascontiguousarray(audio, np.float32).tobytes()).hexdigest()
    return {"digest": digest, "shape": list(audio.shape), "at": at, "part": base64.b64encode(part.tobytes()).decode()}


def apart_db(kept: dict, audio: np.ndarray) -> float:
    """Return the largest difference of a rendering from what is kept, in dBFS (against the peak where that is over full scale)."""
    wanted = np.frombuffer(base64.b64decode(kept["part"]), np.float32)
    got = np.asarray(audio[kept["at"] : kept["at"] + KEPT], np.float32).reshape(-1)
    if list(audio.shape) != kept["shape"]:
        return np.inf
    return float(gain_to_db(np.abs(wanted - got).max() / max(1.0, np.abs(wanted).max())))


def cases() -> list[dict]:
    """Return all that is kept."""
    return json.loads(gzip.decompress(FILE.read_bytes()))


def verdict(case: dict) -> tuple[int, int, float]:
    """Return how many renderings of a case are the same to the last bit, of how many, and the largest difference in dBFS."""
    made = rendered(case, read_plan(case["plan"], rate=case["kit"].get("rate", 48_000)))
    solo = bool(soloed(case["plan"]).solo)  # a print knows nothing of it any more
    wanted = {name: kept for name, kept in case["kept"].items() if not (solo and name.startswith("printed "))}
    same = sum(kept_of(made[name])["digest"] == kept["digest"] for name, kept in wanted.items())
    return same, len(wanted), max(apart_db(kept, made[name]) for name, kept in wanted.items())


def keep() -> None:
    """Keep what every case renders now."""
    rows = cases()
    for case in rows:
        made = rendered(case, read_plan(case["plan"], rate=case["kit"].get("rate", 48_000)))
        case["kept"] = {name: kept_of(made[name]) for name in case["kept"]}
    FILE.write_bytes(gzip.compress(json.dumps(rows).encode(), mtime=0))


if __name__ == "__main__":
    if sys.argv[1:] == ["--keep"]:
        keep()
    worst = -np.inf
    for each in cases():
        same, count, apart = verdict(each)
        worst = max(worst, apart)
        print(f"{each['name']:<28} {same:3} of {count:3} the same bytes, largest difference {apart:7.1f} dBFS")
    sys.exit(0 if worst < -120.0 else 1)
