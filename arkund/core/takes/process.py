"""Takes joined into one performance: every mic is cut at the same samples, and what follows works on the result."""

import bisect
import hashlib
import json
from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Protocol

import numpy as np

from arkund.core.dsp.crossfade import crossfade
from arkund.core.plan.plan import Join, Plan
from arkund.core.units import ms_to_samples


class _Reader(Protocol):
    @property
    def length(self) -> int: ...

    def read(self, start: int, stop: int) -> np.ndarray: ...


class JoinedMic:
    """One mic through all joins; takes that lack it are silent."""

    def __init__(self, readers: Mapping[str, _Reader | None], home: str, joins: Sequence[Join], length: int, rate: int):
        self.length = length
        self._readers, self._joins = readers, (Join(take=home), *joins)
        self._starts = [join.at for join in self._joins]
        self._fades = [max(int(ms_to_samples(join.fade_ms, rate)), 1) for join in self._joins]

    def read(self, start: int, stop: int) -> np.ndarray:
        """Return float32 [shape=(stop - start,)]."""
        out = np.zeros(max(stop - start, 0), np.float32)
        number = max(bisect.bisect_right(self._starts, start) - 1, 0)
        while number < len(self._joins) and (number == 0 or self._starts[number] - self._fades[number] < stop):
            self._add(out, number, start, stop)
            number += 1
        return out

    def _add(self, out: np.ndarray, number: int, start: int, stop: int) -> None:
        """Add a join's part of a span, faded where it begins and ends."""
        join, fade = self._joins[number], self._fades[number]
        reader = self._readers.get(join.take)
        last = number + 1 == len(self._joins)
        low = start if number == 0 else max(join.at - fade, start)
        high = stop if last else min(self._starts[number + 1], stop)
        if reader is None or high <= low:
            return
        part = reader.read(low - join.at + join.from_at, high - join.at + join.from_at)
        at = np.arange(low, high)
        if number and low < join.at:
            part = part * crossfade(at - join.at + fade, fade, join.alike)[0]
        if not last:
            after, fade = self._joins[number + 1], self._fades[number + 1]
            if high > after.at - fade:
                part = part * crossfade(at - after.at + fade, fade, after.alike)[1]
        out[low - start : high - start] += part


class Assembled:
    """Recordings whose working take is the performance that a Plan joins; satisfies ``Recordings``."""

    def __init__(self, plan: Plan, recordings) -> None:
        self._plan, self._recordings = plan, recordings
        self.sample_rate_hz = recordings.sample_rate_hz
        self._takes = sorted({plan.take, *(join.take for join in plan.joins)})

    def mic(self, take: str, mic_id: str) -> JoinedMic | _Reader | None:
        """Return a mic; of the working take as joined."""
        if take != self._plan.take:
            return self._recordings.mic(take, mic_id)
        readers = {each: self._recordings.mic(each, mic_id) for each in self._takes}
        if not any(readers.values()):
            return None
        return JoinedMic(readers, take, self._plan.joins, self.length(take), self.sample_rate_hz)

    def content(self, take: str, mic_id: str) -> str:
        """Return the hash of a mic's samples."""
        if take != self._plan.take:
            return self._recordings.content(take, mic_id)
        contents = [self._recordings.content(each, mic_id) for each in self._takes]
        joins = [join.to_json() for join in self._plan.joins]
        return hashlib.sha256(json.dumps([contents, joins]).encode()).hexdigest() if any(contents) else ""

    def length(self, take: str) -> int:
        """Return the length of a take; the joined one's is the last part's end."""
        if take != self._plan.take:
            return self._recordings.length(take)
        last = self._plan.joins[-1]
        return last.at + max(self._recordings.length(last.take) - last.from_at, 0)


def assembled(plan: Plan, recordings):
    """Return recordings as the Plan joins their takes; the same ones where it joins none."""
    if not plan.joins or isinstance(recordings, Assembled):
        return recordings
    return Assembled(plan, recordings)


def joined_rows(rows: Mapping[str, Mapping[str, Sequence]], plan: Plan, rate: int) -> dict[str, list[list[float]]]:
    """Return found hits (time_s, level_db, sureness) of the joined performance, from those of each take, by piece."""
    parts = (Join(take=plan.take), *plan.joins)
    out: dict[str, list[list[float]]] = {}
    for number, join in enumerate(parts):
        later_s = (join.at - join.from_at) / rate
        low = join.at / rate if number else -np.inf
        high = parts[number + 1].at / rate if number + 1 < len(parts) else np.inf
        for piece, mine in rows.get(join.take, {}).items():
            inside = [[time_s + later_s, *rest] for time_s, *rest in mine if low <= time_s + later_s < high]
            out.setdefault(piece, []).extend(inside)
    return out


def part_at(plan: Plan, at: int) -> Join:
    """Return which take is heard at a sample of the song, as the join that began it."""
    number = bisect.bisect_right(plan.joins, at, key=lambda join: join.at)
    return plan.joins[number - 1] if number else Join(take=plan.take)


def with_part(
    plan: Plan, start: int, stop: int | None, take: str, from_at: int, fade_ms: float, shortest: int = 1
) -> tuple[Join, ...]:
    """Return the joins with a span of the song taken from a take; what followed goes on at ``stop``.

    shortest : samples; no part is left that is shorter: what comes after it begins in its place, where its own stroke is
    """
    kept = [join for join in plan.joins if join.at < start or (stop is not None and join.at > stop)]
    new = [Join(at=start, take=take, from_at=from_at, fade_ms=fade_ms)]
    if stop is not None:
        after = part_at(plan, stop)
        new.append(Join(at=stop, take=after.take, from_at=after.from_at + stop - after.at, fade_ms=fade_ms))
    return _needed(plan.take, sorted([*kept, *new], key=lambda join: join.at), shortest)


def _needed(home: str, joins: Sequence[Join], shortest: int) -> tuple[Join, ...]:
    """Leave out parts that are too short, and joins that only go on with what sounds already."""
    joins = [a for a, b in pairwise(joins) if b.at - a.at >= shortest] + list(joins[-1:])
    out: list[Join] = []
    for join in joins:
        last = out[-1] if out else Join(take=home)
        if join.take != last.take or join.at - join.from_at != last.at - last.from_at:
            out.append(join)
    return tuple(out)


def sum_of_mics(recordings, take: str, mics: Sequence[str], start: int, stop: int) -> np.ndarray:
    """Return the sum of some mics as recorded, float32 [shape=(samples,)]: what edits in time are chosen by."""
    out = np.zeros(max(stop - start, 0), np.float32)
    for mic in mics:
        reader = recordings.mic(take, mic)
        if reader is not None:
            out += reader.read(start, stop)
    return out
