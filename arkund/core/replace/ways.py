"""Ways to a kick's low end that change its mic instead of laying something under it: each a tool with first settings, by the drum's fundamental."""

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import MicPlan, Struck
from arkund.core.rig import rows
from arkund.core.tools.shaper import Above, Shaper
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key, Tool

WAYS = {
    "lift": "its low band lifted at its hits",
    "shape": "shaped in four bands",
    "resonance": "a resonant high-pass",
    "weight": "a path of its bottom",
}
WEIGHT = "weight"  # the way that is a path by its recipe
LIFT_DB, LIFT_Q = 5.0, 0.8
LIFT_EARLY_MS, LIFT_LENGTH_MS = 4.0, 80.0
RESONANCE_DB = 6.0
RESONANCE_SHARES = (
    0.55,
    0.7,
    0.85,
    1.0,
)  # of the fundamental: a filter turns phase, so that the best is found by measuring what several mics give together
USUAL_HZ = 55.0
PART_HZ = (2.2, 12.0, 60.0)  # where four bands part, in fundamentals: weight, box, beater, click
SHAPED_DB = ((4.0, 2.0), (0.0, -3.0), (2.0, 0.0), (0.0, 0.0))  # attack and sustain of each


def tool_id(way: str) -> str:
    """Return the id of a way's tool in the row of the drum's mic."""
    return f"low-{way}"


def tools_of(way: str, mic: MicPlan, fundamental_hz: float | None, struck: Struck | None) -> tuple[Tool, ...]:
    """Return a way's tool with its first settings; several where what it does to the sum decides between them.

    struck : the drum's strikes, to which a band that is lifted listens. Raises SettingsError for a way that is no tool, and without strikes for the one that
    needs them.
    """
    hz = fundamental_hz or USUAL_HZ
    if way == "lift":
        if struck is None or not struck.strikes:
            raise SettingsError(f"lift: no hits of {mic.piece} were found, which could open it.")
        levels = sorted(level for _, level in struck.strikes)
        threshold_db = max(min(levels[len(levels) // 2] - LIFT_DB, 0.0), -90.0)
        band = Band(frequency_hz=hz, q=LIFT_Q, range_db=LIFT_DB, threshold_db=round(threshold_db, 1), release_ms=150.0)
        key = Key(of=f"hits:{mic.piece}", early_ms=LIFT_EARLY_MS, length_ms=LIFT_LENGTH_MS)
        return (Tone(id=tool_id(way), bands=(band,), key=key),)
    if way == "resonance":
        places_hz = (max(round(hz * share, 1), 20.0) for share in RESONANCE_SHARES)
        bands = (Band(kind="high_pass", frequency_hz=f, resonance_db=RESONANCE_DB, compensated=True) for f in places_hz)
        return tuple(Tone(id=tool_id(way), bands=(band,)) for band in bands)
    if way == "shape":
        (attack, sustain), *others = SHAPED_DB
        above = tuple(
            Above(from_hz=min(max(round(hz * ratio), 40.0 + k), 7997.0 + k), attack_db=a, sustain_db=s)
            for k, (ratio, (a, s)) in enumerate(zip(PART_HZ, others, strict=True))
        )
        return (Shaper(id=tool_id(way), on=True, attack_db=attack, sustain_db=sustain, above=above),)
    raise SettingsError(f"way: expected one of {', '.join(WAYS)}; got {way[:40]!r}.")


def with_way(mic: MicPlan, tool: Tool) -> tuple[Tool, ...]:
    """Return the row of a mic with a way's tool where its kind usually stands."""
    return rows.with_own_id(mic.tools, tool)


def without_way(mic: MicPlan, way: str) -> tuple[Tool, ...]:
    """Return the row of a mic without a way's tool."""
    return tuple(each for each in mic.tools if each.id != tool_id(way))
