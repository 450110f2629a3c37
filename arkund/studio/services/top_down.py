"""The mix begun with the kit instead of the drums, measured on what comes out."""

from arkund.core.autokit import top_down
from arkund.core.card.measure import octaves_off_db
from arkund.core.card.raw import raw_plan
from arkund.core.errors import SettingsError
from arkund.core.rig.changes import Change
from arkund.core.rig.places import KIT
from arkund.studio.services import carding
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered


def kit_first(measure: Measure) -> Change:
    """Give the kit broad EQ and a gentle compressor. Raises SettingsError once a compressor is on, and for a kit of which nothing is heard."""
    plan, span = measure.plan, measure.busy_span()
    if top_down.begun(plan):
        raise SettingsError("The kit first: a compressor is on already; this is where a mix begins.")
    residual_db = octaves_off_db(rendered(plan, measure.recordings, span, KIT), measure.rate)
    if residual_db is None:
        raise SettingsError("The kit first: nothing of it is heard.")
    evened = top_down.evened(plan, residual_db)
    after = top_down.compressed(evened, measure.at(evened).kit()["kit_threshold_db"])
    was, now, raw = (carding.figures(measure.at(each), span) for each in (plan, after, raw_plan(plan)))
    values = {"kit.tools": [tool.to_json() for tool in after.kit.tools]}
    return Change(top_down.words(plan.school, was, now, raw), values)
