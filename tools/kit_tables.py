"""Print targets, limits and means of each style from the code, as they stand in docs/kit.md: ``make kit-tables``."""

from arkund.core.autokit.levers import levers_of
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ
from arkund.core.card.targets import GAINS, SCHOOLS, Wanted, range_words
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig import usual


def table(rows: tuple[Wanted, ...]) -> None:
    """Print figures with their ranges by style."""
    print(f"| figure | how it is measured | {' | '.join(SCHOOLS)} |\n|{'---|' * (2 + len(SCHOOLS))}")
    for row in rows:
        words = f"{row.figure.words} ({row.figure.unit}{'; change' if row.figure.against == 'change' else ''})"
        print(f"| {words} | {row.figure.how} | {' | '.join(range_words(row.ranges[style]) for style in SCHOOLS)} |")


class _Peaks:
    off_db = 5.0  # an octave that lies far over the slope: one under it is raised by as much

    def of(self, plan: Plan, output: str) -> float:
        return -30.0 if output.startswith("path:") else -6.0

    def loudest_hits(self, plan: Plan, strip: str) -> tuple[float, float]:
        return -10.0, -10.0

    def octaves_off(self, plan: Plan) -> dict[float, float]:
        return dict.fromkeys(SLOPE_HZ, self.off_db)


def means() -> None:
    """Print each lever with how far it may go in each style, from where it is left alone."""
    plan = Plan(take="t", mics=MICS, paths=(usual.sustain(level_db=-14.0),))
    by_style = {style: {m.lever.key: m.lever for m in levers_of(plan, style, _Peaks())} for style in SCHOOLS}
    print(f"| lever | price | {' | '.join(SCHOOLS)} |\n|{'---|' * (2 + len(SCHOOLS))}")
    for key in by_style["heavy"]:
        ends = []
        for rows in by_style.values():
            lever = rows.get(key)
            ends.append(f"{lever.low - lever.start:+g} to {lever.high - lever.start:+g} dB" if lever else "none")
        print(f"| `{key}` | {by_style['heavy'][key].price:g} | {' | '.join(ends)} |")


MICS = tuple(
    MicPlan(id=name, name=name, piece=piece, role=role)
    for name, piece, role in (
        ("kick-in", "kick", "in"), ("kick-out", "kick", "out"), ("snare-top", "snare", "top"), ("snare-bottom", "snare", "bottom"), ("tom", "tom1", "close"),
        ("hihat", "hihat", "spot"), ("overhead", "kit", "overhead"), ("room", "kit", "room"),
    )
)  # fmt: skip

if __name__ == "__main__":
    for rows in (GAINS, COSTS):
        table(rows)
        print()
    means()
