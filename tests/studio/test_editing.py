"""Edits in time as services and pages make them: Moves that say what was done, files in and out, bad input told."""

import json

import numpy as np
import pytest
import soundfile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund.core.errors import ArkundError, SettingsError
from arkund.core.plan.plan import Tempo
from arkund.core.takes.comp import Part, parts
from arkund.core.takes.process import part_at
from arkund.core.takes.settings import CompSettings
from arkund.core.timing import midi
from arkund.core.timing.bars import bars_of
from arkund.core.timing.settings import QuantiseSettings
from arkund.studio.jobs import runner
from arkund.studio.services import comping, editing, moves, pictures, store, templates
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered
from tests.kits import small_kit
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db
ALL = QuantiseSettings(first_bar=0, last_bar=3)


@pytest.fixture
def on_grid(session):
    """The little kit with its bar lines where they are."""
    apply(session.pk, {"tempo.first_bar_s": 2.4}, step="timing", title="first bar")
    session.refresh_from_db()
    return session


@pytest.fixture(scope="module")
def takes_folder(tmp_path_factory):
    """Three takes of one part; the second begins 0.35 s later and lacks a mic, the third is shorter."""
    to = tmp_path_factory.mktemp("takes") / "Three Takes"
    drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Rm mono", "Ride", "T2", "FT", "HH")
    for number, (seed, late) in enumerate(((891, 0.0), (892, 0.35), (893, 0.0)), 1):
        kit = small_kit(
            seed=881,
            style="straight",
            bpm=120.0,
            bars=6,
            drop=drop,
            play_with={"floor_fills": False, "spread_ms": 4.0 * number},
        )
        (to / f"Take {number}").mkdir(parents=True)
        for name, audio in kit.audio.items():
            if number == 2 and name == "KD out":
                continue
            sound = np.concatenate([np.zeros(int(late * 48_000)), audio])[: -40_000 if number == 3 else None]
            soundfile.write(to / f"Take {number}" / f"{name}.wav", sound, 48_000, subtype="PCM_24")
        assert seed
    return to


class TestQuantise:
    """Bars to the grid as Moves."""

    def test_a_move_that_undo_takes_back(self, on_grid):
        """With its figures; the song's length and what is heard after the last edit stay."""
        before = on_grid.plan
        made, move = editing.quantise_session(on_grid, ALL)
        assert move.title == "Bars 1–4 to the 1/16 grid, 100 %"
        assert f"{made.moved} strokes moved" in move.measured
        on_grid.refresh_from_db()
        measure = Measure(on_grid)
        length = measure.recordings.length("take-1")
        start = on_grid.plan.cuts[-1].at + on_grid.plan.cuts[-1].shift + 5000
        a, b = (rendered(plan, measure.recordings, (start, length), "alone:sn-top") for plan in (before, on_grid.plan))
        assert np.array_equal(a, b)
        moves.undo(on_grid.pk)
        on_grid.refresh_from_db()
        assert on_grid.plan == before

    def test_bar_lines_that_nobody_set(self, session):
        """Are taken from the hits first; once set, they stay."""
        move = editing.settle_bar_lines(session)
        assert "Tempo map of the hits" in move.title
        session.refresh_from_db()
        assert session.plan.tempo.bpm == pytest.approx(120.0, abs=0.2)
        assert session.plan.tempo.first_bar_s % 0.5 == pytest.approx(0.4, abs=0.02)
        assert editing.settle_bar_lines(session) is None

    def test_nothing_to_do_makes_no_move(self, on_grid):
        """Twice is once."""
        editing.quantise_session(on_grid, ALL)
        on_grid.refresh_from_db()
        assert editing.quantise_session(on_grid, ALL)[1] is None

    def test_one_stroke(self, on_grid):
        """By hand, heard where it was sent."""
        hit = Measure(on_grid).hits["snare"][2]
        editing.move_one(on_grid, hit.time_s, 5.0)
        on_grid.refresh_from_db()
        assert Measure(on_grid).heard_hits["snare"][2].time_s == pytest.approx(hit.time_s + 0.005, abs=3e-5)

    @pytest.mark.parametrize(
        ("given", "said"),
        [
            ({"first_bar": 4, "last_bar": 2}, "lies before the first"),
            ({"pieces": ("gong",)}, "unknown piece 'gong'"),
            ({"groove_first": 3}, "first and its last bar"),
            ({"strength": 130.0}, "outside 0 to 100"),
        ],
    )
    def test_bad_settings(self, given, said):
        """Name what and the range."""
        with pytest.raises(SettingsError, match=said):
            QuantiseSettings(**{"first_bar": 0, "last_bar": 3} | given)


class TestFiles:
    """Hits and tempo maps out and in."""

    @pytest.mark.parametrize("ending", ["mid", "csv", "json"])
    def test_there_and_back(self, on_grid, tmp_path, ending):
        """What was written is known already when it is read; one hit more is one more."""
        path = tmp_path / f"hits.{ending}"
        measure = Measure(on_grid)
        count = editing.export(measure, path)
        assert count == sum(map(len, measure.hits.values()))
        assert editing.take_in_hits(on_grid, path) == (0, None)
        apply(
            on_grid.pk,
            {"hit_changes": [{"kind": "remove", "piece": "kick", "time_s": measure.hits["kick"][1].time_s}]},
            step="load",
            title="gone",
        )
        on_grid.refresh_from_db()
        new, move = editing.take_in_hits(on_grid, path)
        assert new == 1
        assert path.name in move.title

    @pytest.mark.parametrize(
        ("name", "text", "said"),
        [
            ("a.csv", "time\n1.0\n", "line 1 must name"),
            ("a.csv", "piece,time_s\nkick,1.0\ngong,2.0\n", "line 3: unknown piece 'gong'"),
            ("a.csv", "piece,time_s\nkick,soon\n", "line 2: time_s 'soon' is no number"),
            ("a.csv", "piece,time_s\nkick,900\n", "after the end of the recording"),
            ("a.csv", "piece,time_s\n", "holds no hit"),
            ("a.json", "[1, 2]", "expected hits as"),
            ("a.mid", "no midi", "not a Standard MIDI"),
        ],
    )
    def test_bad_files(self, on_grid, tmp_path, name, text, said):
        """What and where; nothing is changed."""
        (tmp_path / name).write_text(text)
        version = on_grid.version
        with pytest.raises(ArkundError, match=said):
            editing.take_in_hits(on_grid, tmp_path / name)
        on_grid.refresh_from_db()
        assert on_grid.version == version

    def test_too_many_hits(self, on_grid, tmp_path):
        """A hundred thousand are told, and not taken."""
        (tmp_path / "many.csv").write_text("piece,time_s\n" + "kick,1.0\n" * 100_000)
        with pytest.raises(SettingsError, match="holds 100000 hits"):
            editing.take_in_hits(on_grid, tmp_path / "many.csv")

    def test_tempo_of_a_midi_file(self, tmp_path):
        """With its sections; a file without a tempo says so."""
        midi.write(tmp_path / "map.mid", {}, Tempo(bpm=93.5, first_bar_s=1.0), (), 20.0)
        changes = editing.tempo_of_midi(editing.read_midi(tmp_path / "map.mid"), "map.mid")
        assert Tempo.from_json(changes["tempo"]).bpm == pytest.approx(93.5, abs=1e-3)
        with pytest.raises(SettingsError, match="names no tempo"):
            editing.tempo_of_midi(midi.MidiSong(None, (), {}, ()), "map.mid")

    def test_a_map_shorter_than_the_song(self, on_grid):
        """Goes on in its last tempo, so that every hit has a bar."""
        apply(
            on_grid.pk,
            {"tempo": {"bpm": 120.0, "first_bar_s": 2.4, "changes": [{"bar": 1, "bpm": 100.0}]}},
            step="timing",
            title="short",
        )
        on_grid.refresh_from_db()
        assert editing.last_bar(Measure(on_grid)) >= 3

    def test_a_recording_that_is_no_click(self, folder):
        """Is told."""
        with pytest.raises(ArkundError, match="not a click"):
            editing.tempo_of_click(folder / "OH L.wav", Tempo())


class TestTakes:
    """Three takes joined."""

    @pytest.fixture
    def three(self, db, takes_folder):
        session = import_folder(takes_folder, bpm=120.0)
        apply(session.pk, {"tempo.first_bar_s": 2.4}, step="timing", title="first bar")
        session.refresh_from_db()
        return session

    @pytest.fixture
    def takes(self, three):
        return comping.comp_of(three)

    def test_offsets_and_scores(self, takes):
        """The late take is found out; the tighter take scores higher."""
        assert takes.offsets_s["take-2"] == pytest.approx(0.35, abs=0.004)
        means = {key: np.mean([row.score for row in mine]) for key, mine in takes.scores().items()}
        assert means["take-1"] > means["take-3"]

    def test_bars_of_another_take(self, three, takes):
        """Hits and sound come from there, in the time of the song; the missing mic is silent there."""
        plan = takes.with_bars(takes.plan, 2, 3, "take-2", 2.0)
        assert parts(plan, 6, 48_000) == [
            Part("take-1", 0, 1), Part("take-2", 2, 3), Part("take-1", 4, 5)
        ]  # fmt: skip
        move = comping.keep(three, takes.plan, plan, "Bars 3–4", "")
        three.refresh_from_db()
        measure = Measure(three)
        inside = [h.time_s for h in measure.hits["snare"] if 6.5 < h.time_s < 10.3]
        other = [h.time_s - 0.35 for h in takes.hits["take-2"]["snare"] if 6.85 < h.time_s < 10.65]
        assert inside == pytest.approx(other, abs=0.004)
        quiet = rendered(three.plan, measure.recordings, (7 * 48_000, 10 * 48_000), "alone:kd-out")
        assert not quiet.any()
        drawn = np.frombuffer(pictures.peaks(three, "kd-out", 256)[0], np.int8)
        a, b = (int(2 * second * 48_000 / 256) for second in (7, 10))
        assert not drawn[a:b].any()
        assert drawn[:a].any()
        assert move.step == "takes"

    def test_a_loop(self, takes):
        """Bars 1 and 2 again in the place of 3 and 4."""
        plan = takes.with_bars(takes.plan, 2, 3, "take-1", 2.0, from_bar=0)
        (there, back) = plan.joins
        assert there.at - there.from_at == pytest.approx(4.0 * 48_000, abs=1)
        assert back.at == back.from_at

    @pytest.mark.parametrize(("later_s", "edits"), [(-0.004, 0), (-0.4, 1)])
    def test_a_take_that_begins_later(self, takes, later_s, edits):
        """Keeps its time, and is no edit where the song begins with it; two parts of it beside each other are one."""
        takes.offsets_s["take-2"] = later_s
        late = -round(later_s * takes.rate)
        begun = takes.with_bars(takes.plan, 2, 3, "take-2", 2.0)
        plan = takes.with_bars(begun, 0, 1, "take-2", 2.0)
        assert [(join.take, join.at - join.from_at) for join in plan.joins] == [("take-2", late), ("take-1", 0)]
        assert len(takes.seams(plan)) == edits + 1
        takes.offsets_s["take-2"] = -20.0
        with pytest.raises(SettingsError, match="begins only after bar 1"):
            takes.with_bars(takes.plan, 0, 0, "take-2", 2.0)

    def test_a_proposal_leaves_what_was_chosen_by_hand(self, three, takes):
        """Those bars sound as they did, to the sample; others are joined as they score best."""
        worst = takes.plan.replace(take="take-3")
        takes = comping.comp_of(three, worst)
        chosen = takes.with_chosen(takes.with_bars(worst, 1, 2, "take-3", 2.0, from_bar=4), 1, 2, "take-3")
        takes = comping.comp_of(three, chosen)
        plan = takes.proposal(CompSettings(most_joins=6, join_costs=0.0))
        assert plan.joins != chosen.joins
        rate, lines = takes.rate, bars_of(plan.tempo)
        for at in np.linspace(lines.start_s(1) + 0.2, lines.start_s(3) - 0.2, 9):
            now, was = (part_at(each, round(at * rate)) for each in (plan, chosen))
            assert (now.take, now.at - now.from_at) == (was.take, was.at - was.from_at)
        assert comping.comp_of(three, plan).by_hand(plan) == {1: "take-3", 2: "take-3"}

    @pytest.mark.long
    def test_a_proposal_keeps_to_its_joins(self, three, takes):
        """And edits of the former performance are set aside with a word."""
        takes = comping.comp_of(three, takes.plan.replace(take="take-3"))  # the worst of them
        plan = takes.proposal(CompSettings(most_joins=2, join_costs=0.0))
        assert 0 < len(plan.joins) <= 2
        apply(three.pk, {"cuts": [{"at": 5, "shift": 3}]}, step="timing", title="cut")
        three.refresh_from_db()
        move = comping.keep(three, three.plan, three.plan.replace(joins=plan.joins), "best bars", "2 joins.")
        assert "set aside" in move.measured
        three.refresh_from_db()
        assert three.plan.cuts == ()

    def test_a_join_moved(self, takes):
        """To another stroke, still in step with its take."""
        plan = takes.with_bars(takes.plan, 3, 5, "take-2", 2.0)
        moved = takes.with_join_moved(plan, 0)
        assert moved.joins[0].at != plan.joins[0].at
        assert moved.joins[0].at - moved.joins[0].from_at == plan.joins[0].at - plan.joins[0].from_at

    def test_unknown_take(self, takes):
        """Lists the known ones."""
        with pytest.raises(SettingsError, match="take-1, take-2, take-3"):
            takes.with_bars(takes.plan, 0, 1, "take-9", 2.0)

    def test_other_mics_and_lengths_are_said(self, three, takes):
        """What a take lacks stands in its import."""
        assert any("KD out" in w and "Take 2" in w for w in three.warnings)


class TestPages:
    """The pages' requests."""

    def post(self, client, session, path, **body):
        session.refresh_from_db()
        data = {"version": session.version, **body}
        return client.post(f"/s/{session.pk}/{path}", json.dumps(data), content_type="application/json")

    def test_strokes_lines_and_takes(self, client, on_grid):
        """Each is one Move and says what it did."""
        at = Measure(on_grid).hits["kick"][1].time_s
        assert self.post(client, on_grid, "stroke", time_s=at, by_ms=-2).json()["title"].endswith("−2.0 ms")
        assert self.post(client, on_grid, "line", bar=2, time_s=6.41).status_code == 200
        assert (
            self.post(
                client, on_grid, "comp", action="use", take="take-1", first_bar=1, last_bar=1, from_bar=0
            ).status_code
            == 200
        )
        assert len(client.get(f"/s/{on_grid.pk}/takes/data").json()["chart"]["joins"]) == 2

    @pytest.mark.parametrize(
        ("path", "body"),
        [
            ("stroke", {"time_s": "x", "by_ms": 1}),
            ("stroke", {"time_s": 1.0, "by_ms": 900}),
            ("line", {"bar": 1, "time_s": 99.0}),
            ("comp", {"action": "dance"}),
            ("comp", {"action": "use", "take": "take-1", "first_bar": 3, "last_bar": 1}),
            ("comp", {"action": "use", "take": "take-1", "first_bar": 0, "last_bar": 1, "from_bar": "2"}),
            ("comp", {"action": "use", "take": "take-7", "first_bar": 0, "last_bar": 1}),
            ("quantise", {"settings": {"first_bar": 0, "last_bar": 1, "method": "glue"}}),
        ],
    )
    def test_bad_requests(self, client, on_grid, path, body):
        """Are refused in a sentence."""
        answer = self.post(client, on_grid, path, **body)
        assert answer.status_code == 400
        assert len(answer.json()["error"]) > 10

    def test_files(self, client, on_grid, monkeypatch):
        """Out by address, in by upload, as a job that ends with a Move or a sentence; nothing of the upload stays once nobody wants it."""
        monkeypatch.setattr(runner, "_submit", lambda job: runner.run(job.pk))
        data = b"".join(client.get(f"/s/{on_grid.pk}/hits.mid"))
        assert data[:4] == b"MThd"

        def taken_in(content: bytes, what: str) -> dict:
            given = {"file": SimpleUploadedFile("song.mid", content), "what": what}
            return client.get(f"/jobs/{client.post(f'/s/{on_grid.pk}/take-in', given).json()['job']}").json()

        before = client.get(f"/s/{on_grid.pk}/timing/data").json()["version"]
        assert "Tempo map of song.mid: it is so already" in taken_in(data, "tempo")["result"]["said"]
        assert client.get(f"/s/{on_grid.pk}/timing/data").json()["version"] == before
        apply(on_grid.pk, {"tempo.bpm": 99.0}, step="timing", title="slower")
        assert taken_in(data, "tempo")["result"]["title"] == "Tempo map of song.mid"
        assert list(store.incoming_folder().iterdir()) == []
        failed = taken_in(b"nothing", "hits")
        assert (failed["state"], failed["message"]) == ("failed", "song.mid: is not a Standard MIDI File.")
        assert client.post(f"/jobs/{failed['id']}/dismiss").json() == {"dismissed": True}
        assert list(store.incoming_folder().iterdir()) == []
        given = {"file": SimpleUploadedFile("song.mid", data), "what": "dance"}
        assert client.post(f"/s/{on_grid.pk}/take-in", given).status_code == 400

    def test_one_moment_in_all_mics(self, client, on_grid):
        """As recorded and as edited, the same before any edit."""
        view = client.get(f"/s/{on_grid.pk}/around?at=4.9").json()
        assert len(view["rows"]) == len(on_grid.plan.mics)
        assert all(row["before"] == row["after"] for row in view["rows"])
        assert client.get(f"/s/{on_grid.pk}/around?at=soon").status_code == 400

    def test_null_test(self, client, on_grid):
        """A path against itself leaves nothing."""
        found = client.get(f"/s/{on_grid.pk}/null?a=strip:sn-top&b=strip:sn-top").json()
        assert found["left_db"] <= -100
        assert client.get(f"/s/{on_grid.pk}/null?a=strip:x&b=kit").status_code == 400


class TestTemplates:
    """Kept from one session, the start of another."""

    def test_kept_and_started_from(self, client, on_grid, folder):
        """By the page's request; the new session's Move says where it comes from."""
        apply(on_grid.pk, {"mics.kd-in.tools.gate.threshold_db": -33.0}, step="clean", title="gate")
        on_grid.refresh_from_db()
        data = {"version": on_grid.version, "name": "Dry room"}
        answer = client.post(f"/s/{on_grid.pk}/template", json.dumps(data), content_type="application/json")
        assert "Dry room" in answer.json()["said"]
        assert b"Dry room" in client.get("/").content
        other = import_folder(folder, bpm=120.0, name="Other")
        move = templates.start_from(other, templates.named("Dry room"))
        other.refresh_from_db()
        assert other.plan.mic("kd-in").first("gate").threshold_db == -33.0
        assert not other.plan.mic("kd-in").first("gate").on
        assert "Dry room" in move.title

    def test_unknown_name(self, on_grid):
        """Lists the known ones."""
        templates.keep(on_grid, "Big hall")
        with pytest.raises(SettingsError, match="Big hall"):
            templates.named("Small hall")

    def test_named_anew_and_deleted(self, client, on_grid):
        """From the start page; a name that is taken is refused and changes nothing."""
        first, second = (templates.keep(on_grid, name) for name in ("Big hall", "Dry room"))

        def renamed(name):
            return client.post(
                f"/templates/{second.pk}/rename", json.dumps({"name": name}), content_type="application/json"
            )

        assert renamed("Wet room").json() == {"name": "Wet room"}
        taken = renamed("Big hall")
        assert (taken.status_code, "Big hall" in taken.json()["error"]) == (400, True)
        assert renamed(" ").status_code == 400
        assert client.post(f"/templates/{first.pk}/remove").status_code == 302
        page = client.get("/").content
        assert b"Wet room" in page
        assert b"Big hall" not in page
        assert client.post(f"/templates/{first.pk}/remove").status_code == 404


class TestMeter:
    """Counted as it is played, or as it is told."""

    @pytest.mark.long
    def test_a_song_in_three(self, tmp_path):
        """Imported without a word about it: the first tempo map counts it in three, with its doubt in the logbook; by hand it is counted otherwise."""
        drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Ride", "T2", "FT", "KD out", "Snr btm", "Rm mono")
        kit = small_kit(seed=972, style="three", bpm=126.0, bars=12, drop=drop)
        (tmp_path / "take").mkdir()
        for name, audio in kit.audio.items():
            soundfile.write(tmp_path / "take" / f"{name}.wav", audio, kit.sample_rate_hz, subtype="PCM_24")
        session = import_folder(tmp_path / "take")
        assert editing.settle_untold(session, 126.0) is None  # what was typed stands
        move = editing.settle_untold(session, None)
        session.refresh_from_db()
        tempo = session.plan.tempo
        assert (tempo.beats_per_bar, tempo.beat_unit) == (3, 4)
        assert tempo.bpm == pytest.approx(126.0, abs=0.1)
        assert "3/4 by where kick and snare fall" in move.measured
        client = Client()
        answer = client.post(
            f"/s/{session.pk}/tempo", {"version": session.version, "meter": "4/4"}, content_type="application/json"
        )
        assert answer.status_code == 200
        session.refresh_from_db()
        assert session.plan.tempo.beats_per_bar == 4
        for wrong in ("0/4", "four", "4/0", "99/99"):
            given = {"version": session.version, "meter": wrong}
            assert client.post(f"/s/{session.pk}/tempo", given, content_type="application/json").status_code == 400
