"""What each mic's sound says about its name: swapped and mislabelled mics, doubles, silent mics, sides that do not fit."""

import itertools
from collections.abc import Mapping, Sequence

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.load.measure import Alike, Heard, Pair
from arkund.core.load.sound import kind_of

SWAP_GAIN = 1.0  # log likelihood that two mics gain by exchanging their names
CLEAR_GAIN = 3.0  # from here on it is said without a doubt
ALONE_GAIN = 5.0  # that one mic gains under another name
NEAR_THING = "may be swapped"
LOWER_BY = 1.04  # the next tom is usually lower than this ratio
LATER_MS = -0.12  # a kick's outer mic that hears it so much earlier than the inner one
LEANS_DB = 3.0
TOMS = ("tom1", "tom2", "tom3", "tom4", "floor")


def exchange(a, b) -> dict:
    """Return the changes by which two mics take each other's place in the kit; each keeps its settings and its file."""
    return {
        f"mics.{x.id}.{name}": getattr(y, name)
        for x, y in ((a, b), (b, a))
        for name in ("name", "piece", "role", "side")
    }


def _swap(a, b, evidence: str, words: str = "look swapped") -> Finding:
    return Finding(
        "load",
        f"load:swap:{a.id}:{b.id}",
        a.id,
        f"{a.name} and {b.name} {words}",
        evidence,
        exchange(a, b),
        first_choice=False,
    )


def swapped(plan, likelihoods: Mapping[str, Mapping[str, float]], loudest: Mapping[str, str]) -> list[Finding]:
    """Return the pairs of mics that fit much better under each other's names, by the sound of their loudest moments.

    likelihoods : by mic, then by kind (see ``load.sound.likely``); loudest : the piece that each mic hears loudest
    """
    kinds = {mic.id: kind_of(mic.piece, mic.role) for mic in plan.mics}
    told = [mic for mic in plan.mics if mic.id in likelihoods and kinds[mic.id]]
    gains = []
    for a, b in itertools.combinations(told, 2):
        ka, kb = kinds[a.id], kinds[b.id]
        if ka == kb:
            continue
        la, lb = likelihoods[a.id], likelihoods[b.id]
        gain = la[kb] + lb[ka] - la[ka] - lb[kb]
        if gain > SWAP_GAIN and (la[kb] > la[ka] or lb[ka] > lb[kb]):
            gains.append((gain, a, b))
    out, used = [], set()
    for gain, a, b in sorted(gains, key=lambda row: -row[0]):
        if a.id in used or b.id in used:
            continue
        used |= {a.id, b.id}
        words = f"By spectrum, decay and directness {a.name} sounds like {kinds[b.id]} and {b.name} like {kinds[a.id]}."
        hears = [f"{m.name} hears the {loudest[m.id]} loudest" for m in (a, b) if m.id in loudest]
        evidence = " ".join([words, "; ".join(hears) + "."]) if hears else words
        if gain < CLEAR_GAIN:
            evidence += " It is a near thing: listen to both before you exchange them."
        out.append(_swap(a, b, evidence, "look swapped" if gain >= CLEAR_GAIN else NEAR_THING))
    for mic in told:
        mine = likelihoods[mic.id]
        best = max(mine, key=mine.get)
        if mic.id not in used and mine[best] - mine[kinds[mic.id]] > ALONE_GAIN:
            out.append(
                Finding(
                    "load", f"load:sounds:{mic.id}", mic.id, f"{mic.name} sounds like {best}",
                    f"Its loudest moments are like a {best}'s, not a {kinds[mic.id]}'s; look at what it hears and name it by hand.",
                    first_choice=False,
                )
            )  # fmt: skip
    return out


def swapped_toms(plan, fundamentals_hz: Mapping[str, float]) -> list[Finding]:
    """Return the toms that seem to carry each other's name: the next one should be lower, the floor tom the lowest.

    fundamentals_hz : by mic; toms without a clear one are left out
    """
    toms = [mic for mic in plan.mics if is_tom(mic.piece) and fundamentals_hz.get(mic.id)]
    toms.sort(key=lambda mic: TOMS.index(mic.piece))
    right = sorted(toms, key=lambda mic: -fundamentals_hz[mic.id])
    out, used = [], set()
    for here, wanted in zip(toms, right, strict=True):
        if here is wanted or here.piece == wanted.piece or {here.id, wanted.id} & used:
            continue
        high, low = fundamentals_hz[wanted.id], fundamentals_hz[here.id]
        if high > low * LOWER_BY:
            used |= {here.id, wanted.id}
            out.append(
                _swap(
                    here,
                    wanted,
                    f"{here.name} sounds at {low:.0f} Hz and {wanted.name} at {high:.0f} Hz; {here.piece} is usually the higher one.",
                )
            )
    return out


def swapped_kick(plan, delays_ms: Mapping[str, float]) -> list[Finding]:
    """Return the kick's inner and outer mic where the outer one hears it first; delays_ms : sure delays against the inner mic, by mic."""
    inner = next((m for m in plan.mics if m.piece == "kick" and m.role == "in"), None)
    outer = next((m for m in plan.mics if m.piece == "kick" and m.role == "out"), None)
    if inner is None or outer is None or delays_ms.get(outer.id, 0.0) > LATER_MS:
        return []
    late = -delays_ms[outer.id]
    return [
        _swap(
            inner,
            outer,
            f"{outer.name} hears the kick {late:.2f} ms before {inner.name}; the inner mic is always the first.",
        )
    ]


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
    """Return pairs with one side turned over, and pairs whose sides do not fit the others' or the drummer's seat."""
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
        if row.lean_db < -LEANS_DB:
            out.append(
                Finding(
                    "load", f"load:sides:{row.left}", row.left, f"{left.name} and {right.name}: left and right look swapped",
                    f"Hi-hat and first tom lean to {right.name} by {-row.lean_db:.0f} dB against floor tom and ride. From the drummer's seat"
                    " they are on the left; leave it if the mix is meant as the audience sees it and all pairs agree.",
                    exchange(left, right),
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
