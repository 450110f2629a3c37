"""A style of one's own: a style of the table with other ranges, taken from a kit that one likes."""

from collections.abc import Mapping
from dataclasses import dataclass

from arkund.core.card.targets import FIGURES, INF, TARGETS, Range
from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number, text

TOLERANCE = 1.0  # to either side of what the kit measures, in the figure's unit
FAR = 200.0
OF_ALL = ("headroom",)  # what every print is to have, whatever the style
FROM_ZERO = ("slope",)  # how far off something is: less is never a miss
KEYS = tuple(figure.key for figure in FIGURES if figure.key not in OF_ALL)


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnRange(Settings):
    """The range of one figure, None for an end that is open. reference : what the kit that it was taken from measures"""

    key: str = choice(KEYS[0], KEYS)
    low: float | None = number(None, -FAR, FAR)
    high: float | None = number(None, -FAR, FAR)
    reference: float | None = number(None, -FAR, FAR)

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.low is not None and self.high is not None and self.low > self.high:
            raise SettingsError(f"{self.key}: from {self.low:g} to {self.high:g} is no range.")

    @property
    def range(self) -> Range:
        """Its ends."""
        return -INF if self.low is None else self.low, INF if self.high is None else self.high


@dataclass(frozen=True, slots=True, kw_only=True)
class OwnStyle(Settings):
    """Ranges in the place of those of the style that it is made of; limits of what it costs, and bounds of means, stay that style's."""

    name: str = text(longest=40)
    ranges: tuple[OwnRange, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if not self.name.strip():
            raise SettingsError("own_style: needs a name.")
        if len({each.key for each in self.ranges}) != len(self.ranges):
            raise SettingsError("own_style: one figure has two ranges.")


def targets_of(style: str, own: OwnStyle | None) -> dict[str, Range]:
    """Return the range in which each figure is wanted."""
    return TARGETS[style] | ({each.key: each.range for each in own.ranges} if own else {})


def taken_from(name: str, style: str, values: Mapping[str, float | None]) -> OwnStyle:
    """Return a style whose ranges lie about what a kit measures: open where the style's are, TOLERANCE wide to the other side; nothing is too even.

    values : what the targets are about, by figure; those that are not known keep the style's range
    """
    out = []
    for key in KEYS:
        value, (low, high) = values.get(key), TARGETS[style][key]
        if value is None:
            continue
        ends = [
            None if abs(edge) == INF else round(value + by, 1) for edge, by in ((low, -TOLERANCE), (high, TOLERANCE))
        ]
        ends[0] = low if key in FROM_ZERO else ends[0]
        out.append(OwnRange(key=key, low=ends[0], high=ends[1], reference=round(value, 2)))
    return OwnStyle(name=name, ranges=tuple(out))
