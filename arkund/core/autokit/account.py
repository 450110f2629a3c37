"""The one click's account in plain words: what was wrong with the recording, whose each deed is, and what was left alone."""

from collections.abc import Iterable, Mapping, Sequence

from arkund.core.card.own_style import targets_of
from arkund.core.card.targets import CHANGES, GAINS, Figures, Range, off_by, range_words, shown
from arkund.core.findings import capital, with_minus
from arkund.core.kit.pieces import group_of, is_close, is_shell, words_of
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig.strips import Strip

MOST_FAULTS = 5
LATE_MS = 0.3  # between mics of one drum; less moves no cancellation below 1.6 kHz
FAR_DB = 6.0  # from the window: a recording that is quiet, or hot
LEAKY_DB = -20.0  # others' hits in a tom's mic against its own
MOST_NAMES, MOST_FIGURES = 4, 3
WHOLE_KIT, PARALLEL = "whole kit", "parallel paths"
CLEANERS = ("gate", "regions")


def faults(plan: Plan, raw: Figures, before: Sequence[str] = ()) -> list[str]:
    """Return what was wrong with a recording, in five lines at most.

    plan : as it was set right; raw : the card's figures of the raw kit; before : what was found wrong with names and files
    """
    mics = [mic for mic in plan.mics if not mic.is_layer]
    turned = [mic.name for mic in mics if mic.line_up.inverted]
    late = [(-mic.line_up.delay_ms, mic.name) for mic in mics if -mic.line_up.delay_ms >= LATE_MS]
    quiet = [(mic.trim_db, mic.name) for mic in mics if mic.trim_db >= FAR_DB]
    hot = [(-mic.trim_db, mic.name) for mic in mics if mic.trim_db <= -FAR_DB]
    lines = [
        _joined([*before]),
        _joined(
            [
                f"opposite polarity: {_names(turned)}" if turned else "",
                f"late against its drum's other mic: {_with_values(late, 'ms')}" if late else "",
            ]
        ),
        _joined(
            [
                f"recorded quietly: {_with_values(quiet, 'dB')} under the window" if quiet else "",
                f"hot: {_with_values(hot, 'dB')} over it" if hot else "",
            ]
        ),
        _leaking(raw.get("bleed_toms")),
        _unbalanced(raw, targets_of(plan.school, plan.own_style)),
    ]
    return [capital(with_minus(line)) for line in lines if line][:MOST_FAULTS]


def whose(plan: Plan, paths: Iterable[str]) -> str:
    """Return the drum, in words, that all of some paths belong to; "parallel paths", or "whole kit" where they are of several or of none."""
    found = {_whose(plan, path) for path in paths}
    return found.pop() if len(found) == 1 else WHOLE_KIT


def left_alone(plan: Plan, raw: Figures) -> list[str]:
    """Return what nothing was done to, and why."""
    close = [mic for mic in plan.mics if is_close(mic.role) and not mic.is_layer and not mic.mute]
    open_mics = [mic.name for mic in close if is_shell(mic.piece) and not _does(mic, CLEANERS)]
    plain = [mic.name for mic in plan.mics if not mic.is_layer and not mic.mute and not _does(mic) and not _gains(mic)]
    groups = [group.name.lower() for group in plan.groups if not any(tool.on for tool in group.tools)]
    bleed = raw.get("bleed")
    lower = f": others' hits lie {-bleed:.0f} dB under their own" if bleed is not None and bleed < 0.0 else ""
    lines = [
        f"No gate on {_names(open_mics)}{lower}." if open_mics else "",
        f"No filter but a high-pass on {_names(plain)}: no ring or box was measured." if plain else "",
        f"No tool on the groups {_names(groups)}." if groups else "",
        "No hit was moved or replaced." if not plan.cuts and not plan.lone_cuts and not plan.placements else "",
    ]
    return [with_minus(line) for line in lines if line]


def _whose(plan: Plan, path: str) -> str:
    field, _, rest = path.partition(".")
    strip_id = rest.partition(".")[0]
    if field == "mics":
        mic = next((mic for mic in plan.mics if mic.id == strip_id), None)
        if mic is None:
            return WHOLE_KIT
        return words_of(mic.piece) if mic.piece != "kit" else group_of(mic.piece, mic.role)
    if field == "groups":
        group = next((group for group in plan.groups if group.id == strip_id), None)
        return group.name.lower() if group else WHOLE_KIT
    return PARALLEL if field == "paths" else WHOLE_KIT


def _does(strip: Strip, kinds: Sequence[str] = ()) -> bool:
    """Say whether a strip has a tool that is on, of some kinds or of any but tone."""
    return any(tool.on and (tool.kind in kinds if kinds else tool.kind != "tone") for tool in strip.tools)


def _gains(mic: MicPlan) -> bool:
    """Say whether a mic has a filter other than a high-pass."""
    tones = [tool for tool in mic.tools if tool.kind == "tone" and tool.on]
    return any(band.on and band.kind != "high_pass" for tool in tones for band in tool.bands)


def _leaking(bleed_db: float | None) -> str:
    if bleed_db is None or bleed_db <= LEAKY_DB:
        return ""
    return (
        f"tom mics hear the other drums only {-bleed_db:.0f} dB under their own hits"
        if bleed_db < 0.0
        else "tom mics hear the other drums as loud as their own hits"
    )


def _unbalanced(raw: Figures, targets: Mapping[str, Range]) -> str:
    """Return the figures of the raw kit that lie furthest from their ranges; a change has none."""
    off = []
    for row in GAINS:
        key, target = row.figure.key, targets[row.figure.key]
        by = 0.0 if key in CHANGES or row.figure.unit != "dB" else off_by(raw.get(key), target)
        if by > 0.5:
            off.append((by, f"{row.figure.words} {shown(key, raw[key])} dB (wanted {range_words(target)})"))
    worst = [words for _, words in sorted(off, reverse=True)[:MOST_FIGURES]]
    return f"with all mics up: {'; '.join(worst)}" if worst else ""


def _joined(parts: Sequence[str]) -> str:
    return "; ".join(filter(None, parts))


def _names(names: Sequence[str]) -> str:
    """Return names in a row, the first few and how many more."""
    if len(names) > MOST_NAMES + 1:
        return f"{', '.join(names[:MOST_NAMES])} and {len(names) - MOST_NAMES} more"
    return " and ".join([", ".join(names[:-1]), names[-1]] if len(names) > 1 else names)


def _with_values(rows: Sequence[tuple[float, str]], unit: str) -> str:
    """Return names with their values, furthest first."""
    return _names([f"{name} {value:.1f} {unit}" for value, name in sorted(rows, reverse=True)])
