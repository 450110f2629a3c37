"""How the best bars of the takes are joined."""

from dataclasses import dataclass

from arkund.core.settings import Settings, number


@dataclass(frozen=True, slots=True, kw_only=True)
class CompSettings(Settings):
    """What a proposal may do, and what counts how much."""

    most_joins: int = number(8, 0, 200, step=1)
    fade_ms: float = number(2.0, 0.1, 20.0, step=0.1, unit="ms")
    join_costs: float = number(
        6.0, 0.0, 100.0, step=0.5, unit="points", help="a bar must be this much better to be worth a join"
    )
