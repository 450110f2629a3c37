"""How the time and the memory of a print grow with mics and length: ``make scale`` (some minutes). Each print runs in a process of its own."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path
from time import perf_counter

import numpy as np

MICS, MINUTES = (4, 8, 16, 24), (1, 4, 10)
LARGEST = (24, 10, 96_000)
BUDGET = 4 << 30
PERIOD = 1 << 20
PIECES = (("kick", "in"), ("snare", "top"), ("hihat", "spot"), ("tom1", "close"), ("kit", "overhead"), ("kit", "room"))


class Endless:
    """Recordings of any length that need no disk: one second after the other of decaying noise, another stretch of it for each mic."""

    def __init__(self, length: int, rate: int) -> None:
        self.sample_rate_hz, self._length = rate, length
        fall = np.exp(-(np.arange(PERIOD) % (rate // 2)) / (0.05 * rate))
        self._noise = (0.3 * np.random.default_rng(1).standard_normal(PERIOD) * fall).astype(np.float32)

    def mic(self, take: str, mic_id: str):
        return _Stretch(self._noise, int(mic_id[4:]) * 7919, self._length)

    def length(self, take: str) -> int:
        return self._length

    def content(self, take: str, mic_id: str) -> str:
        return mic_id


class _Stretch:
    def __init__(self, noise: np.ndarray, late: int, length: int) -> None:
        self._noise, self._late, self.length = noise, late, length

    def read(self, start: int, stop: int) -> np.ndarray:
        return np.take(self._noise, np.arange(start + self._late, stop + self._late), mode="wrap")


def print_once(mics: int, minutes: int, rate: int, full: bool = False) -> dict:
    """Print with every step on, or the bench's full rig; return seconds and the largest resident size in MB."""
    from arkund.core.plan.plan import MicPlan, Plan
    from arkund.core.render.printing import print_song
    from arkund.core.rig import usual
    from arkund.core.rig.strips import Kit, Send
    from arkund.core.tools.tool import module_of, tool
    from arkund.studio.memory import keep_freed

    keep_freed(BUDGET)

    band = module_of("tone").Band
    bands = tuple(band(kind="bell", frequency_hz=f, gain_db=2.0, q=1.0) for f in (90.0, 250.0, 700.0, 2500.0, 6000.0))
    row = (
        tool("gate", on=True, threshold_db=-40.0),
        tool("tone", bands=bands),
        tool("shaper", on=True, attack_db=3.0),
        tool("compressor", on=True, threshold_db=-20.0),
    )
    sends = (Send(id="punch", level_db=-6.0), Send(id="sustain", level_db=-6.0))
    rows = [PIECES[k % len(PIECES)] for k in range(mics)]
    plan = Plan(
        take="t",
        mics=tuple(
            MicPlan(id=f"mic-{k}", name=f"Mic {k}", piece=p, role=r, tools=row, sends=sends)
            for k, (p, r) in enumerate(rows)
        ),
        paths=(usual.punch(), usual.sustain()),
        kit=Kit(tools=tuple(each.replace(on=True) for each in usual.kit().tools)),
    )
    if full:
        from arkund.studio.cli.full_rig import full_rig

        plan = full_rig(plan.replace(groups=usual.FIRST_GROUPS))
    with tempfile.TemporaryDirectory(prefix="arkund-scale-") as folder:
        began = perf_counter()
        print_song(plan, Endless(minutes * 60 * rate, rate), Path(folder), "wav24")
        took = perf_counter() - began
    peak = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM"))
    return {
        "mics": mics,
        "minutes": minutes,
        "rate": rate,
        "full": full,
        "s": round(took, 1),
        "peak_mb": int(peak.split()[1]) // 1024,
    }


def main() -> None:
    """Print a table."""
    print("mics  minutes   rate  rig    time s   s per mic and minute   peak MB")
    rows = [(m, t, 48_000, 0) for m in MICS for t in MINUTES] + [(*LARGEST, 0), (*LARGEST, 1)]
    for mics, minutes, rate, full in rows:
        command = [sys.executable, "-m", "tools.scale", *map(str, (mics, minutes, rate, full))]
        row = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        each = row["s"] / mics / minutes
        print(
            f"{mics:4}  {minutes:7}  {rate:5}  {'full' if full else '':4} {row['s']:8.1f}  {each:21.3f}  {row['peak_mb']:8}",
            flush=True,
        )


if __name__ == "__main__":
    if len(sys.argv) > 1:
        print(json.dumps(print_once(*map(int, sys.argv[1:]))))
    else:
        main()
