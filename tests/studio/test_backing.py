"""The backing track: heard with the kit at its own level and place, never printed."""

import numpy as np
import pytest
import soundfile

from arkund.core.errors import AudioError
from arkund.studio.models import MicRecording
from arkund.studio.services import archiving, backing, doctor, housekeeping, listening
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db
RATE = 48_000
SPAN = (3 * RATE, 4 * RATE)


@pytest.fixture
def music(tmp_path):
    """Ten seconds of stereo."""
    samples = np.random.default_rng(3).normal(0, 0.05, (10 * RATE, 2)).astype(np.float32)
    soundfile.write(tmp_path / "music.wav", samples, RATE, subtype="FLOAT")
    return tmp_path / "music.wav", samples


def heard(session, what="kit"):
    session.refresh_from_db()
    return listening.audition(session, session.plan, listening.Question(SPAN, what, chunk=True)).audio


class TestHeard:
    """With the kit, not with a drum alone."""

    def test_level_and_place(self, session, music):
        """Added to the kit at -6 dB, 120 ms later, and so much behind the cymbals as was chosen."""
        path, samples = music
        before = heard(session)
        backing.load(session, path)
        apply(session.pk, {"backing.offset_ms": 120.0}, step="load", title="later")
        late = SPAN[0] - round(0.12 * RATE)
        assert heard(session) - before == pytest.approx(samples[late : late + RATE] * 10 ** (-6 / 20), abs=1e-6)
        apply(session.pk, {"backing.behind_ms": 5.0}, step="blend", title="behind")
        late -= round(0.005 * RATE)
        assert heard(session) - before == pytest.approx(samples[late : late + RATE] * 10 ** (-6 / 20), abs=1e-6)

    def test_a_drum_alone_stays_alone(self, session, music):
        """Also what changed."""
        before = heard(session, "drum:snare")
        backing.load(session, music[0])
        assert np.array_equal(heard(session, "drum:snare"), before)
        assert not heard(session, "change").any()

    def test_another_file_takes_its_place(self, session, music, tmp_path):
        """And no take is made of either."""
        backing.load(session, music[0])
        soundfile.write(tmp_path / "mono.wav", np.zeros(RATE), RATE)
        session.refresh_from_db()
        backing.load(session, tmp_path / "mono.wav")
        assert backing.name_of(session) == "mono.wav"
        assert session.takes.count() == 1

    def test_against_the_kit(self, session, music):
        """In each section; at the level at which both are as loud, they are; nothing where it is off."""
        assert backing.against(Measure(session))["rows"] == []
        backing.load(session, music[0])
        sections = [{"name": "verse", "bar": 0}, {"name": "chorus", "bar": 2}]
        apply(session.pk, {"sections": sections}, step="timing", title="sections")
        session.refresh_from_db()
        found = backing.against(Measure(session))
        assert [row["name"] for row in found["rows"]] == ["verse", "chorus"]
        apply(session.pk, {"backing.level_db": found["as_loud_db"]}, step="load", title="as loud")
        session.refresh_from_db()
        rows = backing.against(Measure(session))["rows"]
        apart = [row["kit_lufs"] - row["music_lufs"] for row in rows]
        assert abs(float(np.median(apart))) <= 0.35  # its level goes by halves of a dB
        apply(session.pk, {"backing.on": False}, step="load", title="off")
        session.refresh_from_db()
        assert backing.against(Measure(session))["rows"] == []

    def test_another_file_of_the_same_name(self, session, music):
        """Is measured anew."""
        path, samples = music
        backing.load(session, path)
        session.refresh_from_db()
        before = backing.against(Measure(session))["rows"]
        soundfile.write(path, samples * 0.5, RATE, subtype="FLOAT")
        backing.load(session, path)
        session.refresh_from_db()
        after = backing.against(Measure(session))["rows"]
        assert [b["music_lufs"] - a["music_lufs"] for a, b in zip(before, after, strict=True)] == pytest.approx(
            [-6.02] * len(before),
            abs=0.11,  # told to a tenth
        )

    def test_no_audio(self, session, tmp_path):
        """Is refused, and nothing is changed."""
        (tmp_path / "x.wav").write_text("none")
        with pytest.raises(AudioError, match="not a readable"):
            backing.load(session, tmp_path / "x.wav")
        session.refresh_from_db()
        assert session.version == 0


class TestKept:
    """Like the recordings."""

    def test_never_printed(self, session, music, tmp_path):
        """The kit mix is the same file with and without it."""
        a = print_session(session, tmp_path / "a")
        backing.load(session, music[0])
        session.refresh_from_db()
        b = print_session(session, tmp_path / "b")
        assert [f["blake3"] for f in a["files"]] == [f["blake3"] for f in b["files"]]

    def test_not_cleared_away_and_archived(self, session, music, tmp_path):
        """Housekeeping and the doctor know it; it travels with the session."""
        backing.load(session, music[0])
        session.refresh_from_db()
        mine = set(
            MicRecording.objects.filter(take__session=session, take__key="backing").values_list("digest", flat=True)
        )
        assert len(mine) == 2
        assert not mine & {path.stem for path in housekeeping.nobodys()}
        assert not [c for c in doctor.examine(repair=False) if "recording" in c.what]
        back = archiving.restore(archiving.archive(session, tmp_path / "a.zip"), name="Back")
        assert backing.name_of(back) == "music.wav"
        assert np.array_equal(heard(back), heard(session))
