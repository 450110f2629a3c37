"""Jobs, housekeeping, measurements, findings and what `before` plays."""

import dataclasses
import json
import shutil
import time

import numpy as np
import pytest
import soundfile

from arkund.core import tasks
from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.core.kit.pieces import PIECES
from arkund.core.plan.change import put
from arkund.core.plan.plan import Cut, HitChange, MicPlan
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.rig import usual
from arkund.core.tools.gate import Gate
from arkund.studio.models import Job, Measured, Move, Session
from arkund.studio.services import housekeeping, moves, proposing, quarantine, recordings, store
from arkund.studio.services.findings import find, notes, open_by_step, remember_open
from arkund.studio.services.importing import import_folder
from arkund.studio.services.listening import Asker, without
from arkund.studio.services.measuring import Measure
from tests.studio.doing import accept, apply

pytestmark = pytest.mark.django_db


class TestHousekeeping:
    """What a crash left behind goes at the next start."""

    def test_clear_up(self, session):
        """Temporary files go, unused recordings are put aside; used ones, and what a stopped import still needs, stay."""
        Job.objects.create(kind="import", state=Job.FAILED, arguments={"folder": "wanted"})
        (store.incoming_folder() / "wanted").mkdir()
        audio = store.audio_folder()
        used = {p.name for p in audio.iterdir() if not p.name.startswith(".")}
        (audio / ".new-abc.npy").write_bytes(b"x")
        (audio / f"{'0' * 64}.npy").write_bytes(b"x")
        (store.incoming_folder() / "half").mkdir()
        housekeeping.clear_up()
        mine = set(session.takes.get().mics.values_list("digest", flat=True))
        left = {p.name for p in audio.glob("*.npy")}
        assert {f"{sha}.npy" for sha in mine} <= left <= used
        assert [p.name for p in store.incoming_folder().iterdir()] == ["wanted"]
        assert [path.name for path in quarantine.folder().rglob("0*.npy")] == [f"{'0' * 64}.npy"]


class TestMeasure:
    """Measurements are kept by what they depend on."""

    def test_all_that_is_heard_of_a_mic_before_its_tools_counts(self, session):
        """Whatever changes a mic's samples there changes the key under which its measurements are kept: hits that were replaced were forgotten once."""
        mic = session.plan.mic("sn-top")
        capture = {
            "id": "c",
            "piece": "snare",
            "take": "take-1",
            "at": 50_000,
            "before": 100,
            "length": 5000,
            "level_db": -6.0,
        }
        strike = {"captures": [capture]}
        sound = Sampled(of="sn-top", shots=(Shot(capture="c"),), strikes=((90_000, 0.0),))
        inside = MicPlan(id="inside", name="In", piece="snare", role="layer", into="sn-top", sampled=sound)
        changes = [
            {"mics.sn-top.trim_db": -1.0},
            {"mics.sn-top.repair": True},
            {"mics.sn-top.clock_ppm": 5.0},
            {"mics.sn-top.line_up.delay_ms": 1.0},
            {"mics.sn-top.line_up.inverted": True},
            {
                "scenes": [
                    {"id": "a", "name": "A", "bars": [[1, 2]], "held": [{"place": "mics.sn-top.trim_db", "value": 3.0}]}
                ]
            },
            {"cuts": [{"at": 60_000, "shift": 20}]},
            {
                "lone_cuts": [
                    {"piece": "snare", "at": 60_000, "shift": 20},
                    {"piece": "snare", "at": 90_000, "shift": 0},
                ]
            },
            strike | {"placements": [{"capture": "c", "at": 90_000, "length": 5000}]},
            strike | {"mics": [mic.to_json() for mic in (*session.plan.mics, inside)]},
        ]
        seen = {json.dumps(Measure(session).source_depends(mic), sort_keys=True)}
        for change in changes:
            plan = put(session.plan, change)
            heard = Measure(session, plan)
            before, after = (m.sources.read(m.plan.mic("sn-top"), 40_000, 100_000) for m in (Measure(session), heard))
            if "mics.sn-top.repair" not in change:  # nothing is clipped here
                assert not np.array_equal(before, after), change
            seen.add(json.dumps(heard.source_depends(plan.mic("sn-top")), sort_keys=True))
        assert len(seen) == len(changes) + 1

    def test_the_same_recordings_in_another_session(self, session, folder, tmp_path, monkeypatch):
        """What was measured of them is known there, hits as well; one other recording of the same name, and all is measured anew."""
        first = Measure(session)
        levels, arrivals = first.levels(), first.arrivals()
        twin = import_folder(folder, bpm=120.0)
        count = Measured.objects.count()
        monkeypatch.setattr(tasks, "hits_of_take", lambda *_: pytest.fail("the same hits were found again"))
        again = Measure(twin)
        assert (again.levels(), again.arrivals()) == (levels, arrivals)
        assert Measured.objects.count() == count
        monkeypatch.undo()
        shutil.copytree(folder, tmp_path / "Other")
        audio, rate = soundfile.read(folder / "SN top.wav")
        soundfile.write(tmp_path / "Other" / "SN top.wav", audio * 0.5, rate, subtype="PCM_24")
        other = Measure(import_folder(tmp_path / "Other", bpm=120.0)).levels()
        assert other["sn-top"].peak_db == pytest.approx(levels["sn-top"].peak_db - 6.02, abs=0.01)

    def test_measured_once(self, session):
        """A second look reads the first one's result; a change that matters measures again."""
        Measure(session).levels()
        count = Measured.objects.count()
        again = Measure(session).levels()
        assert Measured.objects.count() == count
        assert again["sn-top"].hit_peaks_db
        mic = session.plan.mic("sn-top")
        before = Measure(session).tone(mic)
        apply(session.pk, {"mics.sn-top.trim_db": -6.0}, step="level", title="t")
        session.refresh_from_db()
        after = Measure(session).tone(session.plan.mic("sn-top"))
        assert max(after.own_db) == pytest.approx(max(before.own_db) - 6.0, abs=0.1)

    def test_envelopes_follow_the_processing(self, session):
        """With nothing on, before and after are the same; +6 dB of make-up shows as 6 dB."""
        mic = session.plan.mic("sn-top")
        before, after = Measure(session).envelopes(mic)[""]
        assert after.level_db == pytest.approx(before.level_db, abs=0.05)
        louder = {"on": True, "threshold_db": 0.0, "makeup_db": 6.0}
        apply(session.pk, {f"mics.sn-top.tools.compressor.{k}": v for k, v in louder.items()}, step="punch", title="t")
        session.refresh_from_db()
        before, after = Measure(session).envelopes(session.plan.mic("sn-top"))[""]
        assert max(after.level_db) == pytest.approx(max(before.level_db) + 6.0, abs=0.3)

    def test_busy_span(self, session, little):
        """The span lies in the recording."""
        start, stop = Measure(session).busy_span()
        assert 0 <= start < stop <= little.samples


class TestProposing:
    """Everything at first choice, each a Move with its evidence; twice is once."""

    @pytest.mark.long
    def test_propose_all(self, session):
        """Nothing is done twice, a finding that was left is not taken, all can be undone."""
        before = session.plan
        bottom = next(f for f in find("lineup", Measure(session)) if f.place == "snr-btm")
        proposing.leave(session.pk, bottom, "it is meant so")
        made = proposing.propose_all(session.pk).moves
        assert all(move.measured for move in made)
        assert proposing.propose_all(session.pk).moves == []
        session.refresh_from_db()
        assert not session.plan.mic("snr-btm").line_up.inverted
        kept = next(n for n in notes("lineup", session, Measure(session)) if n.finding.place == "snr-btm")
        assert kept.state == "left"
        while moves.undo(session.pk):
            pass
        session.refresh_from_db()
        assert session.plan == before
        assert all(not mic.first("tone").bands and mic.trim_db == 0 for mic in session.plan.mics)

    def test_the_kit_leaves_headroom(self, proposed):
        """After proposing, the kit peaks near -6 dBFS and nothing clips."""
        kit = Measure(proposed).kit()
        assert kit["kit"]["peak_db"] == pytest.approx(-6.0, abs=1.0)
        assert not proposed.plan.kit.first("compressor").on  # nobody asked for one

    def test_what_the_kits_compressor_takes(self, session):
        """Set once the balance stands, it takes 3 dB."""
        for key in ("blend:mix", "blend:kit"):
            measure = Measure(Session.objects.get(pk=session.pk))
            accept(session.pk, next(f for f in find("blend", measure) if f.key == key))
        kit = Measure(Session.objects.get(pk=session.pk)).kit()
        assert kit["reduction"]["deepest_db"] == pytest.approx(3.0, abs=0.6)

    def test_a_done_note_tells_what_was_measured_then(self, session):
        """Not what would be proposed on top of it."""
        note = next(f for f in find("blend", Measure(session)) if f.key == "blend:kit")
        accept(session.pk, note)
        softer = {f"groups.{group.id}.level_db": -20.0 for group in session.plan.groups}
        apply(session.pk, softer, step="blend", title="softer")
        session.refresh_from_db()
        again = next(f for f in find("blend", Measure(session)) if f.key == "blend:kit")
        assert again.evidence != note.evidence
        shown = next(n for n in notes("blend", session, Measure(session)) if n.finding.key == "blend:kit")
        assert (shown.state, shown.finding.title, shown.finding.evidence) == ("done", note.title, note.evidence)

    def test_what_helped_stays_on_its_page(self, session):
        """A delay that was done is measured as none from then on: it is told as done, where it was pinned, until it is undone or set by hand."""
        note = next(f for f in find("lineup", Measure(session)) if f.place == "kd-out")
        shown = lambda: {n.finding.key: n for n in notes("lineup", session, Measure(session))}.get(note.key)
        accept(session.pk, note)
        session.refresh_from_db()
        assert note.key not in {f.key for f in find("lineup", Measure(session))}
        told = shown()
        assert (told.state, told.finding.title, told.finding.evidence) == ("done", note.title, note.evidence)
        assert (told.finding.place, told.finding.changes) == ("kd-out", {})
        moves.undo(session.pk)
        session.refresh_from_db()
        assert shown().state == "open"

    def test_what_waits_is_counted_as_it_is_now(self, session):
        """On the rail, also of a page that nobody has opened since."""
        found = notes("lineup", session, Measure(session))
        remember_open(session, "lineup", found)
        waiting = sum(note.state == "open" for note in found)
        accept(session.pk, next(note.finding for note in found if note.finding.place == "kd-out"))
        session.refresh_from_db()
        assert open_by_step(session)["lineup"] == {"open": waiting - 1, "fresh": False}
        moves.undo(session.pk)
        assert open_by_step(session)["lineup"]["open"] == waiting

    def test_what_was_set_otherwise_since(self, client, session):
        """A done note says so, is told as measured now, and can be done again; twice the same cannot."""
        note = next(f for f in find("level", Measure(session)) if f.key.startswith("level:trim:") and f.changes)
        (path, wanted_db), *_ = note.changes.items()

        def ask():
            version = Session.objects.get(pk=session.pk).version
            body = {"step": "level", "key": note.key, "verdict": "do", "version": version}
            return client.post(f"/s/{session.pk}/decide", body, "application/json").status_code

        assert ask() == 200
        apply(session.pk, {path: wanted_db - 9.0}, step="level", title="by hand")
        session.refresh_from_db()
        shown = next(n for n in notes("level", session, Measure(session)) if n.finding.key == note.key)
        assert (shown.state, shown.changed) == ("done", True)
        assert ask() == 200
        session.refresh_from_db()
        again = [n for n in notes("level", session, Measure(session)) if n.finding.key == note.key]
        assert not any(n.changed for n in again)
        assert ask() == 400
        assert session.moves.count() == 3

    def test_a_note_without_a_change_cannot_be_done(self, session):
        """It can only be left."""
        finding = dataclasses.replace(find("lineup", Measure(session))[0], changes={})
        with pytest.raises(SettingsError, match="only be left"):
            accept(session.pk, finding)
        assert not Move.objects.exists()


class TestListening:
    """What `before` means for each step, and who is overtaken."""

    def test_without(self, session):
        """One step is taken out, the others stay."""
        plan = session.plan
        gated = plan.replace(
            mics=tuple(m.replace(tools=(Gate(on=True),), trim_db=3.0) for m in plan.mics),
            cuts=(Cut(at=5, shift=1),),
            paths=(usual.punch(),),
        )
        assert not without(gated, "clean").mics[0].tools[0].on
        assert without(gated, "clean").mics[0].trim_db == 3.0
        assert without(gated, "level").mics[0].trim_db == 0.0
        assert without(gated, "timing").cuts == ()
        assert without(gated, "blend").paths[0].mute
        assert without(gated, "print") == gated

    def test_overtaken(self):
        """The newest question of a page counts."""
        client = f"c{time.monotonic_ns()}"
        Asker(None, client, 3).begin()
        assert Asker(None, client, 2).overtaken()
        assert not Asker(None, client, 3).overtaken()

    def test_nobody_overtakes_another(self):
        """A high number without a name, or of another user's page of the same name, stops nobody else."""
        Asker(1, "", 10**9).begin()
        Asker(1, "page", 10**9).begin()
        assert not Asker(2, "", 1).overtaken()
        assert not Asker(2, "page", 1).overtaken()


class TestHitsByWhatTheyDependOn:
    """Hits belong to the audio and to whose mic it is."""

    def test_a_renamed_mic(self, session):
        """When a mic becomes another piece's, its hits are found anew; taken back, the old ones are there at once."""
        plan = session.plan
        before = recordings.hits_of(session, plan)
        tom = next(mic for mic in plan.mics if mic.piece == "tom1")
        renamed = plan.replace(mics=tuple(m.replace(piece="floor") if m is tom else m for m in plan.mics))
        assert recordings.found(session, renamed, plan.take) is None
        after = recordings.hits_of(session, renamed)
        assert "tom1" not in after
        assert len(after["floor"]) == len(before["tom1"])
        assert recordings.found(session, plan, plan.take) is not None
        assert list(after) == [piece for piece in PIECES if piece in after]

    def test_at_another_plan(self, session):
        """Measurements at another Plan share its hits where it changes none, and find their own where it does."""
        measure = Measure(session)
        louder = put(session.plan, {"kit.level_db": -3.0})
        assert measure.at(louder).hits is measure.hits
        first = measure.hits["kick"][0].time_s
        fewer = session.plan.replace(hit_changes=(HitChange(kind="remove", piece="kick", time_s=first),))
        assert len(measure.at(fewer).hits["kick"]) == len(measure.hits["kick"]) - 1

    def test_all_takes(self, session):
        """Every take's hits are found, and progress reaches its end."""
        shares = []
        recordings.find_all(session, shares.append)
        assert all(recordings.found(session, session.plan, take.key) is not None for take in session.takes.all())
        assert shares[-1] == pytest.approx(1.0)
        assert shares == sorted(shares)


class TestTexts:
    """Figures in notes are written as figures are."""

    def test_minus(self):
        """A true minus before figures, but not in ranges and names."""
        assert with_minus("at -24.8 dB (-3), kick-in, 6-48 dB") == "at −24.8 dB (−3), kick-in, 6-48 dB"
