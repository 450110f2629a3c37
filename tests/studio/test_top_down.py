"""The kit first: what is said of it is what is rendered, and it is done only where nothing is compressed yet."""

import numpy as np
import pytest

from arkund.core.autokit import top_down
from arkund.core.blend.propose import KIT_REDUCTION_DB
from arkund.core.card.measure import octaves_off_db
from arkund.core.errors import SettingsError
from arkund.core.plan.change import put
from arkund.core.tools.compressor import Compressor
from arkund.studio.services import carding, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of
from arkund.studio.services.top_down import kit_first

pytestmark = pytest.mark.django_db


def furthest_db(measure):
    kit = rendered(measure.plan, measure.recordings, measure.busy_span(), "kit")
    return float(np.abs(octaves_off_db(kit, measure.rate)).max())


def test_kit_first(session):
    """Octaves come nearer to an even fall, the compressor takes what is said, and what is told as still wanted is what the card misses most."""
    before = furthest_db(Measure(session))
    change = kit_first(Measure(session))
    rigging.make(session, change, "blend", session.version)
    session.refresh_from_db()
    measure = Measure(session)
    after = furthest_db(measure)
    assert after < max(before, top_down.EVEN_DB + 0.5)
    assert f"{before:.1f} → {after:.1f} dB" in change.title
    assert measure.kit()["reduction"]["deepest_db"] == pytest.approx(KIT_REDUCTION_DB, abs=0.1)
    even, pressed = row_of(session.plan, measure.recordings, "kit", measure.busy_span())[1:3]
    loud = np.abs(even) > 0.01
    taken = -20.0 * np.log10(np.min(np.abs(pressed[loud]) / np.abs(even[loud])))
    share = session.plan.kit.first("compressor").share  # of what is pressed; the rest stays as it comes
    assert taken == pytest.approx(-20.0 * np.log10(1.0 - share + share * 10 ** (-KIT_REDUCTION_DB / 20.0)), abs=0.3)
    rows = [row for row in carding.card(measure, session.plan.school) if row.figure.key != "headroom"]
    worst = sorted((row for row in rows if row.off > top_down.TOLD_DB), key=lambda row: -row.off)
    assert worst
    for number, row in enumerate(worst):
        assert (row.figure.words in change.title) == (number < top_down.MOST_TOLD)
    with pytest.raises(SettingsError, match="where a mix begins"):
        kit_first(measure)


def test_begun(session):
    """A compressor on one mic is enough."""
    mic = session.plan.mics[0]
    row = [tool.to_json() for tool in (*mic.tools, Compressor(id="mine", on=True))]
    assert top_down.begun(put(session.plan, {f"mics.{mic.id}.tools": row}))
    assert not top_down.begun(session.plan)


def test_silence(session):
    """Where nothing is heard there is nothing to begin with."""
    muted = put(session.plan, {f"mics.{mic.id}.mute": True for mic in session.plan.mics})
    with pytest.raises(SettingsError, match="nothing of it is heard"):
        kit_first(Measure(session).at(muted))
