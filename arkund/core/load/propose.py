"""What each mic's sound says about its name: swapped and mislabelled mics, doubles, silent mics, sides that do not fit."""

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from arkund.core.findings import Finding
from arkund.core.kit.pieces import words_of
from arkund.core.load.couples import LEFT_PIECES, RIGHT_PIECES, Couple, Later, couples
from arkund.core.load.measure import Alike, Heard, Pair

# How much later, in ms, is clear.
NEARER_MS = {"in/out": 0.12, "top/bottom": 0.03, "hat/ride": 0.3, "toms": 0.2, "left/right": 0.3}
HARDLY_MS = 0.05
MOST_TOMS = 6  # whose every order is looked at
CLEARLY_BETTER = 2.0  # margins, by which another order of toms must fit
METRES_PER_MS = 0.343  # sound at 20 degrees C
KICK_BELOW_DB = 3.0  # by which the kick is louder against the snare below it than above
LOWER_BY = 1.12  # the next tom is lower than this ratio where it is clear

SWAPPED = " look swapped"


def exchange(a, b) -> dict:
    """Return the changes by which two mics take each other's place in the kit; each keeps its settings and its file."""
    return {
        f"mics.{x.id}.{name}": getattr(y, name)
        for x, y in ((a, b), (b, a))
        for name in ("name", "piece", "role", "side")
    }


def _swap(a, b, evidence: str) -> Finding:
    return Finding(
        "load",
        f"load:swap:{a.id}:{b.id}",
        a.id,
        f"{a.name} and {b.name}{SWAPPED}",
        evidence,
        exchange(a, b),
        first_choice=False,
    )


@dataclass(frozen=True, slots=True)
class _Told:
    """What speaks about a couple: how surely it stands as it is named (positive) or the other way round, in clear margins, and why."""

    margin: float
    words: str


def swapped(plan, rows: Sequence[Later], heard: Sequence[Heard], fundamentals_hz: Mapping[str, float]) -> list[Finding]:
    """Return the couples whose names physics contradicts: see ``load.couples``.

    rows : as ``couples.later`` gives it; heard : how loud each mic hears each piece; fundamentals_hz : of toms, by mic; those without a clear one left out
    """
    told: dict[Couple, list[_Told]] = {}
    for couple in couples(plan.mics):
        mine = {row.piece: row.later_ms for row in rows if (row.a, row.b) == (couple.a, couple.b) and row.sure}
        told[couple] = _SPEAKS[couple.sort](plan, couple, mine, heard, fundamentals_hz)
    toms = {couple: each for couple, each in told.items() if couple.sort == "toms"}
    out = _disordered(plan, toms) if toms else []
    for couple, each in told.items():
        if couple.sort != "toms" and _contradicted(each):
            words = " ".join(one.words for one in each if one.margin <= -1.0)
            found = _swap(plan.mic(couple.a), plan.mic(couple.b), words)
            # Which side is left is a matter of whose seat one mixes from: told, and no doubt about what the mics are.
            out.append(replace(found, key=f"load:sides:{couple.a}") if couple.sort == "left/right" else found)
    return out


def _contradicted(told: Sequence[_Told]) -> bool:
    """Say whether something clearly speaks against a couple's names, and nothing clearly for them."""
    return any(each.margin <= -1.0 for each in told) and not any(each.margin >= 1.0 for each in told)


def _disordered(plan, told: Mapping[Couple, Sequence[_Told]]) -> list[Finding]:
    """Return the two toms to be exchanged first where another order of all fits clearly better; one exchange after the other leads there."""
    margins = {(c.a, c.b): max(min(sum(e.margin for e in each), 2.0), -2.0) for c, each in told.items()}
    named = list(dict.fromkeys(mic for couple in told for mic in (couple.a, couple.b)))
    if len(named) > MOST_TOMS:
        return []

    def fit(order: Sequence[str]) -> float:
        return sum(margins.get(pair, -margins.get(pair[::-1], 0.0)) for pair in itertools.combinations(order, 2))

    best = max(itertools.permutations(named), key=fit)
    if fit(best) < fit(named) + CLEARLY_BETTER:
        return []
    a, b = next(pair for pair in zip(named, best, strict=True) if pair[0] != pair[1])
    against = [e.words for c, each in told.items() for e in each if e.margin <= -1.0 and {c.a, c.b} == {a, b}]
    others = [e.words for c, each in told.items() for e in each if e.margin <= -1.0 and {c.a, c.b} & {a, b}]
    return [_swap(plan.mic(a), plan.mic(b), " ".join(against or others[:2]))] if against or others else []


def _in_out(plan, couple: Couple, later_ms: Mapping[str, float], *_) -> list[_Told]:
    inner, outer = plan.mic(couple.a).name, plan.mic(couple.b).name
    late = later_ms.get("kick")
    words = f"{outer} hears the kick {-(late or 0.0):.2f} ms before {inner}; the inner mic is always the first."
    return [] if late is None else [_Told(late / NEARER_MS["in/out"], words)]


def _top_bottom(plan, couple: Couple, later_ms: Mapping[str, float], heard, *_) -> list[_Told]:
    top, bottom = plan.mic(couple.a).name, plan.mic(couple.b).name
    late = later_ms.get("snare")
    words = f"{bottom} hears the snare {-(late or 0.0):.2f} ms before {top}; the mic above is the first."
    told = [] if late is None else [_Told(late / NEARER_MS["top/bottom"], words)]
    level = {(row.mic, row.piece): row.level_db for row in heard}
    wanted = [(mic, piece) for mic in (couple.a, couple.b) for piece in ("kick", "snare")]
    if not all(key in level for key in wanted):
        return told
    over_db = [level[mic, "kick"] - level[mic, "snare"] for mic in (couple.a, couple.b)]
    words = f"Against the snare the kick is {over_db[0] - over_db[1]:.0f} dB louder in {top}; it is nearer to the mic below."
    return [*told, _Told((over_db[1] - over_db[0]) / KICK_BELOW_DB, words)]


def _hat_ride(plan, couple: Couple, later_ms: Mapping[str, float], *_) -> list[_Told]:
    hat, ride = plan.mic(couple.a).name, plan.mic(couple.b).name
    late = later_ms.get("snare")
    words = f"The snare reaches {ride} {-(late or 0.0):.1f} ms before {hat}; it stands beside the hi-hat."
    return [] if late is None else [_Told(late / NEARER_MS["hat/ride"], words)]


def _toms(plan, couple: Couple, later_ms: Mapping[str, float], _, fundamentals_hz) -> list[_Told]:
    """Where they stand goes before how high they sound: which of a drum's tones is the lowest is not always heard rightly."""
    a, b = plan.mic(couple.a), plan.mic(couple.b)
    times = [later_ms[piece] for piece in ("hihat", "snare") if piece in later_ms]
    if len(times) == 2 and times[0] * times[1] < 0 and min(map(abs, times)) > HARDLY_MS:
        return []  # the one says this, the other that
    late = sum(times) / len(times) if times else 0.0
    if abs(late) >= NEARER_MS["toms"]:
        words = f"{b.name} stands {-late * METRES_PER_MS:.2f} m nearer to the hi-hat than {a.name}."
        return [_Told(late / NEARER_MS["toms"], words)]
    high, low = fundamentals_hz.get(a.id), fundamentals_hz.get(b.id)
    if not (high and low) or late > HARDLY_MS:
        return []
    ratio = math.log(high / low) / math.log(LOWER_BY)
    words = (
        f"{a.name} sounds at {high:.0f} Hz and {b.name} at {low:.0f} Hz; {words_of(a.piece)} is usually the higher one."
    )
    return [_Told(max(min(ratio, 1.0), -1.0), words)]


def _left_right(plan, couple: Couple, later_ms: Mapping[str, float], heard, *_) -> list[_Told]:
    left, right = plan.mic(couple.a).name, plan.mic(couple.b).name
    lefts, rights = ([later_ms[p] for p in row if p in later_ms] for row in (LEFT_PIECES, RIGHT_PIECES))
    if not lefts or "hihat" not in later_ms:
        return []
    late = sum(lefts) / len(lefts)
    other = sum(rights) / len(rights) if rights else 0.0
    words = (
        f"Hi-hat and snare reach {right} {-late:.1f} ms before {left}. From the drummer's seat they are on the left; leave it if the mix is meant as the"
        " audience sees it and all pairs agree."
    )
    most = 2 * sum(time * late > 0 for time in lefts) > len(lefts)
    agree = most and later_ms["hihat"] * late > 0 and (late - other) * late > 0
    return [_Told(late / NEARER_MS["left/right"], words)] if agree else []


_SPEAKS = {
    "in/out": _in_out,
    "top/bottom": _top_bottom,
    "hat/ride": _hat_ride,
    "toms": _toms,
    "left/right": _left_right,
}


def doubled(plan, rows: Sequence[Alike]) -> list[Finding]:
    """Return files that are the same, and pairs that carry one signal on both sides."""
    out = []
    for row in rows:
        a, b = plan.mic(row.a), plan.mic(row.b)
        one = a.role == b.role and {a.side, b.side} == {"L", "R"}
        turned = ", turned over" if row.inverted else ""
        out.append(
            Finding(
                "load", f"load:same:{row.a}:{row.b}", row.b,
                f"{a.name} and {b.name}: {'one signal on both sides' if one else 'the same recording'}",
                f"{b.name} nulls against {a.name} at {row.gain_db:+.1f} dB{turned}: {row.residual_db:.0f} dB are left."
                + (" The pair has no width." if one else " One of them can be muted; together they only add level."),
                {} if one else {f"mics.{row.b}.mute": True},
                first_choice=False,
            )
        )  # fmt: skip
    return out


def sides(plan, rows: Sequence[Pair]) -> list[Finding]:
    """Return pairs with one side turned over."""
    out = []
    for row in rows:
        left, right = plan.mic(row.left), plan.mic(row.right)
        if row.polarity < 0 and left.line_up.inverted == right.line_up.inverted:
            out.append(
                Finding(
                    "load", f"load:side:{row.right}", row.right, f"{left.name} and {right.name} are against each other",
                    "At the snare's hits one side moves the other way: in mono the snare thins out. Turning one of them mends it; line up"
                    " says which one is against the snare's own mic.",
                    {f"mics.{row.right}.line_up.inverted": not right.line_up.inverted},
                    first_choice=False,
                )
            )  # fmt: skip
    return out


def loudest_piece(rows: Sequence[Heard]) -> dict[str, str]:
    """Return which piece each mic hears loudest against how loud the other mics hear it."""
    usual: dict[str, list[float]] = {}
    for row in rows:
        usual.setdefault(row.piece, []).append(row.level_db)
    best: dict[str, tuple[float, str]] = {}
    for row in rows:
        over = row.level_db - sum(usual[row.piece]) / len(usual[row.piece])
        if over > best.get(row.mic, (-999.0, ""))[0]:
            best[row.mic] = (over, row.piece)
    return {mic: piece for mic, (_, piece) in best.items()}
