"""Cuts that pull a range of bars to the grid or to a groove, all mics together, and the kick's own mics where it fell apart."""

import bisect
import dataclasses
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from arkund.core.plan.plan import Cut, LoneCut, Plan
from arkund.core.timing.bars import bars_of
from arkund.core.timing.flams import APART_MS
from arkund.core.timing.gaps import BEFORE_S, SLICE_FADE_MS, Gap, close_gap
from arkund.core.timing.grid import guess
from arkund.core.timing.measure import Deviation, deviations
from arkund.core.timing.settings import AS_MEANT, QuantiseSettings
from arkund.core.timing.strokes import CYMBALS, Stroke, groove, strokes

EARLY_S = 0.06  # a stroke this much before a bar line may belong to it
ALONE_S = 0.25  # the kick's own mics come back at the next stroke or after this long
RETURN_FADE_MS = 10.0
STILL_S = 1.0  # where no hit follows, the shift ends this long after the last bar


@dataclass(frozen=True, slots=True)
class Edit:
    """What a quantise makes of a Plan: the cuts of all mics, those of single pieces, and what was done."""

    cuts: tuple[Cut, ...]
    lone_cuts: tuple[LoneCut, ...]
    moved: int  # strokes
    left: int  # strokes too near to be moved, or too far
    slices: int
    stretches: int
    alone: int  # kicks moved in their own mics
    split: int  # errors shared between snare and cymbal
    furthest_ms: float

    @property
    def words(self) -> str:
        """Return what was done, in a sentence."""
        out = f"{self.moved} strokes moved, at most {self.furthest_ms:.1f} ms; {self.left} left; {self.slices} gaps cut, {self.stretches} stretched"
        out += f"; {self.alone} kicks moved alone" if self.alone else ""
        return out + (f"; {self.split} errors shared" if self.split else "") + "."


def rows_of(hits: Mapping[str, Sequence], plan, settings: QuantiseSettings) -> list[Deviation]:
    """Return the hits against the grid of the settings; as meant is what is set for a bar, else what its strokes tell."""
    grid, meant = settings.grid, plan.meant
    if grid == AS_MEANT:
        told = guess(hits, bars_of(plan.tempo))
        set_here = {m.bar for m in meant}
        meant = [*meant, *(_Told(bar, g) for bar, g in told.items() if bar not in set_here)]
        grid = 16
    else:
        meant = ()
    return deviations(hits, plan.tempo, grid, meant, settings.swing)


@dataclass(frozen=True, slots=True)
class _Told:
    bar: int
    grid: int


def quantise(hits: Mapping[str, Sequence], plan, settings: QuantiseSettings, rate: int, read: Callable) -> Edit:
    """Return a Plan's cuts with a range of bars pulled to the grid.

    Hits that sound together move together. Nothing after the last bar of the range moves: the shift comes back to what it was before the
    next stroke. Pulling the same bars again replaces the earlier cuts.

    hits : in the time of the recording; read : the sum of all mics, float32 [shape=(samples,)] for a span of the recording
    """
    rows = rows_of(hits, plan, settings)
    song = _Song(plan, strokes(rows), rate, read)
    mine = [s for s in song.strokes if settings.first_bar <= s.lead.bar <= settings.last_bar]
    made = song.edited(_targets(mine, rows, settings), settings.method)
    lone, alone = _lone_cuts(mine, settings, song)
    split = sum(map(_shares, mine)) if settings.split_cymbals else 0
    return dataclasses.replace(made, lone_cuts=lone, alone=alone, split=split)


def move_stroke(hits: Mapping[str, Sequence], plan, time_s: float, by_ms: float, rate: int, read: Callable) -> Edit:
    """Return a Plan's cuts with the stroke at a time (of the recording) moved by some ms from where it sounds now; the others stay."""
    song = _Song(plan, strokes(deviations(hits, plan.tempo, 16)), rate, read)
    mine = min(song.strokes, key=lambda s: min(abs(d.time_s - time_s) for d in s.hits))
    shift = _shift_at(plan.cuts, song.first(mine)) / rate * 1000
    return song.edited({mine: shift + by_ms}, "auto")


@dataclass(frozen=True, slots=True)
class _Song:
    """What edits are made in: the Plan, all strokes by time, and the sum of all mics to listen to."""

    plan: Plan
    strokes: list[Stroke]
    rate: int
    read: Callable

    def first(self, stroke: Stroke) -> int:
        """Return the sample at which a stroke begins."""
        return round(stroke.first_s * self.rate)

    def last(self, stroke: Stroke) -> int:
        """Return the sample at which a stroke's last hit begins."""
        return round(stroke.last_s * self.rate)

    def edited(self, wanted: Mapping[Stroke, float | None], method: str) -> Edit:
        """Return the Plan's cuts with neighbouring strokes at wanted shifts in ms (None = as they were played), in the order of time."""
        plan, mine = self.plan, list(wanted)
        if not mine:
            return Edit(plan.cuts, plan.lone_cuts, 0, 0, 0, 0, 0, 0, 0.0)
        begin, end = self._between(mine)
        gaps: list[Gap] = []
        last, shift, furthest = begin, _shift_at(plan.cuts, begin), 0

        def come_to(new: int, before: int) -> None:
            if new != shift:
                gaps.append(close_gap(self.read, last, before, shift, new, self.rate, method, plan.crossfade_ms))

        for stroke in mine:
            new = round((wanted[stroke] or 0.0) / 1000 * self.rate)
            come_to(new, self.first(stroke))
            last, shift, furthest = self.last(stroke), new, max(furthest, abs(new))
        come_to(_shift_at(plan.cuts, end), end)
        kept = [cut for cut in plan.cuts if not begin < cut.at <= end]
        cuts = sorted([*kept, *(cut for gap in gaps for cut in gap.cuts)], key=lambda cut: cut.at)
        moved = sum(target is not None for target in wanted.values())
        methods = [gap.method for gap in gaps]
        return Edit(
            tuple(_simplified(cuts)),
            plan.lone_cuts,
            moved,
            len(mine) - moved,
            methods.count("slices"),
            methods.count("stretch"),
            0,
            0,
            round(furthest / self.rate * 1000, 2),
        )

    def _between(self, mine: Sequence[Stroke]) -> tuple[int, int]:
        """Return the last hit before some strokes and the first one after them, in samples: what lies between is edited anew."""
        begins = [self.first(stroke) for stroke in self.strokes]
        start = bisect.bisect_left(begins, self.first(mine[0]))
        stop = bisect.bisect_right(begins, self.first(mine[-1]))
        begin = self.last(self.strokes[start - 1]) if start else 0
        end = begins[stop] if stop < len(begins) else self.last(self.strokes[-1]) + round(STILL_S * self.rate)
        return begin, end


def _targets(mine: Sequence[Stroke], rows, settings: QuantiseSettings) -> dict[Stroke, float | None]:
    """Return by how many ms each stroke is to be moved; None leaves it where it was played."""
    feel = groove(rows, settings.groove_first, settings.groove_last) if settings.groove_first is not None else {}
    return {stroke: _target(stroke, settings, feel) for stroke in mine}


def _target(stroke: Stroke, settings: QuantiseSettings, feel: Mapping[float, float]) -> float | None:
    lead = stroke.lead
    off = lead.off_ms - feel.get(round(lead.meant, 3), 0.0)
    if settings.split_cymbals and _shares(stroke):
        off += (stroke.of(*CYMBALS).time_s - lead.time_s) * 500
    wanted = not settings.pieces or any(d.piece in settings.pieces for d in stroke.hits)
    if not wanted or not settings.tolerance_ms <= abs(off) <= settings.most_ms or settings.strength == 0:
        return None
    return -off * settings.strength / 100.0


def _shares(stroke: Stroke) -> bool:
    """Say whether a snare and a cymbal of a stroke fell apart."""
    cymbal = stroke.of(*CYMBALS)
    return (
        stroke.lead.piece == "snare"
        and cymbal is not None
        and abs(cymbal.time_s - stroke.lead.time_s) * 1000 >= APART_MS
    )


def _lone_cuts(mine: Sequence[Stroke], settings: QuantiseSettings, song: _Song) -> tuple[tuple[LoneCut, ...], int]:
    """Return the cuts of the kick's own mics, each a way there and back, and how many kicks they move: one that fell apart from its snare
    is brought onto it. Those of other strokes stay.
    """
    if not mine:
        return song.plan.lone_cuts, 0
    rate, before = song.rate, round(BEFORE_S * song.rate)
    low, high = song.first(mine[0]) - before, song.last(mine[-1])
    former = song.plan.lone_cuts
    there_and_back = zip(former[::2], former[1::2], strict=True)
    out = [cut for pair in there_and_back if not low <= pair[0].at <= high for cut in pair]
    kicks = sorted(d.time_s for stroke in song.strokes for d in stroke.hits if d.piece == "kick")
    count = 0
    for stroke in mine if settings.kick_alone else ():
        kick, lead = stroke.of("kick"), stroke.lead
        if kick is None or lead.piece != "snare" or abs(kick.time_s - lead.time_s) * 1000 < APART_MS:
            continue
        shift = round((lead.time_s - kick.time_s) * settings.strength / 100.0 * rate)
        at = max(round(kick.time_s * rate) - before, 0)
        following = kicks[bisect.bisect_right(kicks, kick.time_s) :]
        back = round(min([kick.time_s + ALONE_S, *(next_s - 2 * BEFORE_S for next_s in following[:1])]) * rate)
        if back - abs(shift) > at + 2 * before:
            out.append(LoneCut(piece="kick", at=at, shift=shift, fade_ms=SLICE_FADE_MS))
            out.append(LoneCut(piece="kick", at=back, shift=0, fade_ms=RETURN_FADE_MS, alike=0.5))
            count += 1
    return tuple(sorted(out, key=lambda cut: (cut.piece, cut.at))), count


def _shift_at(cuts: Sequence[Cut], at: int) -> int:
    number = bisect.bisect_right(cuts, at, key=lambda cut: cut.at)
    return cuts[number - 1].shift if number else 0


def _simplified(cuts: Sequence[Cut]) -> list[Cut]:
    out: list[Cut] = []
    for cut in cuts:
        if out and cut.at <= out[-1].at:
            out[-1] = cut.replace(at=out[-1].at)
        elif cut.shift != (out[-1].shift if out else 0):
            out.append(cut)
    return out
