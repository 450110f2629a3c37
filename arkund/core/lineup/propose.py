"""Which mics to turn over and which to move, by the chosen school; an unsure mic is never moved."""

from collections.abc import Mapping, Sequence

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_close
from arkund.core.lineup.measure import Arrival, Drift
from arkund.core.units import ms_to_cm

LEAVE_WITHIN_MS = 0.03
LEAST_PPM = 2.0


def propose(plan, arrivals: Sequence[Arrival], overheads_ms: Mapping[str, float] | None = None) -> list[Finding]:
    """Return a change for each mic that is sure to be out of step; unsure ones are only named.

    A mic that hears its drum late is played earlier by the delay. Overheads and rooms keep their distance (that is what they are for)
    and are only turned where their polarity is against the snare, unless rooms are to come nearer.

    overheads_ms : how late the overheads hear each piece, for the school that delays close mics to them; pieces without a sure one are
    left out
    """
    out, overheads = [], overheads_ms or {}
    measured = {a.mic for a in arrivals}
    for a in arrivals:
        mic = plan.mic(a.mic)
        if not a.sure:
            out.append(
                Finding(
                    "lineup",
                    f"lineup:unsure:{a.mic}",
                    a.mic,
                    f"{mic.name}: no clear answer",
                    f"{a.delay_ms:+.2f} ms against {plan.mic(a.reference).name}, but the hits disagree (spread"
                    f" {a.spread_ms:.2f} ms) or both polarities fit. Left alone.",
                    first_choice=False,
                )
            )
            continue
        inverted = a.polarity < 0
        changes = _changes(mic, inverted, _wanted_ms(plan, mic, a.delay_ms, overheads))
        if changes:
            cm = ms_to_cm(a.delay_ms, plan.alignment.temperature_c)
            evidence = (
                f"The {a.piece} arrives {abs(round(a.delay_ms, 3)):.2f} ms ({abs(cm):.0f} cm) {'later' if a.delay_ms > 0 else 'earlier'} than in"
                f" {plan.mic(a.reference).name}, in {'opposite' if inverted else 'the same'} polarity; spread {a.spread_ms:.2f} ms over {a.hits} hits."
            )
            out.append(_finding(mic, changes, evidence + _overheads_words(plan, mic, overheads)))
    for mic in plan.mics:  # those that the others are measured against
        if (
            mic.id not in measured
            and plan.alignment.school == "overheads"
            and is_close(mic.role)
            and mic.piece in overheads
        ):
            changes = _changes(mic, mic.line_up.inverted, _wanted_ms(plan, mic, 0.0, overheads))
            if changes:
                out.append(
                    _finding(mic, changes, f"It is its drum's own reference.{_overheads_words(plan, mic, overheads)}")
                )
    return out


def _wanted_ms(plan, mic, delay_ms: float, overheads_ms: Mapping[str, float]) -> float | None:
    """Return the delay that a mic should get by the school; None leaves it."""
    how = plan.alignment
    if not is_close(mic.role):
        return -delay_ms * how.rooms_nearer / 100.0 if mic.role == "room" and how.rooms_nearer else None
    if how.school == "polarity":
        return None
    if how.school == "overheads":
        return overheads_ms[mic.piece] - delay_ms if mic.piece in overheads_ms else None
    return -delay_ms


def _changes(mic, inverted: bool, wanted_ms: float | None) -> dict:
    out = {}
    if inverted != mic.line_up.inverted:
        out[f"mics.{mic.id}.line_up.inverted"] = inverted
    if wanted_ms is not None and abs(round(wanted_ms, 3) - mic.line_up.delay_ms) > LEAVE_WITHIN_MS:
        out[f"mics.{mic.id}.line_up.delay_ms"] = round(wanted_ms, 3)
    return out


def _finding(mic, changes: dict, evidence: str) -> Finding:
    words = []
    for path, value in changes.items():
        if path.endswith("inverted"):
            words.append("polarity flipped" if value else "polarity back to normal")
        else:
            words.append(f"{value:+.2f} ms")
    return Finding("lineup", f"lineup:{mic.id}", mic.id, f"{mic.name}: {', '.join(words)}", evidence, changes)


def _overheads_words(plan, mic, overheads_ms: Mapping[str, float]) -> str:
    if plan.alignment.school != "overheads" or mic.piece not in overheads_ms:
        return ""
    return f" The overheads hear the {mic.piece} {overheads_ms[mic.piece]:+.2f} ms later."


def propose_drift(plan, drifts: Sequence[Drift]) -> list[Finding]:
    """Return a correction for each mic whose delay grows over the song: it was recorded by another clock."""
    out = []
    for d in drifts:
        mic = plan.mic(d.mic)
        if d.sure and abs(d.ppm - mic.clock_ppm) >= LEAST_PPM:
            out.append(
                Finding(
                    "lineup",
                    f"lineup:clock:{d.mic}",
                    d.mic,
                    f"{mic.name}: its clock differs by {d.ppm:+.1f} ppm",
                    f"Its delay grows by {d.ppm * 0.06:+.3f} ms a minute ({d.points} places of the song agree within {d.off_ms:.2f} ms)."
                    " Read at the others' speed it stays in step.",
                    {f"mics.{d.mic}.clock_ppm": round(d.ppm, 2)},
                )
            )
    return out
