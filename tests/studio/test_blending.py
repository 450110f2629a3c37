"""Paths by recipe, raised until they are missed, and what the cells of Blend show."""

import numpy as np
import pytest

from arkund.core.blend.first_mix import UNDER_DB
from arkund.core.dsp.loudness import measure as loudness_of
from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import Section
from arkund.core.rig import changes
from arkund.core.rig.changes import Change
from arkund.core.units import gain_to_db
from arkund.studio.services import blending, moves, whole
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of
from tests.studio.doing import apply, made

pytestmark = pytest.mark.django_db


def peak_db(audio: np.ndarray) -> float:
    return float(gain_to_db(np.abs(audio).max()))


class TestAddPath:
    """In one step with its sends."""

    @pytest.mark.parametrize(
        ("recipe", "feed"), [("sustain", "shells"), ("sustain", "whole"), ("weight", "shells"), ("plate", "shells")]
    )
    def test_as_high_as_what_comes_in(self, session, recipe, feed):
        """Its output peaks within 0.2 dB of its input, at its level of −20 dB; one Move, and back by one undo."""
        before = session.plan
        measure = made(session, blending.add_path(Measure(session), recipe, feed=feed))
        path = measure.plan.paths[-1]
        assert path.level_db == -20.0
        row = row_of(measure.plan, measure.recordings, f"path:{path.id}", measure.busy_span())
        assert peak_db(row[-1]) == pytest.approx(peak_db(row[0]), abs=0.2)
        assert len(measure.session.moves.all()) == 1
        moves.undo(session.pk)
        session.refresh_from_db()
        assert session.plan == before

    def test_nobody_to_send(self, session):
        """A crushed room in a kit without rooms: made, and said."""
        change = blending.add_path(Measure(session), "crush")
        assert "sent to by nobody yet" in change.title
        made(session, change)

    def test_refused(self, session):
        """Recipes and feeds that are none."""
        with pytest.raises(SettingsError, match="unknown 'glue'"):
            blending.add_path(Measure(session), "glue")
        with pytest.raises(SettingsError, match="expected one of shells, whole"):
            blending.add_path(Measure(session), "punch", feed="half")


class TestFirstMix:
    """Levels by measurement."""

    @pytest.mark.parametrize("school", ["natural", "heavy"])
    def test_what_was_wanted(self, session, school):
        """Groups alone reach -8 dBFS before the kit's tools; SUSTAIN is as loud as its style wants, against the kit without it."""
        apply(session.pk, {"school": school}, step="kit", title=school)
        session.refresh_from_db()
        measure = Measure(session)
        plan = change.put(session.plan, blending.first_mix(measure).changes(session.plan))
        span = measure.busy_span()
        silent = plan.replace(paths=tuple(path.replace(mute=True) for path in plan.paths))
        mix = rendered(silent, measure.recordings, span, "mix")
        assert peak_db(mix) == pytest.approx(-8.0, abs=0.1)
        (sustain,) = (
            row_of(plan, measure.recordings, f"path:{path.id}", span)[-1].T * 10 ** (path.level_db / 20)
            for path in plan.paths
        )
        apart = loudness_of(mix, measure.rate).loudness_lufs - loudness_of(sustain, measure.rate).loudness_lufs
        assert apart == pytest.approx(UNDER_DB[school], abs=0.2)


class TestRaised:
    """Without it, and at four levels."""

    def test_what_it_does(self, session):
        """The louder a crushed path, the denser the kit; the figures are those of the kit as it is rendered then."""
        measure = made(session, blending.add_path(Measure(session), "sustain", feed="whole"))
        found = blending.raised(measure, "sustain")
        assert [v["settings"] for v in found["versions"]] == [-60.0, -20.0, -16.0, -12.0, -8.0]
        assert found["place"] == "paths.sustain.level_db"
        denser = [float(v["told"].split(", ")[1].split(" dB")[0].replace("−", "-")) for v in found["versions"][1:]]
        assert denser == sorted(denser)
        assert denser[-1] > denser[0] + 0.5

    def test_no_such_path(self, session):
        """Said with those that there are."""
        with pytest.raises(SettingsError, match="no 'path:glue'"):
            blending.raised(Measure(session), "glue")


class TestCells:
    """What is set and heard in each section."""

    def test_loudness_by_section(self, session):
        """As measured over the whole song: a section in which a group is 12 dB lower is that much softer in its cell, and marked."""
        sections = [Section(name="one", bar=0).to_json(), Section(name="two", bar=2).to_json()]
        made(session, Change("sections", {"sections": sections}))
        made(session, changes.in_section(session.plan, "two", {"groups.snare.level_db": -12.0}, "softer"))
        assert blending.Cells(session.plan, None).of("groups.snare")["lufs"] == [None] * 3
        song = whole.measure(session)
        cells = blending.Cells(session.plan, song).of("groups.snare")
        assert cells["levels_db"] == [0.0, -12.0]
        assert cells["held"] == [False, True]
        assert cells["lufs"][2] < cells["lufs"][1] - 8.0
        kit = blending.Cells(session.plan, song).of("kit")
        assert len(kit["lufs"]) == 3
        mic = blending.Cells(session.plan, song).of("mics.sn-top")
        assert mic["lufs"][1] == pytest.approx(song["strip:sn-top"]["sections_lufs"][0], abs=0.06)
