"""The shelf as Moves: hits of the song, of files and of other sessions; in the place of others and under them; kept by archives."""

import itertools
import json

import numpy as np
import pytest
import soundfile

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files.library import forget_opened
from arkund.core.plan.plan import SHELF
from arkund.studio.models import MicRecording, Session, Take
from arkund.studio.pages import charts
from arkund.studio.services import (
    archiving,
    cleaning,
    comping,
    housekeeping,
    layering,
    listening,
    moves,
    shelf_files,
    shelving,
    taking_in,
)
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import rendered
from tests.studio.doing import apply, made

pytestmark = pytest.mark.django_db
RATE = 48_000


@pytest.fixture
def shots(tmp_path):
    """Return two one-shots of a snare: a strong one at 44.1 kHz in stereo, a soft one that begins late."""
    rng = np.random.default_rng(71)
    stroke = (rng.standard_normal(9000) * np.exp(-np.arange(9000) / 1500) * 0.2).astype(np.float32)
    soundfile.write(tmp_path / "Sn hard.wav", np.stack([stroke, stroke], 1), 44_100, subtype="FLOAT")
    soundfile.write(tmp_path / "Sn soft.flac", np.concatenate([np.zeros(777), stroke]), RATE)
    return [tmp_path / "Sn hard.wav", tmp_path / "Sn soft.flac"]


def fresh(session) -> Measure:
    return Measure(Session.objects.get(pk=session.pk))


class TestKept:
    """Hits of this song."""

    def test_kept_used_taken_off(self, session):
        """What is used stays; what is not used any more may go; nothing is copied."""
        m = made(session, shelving.capture(Measure(session), "snare"))
        before = MicRecording.objects.count()
        assert {c.piece for c in m.plan.captures} == {"snare"}
        first = m.plan.captures[0]
        weak = min(m.hits["snare"], key=lambda h: h.level_db)
        m = made(session, shelving.replace(m, "snare", weak.time_s, capture_id=first.id, everywhere=False))
        with pytest.raises(SettingsError, match="is used by 1 replaced hits"):
            shelving.remove(m.plan, first.id)
        m = made(session, shelving.put_back(m.plan, weak.time_s, m.rate))
        m = made(session, shelving.remove(m.plan, first.id))
        assert first.id not in {c.id for c in m.plan.captures}
        assert MicRecording.objects.count() == before

    def test_from_another_take(self, little, db, tmp_path):
        """Clean hits of a take that is not worked on: named by it, heard from it, each once; an unknown take is refused."""
        for number, first in (("Take 1", 0), ("Take 2", 7000)):
            (tmp_path / "two" / number).mkdir(parents=True)
            for name in ("KD in", "SN top"):
                audio = np.concatenate([np.zeros(first), little.audio[name]])
                soundfile.write(tmp_path / "two" / number / f"{name}.wav", audio, RATE, subtype="FLOAT")
        session = import_folder(tmp_path / "two", bpm=120.0)
        own = made(session, shelving.capture(Measure(session), "snare")).plan.captures
        m = made(session, shelving.capture(Measure(session), "snare", take="take-2"))
        others = m.plan.captures[len(own) :]
        assert {c.take for c in others} == {"take-2"}
        assert all(c.name.endswith("of Take 2") for c in others)
        assert len({c.id for c in m.plan.captures}) == len(m.plan.captures)
        for c in others:  # 7000 samples later in that take's recording, and the same sound
            heard = shelving.sound_of(m, c.id)
            played = little.audio["SN top"][c.at - 7000 : c.at - 7000 + c.length // 2]
            assert np.abs(heard[c.before : c.before + c.length // 2] - played).max() < 1e-4
        with pytest.raises(SettingsError, match="on it already"):
            shelving.capture(m, "snare", take="take-2")
        with pytest.raises(SettingsError, match="there is no 'take-9'"):
            shelving.capture(m, "snare", take="take-9")

    def test_what_was_put_there_is_a_hit(self, session):
        """It is seen, can be chosen and opens regions; levels and arrivals are measured without it, and taken away it is gone."""
        m = Measure(session)
        free_s = next(a.time_s + 0.3 for a, b in itertools.pairwise(m.hits["snare"]) if b.time_s - a.time_s > 0.8)
        levels, arrivals = m.levels(), m.arrivals()
        m = made(session, shelving.replace(m, "snare", free_s, everywhere=False))
        put = [h for h in m.hits["snare"] if h.placed]
        assert [h.time_s for h in put] == [pytest.approx(free_s, abs=1e-4)]
        drawn = charts.replace(m, "snare")["hits"]
        assert any(
            abs(time_s - free_s) < 1e-3 and level_db == pytest.approx(put[0].level_db, abs=0.01)
            for time_s, level_db, *_ in drawn
        )
        assert m.levels() == levels
        assert m.arrivals() == arrivals
        m = made(session, cleaning.set_way(m, "sn-top", "cut"))
        assert any(begin - 0.01 < free_s < end - 0.02 for begin, end in m.regions_s(m.plan.mic("sn-top")))
        m = made(session, shelving.put_back(m.plan, free_s, m.rate))
        assert not any(h.placed for h in m.hits["snare"])

    def test_a_weak_hit_is_replaced_in_all_mics(self, session):
        """Close mics and overheads have the other hit there, as strong as the usual one, and are the same elsewhere."""
        m = Measure(session)
        weak = min((h for h in m.hits["snare"] if h.time_s > 2.0), key=lambda h: h.level_db)
        at, span = round(weak.time_s * m.rate), (0, m.recordings.length(m.plan.take))
        before = {mic.id: m.sources.read(mic, *span) for mic in m.plan.mics}
        m = made(session, shelving.replace(m, "snare", weak.time_s))
        (placed,) = m.plan.placements
        for mic in m.plan.mics:
            after = m.sources.read(mic, *span)
            changed = np.flatnonzero(after != before[mic.id])
            assert changed.min() > at - 0.06 * m.rate, mic.id
            assert changed.max() < placed.at + placed.length + 0.06 * m.rate, mic.id
        top = m.sources.read(m.plan.mic("sn-top"), at - 500, at + 2000)
        assert np.abs(top).max() > 1.5 * np.abs(before["sn-top"][at - 500 : at + 2000]).max()

    def test_refused(self, session):
        """Nothing there, nothing that fits, nothing to put back."""
        m = Measure(session)
        for call, words in (
            (lambda: shelving.capture(m, "gong"), "no hit of 'gong'"),
            (lambda: shelving.capture(m, "snare", 900.0), "choose one in the picture"),
            (lambda: shelving.remove(m.plan, "gone"), "no hit 'gone'"),
            (lambda: shelving.put_back(m.plan, 3.0, m.rate), "nothing stands in the place"),
            (lambda: layering.add_hits(m, "snare", []), "shelf has no hits of snare"),
            (lambda: layering.add_hits(m, "snare", ["gone"]), "no hit 'gone'"),
            (lambda: layering.add_hits(m, "crash", []), "no hits of 'crash'"),
        ):
            with pytest.raises(SettingsError, match=words):
                call()


class TestFiles:
    """Hits that come from outside."""

    def test_taken_in(self, session, shots):
        """Rates and sides reconciled and said, first samples found, strengths by name; one Move, undone and done again."""
        move, told = taking_in.take_in(session, shots, "shelf", "snare")
        assert "stereo" in told
        assert "resampled from 44100 Hz" in told
        hard, soft = Session.objects.get(pk=session.pk).plan.captures
        assert (hard.name, soft.name) == ("Sn hard", "Sn soft")
        assert (hard.strength_db, soft.strength_db) == (0.0, -6.0)
        assert abs(soft.at - 777) <= 2
        assert hard.origin == "file Sn hard.wav"
        moves.undo(session.pk)
        assert not Session.objects.get(pk=session.pk).plan.captures
        moves.redo(session.pk)
        assert len(Session.objects.get(pk=session.pk).plan.captures) == 2
        assert move.number == 1
        assert session.takes.count() == 1  # the shelf is no take
        assert housekeeping.nobodys() == []

    @pytest.mark.parametrize("inverted", [False, True])
    @pytest.mark.parametrize("into", [False, True])
    def test_under_the_snare(self, session, shots, into, inverted):
        """Each first sample on the hit's to a twentieth of a millisecond, never weaker than the louder part, in either polarity of the mic."""
        apply(session.pk, {"mics.sn-top.line_up.inverted": inverted}, step="lineup", title="polarity")
        shelf_files.load(session, shots, "snare")
        m = fresh(session)
        without = layering.told(m, "snare")["sum_main_db"]
        m = made(session, layering.add_hits(m, "snare", [], into))
        told = layering.told(m, "snare")
        layer = next(mic for mic in m.plan.mics if mic.is_layer)
        louder = max([without, *([] if into else [told["strips"][layer.id]["main_db"]])])
        assert told["sum_main_db"] >= louder
        if into:
            return
        heard = rendered(m.plan, recordings_of(session), (0, m.recordings.length(m.plan.take)), f"strip:{layer.id}")
        hits = [h for h in m.hits["snare"] if not h.ghost]
        for h in hits[:6]:
            at = round(h.time_s * m.rate)
            size = np.abs(heard[at - 200 : at + 500])
            first = at - 200 + int(np.argmax(size > 0.1 * size.max()))
            assert abs(first / m.rate - h.time_s) <= 0.00005

    def test_back_beats_only(self, session, shots):
        """From a strength on: ghosts are left as they are."""
        shelf_files.load(session, shots[:1], "snare")
        m = made(session, layering.add_hits(fresh(session), "snare", []))
        apply(session.pk, {"mics.snare-hits.sampled.least_db": -8.0}, step="replace", title="strong ones")
        m = fresh(session)
        heard = rendered(m.plan, recordings_of(session), (0, m.recordings.length(m.plan.take)), "strip:snare-hits")
        usual = sorted(h.level_db for h in m.hits["snare"] if not h.ghost)
        usual = usual[len(usual) // 2]
        for h in m.hits["snare"]:
            at = round(h.time_s * m.rate)
            assert (np.abs(heard[at : at + 200]).max() > 1e-4) == (h.level_db >= usual - 8.0)

    def test_through_and_back(self, session, shots):
        """Through a mic and as a strip of its own it adds the same to the drum."""
        changes = {"mics.sn-top.trim_db": -4.0, "mics.sn-top.line_up.delay_ms": 1.5}
        apply(session.pk, changes, step="level", title="set")
        shelf_files.load(session, shots, "snare")
        m = made(session, layering.add_hits(fresh(session), "snare", []))
        span = (0, m.recordings.length(m.plan.take))
        both = lambda m: sum(
            rendered(m.plan, recordings_of(session), span, f"strip:{mic.id}").astype(float) * 10 ** (mic.level_db / 20)
            for mic in m.plan.standing
            if mic.piece == "snare"
        )
        apart = both(m)
        m = made(session, layering.through(m, "snare-hits", "sn-top"))
        assert m.plan.mic("snare-hits").into == "sn-top"
        assert np.abs(both(m) - apart).max() < 1e-5
        m = made(session, layering.through(m, "snare-hits", ""))
        assert np.abs(both(m) - apart).max() < 1e-5

    def test_prints_archives_and_listening(self, session, shots, tmp_path):
        """Two prints are the same bytes, a restored session prints them again, before the step is without it, doctor finds nothing."""
        shelf_files.load(session, shots, "snare")
        m = made(session, layering.add_hits(fresh(session), "snare", []))
        m = made(session, shelving.replace(m, "snare", m.hits["snare"][3].time_s, capture_id=m.plan.captures[0].id))
        session.refresh_from_db()
        prints = [print_session(session, tmp_path / name) for name in ("one", "two")]
        digests = [{each["file"]: each["blake3"] for each in row["files"]} for row in prints]
        assert digests[0] == digests[1]
        archiving.archive(session, tmp_path / "song.zip")
        back = archiving.restore(tmp_path / "song.zip", name="Back")
        assert {each["file"]: each["blake3"] for each in print_session(back, tmp_path / "three")["files"]} == digests[0]
        bare = listening.without(session.plan, "replace")
        heard = [rendered(plan, recordings_of(session), (0, 4 * RATE), "drum:snare") for plan in (bare, session.plan)]
        assert not np.array_equal(*heard)
        first = import_folder_like(session)
        assert np.array_equal(heard[0], rendered(first, recordings_of(session), (0, 4 * RATE), "drum:snare"))

    @pytest.mark.parametrize(
        ("write", "words"),
        [
            (lambda p: p.write_bytes(b""), "the file is empty"),
            (lambda p: p.write_bytes(b"RIFF" * 50), "not a readable WAV"),
            (lambda p: soundfile.write(p, np.zeros(9000), RATE), "is silent"),
            (lambda p: soundfile.write(p, np.full(9000, np.nan), RATE, subtype="FLOAT"), "is silent"),
            (lambda p: soundfile.write(p, np.ones(30 * RATE), RATE), "is 30 s long"),
            (lambda p: soundfile.write(p, np.ones((9000, 4)), RATE), "has 4 channels"),
        ],
    )
    def test_bad_files(self, session, shots, tmp_path, write, words):
        """Said with the file's name; the good ones beside it are not taken either, and nothing is left behind."""
        write(tmp_path / "bad.wav")
        with pytest.raises(AudioError, match=words):
            shelf_files.load(session, [*shots, tmp_path / "bad.wav"], "snare")
        assert not Session.objects.get(pk=session.pk).plan.captures
        assert not Take.everything.filter(kind=Take.SHELF).exists()

    def test_a_plan_names_only_what_is_there(self, session, shots):
        """A hit whose file this session does not have is refused."""
        shelf_files.load(session, shots, "snare")
        rows = [c.to_json() for c in Session.objects.get(pk=session.pk).plan.captures]
        rows[0]["parts"][0]["key"] = "0" * 40
        with pytest.raises(SettingsError, match="the shelf of this session has no recording"):
            apply(session.pk, {"captures": rows}, step="replace", title="a ghost")


def import_folder_like(session):
    """Return a session's Plan without its shelf and layers."""
    plan = session.plan
    return plan.replace(mics=tuple(m for m in plan.mics if not m.is_layer), captures=(), placements=())


class TestOtherSessions:
    """A shelf that goes on."""

    def test_folder_and_session(self, session, shots, tmp_path, folder):
        """Hits of the song leave with the sound of their mics, files as they are; another session plays them."""
        made(session, shelving.capture(Measure(session), "snare"))
        shelf_files.load(session, shots, "snare")
        session.refresh_from_db()
        count = shelf_files.save(session, tmp_path / "shelf")
        told = json.loads((tmp_path / "shelf" / "shelf.json").read_text())["hits"]
        assert count == len(told) == len(session.plan.captures)
        assert {each["role"] for each in told[0]["files"]} == {"top", "bottom"}
        other = import_folder(folder, bpm=120.0)
        shelf_files.load(other, [tmp_path / "shelf" / "shelf.json"], "")
        third = import_folder(folder, bpm=120.0)
        shelf_files.take_over(third, session)
        for mine in (other, third):
            m = fresh(mine)
            assert [c.level_db for c in m.plan.captures] == [c.level_db for c in session.plan.captures]
            assert all(c.take == SHELF for c in m.plan.captures)
            own = shelving.sound_of(Measure(session), session.plan.captures[0].id)
            theirs = shelving.sound_of(m, m.plan.captures[0].id)
            assert np.allclose(own[200:-3000], theirs[200 : own.size - 3000], atol=1e-6)
            bottom = m.plan.mic("snr-btm")
            m = made(mine, shelving.replace(m, "snare", m.hits["snare"][2].time_s, capture_id=m.plan.captures[0].id))
            assert not np.array_equal(
                m.sources.read(bottom, 0, 7 * RATE), Measure(session).sources.read(bottom, 0, 7 * RATE)
            )
        with pytest.raises(SettingsError, match="has no hits on its shelf"):
            shelf_files.take_over(session, import_folder(folder, bpm=120.0))

    def test_another_performance(self, session, shots):
        """What belongs to the former one is set aside: its hits, and what opens layers and cuts mics; files stay."""
        made(session, shelving.capture(Measure(session), "snare"))
        shelf_files.load(session, shots, "snare")
        m = made(session, layering.add_hits(fresh(session), "snare", []))
        made(session, layering.add(m, "kick", "sine"))
        session.refresh_from_db()
        changes = comping.set_aside(session.plan)
        apply(session.pk, changes, step="takes", title="another take")
        plan = Session.objects.get(pk=session.pk).plan
        assert all(c.parts for c in plan.captures)
        assert [mic.strikes for mic in plan.mics if mic.is_layer] == [(), ()]
        assert len(next(mic for mic in plan.mics if mic.sampled).sampled.shots) == 2

    def test_a_lost_file_is_said(self, session, shots):
        """The doctor's sentence, not a crash."""
        shelf_files.load(session, shots, "snare")
        m = fresh(session)
        key = m.plan.captures[0].parts[0].key
        from arkund.studio.services import store

        store.audio_path(MicRecording.objects.get(mic=key).digest).unlink()
        forget_opened()
        with pytest.raises(AudioError, match="arkund doctor"):
            shelving.sound_of(m, m.plan.captures[0].id)


def test_the_command_line(session, shots, capsys, tmp_path):
    """Kept, listed, loaded, laid, through a mic, replaced, put back, saved, taken off."""
    from arkund.studio.cli.main import main

    run = lambda *words: (main(list(words), standalone_mode=False), capsys.readouterr().out)[1]
    number = str(session.pk)
    assert "Kept" in run("shelf", "keep", number, "snare")
    assert "2 hits of snare from files" in run("shelf", "load", number, "snare", *map(str, shots))
    told = json.loads(run("shelf", "list", number, "--json"))["hits"]
    files = [each["id"] for each in told if each["at_s"] is None]
    assert len(files) == 2
    run("layer", "add", number, "hits", "--piece", "snare", "--of", files[0], "--of", files[1])
    assert "through" in run("layer", "through", number, "snare-hits", "sn-top")
    assert "2 hits of the shelf" in run("layer", "list", number, "--piece", "snare")
    session.refresh_from_db()
    at = f"{Measure(session).hits['snare'][2].time_s:.4f}"
    assert "replaced by" in run("shelf", "replace", number, "snare", at, "--by", files[0], "--own-mics", "--as-played")
    assert "as it was played" in run("shelf", "back", number, at)
    assert "hits in" in run("shelf", "save", number, str(tmp_path / "out"))
    kept = next(each["id"] for each in told if each["at_s"] is not None)
    assert "off the shelf" in run("shelf", "off", number, kept)
