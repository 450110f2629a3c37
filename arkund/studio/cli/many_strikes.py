"""What regions and layers cost, for ``arkund bench``: of a print's time and of an audition's, with a hundred of them and with ten thousand."""

import statistics
import tempfile
from collections.abc import Callable
from pathlib import Path

FEW, MANY = 100, 10_000
TURNS, AUDITIONS = 3, 5


def layered_figures(session, loop_s: int, timed: Callable) -> dict:
    """Return by how much longer, in percent, a print and an audition take with regions in every mic at a drum, and with strikes of three layers."""
    from arkund.core.kit.pieces import is_close
    from arkund.core.plan.plan import Capture, MicPlan
    from arkund.core.replace import made
    from arkund.core.replace.sampled import Sampled, Shot
    from arkund.core.tools.tool import tool
    from arkund.studio.services.recordings import recordings_of

    plan, recordings = session.plan, recordings_of(session)
    length, rate = recordings.length(plan.take), session.sample_rate_hz

    def cut(count: int):
        spans = tuple((k * (length // count), k * (length // count) + length // count // 2) for k in range(count))
        added = tool("regions", id="bench", on=True, spans=spans)
        mics = (mic.replace(tools=(added, *mic.tools)) if is_close(mic.role) else mic for mic in plan.mics)
        return plan.replace(mics=tuple(mics))

    def layered(count: int):
        strikes = tuple((k * (length // count), 0.0) for k in range(count))
        sounds = [(sort, made.first(sort, 50.0, strikes)) for sort in made.SORTS]
        layers = [
            MicPlan(id=f"bench-{sort}", name=sort, piece="kick", role="layer", made=each) for sort, each in sounds
        ]
        close = next(mic.id for mic in plan.mics if mic.piece == "kick")
        hit = Capture(id="bench", piece="kick", take=plan.take, at=10 * rate, before=100, length=rate // 4)
        sampled = Sampled(of=close, shots=(Shot(capture="bench"),), strikes=strikes)
        layers.append(MicPlan(id="bench-hits", name="hits", piece="kick", role="layer", sampled=sampled))
        return plan.replace(mics=(*plan.mics, *layers), captures=(*plan.captures, hit))

    plans = {"": plan} | {
        f"{name}_{count}": make(count)
        for name, make in (("regions", cut), ("layers", layered))
        for count in (FEW, MANY)
    }
    prints, auditions = {name: [] for name in plans}, {name: [] for name in plans}
    for _ in range(TURNS):
        for name, each in plans.items():
            prints[name].append(_print_s(each, recordings, timed))
            auditions[name].append(_audition_s(session, each, loop_s, timed))
    out = {}
    for name in list(plans)[1:]:
        out |= {f"{name}_print_percent": _more(prints, name), f"{name}_audition_percent": _more(auditions, name)}
    return out


def _more(times_s: dict[str, list[float]], name: str) -> float:
    """Return by how much longer one takes than the plain one, in percent."""
    return round(100.0 * (statistics.median(times_s[name]) / statistics.median(times_s[""]) - 1.0), 1)


def _print_s(plan, recordings, timed: Callable) -> float:
    from arkund.core.render.printing import print_song

    with tempfile.TemporaryDirectory(prefix="arkund-bench-") as folder:
        return timed(lambda: print_song(plan, recordings, Path(folder), "wav24"))[0]


def _audition_s(session, plan, loop_s: int, timed: Callable) -> float:
    """Return the median of some auditions after a change of one mic's tool."""
    from arkund.core.plan import change
    from arkund.studio.services import listening, rendering

    rate, mic = session.sample_rate_hz, plan.mics[3].id
    question = listening.Question((20 * rate, (20 + loop_s) * rate))
    rendering.cache().clear()
    listening.audition(session, plan, question)
    tried = [change.put(plan, {f"mics.{mic}.tools.gate.range_db": 10.0 + k}) for k in range(AUDITIONS)]
    return statistics.median(timed(lambda each=each: listening.audition(session, each, question))[0] for each in tried)
