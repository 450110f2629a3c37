"""Damaged audio files, MIDI files, lists of hits and archives, and senseless requests: ``make fuzz FUZZ=2000`` (so many files, and so many requests).

Each must be taken or refused in a sentence; no answer is a 500, none tells a path of this machine, and nothing half-made stays.
"""

import copy
import io
import json
import random
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.reliability.bodies import STRANGE, valid_bodies
from tests.reliability.ground import set_up, small_recording, tell

FORMATS = {
    "a.wav": ("WAV", "PCM_24"),
    "b.wav": ("WAV", "FLOAT"),
    "c.aif": ("AIFF", "PCM_16"),
    "d.flac": ("FLAC", "PCM_24"),
    "e.wav": ("RF64", "PCM_24"),
    "f.w64": ("W64", "PCM_16"),
}
NUMBERS = (0, 1, -1, 0x7F, 0x80, 0xFF, 0x7FFF, 0x8000, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF)


def mutated(data: bytes, rng: random.Random) -> bytes:
    """Return data with a few bytes, figures or parts changed, mostly near the start, where headers are."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = int(len(out) * rng.random() ** 4) if out else 0
        kind = rng.randrange(6)
        if kind == 0 and out:
            out[at % len(out)] = rng.randrange(256)
        elif kind == 1:
            width = rng.choice((1, 2, 4, 8))
            out[at : at + width] = (rng.choice(NUMBERS) % (1 << 8 * width)).to_bytes(
                width, rng.choice(("little", "big"))
            )
        elif kind == 2:
            del out[rng.randrange(len(out) + 1) :]
        elif kind == 3:
            del out[at : at + rng.randrange(64)]
        elif kind == 4:
            out[at:at] = rng.randbytes(rng.randrange(64))
        else:
            out[at:at] = out[at : at + rng.randrange(256)]
    return bytes(out)


class Fuzz:
    """Valid things to damage, and a session to ask for."""

    def __init__(self, folder: Path, seed: int) -> None:
        self.rng, self.folder, self.counts, self.wrong = random.Random(seed), folder, Counter(), []
        set_up(folder / "data")
        import numpy as np
        import soundfile
        from django.test import Client

        from arkund.studio.services import editing
        from arkund.studio.services.archiving import archive
        from arkund.studio.services.importing import import_folder
        from arkund.studio.services.measuring import Measure

        self.session = import_folder(small_recording(folder / "in", 4.0, 72), bpm=120.0, name="asked for")
        self.archive = archive(self.session, folder / "base.zip").read_bytes()
        self.files = {}
        sound = np.random.default_rng(1).normal(0, 0.2, 6000)
        for name, (kind, subtype) in FORMATS.items():
            made = io.BytesIO()
            soundfile.write(made, sound, 48_000, subtype, format=kind)
            self.files[name] = made.getvalue()
        self.hits = {}
        for ending in ("mid", "csv", "json"):
            editing.export(Measure(self.session), folder / f"hits.{ending}")
            self.hits[ending] = (folder / f"hits.{ending}").read_bytes()
        self.client = Client(headers={"host": "localhost"}, raise_request_exception=False)
        self.client.get("/")

    def _sentence(self, what: str, work) -> None:
        from arkund.core.errors import ArkundError

        try:
            work()
            self.counts[f"{what} taken"] += 1
        except ArkundError as error:
            self.counts[f"{what} refused"] += 1
            if str(self.folder) in str(error):
                self.wrong.append(f"{what}: tells a path: {error}")
        except Exception as error:
            self.wrong.append(f"{what}: {type(error).__name__}: {error}")

    def file(self) -> None:
        """Import a damaged audio file, restore a damaged archive, or take hits or a tempo map from a damaged file."""
        from arkund.studio.services import editing
        from arkund.studio.services.archiving import restore
        from arkund.studio.services.housekeeping import remove
        from arkund.studio.services.importing import import_folder

        with tempfile.TemporaryDirectory(dir=self.folder) as name:
            if self.rng.random() < 0.3:
                ending = self.rng.choice(list(self.hits))
                path = Path(name) / f"x.{ending}"
                path.write_bytes(mutated(self.hits[ending], self.rng))
                self._sentence(ending, lambda: editing.read_hits(path))
                if ending == "mid":
                    self._sentence("tempo", lambda: editing.tempo_of_midi(editing.read_midi(path), path.name))
            elif self.rng.random() < 0.35:
                path = Path(name) / "x.zip"
                path.write_bytes(self._damaged_archive())
                self._sentence("archive", lambda: remove(restore(path)))
            else:
                kind = self.rng.choice(list(self.files))
                (Path(name) / kind).write_bytes(mutated(self.files[kind], self.rng))
                self._sentence("audio", lambda: remove(import_folder(Path(name))))

    def _damaged_archive(self) -> bytes:
        """Damage the file as a whole, or a value within, with checksums that fit."""
        import hashlib
        import zipfile

        if self.rng.random() < 0.5:
            return mutated(self.archive, self.rng)
        with zipfile.ZipFile(io.BytesIO(self.archive)) as bundle:
            entries = {info.filename: bundle.read(info) for info in bundle.infolist()}
        contents = json.loads(entries["session.json"])
        for _ in range(self.rng.randint(1, 3)):
            self._spoil(contents)
        entries["session.json"] = json.dumps(contents).encode()
        entries["session.sha256"] = hashlib.sha256(entries["session.json"]).hexdigest().encode()
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as bundle:
            for name, data in entries.items():
                bundle.writestr(name, data)
        return out.getvalue()

    def _spoil(self, node) -> None:
        """Put something strange in the place of a value anywhere in plain data, or take the value away."""
        while True:
            keys = list(node) if isinstance(node, dict) else list(range(len(node)))
            if not keys:
                return
            key = self.rng.choice(keys)
            if isinstance(node[key], (dict, list)) and node[key] and self.rng.random() < 0.85:
                node = node[key]
                continue
            if self.rng.random() < 0.15:
                del node[key]
            else:
                node[key] = copy.deepcopy(self.rng.choice(STRANGE))  # what was put in may be spoiled in its turn
            return

    def request(self) -> None:
        """Ask for something senseless at any address."""
        s, rng = f"/s/{self.session.pk}", self.rng
        bodies = valid_bodies(self.session.version)
        where = rng.choice([*bodies, "get"])
        if where == "get":
            parts = rng.choice(
                [
                    "peaks/{0}/{1}",
                    "hits/{0}",
                    "whole/{0}/{0}/{1}",
                    "prints/{1}/{0}",
                    "{0}/data",
                    "archive/{1}.zip",
                    "{0}/?x={0}",
                    "around?at={0}",
                    "null?a={0}&b=strip:{0}",
                    "hits.{0}",
                ]
            )
            word = rng.choice(
                ["sn-top", "kick", "kit", "..%2f..%2fetc", "%00", "a" * 300, "load", "strip:sn-top", "é", "0" * 64]
            )
            answer = self.client.get(f"{s}/{parts.format(word, rng.choice([256, 0, 99, 10**12]))}")
        else:
            body = json.loads(json.dumps(bodies[where]))
            for _ in range(rng.randint(0, 3)):
                self._spoil(body)
            try:
                data = json.dumps(body).encode("utf-8", "surrogatepass")
            except UnicodeEncodeError:
                data = b"{}"
            if rng.random() < 0.25:
                data = mutated(data, rng)
            answer = self.client.post(f"{s}/{where}", data, "application/json")
        text = b"".join(answer.streaming_content) if answer.streaming else answer.content
        self.counts[f"request {answer.status_code}"] += 1
        if answer.status_code >= 500:
            self.wrong.append(
                f"request {where}: {answer.status_code}: {str(answer.exc_info[1] if answer.exc_info else '')[:200]}"
            )
        if str(self.folder).encode() in text:
            self.wrong.append(f"request {where}: tells a path")


def run(count: int, seed: int = 1) -> tuple[Counter, list[str]]:
    """Try so many files and so many requests."""
    import logging

    with tempfile.TemporaryDirectory(prefix="arkund-fuzz-") as folder:
        fuzz = Fuzz(Path(folder), seed)
        logging.disable(logging.CRITICAL)
        for number in range(count):
            fuzz.file()
            fuzz.request()
            tell(f"{number + 1} of {count}, {len(fuzz.wrong)} wrong")
        from arkund.studio.models import Session
        from arkund.studio.services.doctor import examine

        left = [c.what for c in examine(repair=False) if "nobody uses it" not in c.what and "job" not in c.what]
        sessions = Session.objects.count()
        if sessions != 1:
            left.append(f"{sessions} sessions are there")
        logging.disable(logging.NOTSET)
        return fuzz.counts, fuzz.wrong + left


if __name__ == "__main__":
    began = time.monotonic()
    tried, faults = run(int(sys.argv[1]))
    print(f"{dict(sorted(tried.items()))} in {time.monotonic() - began:.0f} s: {len(faults)} wrong")
    print("\n".join(sorted(set(faults))[:40]))
    sys.exit(bool(faults))
