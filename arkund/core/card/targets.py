"""What a punchy kit measures, by school: the range in which each figure of the kit card is meant to lie."""

from collections.abc import Mapping
from dataclasses import dataclass

INF = float("inf")


@dataclass(frozen=True, slots=True)
class Figure:
    """One figure of the card. against : what the target is about, the figure as it is ("now") or its change against the raw kit ("change");
    how : it is measured
    """

    key: str
    words: str
    unit: str
    against: str = "now"
    how: str = ""


FIGURES = (
    Figure("density", "true peak over loudness", "dB"),
    Figure("attack", "attack against body at kicks and back-beats", "dB", "change"),
    Figure("contrast", "hit against what is before it", "dB", "change"),
    Figure("kick", "kicks against back-beats", "dB"),
    Figure("toms", "toms against back-beats", "dB"),
    Figure("cymbals", "hats and ride against back-beats, above 2 kHz", "dB"),
    Figure("ghosts", "ghosts against back-beats, 1 to 6 kHz", "dB", "change"),
    Figure("bleed_toms", "others' hits in tom mics", "dB", "change"),
    Figure("bleed", "others' hits in kick and snare mics", "dB", "change"),
    Figure("hat_in_snare", "hat in the snare's mic above 5 kHz", "dB", "change"),
    Figure("low_end", "40 to 110 Hz: all that carries it against the strongest", "dB"),
    Figure("balance", "furthest octave from an even fall", "dB"),
    Figure("middle", "left against right at kicks and back-beats", "dB"),
    Figure("mono", "lost in mono", "dB"),
    Figure("headroom", "true peak", "dBTP"),
)
WORDS = {figure.key: figure.words for figure in FIGURES}
CHANGES = frozenset(figure.key for figure in FIGURES if figure.against == "change")
Range = tuple[float, float]
Figures = Mapping[str, float | None]
TARGETS: dict[str, dict[str, Range]] = {
    "natural": {
        "density": (15.0, 18.0),
        "attack": (0.0, INF),
        "contrast": (0.0, INF),
        "kick": (-2.0, 2.0),
        "toms": (-4.0, 0.0),
        "cymbals": (-16.0, -8.0),
        "ghosts": (-3.0, 3.0),
        "bleed_toms": (-INF, 0.0),
        "bleed": (-INF, 0.0),
        "hat_in_snare": (-INF, 1.0),
        "low_end": (0.0, INF),
        "balance": (0.0, 5.0),
        "middle": (-1.0, 1.0),
        "mono": (-INF, 3.0),
        "headroom": (-6.2, -5.8),
    },
    "punchy": {
        "density": (12.0, 15.0),
        "attack": (1.0, 4.0),
        "contrast": (1.0, INF),
        "kick": (-2.0, 2.0),
        "toms": (-3.0, 1.0),
        "cymbals": (-16.0, -10.0),
        "ghosts": (-3.0, 6.0),
        "bleed_toms": (-INF, -15.0),
        "bleed": (-INF, 1.0),
        "hat_in_snare": (-INF, 1.0),
        "low_end": (1.0, INF),
        "balance": (0.0, 5.0),
        "middle": (-1.0, 1.0),
        "mono": (-INF, 3.0),
        "headroom": (-6.2, -5.8),
    },
    "heavy": {
        "density": (9.0, 12.0),
        "attack": (2.0, 5.0),
        "contrast": (1.0, INF),
        "kick": (-2.0, 2.0),
        "toms": (-2.0, 2.0),
        "cymbals": (-18.0, -12.0),
        "ghosts": (-3.0, 8.0),
        "bleed_toms": (-INF, -25.0),
        "bleed": (-INF, 0.0),
        "hat_in_snare": (-INF, 0.0),
        "low_end": (1.0, INF),
        "balance": (0.0, 6.0),
        "middle": (-1.0, 1.0),
        "mono": (-INF, 3.0),
        "headroom": (-6.2, -5.8),
    },
}
FIRST_SCHOOL = "punchy"
LOOKS = {"heavy": "tight"}  # how clean a school wants the kit, where that is not the usual
SCHOOLS = tuple(TARGETS)
MOST_OFF_DB, MISSED_DB, SURELY_DB = 20.0, 0.5, 0.1  # of one figure, in what all together miss by
# How far within its target a figure is brought to, and what counts of a dB that is short of that; what counts beside of one further off than the raw kit.
INSIDE_DB, INSIDE_SHARE, FURTHER_SHARE = 0.5, 0.3, 3.0


def about(key: str, figures: Figures, raw: Figures) -> float | None:
    """Return what the target of a figure is about: the figure as it is, or its change against the raw kit; None where it is not known."""
    now, before = figures[key], raw[key]
    if key not in CHANGES or now is None:
        return now
    return None if before is None else now - before


def shown(key: str, value: float | None) -> str:
    """Return what a target is about as it is written: a change with its sign."""
    if value is None:
        return "–"
    return f"{value:+.1f}" if key in CHANGES else f"{value:.1f}"


def off_by(value: float | None, target: Range) -> float:
    """Return by how much a figure misses its target, 0 where it is met or not known."""
    if value is None:
        return 0.0
    return max(target[0] - value, value - target[1], 0.0)


def nearer_by(key: str, figures: Figures, raw: Figures, target: Range) -> float:
    """Return by how much less a figure misses its target than the raw kit does (a change: than none), below 0 where by more, 0 where it is not known."""
    before = 0.0 if key in CHANGES else raw[key]
    return 0.0 if before is None else off_by(before, target) - off_by(about(key, figures, raw), target)


def further_by(key: str, figures: Figures, raw: Figures, target: Range) -> float:
    """Return by how much a figure misses its target more than the raw kit does, 0 where it does not."""
    return max(-nearer_by(key, figures, raw, target), 0.0)


def is_further(figures: Figures, raw: Figures, school: str) -> bool:
    """Return whether any figure is further off its target than the raw kit's."""
    return any(further_by(key, figures, raw, target) > 0.0 for key, target in TARGETS[school].items())


def beyond(key: str, value: float | None, school: str) -> float:
    """Return by how much a figure lies above (below, negative) what it is brought to: INSIDE_DB within its target, since every correction costs others
    something; 0 within.
    """
    if value is None:
        return 0.0
    low, high = TARGETS[school][key]
    inside = min(INSIDE_DB, (high - low) / 2.0)
    return value - float(min(max(value, low + inside), high - inside))


def room_db(key: str, figures: Figures, raw: Figures, school: str, rises: bool = True, inside_db: float = 0.0) -> float:
    """Return how far a figure may still rise, or fall, and be so far within its target, in dB; 0 where it is not known."""
    value, (low, high) = about(key, figures, raw), TARGETS[school][key]
    if value is None:
        return 0.0
    return max((high - value if rises else value - low) - inside_db, 0.0)


def off_altogether(figures: Figures, raw: Figures, school: str) -> float:
    """Return by how much all figures together miss: the sum of what they miss by, something for each that does, more where the raw kit missed by less, and a
    little for what is within by less than INSIDE_DB: so that kits that differ by hardly anything are brought to the same place.
    """
    out = 0.0
    for key, target in TARGETS[school].items():
        value = about(key, figures, raw)
        off = off_by(value, target)
        out += min(off, MOST_OFF_DB) + MISSED_DB * min(off / SURELY_DB, 1.0)
        out += INSIDE_SHARE * min(abs(beyond(key, value, school)), INSIDE_DB)
        out += FURTHER_SHARE * further_by(key, figures, raw, target)
    return out
