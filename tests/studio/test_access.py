"""With logins, a stranger gets nothing and a user only what is theirs."""

import pytest
from django.contrib.auth import get_user_model
from django.test import Client
from django.urls import URLPattern, get_resolver

from arkund.studio.jobs import runner
from arkund.studio.models import Job
from arkund.studio.services import templates

pytestmark = pytest.mark.django_db
OPEN_TO_ALL = {"login", "favicon.ico"}


@pytest.fixture
def logins(settings):
    """The application as it runs on an address that others reach."""
    settings.LOGIN_REQUIRED = True
    settings.MIDDLEWARE = [*settings.MIDDLEWARE, "django.contrib.auth.middleware.LoginRequiredMiddleware"]


def visitor(name: str, **more) -> Client:
    client = Client()
    client.force_login(get_user_model().objects.create_user(name, password="x", **more))
    return client


def addresses(session_id: int, job_id: int) -> list[str]:
    """Every address of the application, filled in for a session and a job."""
    values = {
        "session_id": session_id,
        "job_id": job_id,
        "print_id": 1,
        "template_id": 1,
        "name": "01 KD in.wav",
        "piece": "kick",
        "mic": "sn-top",
        "capture": "snare-1",
        "what": "drum",
        "sheet": "pitch",
        "path": "punch",
    }
    values |= {"block": 0, "level": 256, "key": "0" * 64, "output": "kit", "step": "load"}
    out = []
    for each in get_resolver().url_patterns:
        assert isinstance(each, URLPattern)
        route = str(each.pattern)
        if route.startswith("^"):
            out.append(f"/s/{session_id}/load/" + ("data" if "data" in route else ""))
            continue
        for name, value in values.items():
            for kind in ("int", "str", "slug", "mic"):
                route = route.replace(f"<{kind}:{name}>", str(value))
        assert "<" not in route, route
        out.append(f"/{route}")
    return out


class TestStranger:
    """Someone who is not logged in."""

    def test_gets_nothing(self, session, logins):
        """Every address leads to the login, whatever the method."""
        job = runner.Job.objects.create(kind="print", session=session)
        for address in addresses(session.pk, job.pk):
            if any(word in address for word in OPEN_TO_ALL):
                continue
            for method in (Client().get, Client().post):
                answer = method(address)
                assert answer.status_code == 302, address
                assert answer.url.startswith("/login/"), address


class TestUser:
    """Someone who is logged in, but has nothing to do with a session."""

    def test_other_templates_are_not_there(self, session, logins):
        """Nobody names or deletes another's starting points."""
        anna = visitor("anna")
        owner = get_user_model().objects.create_user("olga", password="a longer word")
        theirs = templates.keep(session, "Olga's room", owner.pk)
        assert b"Olga" not in anna.get("/").content
        assert anna.post(f"/templates/{theirs.pk}/rename", {"name": "mine"}, "application/json").status_code == 404
        assert anna.post(f"/templates/{theirs.pk}/remove").status_code == 404

    def test_other_sessions_are_not_there(self, session, logins):
        """No page, no sound, no job, no Move of another's session."""
        client = visitor("anna")
        job = Job.objects.create(kind="print", session=session, state=Job.FAILED)
        for address in addresses(session.pk, job.pk):
            if f"/s/{session.pk}/" in address or f"/jobs/{job.pk}" in address or "/remove" in address:
                codes = {client.get(address).status_code, client.post(address, {}, "application/json").status_code}
                assert codes <= {404, 405, 200}, address
                if 200 in codes:  # those that change rows answer what they changed: nothing
                    assert client.post(address).json() in ({"cancelled": False}, {"dismissed": False}), address
        assert session.name not in client.get("/").content.decode()
        assert client.get("/jobs").json() == {"jobs": []}
        session.refresh_from_db()
        assert session.version == 0

    def test_own_sessions_are(self, session, logins):
        """A member sees and works on the session; the keeper sees all."""
        client, keeper = visitor("ben"), visitor("cleo", is_staff=True)
        session.members.add(get_user_model().objects.get(username="ben"))
        for each in (client, keeper):
            assert session.name in each.get("/").content.decode()
            assert each.get(f"/s/{session.pk}/level/").status_code == 200

    def test_what_a_user_loads_is_theirs(self, folder, logins, monkeypatch):
        """The one who loads a recording is its first member."""
        monkeypatch.setattr(runner, "_submit", lambda job: runner.run(job.pk))
        client = visitor("dora")
        with (folder / "SN top.wav").open("rb") as file:
            job = client.post("/load", {"files": file, "paths": "Song/SN top.wav"}).json()["job"]
        row = client.get(f"/jobs/{job}").json()
        assert row["state"] == "done", row
        assert client.get(f"/s/{row['result']['session']}/load/").status_code == 200
        assert visitor("eve").get(f"/s/{row['result']['session']}/load/").status_code == 404


class TestHeaders:
    """What every answer carries."""

    def test_security_headers(self, session):
        """No foreign script, no frame, no guessing of types."""
        answer = Client().get(f"/s/{session.pk}/load/")
        policy = answer["Content-Security-Policy"]
        assert "default-src 'none'" in policy
        assert "unsafe" not in policy
        assert answer["X-Frame-Options"] == "DENY"
        assert answer["X-Content-Type-Options"] == "nosniff"
        assert answer["Referrer-Policy"] == "same-origin"

    def test_forms_of_others_are_refused(self, session):
        """Without the token of our own page nothing changes."""
        client = Client(enforce_csrf_checks=True)
        answer = client.post(f"/s/{session.pk}/undo", {}, "application/json")
        assert answer.status_code == 403
