"""What a kit is meant to measure, by style: the range in which each figure of the kit card is wanted."""

from collections.abc import Mapping
from dataclasses import dataclass

INF = float("inf")
SCHOOLS = ("natural", "punchy", "heavy")
FIRST_SCHOOL = "punchy"
LOOKS = {"heavy": "tight"}  # how clean a style wants the kit, where that is not the usual
Range = tuple[float, float]
Figures = Mapping[str, float | None]


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


@dataclass(frozen=True, slots=True)
class Wanted:
    """A figure and the range in which each style wants it."""

    figure: Figure
    ranges: Mapping[str, Range]


def wanted(key: str, words: str, *ranges: Range, unit: str = "dB", against: str = "now", how: str = "") -> Wanted:
    """Return a figure with the ranges of the styles, in the order of SCHOOLS; one range holds for all."""
    by_style = ranges if len(ranges) > 1 else ranges * len(SCHOOLS)
    return Wanted(Figure(key, words, unit, against, how), dict(zip(SCHOOLS, by_style, strict=True)))


def within(limit: float) -> Range:
    """Return the range of what may differ from 0 by so much."""
    return -limit, limit


def _change(key: str, words: str, *ranges: Range, how: str = "") -> Wanted:
    return wanted(key, words, *ranges, against="change", how=how)


ATTACK = "loudest 5 ms within 15 ms of its hits against 30 to 120 ms"
SIDES = "left against right at its hits"
ABOVE_2_KHZ = "above 2 kHz, 100 ms of strokes that are heard alone; where there are too few, worked out from all that sound together"
GAINS = (
    _change("density", "peak-to-loudness ratio (PLR)", (-1.5, 1.0), (-4.0, -0.5), (-7.0, -2.5), how="true peak minus integrated loudness"),
    _change("attack_kick", "attack to body: kick", (-0.5, INF), (1.0, 4.0), (1.0, 5.0), how=ATTACK),
    _change("attack_snare", "attack to body: snare", (-0.5, INF), (1.0, 4.0), (1.0, 5.0), how=ATTACK),
    _change("contrast", "hit contrast", (-0.5, INF), (-0.5, INF), (-1.5, INF), how="the 30 ms from a kick or back-beat against the 40 ms before it"),
    wanted("kick", "kick against snare", within(3.0), how="K-weighted, 400 ms"),
    wanted("toms", "toms against snare", (-4.0, 0.0), (-3.0, 1.0), (-2.0, 2.0), how="K-weighted, 200 ms"),
    wanted("cymbals", "hi-hat and ride against snare", (-16.0, -8.0), (-16.0, -10.0), (-18.0, -10.0), how=ABOVE_2_KHZ),
    wanted("crashes", "crashes against snare", (-10.0, 0.0), how=ABOVE_2_KHZ),
    _change("ghosts", "ghost notes against snare", (-3.0, 3.0), (0.0, 6.0), (0.0, 8.0), how="1 to 6 kHz, 100 ms"),
    _change("bleed_toms", "bleed in tom mics", (-INF, 0.0), (-INF, -12.0), (-INF, -20.0), how="peaks of others' hits against own ones"),
    _change("bleed", "bleed in kick and snare mics", (-INF, 0.0), (-INF, 1.0), (-INF, 0.0), how="peaks of others' hits against own ones"),
    wanted("low_end", "low-end sum against its strongest mic", (0.0, INF), (1.0, INF), (1.0, INF), how="40 to 110 Hz at kicks"),
    wanted("slope", "octave furthest off the slope", (0.0, 5.0), (0.0, 5.0), (0.0, 6.0), how="63 Hz to 16 kHz against a fall of 3 to 4.5 dB per octave"),
    wanted("image_kick", "image: kick", within(1.5), how=SIDES),
    wanted("image_snare", "image: snare", within(1.5), how=SIDES),
    wanted("mono", "mono loss", (-INF, 3.0), how="loudness lost when both sides are added up"),
    wanted("headroom", "true peak", (-6.2, -5.8), unit="dBTP"),
)  # fmt: skip
FIGURES = tuple(row.figure for row in GAINS)
WORDS = {figure.key: figure.words for figure in FIGURES}
CHANGES = frozenset(figure.key for figure in FIGURES if figure.against == "change")
TARGETS: dict[str, dict[str, Range]] = {
    style: {row.figure.key: row.ranges[style] for row in GAINS} for style in SCHOOLS
}


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


def range_words(target: Range) -> str:
    """Return a range in words: "-16 to -10", "within 3" of 0, "1 at least"."""
    low, high = target
    if low == -INF:
        return f"{high:g} at most"
    if high == INF:
        return f"{low:g} at least"
    return f"within {high:g}" if low == -high else f"{low:g} to {high:g}"


def off_by(value: float | None, target: Range) -> float:
    """Return by how much a figure misses its target, 0 where it is met or not known."""
    if value is None:
        return 0.0
    return max(target[0] - value, value - target[1], 0.0)


def further_by(key: str, figures: Figures, raw: Figures, target: Range) -> float:
    """Return by how much a figure misses its target more than the raw kit does (a change: than none), 0 where it does not or is not known."""
    before = 0.0 if key in CHANGES else raw[key]
    return 0.0 if before is None else max(off_by(about(key, figures, raw), target) - off_by(before, target), 0.0)
