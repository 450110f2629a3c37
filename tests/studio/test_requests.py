"""Whatever is sent to whatever address is answered, never with an error of the server."""

import copy
import json
import logging

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund.core.settings import DEEPEST, read_json
from arkund.studio.jobs import runner
from arkund.studio.models import Job
from arkund.studio.services import store
from tests.reliability.bodies import STRANGE, valid_bodies

pytestmark = pytest.mark.django_db


@pytest.fixture
def client(monkeypatch):
    """A page; the jobs that it starts wait, and what the server logs of refusals is not shown."""
    monkeypatch.setattr(runner, "_submit", lambda job: None)
    logging.disable(logging.CRITICAL)
    yield Client(raise_request_exception=False)
    logging.disable(logging.NOTSET)


def places(node, path=()):
    """Give the path of every value in plain data, inner ones too."""
    for key in node if isinstance(node, dict) else range(len(node)):
        yield (*path, key)
        if isinstance(node[key], (dict, list)):
            yield from places(node[key], (*path, key))


def with_value(body: dict, path: tuple, value) -> dict:
    out = copy.deepcopy(body)
    node = out
    for key in path[:-1]:
        node = node[key]
    node[path[-1]] = value
    return out


class TestJson:
    """Every address that takes JSON."""

    @pytest.mark.parametrize("every", [9, pytest.param(1, marks=pytest.mark.long)])
    def test_wrong_values_at_every_place(self, session, client, every):
        """Each value of each valid body in turn is replaced by a ninth of the strange ones, or by all: a sentence, or it is taken."""
        faults, asked = [], 0
        for name, body in valid_bodies(0).items():
            for number, path in enumerate(places(body)):
                for value in STRANGE[number % every :: every]:
                    spoiled = json.dumps(with_value(body, path, value))
                    answer = client.post(f"/s/{session.pk}/{name}", spoiled, "application/json")
                    asked += 1
                    if answer.status_code >= 500 and answer.status_code != 503:
                        faults.append((name, path, repr(value)[:40], answer.status_code))
        assert asked > 900 // every
        assert faults == []

    @pytest.mark.parametrize(
        "body",
        [
            '{"time_s": 1e308, "by_ms": 3.0, "version": 0}',
            '{"time_s": 1e999, "by_ms": 3.0, "version": 0}',
            '{"time_s": ' + "9" * 400 + ', "by_ms": 3.0, "version": 0}',
            '{"time_s": ' + "9" * 5000 + ', "by_ms": 3.0, "version": 0}',
            "[" * 100_000,
            '{"a":' * 900 + "1" + "}" * 900,
        ],
    )
    def test_numbers_beyond_all_bounds(self, session, client, body):
        """Too large for a float, for an integer of the database, for the parser; nested beyond the interpreter."""
        for name in ("stroke", "hit", "moves", "audition"):
            assert client.post(f"/s/{session.pk}/{name}", body, "application/json").status_code == 400

    @pytest.mark.parametrize("value", [1e308, -1e308, 10**18])
    def test_moved_beyond_the_song(self, session, client, value):
        """A time that no recording has."""
        body = {"change": {"kind": "add", "piece": "kick", "time_s": value}, "version": 0}
        assert client.post(f"/s/{session.pk}/hit", body, "application/json").status_code == 400

    @pytest.mark.parametrize("path", ["mics.²", "mics.٣", "mics.-1", "mics..", "..", "mics.0.0.0", "cuts.0"])
    def test_paths_that_lead_nowhere(self, session, client, path):
        """Digits that are no digits, and steps that do not exist."""
        body = {"changes": {path: 1.0}, "version": 0, "step": "level"}
        assert client.post(f"/s/{session.pk}/moves", body, "application/json").status_code == 400


class TestForms:
    """What is typed beside an upload."""

    @pytest.mark.parametrize(
        ("field", "value", "words"),
        [
            ("bpm", "nan", "bpm"),
            ("bpm", "inf", "bpm"),
            ("bpm", "1e999", "bpm"),
            ("bpm", "0", "bpm"),
            ("bpm", "fast", "bpm"),
            ("meter", "0/0", "beats"),
            ("meter", "waltz", "meter"),
            ("template", "nobody's", "template"),
        ],
    )
    def test_refused_before_anything_is_kept(self, db, client, field, value, words):
        """A sentence, and no file stays."""
        files = SimpleUploadedFile("SN top.wav", b"RIFF")
        answer = client.post("/load", {"files": files, "paths": "Song/SN top.wav", field: value})
        assert answer.status_code == 400
        assert words in answer.json()["error"]
        assert list(store.incoming_folder().iterdir()) == []
        assert not Job.objects.exists()

    def test_names_keep_their_ending(self, db, client):
        """However long, in however many bytes."""
        names = ["x" * 150 + ".wav", "é" * 200 + ".flac", "😀" * 120 + ".wav", "." * 90 + "a.wav", "../../up.wav"]
        files = [SimpleUploadedFile("a.wav", b"RIFF") for _ in names]
        assert client.post("/load", {"files": files, "paths": [f"Song/{name}" for name in names]}).status_code == 200
        kept = sorted(path.name for path in store.incoming_folder().rglob("*.*"))
        assert len(kept) == len(names)
        assert all(name.endswith((".wav", ".flac")) and len(name.encode()) <= 204 for name in kept)

    def test_names_that_collide(self, db, client):
        """Two of one name, a file where another needs a folder, a folder where one needs a file: all are kept, numbered."""
        paths = [
            "Song/SN.wav",
            "Song/SN.wav",
            "Song/Take 1",
            "Song/Take 1/KD.wav",
            "Song/Take 1/SN.wav",
            "Song/OH/L.wav",
            "Song/OH",
        ]
        files = [SimpleUploadedFile("a.wav", str(k).encode()) for k, _ in enumerate(paths)]
        assert client.post("/load", {"files": files, "paths": paths}).status_code == 200
        (folder,) = store.incoming_folder().iterdir()
        kept = {str(path.relative_to(folder)): path.read_text() for path in folder.rglob("*") if path.is_file()}
        assert kept == {
            "Song/SN.wav": "0",
            "Song/SN-2.wav": "1",
            "Song/Take 1": "2",
            "Song/Take 1-2/KD.wav": "3",
            "Song/Take 1-2/SN.wav": "4",
            "Song/OH/L.wav": "5",
            "Song/OH-2": "6",
        }

    def test_a_folder_that_may_not_be_written_to(self, db, client, settings, tmp_path):
        """The upload cannot even be received: said in a sentence."""
        settings.FILE_UPLOAD_TEMP_DIR = tmp_path / "gone"
        answer = client.post("/load", {"files": SimpleUploadedFile("a.wav", b"RIFF"), "paths": "a.wav"})
        assert answer.status_code == 507
        assert "disk refused" in answer.json()["error"]

    def test_a_body_that_is_no_upload(self, db, client):
        """Whatever it is instead."""
        for body in (
            b"x" * 300_000,
            b"--b\r\n",
            b"--b\r\nContent-Disposition: form-data; name=files; filename=a.wav\r\n\r\nRIFF",
        ):
            answer = client.post("/load", body, "multipart/form-data; boundary=b")
            assert answer.status_code == 400
            assert len(answer.json()["error"]) > 10

    def test_more_than_a_user_may_keep(self, session, client, settings, django_user_model):
        """Refused with both figures; the keeper's are not counted."""
        settings.LOGIN_REQUIRED = True
        anna = django_user_model.objects.create_user("anna", password="a longer word")
        session.members.add(anna)
        settings.QUOTA_BYTES = 10
        client.force_login(anna)
        upload = {"files": SimpleUploadedFile("a.wav", b"RIFF"), "paths": "a.wav"}
        answer = client.post("/load", upload)
        assert answer.status_code == 507
        assert "you may keep" in answer.json()["error"]
        assert list(store.incoming_folder().iterdir()) == []


class TestReadJson:
    """The only way in which JSON comes in."""

    def test_depth(self):
        """As deep as it says, and no deeper."""
        assert read_json("[" * DEEPEST + "]" * DEEPEST)
        with pytest.raises(ValueError, match="nested deeper"):
            read_json("[" * (DEEPEST + 1) + "]" * (DEEPEST + 1))

    @pytest.mark.parametrize("word", ["1e999", "-1e999", "9" * 30, "-" + "9" * 30, "NaN", "Infinity"])
    def test_what_nothing_can_store(self, word):
        """Numbers that are none, or too large."""
        with pytest.raises(ValueError, match="not JSON"):
            read_json(word)

    def test_what_it_keeps(self):
        """The largest whole number of the database, and everything usual."""
        assert read_json(f'[{2**62}, -1.5e-300, "é", null, {{"a": []}}]') == [2**62, -1.5e-300, "é", None, {"a": []}]
