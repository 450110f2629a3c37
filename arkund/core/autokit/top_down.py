"""Top down: the kit as a whole first, with broad EQ and a gentle compressor; then only what its card still asks for."""

import numpy as np

from arkund.core.autokit.levers import BOUNDS, EVEN, EVEN_Q
from arkund.core.blend.propose import KIT_REDUCTION_DB, kit_start
from arkund.core.card.help import help_of
from arkund.core.card.measure import SLOPE_HZ
from arkund.core.card.targets import TARGETS, WORDS, Figures, about, off_by, shown
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.rig.rows import put, put_own
from arkund.core.tools.tone import Band, Tone

EVEN_DB = 3.0  # within which octaves may lie off an even fall
TOLD_DB = 0.5  # what misses its target by less is not told
MOST_TOLD = 2


def begun(plan: Plan) -> bool:
    """Say whether a compressor is on already, of the kit or of a strip: then it is no longer the first thing that is done."""
    strips = (plan.kit, *plan.mics, *plan.groups)
    return any(tool.kind == "compressor" and tool.on for strip in strips for tool in strip.tools)


def evened(plan: Plan, residual_db: np.ndarray) -> Plan:
    """Return a Plan with wide filters over its kit, so that octaves lie no further than EVEN_DB off the slope, as far as the style's bounds allow.

    residual_db : by SLOPE_HZ, see ``octaves_off_db``
    """
    most_db = BOUNDS[plan.school].tone
    gains_db = np.clip(np.clip(residual_db, -EVEN_DB, EVEN_DB) - residual_db, -most_db, most_db)
    pairs = zip(SLOPE_HZ, gains_db.tolist(), strict=True)
    bands = tuple(Band(frequency_hz=hz, gain_db=round(db, 1), q=EVEN_Q) for hz, db in pairs if round(db, 1))
    if not bands:
        return plan
    tool = (plan.kit.tool(EVEN) or Tone(id=EVEN)).replace(on=True, bands=bands)
    return change.put(plan, put_own("kit", plan.kit, tool))


def compressed(plan: Plan, threshold_db: float) -> Plan:
    """Return a Plan with the kit's gentle compressor on, at a threshold that was measured for KIT_REDUCTION_DB."""
    tool = kit_start(plan.kit).replace(threshold_db=threshold_db)
    return change.put(plan, put("kit", plan.kit, tool))


def words(school: str, was: Figures, now: Figures, raw: Figures) -> str:
    """Return what was done to the kit, and what its card still asks for after that; was, now : the card before and after; raw : the raw kit's."""
    values = {key: about(key, now, raw) for key in TARGETS[school] if key != "headroom"}
    rows = [(key, value, off_by(value, TARGETS[school][key])) for key, value in values.items()]
    still = sorted((row for row in rows if row[2] > TOLD_DB), key=lambda row: -row[2])
    told = "; ".join(_told(school, key, value) for key, value, _ in still[:MOST_TOLD])
    even = f"furthest octave {was['slope']:.1f} → {now['slope']:.1f} dB off the slope, " if was.get("slope") else ""
    return f"The kit first: {even}{KIT_REDUCTION_DB:.0f} dB of compression; a {school} kit still wants: {told or 'nothing'}"


def _told(school: str, key: str, value: float) -> str:
    found = help_of(key, value, TARGETS[school][key])
    return f"{WORDS[key]} {shown(key, value)} dB" + (f" ({found[1]})" if found else "")
