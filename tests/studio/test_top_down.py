"""The kit first: what the note promises is what is rendered, and it is offered only as long as nothing is compressed."""

import numpy as np
import pytest

from arkund.core.blend.propose import KIT_REDUCTION_DB
from arkund.core.card import top_down
from arkund.core.card.measure import octaves_off_db
from arkund.core.plan.change import put
from arkund.core.tools.compressor import Compressor
from arkund.studio.services import carding, moves
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from arkund.studio.services.proposing import accept
from arkund.studio.services.rendering import rendered

pytestmark = pytest.mark.django_db


def offered(session):
    return [note for note in find("blend", Measure(session)) if note.key == top_down.KEY]


def furthest_db(measure):
    kit = rendered(measure.plan, measure.recordings, measure.busy_span(), "kit")
    return float(np.abs(octaves_off_db(kit, measure.rate)).max())


def test_kit_first(session):
    """Octaves come nearer to an even fall, the compressor takes what is said, figures of the note are those of the card; taken back it is offered again."""
    (note,) = offered(session)
    before = furthest_db(Measure(session))
    accept(session.pk, note)
    session.refresh_from_db()
    measure = Measure(session)
    after = furthest_db(measure)
    assert after < max(before, top_down.EVEN_DB + 0.5)
    assert f"{before:.1f} → {after:.1f} dB" in note.evidence
    assert measure.kit()["reduction"]["deepest_db"] == pytest.approx(KIT_REDUCTION_DB, abs=0.3)
    card = {row.figure.key: row for row in carding.card(measure, session.plan.school)}
    for key in ("density", "contrast", "cymbals"):
        told = card[key].figure.words in note.evidence
        assert told == (card[key].off > top_down.TOLD_DB)
    assert not offered(session)
    moves.undo(session.pk)
    session.refresh_from_db()
    assert len(offered(session)) == 1


def test_begun(session):
    """A compressor on one mic is enough."""
    mic = session.plan.mics[0]
    row = [tool.to_json() for tool in (*mic.tools, Compressor(id="mine", on=True))]
    assert top_down.begun(put(session.plan, {f"mics.{mic.id}.tools": row}))
    assert not top_down.begun(session.plan)


def test_not_after_the_one_click(proposed):
    """It is no first step any more."""
    assert not offered(proposed)
