"""A survey of lining up and timing over styles, rates and methods: ``make survey-timing SEED=900``. Takes some minutes; figures go to docs/timing.md.

Hits are found, never taken from the truth; the truth is what they are compared with.
"""

import itertools
import sys
from dataclasses import dataclass, field

import numpy as np
from scipy import signal

from arkund.core.demo.room import arrival_s
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import Hit, resolve
from arkund.core.hits.settings import HitSettings
from arkund.core.lineup.measure import measure as arrivals
from arkund.core.timing.measure import deviations
from arkund.core.timing.process import Edited, moved_sample, segments
from arkund.core.timing.quantise import quantise
from arkund.core.timing.settings import QuantiseSettings
from arkund.core.timing.strokes import strokes
from arkund.core.timing.tempo import estimate_map
from tests.core.timing.playing import rise_db
from tests.kits import SmallKit, small_kit

KITS = (
    ("straight", 118.0, 48_000, "auto", {}),
    ("busy", 104.0, 44_100, "auto", {"hard": True}),
    ("slow", 70.0, 96_000, "stretch", {}),
    ("sixeight", 62.0, 48_000, "slices", {"hard": True}),
    ("busy", 96.0, 48_000, "auto", {"play_with": {"flam_share": 0.4}}),
    ("straight", 143.0, 44_100, "slices", {"hard": True}),
)
FLAM_MS = (12.0, 45.0)  # apart
IN_A_TAIL_S, AHEAD_S = 0.03, 0.02  # after the last stroke and before the next: a splice is in a tail


@dataclass
class Figures:
    """What was measured over all kits."""

    bpm: list[float] = field(default_factory=list)  # errors
    arrival_ms: list[float] = field(default_factory=list)  # errors of those that are sure
    polarity: list[bool] = field(default_factory=list)  # right or not, of those that are sure
    unsure: int = 0
    flams: list[bool] = field(default_factory=list)  # both strokes found, in their order
    off_ms: list[float] = field(default_factory=list)  # from the grid, found again after editing
    delay_ms: list[float] = field(default_factory=list)  # changes of delays between mics
    splice_db: list[float] = field(default_factory=list)  # energy above 2 kHz around a splice in a tail
    plain_db: list[float] = field(default_factory=list)  # the same places without a splice
    untouched: list[bool] = field(default_factory=list)  # length, and what follows the last edit, to the sample


class Recorded:
    """A kit with other audio."""

    def __init__(self, kit: SmallKit, readers: dict) -> None:
        self.sample_rate_hz, self.readers = kit.sample_rate_hz, readers

    def mic(self, take: str, mic_id: str):
        return self.readers.get(mic_id)


def found(kit: SmallKit, readers: dict) -> dict[str, list[Hit]]:
    rows = find_hits([readers[m.name] for m in kit.kit.mics], kit.channels, kit.sample_rate_hz, HitSettings())
    return resolve({p: [[h.time_s, h.level_db, h.sure] for h in mine] for p, mine in rows.items()}, ())


def survey(seed: int) -> Figures:
    out = Figures()
    for number, (style, bpm, rate, method, more) in enumerate(KITS):
        kit = small_kit(seed=seed + number, style=style, bpm=bpm + seed % 5, bars=10, rate=rate, **more)
        hits = found(kit, kit.readers)
        tempo = kit.plan.tempo
        guess = estimate_map(hits, tempo.beats_per_bar, tempo.beat_unit)
        out.bpm.append(abs(guess.tempo.bpm - tempo.bpm))
        line_up(kit, hits, out)
        flams(kit, hits, out)
        edit(kit, hits, method, out)
        print(f"{style:<9} {rate} {method:<8} done", flush=True)
    return out


def line_up(kit: SmallKit, hits, out: Figures) -> None:
    """Arrivals and polarity against the room's geometry."""
    places = {m.name: m for m in kit.kit.mics}
    for each in arrivals(kit.plan, kit, hits):
        if not each.sure:
            out.unsure += 1
            continue
        true = arrival_s(places[each.mic], each.piece) - arrival_s(places[each.reference], each.piece)
        out.arrival_ms.append(abs(each.delay_ms - true * 1000))
        out.polarity.append(each.polarity == (-1 if each.mic == "Snr btm" else 1))


def flams(kit: SmallKit, hits, out: Figures) -> None:
    """Both strokes of each flam, in their order: each true one has a found one of its own within 5 ms."""
    times = np.array([h.time_s for h in hits["snare"]])
    true = np.sort([h.time_s for h in kit.truth["snare"]])
    for first, second in itertools.pairwise(true):
        if FLAM_MS[0] <= 1000 * (second - first) <= FLAM_MS[1]:
            near = [int(np.argmin(np.abs(times - t))) for t in (first, second)]
            close = all(abs(times[k] - t) <= 0.005 for k, t in zip(near, (first, second), strict=True))
            out.flams.append(close and near[0] < near[1])


def edit(kit: SmallKit, hits, method: str, out: Figures) -> None:
    """Quantise all but the last bars to sixteenths at 100 %, and measure what came of it."""
    rate, plan, names = kit.sample_rate_hz, kit.plan, [mic.id for mic in kit.plan.mics]

    def total(start: int, stop: int) -> np.ndarray:
        return np.sum([kit.readers[n].read(start, stop) for n in names], axis=0)

    made = quantise(hits, plan, QuantiseSettings(first_bar=0, last_bar=8, method=method), rate, total)
    edited = Edited(made.cuts, plan.crossfade_ms, rate)
    new = {n: ArrayMic(edited.read(kit.readers[n].read, 0, kit.samples)) for n in names}
    again = found(kit, new)
    moved = strokes(deviations(again, plan.tempo, 16))
    out.off_ms += [abs(s.lead.off_ms) for s in moved if 0 <= s.lead.bar <= 8]
    end = made.cuts[-1].at
    for n in names:
        same = np.array_equal(new[n].read(end, kit.samples), kit.readers[n].read(end, kit.samples))
        out.untouched.append(same and new[n].length == kit.samples and made.cuts[-1].shift == 0)
    there = {
        p: [Hit(p, moved_sample(made.cuts, round(h.time_s * rate)) / rate, h.level_db, h.velocity, h.ghost) for h in mine]
        for p, mine in hits.items()
    }  # fmt: skip
    before = {a.mic: a.delay_ms for a in arrivals(plan, kit, hits) if a.sure}
    after = {a.mic: a.delay_ms for a in arrivals(plan, Recorded(kit, new), there) if a.sure}
    out.delay_ms += [abs(after[mic] - before[mic]) for mic in before.keys() & after.keys()]
    splices(kit, made.cuts, new, hits, out)


def splices(kit: SmallKit, cuts, new: dict, hits, out: Figures) -> None:
    """The energy above 2 kHz around each splice that lies in a tail, in every mic, and at the same places of the recording."""
    rate = kit.sample_rate_hz
    high = signal.butter(6, 2000, "high", fs=rate, output="sos")
    times = np.sort([h.time_s for mine in hits.values() for h in mine])
    places = []  # in the edited song, and in the recording
    for before, segment in itertools.pairwise(segments(cuts, kit.plan.crossfade_ms, rate)):
        at = segment.start - segment.fade // 2
        was = at - before.shift
        after = np.searchsorted(times, was / rate)
        since, until = was / rate - times[after - 1], times[min(after, times.size - 1)] - was / rate
        if after and since > IN_A_TAIL_S and until > AHEAD_S and rate // 10 < at < kit.samples - rate // 10:
            places.append((at, was))
    for name, mic in new.items():
        edited, plain = (signal.sosfilt(high, m.read(0, kit.samples)) for m in (mic, kit.readers[name]))
        out.splice_db += [rise_db(edited, at, rate) for at, _ in places]
        out.plain_db += [rise_db(plain, was, rate) for _, was in places]


def show(f: Figures) -> None:
    p95 = lambda values: np.quantile(values, 0.95)
    print(f"tempo: largest error {max(f.bpm):.3f} BPM in {len(f.bpm)} songs")
    print(
        f"arrival: median {np.median(f.arrival_ms):.3f} ms, 95 % {p95(f.arrival_ms):.3f} ms of {len(f.arrival_ms)} sure ones"
    )
    print(f"polarity: {sum(f.polarity)} of {len(f.polarity)} right, {f.unsure} arrivals said to be unsure")
    print(f"flams: {sum(f.flams)} of {len(f.flams)} with both strokes in their order")
    print(
        f"quantised, found again: median {np.median(f.off_ms):.3f} ms from the grid, 95 % {p95(f.off_ms):.3f} ms of {len(f.off_ms)}"
    )
    more = sum(each > 0.001 for each in f.delay_ms)
    print(
        f"delays between mics changed by at most {max(f.delay_ms):.4f} ms, {more} of {len(f.delay_ms)} pairs by more than 0.001"
    )
    print(
        f"above 2 kHz around {len(f.splice_db)} splices in tails: mean {np.mean(f.splice_db):+.2f} dB, 95 % {p95(f.splice_db):+.2f} dB; "
        f"without a splice {np.mean(f.plain_db):+.2f} dB, {p95(f.plain_db):+.2f} dB"
    )
    print(
        f"length and what follows the last edit: {sum(f.untouched)} of {len(f.untouched)} mics the same to the sample"
    )


if __name__ == "__main__":
    show(survey(int(sys.argv[1]) if len(sys.argv) > 1 else 900))
