"""The note that begins with the kit instead of the drums: measured on what it makes of it, offered as long as nothing is compressed."""

import dataclasses

from arkund.core.card import top_down
from arkund.core.card.measure import octaves_off_db
from arkund.core.card.raw import raw_plan
from arkund.core.findings import Finding
from arkund.studio.services import carding
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered


def offered(measure: Measure) -> list[Finding]:
    """Return the note; none once a compressor is on, and for a kit of which nothing is heard."""
    plan, span = measure.plan, measure.busy_span()
    if top_down.begun(plan):
        return []

    def compute() -> dict:
        residual_db = octaves_off_db(rendered(plan, measure.recordings, span, "kit"), measure.rate)
        if residual_db is None:
            return {}
        evened = top_down.evened(plan, residual_db)
        after = top_down.compressed(evened, measure.at(evened).kit()["kit_threshold_db"])
        was, now, raw = (carding.figures(measure.at(each), span) for each in (plan, after, raw_plan(plan)))
        return dataclasses.asdict(top_down.propose(plan, after, was, now, raw))

    found = measure.kept("top down", [plan.to_json(), list(span)], compute)
    return [Finding(**found)] if found else []
