"""Which mics to flip and which to move: mics of one drum to its timing mic, the kit's mics by polarity only."""

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_close
from arkund.core.lineup.measure import Arrival
from arkund.core.units import ms_to_cm

LEAVE_WITHIN_MS = 0.03


def propose(plan, arrivals: list[Arrival]) -> list[Finding]:
    """Return a change for each mic that is sure to be out of step; unsure ones are only named.

    A mic that hears its drum late is played earlier by the delay. Overheads and rooms keep their distance (that is what they are for)
    and are only turned where their polarity is against the snare.
    """
    out = []
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
        changes, words = {}, []
        inverted = a.polarity < 0
        if inverted != mic.line_up.inverted:
            changes[f"mics.{a.mic}.line_up.inverted"] = inverted
            words.append("turn polarity" if inverted else "polarity back to normal")
        if is_close(mic.role):
            delay = round(-a.delay_ms, 3)
            if abs(delay - mic.line_up.delay_ms) > LEAVE_WITHIN_MS:
                changes[f"mics.{a.mic}.line_up.delay_ms"] = delay
                words.append(f"{delay:+.2f} ms")
        if changes:
            out.append(
                Finding(
                    "lineup",
                    f"lineup:{a.mic}",
                    a.mic,
                    f"{mic.name}: {', '.join(words)}",
                    f"Hears the {a.piece} {a.delay_ms:+.2f} ms ({ms_to_cm(a.delay_ms):+.0f} cm) against"
                    f" {plan.mic(a.reference).name}, {'against' if inverted else 'in'} polarity; spread {a.spread_ms:.2f} ms"
                    f" over {a.hits} hits.",
                    changes,
                )
            )
    return out
