"""A disk that fills up at any byte, and a folder that may not be written to: ``make faults FAULTS=60``.

The system itself refuses: a limit on the size of files stands for the full disk, another user for the read-only folder. Each piece of work must say
so in a sentence, and leave everything as it was.
"""

import os
import random
import resource
import sys
import tempfile
from collections import Counter
from pathlib import Path

from tests.reliability.ground import Child, alone, tell
from tests.reliability.kills import Ground

KINDS = ("import", "print", "archive", "restore")
LARGEST = 1 << 21  # bytes: the small recording's files are smaller
NOBODY = 65_534


class Faults(Ground):
    """The same work, refused by the system."""

    def refused(self, kind: str, most_bytes: int | None) -> list[str]:
        """Do one piece of work with files of at most so many bytes, or in a read-only folder; return what is wrong."""

        def work(say) -> None:
            from arkund.studio.pages.later import fetch_all
            from arkund.studio.services import store

            fetch_all().join()  # the program itself can be read; it is the data that are refused
            if most_bytes is None:
                os.setgid(NOBODY)
                os.setuid(NOBODY)
            else:
                resource.setrlimit(resource.RLIMIT_FSIZE, (most_bytes, most_bytes))
            try:
                self.work[kind](lambda line: None)
                say("done")
            except Exception as error:
                said = store.refusal(error)
                if said is None:
                    raise
                say(f"said: {said}")

        code, said = Child(work).result()
        out = [f"{kind}, {most_bytes}: no sentence"] if code or not said else []
        if said and str(self.folder) in said[-1]:
            out.append(f"{kind}, {most_bytes}: tells a path: {said[-1]}")
        if most_bytes is None and said and said[-1] == "done":
            out.append(f"{kind}: done in a read-only folder")
        return out + alone(lambda: self._look(kind, []))


def run(faults: int, seed: int = 1) -> tuple[Counter, list[str]]:
    """Refuse so often, in turn over all kinds of work."""
    rng, done, wrong = random.Random(seed), Counter(), []
    with tempfile.TemporaryDirectory(prefix="arkund-faults-") as folder:
        ground = Faults(Path(folder))
        Path(folder).chmod(0o755)
        for number in range(faults):
            kind = KINDS[number % len(KINDS)]
            read_only = os.geteuid() == 0 and number % 3 == 2
            most = None if read_only else int(10 ** rng.uniform(1.0, 6.3))
            wrong += ground.refused(kind, most)
            done["read-only" if read_only else "full"] += 1
            tell(f"{number + 1} of {faults}, {len(wrong)} wrong")
    return done, wrong


if __name__ == "__main__":
    counts, found = run(int(sys.argv[1]))
    print(f"{dict(counts)}: {len(found)} wrong")
    print("\n".join(found[:20]))
    sys.exit(bool(found))
