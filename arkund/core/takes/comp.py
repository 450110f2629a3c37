"""A comp: bars of several takes joined into one performance, by hand or as they score best."""

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import correlation
from arkund.core.errors import SettingsError
from arkund.core.plan.plan import ChosenBar, Join, Plan
from arkund.core.takes.measure import SEAM_S, BarScore, Seam, offset_s, scores, seam
from arkund.core.takes.process import assembled, part_at, sum_of_mics, with_part
from arkund.core.takes.propose import choose, place_join
from arkund.core.takes.settings import CompSettings
from arkund.core.timing.bars import bars_of
from arkund.core.units import ms_to_samples

OPEN_END = 10**6  # a bar beyond any song
MOST_PLACES = 5  # that a join is tried at
BEGINS_S = 0.05  # with which take the song begins is no edit; a take that begins a little later is joined where it does


class Comp:
    """All takes of a session, to be joined: their recordings and hits, each in its own time."""

    def __init__(self, plan: Plan, recordings, hits: Mapping[str, Mapping[str, Sequence]]) -> None:
        """recordings : the takes as they are; hits : by piece, by take."""
        self.plan, self.recordings, self.hits = plan, recordings, hits
        self.rate = recordings.sample_rate_hz
        mine = hits[plan.take]
        self.offsets_s = {key: 0.0 if key == plan.take else offset_s(mine, other) for key, other in hits.items()}

    def scores(self) -> dict[str, list[BarScore]]:
        """Return the bars of each take with their scores."""
        return scores(self.hits, self.offsets_s, self.plan.tempo)

    def place(self, plan: Plan, bar: int, incoming: str, nearer: int = 0) -> int:
        """Return at which sample of the song to join a take at a bar line."""
        outgoing = part_at(plan, round(bars_of(plan.tempo).start_s(bar) * self.rate) - 1)
        later = (outgoing.at - outgoing.from_at) / self.rate
        heard = {
            piece: [dataclasses.replace(h, time_s=h.time_s + later) for h in mine]
            for piece, mine in self.hits[outgoing.take].items()
        }
        at_s = place_join(heard, self.hits[incoming], plan.tempo, bar, self.offsets_s[incoming], nearer)
        return max(round(at_s * self.rate), 0)

    def alike(self, plan: Plan, at: int, take: str, from_at: int, fade_ms: float) -> float:
        """Return how much the outgoing and the incoming sound have in common in the crossfade: the sum of all mics."""
        length = round(ms_to_samples(fade_ms, self.rate))
        before = self._sum(assembled(plan, self.recordings), plan.take, at - length, at)
        return correlation(before, self._sum(self.recordings, take, from_at - length, from_at))

    def _sum(self, recordings, take: str, start: int, stop: int, roles: tuple[str, ...] = ()) -> np.ndarray:
        mics = [mic.id for mic in self.plan.mics if not roles or mic.role in roles]
        return sum_of_mics(recordings, take, mics, start, stop)

    def seams(self, plan: Plan) -> list[Seam]:
        """Return for each edit what it changes in the cymbals, by the overheads on both sides (by all mics where there are none).

        The take that the song begins with is no edit.
        """
        roles = ("overhead",) if any(mic.role == "overhead" for mic in plan.mics) else ()
        size = round(SEAM_S * self.rate)
        out = []
        for number, join in enumerate(plan.joins):
            if number == 0 and join.at < BEGINS_S * self.rate:
                continue
            before = plan.joins[number - 1] if number else Join(take=plan.take)
            old_at = join.at - before.at + before.from_at
            out.append(
                seam(
                    self._sum(self.recordings, before.take, old_at - size, old_at + size, roles),
                    self._sum(self.recordings, join.take, join.from_at - size, join.from_at + size, roles),
                    number,
                    self.rate,
                )
            )
        return out

    def with_bars(
        self, plan: Plan, first_bar: int, last_bar: int, take: str, fade_ms: float, from_bar: int | None = None
    ) -> Plan:
        """Return the Plan with some bars taken from a take; ``from_bar`` takes them from elsewhere in it, as a loop."""
        if take not in self.hits:
            raise SettingsError(f"take: no take {take!r}; there are {', '.join(self.hits)}.")
        if not 0 <= first_bar <= last_bar or (from_bar or 0) < 0:
            raise SettingsError(
                f"bars: expected a first bar from 0 on and a last one not before it, got {first_bar} to {last_bar}."
            )
        bars = bars_of(plan.tempo)
        source = first_bar if from_bar is None else from_bar
        later_s = self.offsets_s[take] + bars.start_s(source) - bars.start_s(first_bar)
        start = 0 if first_bar == 0 else self.place(plan, first_bar, take)
        later = round(later_s * self.rate)
        start = max(start, -later)  # where it begins later in the song than that: nothing of it is moved to fit
        from_at = start + later
        if start >= bars.start_s(last_bar + 1) * self.rate:
            raise SettingsError(f"take: {take!r} begins only after bar {last_bar + 1}.")
        whole = max(self.recordings.length(key) for key in self.hits)
        stop = None
        if bars.start_s(last_bar + 1) * self.rate < whole - self.rate:
            back = part_at(plan, round((bars.start_s(last_bar + 1) + bars.of(last_bar + 1).bar_s / 2) * self.rate))
            stop = self.place(plan.replace(joins=(Join(at=0, take=take, from_at=0),)), last_bar + 1, back.take)
            stop = max(stop, start + 1)
        shortest = round(min(bars.of(bar).bar_s for bar in (first_bar, last_bar)) / 2 * self.rate)
        joins = with_part(plan, start, stop, take, from_at, fade_ms, shortest)
        return plan.replace(joins=self._likened(plan, joins))

    def _likened(self, plan: Plan, joins: Sequence[Join]) -> tuple[Join, ...]:
        """Return joins, each with what it has in common with what sounds before it now."""
        out: list[Join] = []
        for join in joins:
            if join.at:
                before = plan.replace(joins=tuple(out))
                join = join.replace(alike=self.alike(before, join.at, join.take, join.from_at, join.fade_ms))
            out.append(join)
        return tuple(out)

    def with_join_moved(self, plan: Plan, number: int) -> Plan:
        """Return the Plan with a join at the next better place around it: another stroke that both takes share."""
        if not 0 <= number < len(plan.joins):
            raise SettingsError(f"number: no join {number}; there are {len(plan.joins)}.")
        join, others = plan.joins[number], [j for k, j in enumerate(plan.joins) if k != number]
        bars = bars_of(plan.tempo)
        bar = int(np.round(bars.bar_of(np.array([join.at / self.rate + bars.of(0).bar_s / 2]))[0]))
        without = plan.replace(joins=tuple(others))
        tried = [self.place(without, bar, join.take, nearer) for nearer in range(MOST_PLACES)]
        known = [at for k, at in enumerate(tried) if at not in tried[:k]]
        now = min(range(len(known)), key=lambda k: abs(known[k] - join.at))
        at = known[(now + 1) % len(known)]
        low = plan.joins[number - 1].at if number else 0
        high = plan.joins[number + 1].at if number + 1 < len(plan.joins) else np.inf
        if not low < at < high:
            raise SettingsError("join: the next place lies beyond its neighbour; there is none better in between.")
        from_at = max(join.from_at + at - join.at, 0)
        alike = self.alike(without, at, join.take, from_at, join.fade_ms)
        new = join.replace(at=at, from_at=from_at, alike=alike)
        return plan.replace(joins=tuple(sorted([*others, new], key=lambda j: j.at)))

    def by_hand(self, plan: Plan) -> dict[int, str]:
        """Return the bars for which somebody has chosen a take, with that take."""
        return {each.bar: each.take for each in plan.chosen_bars if each.take in self.hits}

    def with_chosen(self, plan: Plan, first_bar: int, last_bar: int, take: str) -> Plan:
        """Return the Plan with a take noted as chosen by hand for some bars of the song."""
        bars = max((len(mine) for mine in self.scores().values()), default=0)
        rows = {each.bar: each for each in plan.chosen_bars}
        for bar in range(first_bar, min(last_bar, max(bars - 1, first_bar)) + 1):
            rows[bar] = ChosenBar(bar=bar, take=take)
        return plan.replace(chosen_bars=tuple(rows[bar] for bar in sorted(rows)))

    def proposal(self, settings: CompSettings) -> Plan:
        """Return the Plan with the bars that together score best; those that were chosen by hand, and how they are joined within, stay as they are."""
        by_hand = self.by_hand(self.plan)
        chosen = choose(self.scores(), self.plan.take, settings, by_hand)
        plan = self.plan if by_hand else self.plan.replace(joins=())
        start = 0
        for bar in range(1, len(chosen) + 1):
            same = bar < len(chosen) and chosen[bar] == chosen[start] and (bar in by_hand) == (start in by_hand)
            if same:
                continue
            if start not in by_hand and (by_hand or chosen[start] != plan.take):
                last = OPEN_END if bar == len(chosen) else bar - 1
                plan = self.with_bars(plan, start, last, chosen[start], settings.fade_ms)
            start = bar
        return plan


@dataclass(frozen=True, slots=True)
class Part:
    """A stretch of the performance: which take, over which bars (counted from 0; the last one inclusive)."""

    take: str
    first_bar: int
    last_bar: int


def parts(plan: Plan, bars: int, rate: int) -> list[Part]:
    """Return which take is heard in each stretch of bars."""
    lines, out = bars_of(plan.tempo), []
    for bar in range(bars):
        middle = (lines.start_s(bar) + lines.start_s(bar + 1)) / 2
        take = part_at(plan, max(round(middle * rate), 0)).take
        if out and out[-1].take == take:
            out[-1] = Part(take, out[-1].first_bar, bar)
        else:
            out.append(Part(take, bar, bar))
    return out


def seam_words(seams: Sequence[Seam]) -> str:
    """Return how the joins will be heard, in a sentence."""
    heard = sum(each.heard for each in seams)
    if not seams:
        return "No joins."
    return (
        f"{counted(seams)}; {heard} will be heard in the cymbals."
        if heard
        else f"{counted(seams)}, none heard in the cymbals."
    )


def counted(seams: Sequence[Seam]) -> str:
    """Return how many joins there are, in words."""
    return "1 join" if len(seams) == 1 else f"{len(seams)} joins"
