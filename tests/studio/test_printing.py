"""Prints: exact lengths, what was heard, honest manifests, nothing half-made."""

import json

import numpy as np
import pytest
import soundfile
from blake3 import blake3

from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.files import writing
from arkund.core.render import stream
from arkund.core.render.render import render
from arkund.core.rig import usual
from arkund.studio.models import Print
from arkund.studio.services import printing, whole
from arkund.studio.services.recordings import recordings_of
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


class TestPrintSession:
    """Files and manifest."""

    @pytest.mark.parametrize(
        ("format_name", "subtype"), [("wav24", "PCM_24"), ("wav32f", "FLOAT"), ("flac24", "PCM_24")]
    )
    def test_what_was_heard_is_printed(self, proposed, tmp_path, monkeypatch, format_name, subtype):
        """The kit mix equals the render of any span within -90 dBFS, in every format, across chunks."""
        monkeypatch.setattr(stream, "BLOCK", 60_000)
        session = proposed
        manifest = printing.print_session(session, tmp_path / "out", format_name)
        recordings = recordings_of(session)
        length = recordings.length("take-1")
        kit_file = next(f for f in manifest["files"] if f["output"] == "kit")
        info = soundfile.info(tmp_path / "out" / kit_file["file"])
        assert (info.frames, info.samplerate, info.subtype) == (length, 48_000, subtype)
        kit, _ = soundfile.read(tmp_path / "out" / kit_file["file"])
        for start in (0, 50_000, 190_000):
            heard = render(session.plan, recordings, (start, start + 20_000)) * 10 ** (-kit_file["lowered_db"] / 20)
            assert 20 * np.log10(np.max(np.abs(kit[start : start + 20_000] - heard)) + 1e-12) < -90

    def test_every_file_has_the_same_length_and_its_checksum(self, session, tmp_path):
        """Mics, stems and mix start and end together; the manifest tells the truth."""
        manifest = printing.print_session(session, tmp_path / "out")
        written = json.loads((tmp_path / "out" / "manifest.json").read_text())
        assert written == manifest
        lengths = set()
        for f in manifest["files"]:
            path = tmp_path / "out" / f["file"]
            samples, _ = soundfile.read(path)
            lengths.add(len(samples))
            assert blake3(path.read_bytes()).hexdigest() == f["blake3"]
            assert 20 * np.log10(np.abs(samples).max() + 1e-9) == pytest.approx(f["peak_db"], abs=0.02)
        assert lengths == {manifest["length_samples"]}
        assert len(manifest["files"]) == len(session.plan.mics) + 5 + 1

    @pytest.mark.parametrize("format_name", ["wav24", "flac24"])
    def test_nothing_clips_silently(self, session, tmp_path, format_name):
        """Where a file would pass full scale those of its kind are lowered by one gain that stands in the manifest; their balance stays, and float files hold
        it as it is. Stems that add up to the mix are lowered with it.
        """
        apply(session.pk, {"mics.sn-top.trim_db": 24.0}, step="level", title="far too hot")
        session.refresh_from_db()
        made = printing.print_session(session, tmp_path / "a", format_name)
        as_it_is = printing.print_session(session, tmp_path / "b", "wav32f")
        assert not any(f["lowered_db"] for f in as_it_is["files"])
        assert max(f["peak_db"] for f in as_it_is["files"]) > 3.0
        assert all(f["samples_over_full_scale"] == 0 and f["peak_db"] <= 0.0 for f in made["files"])
        assert max(f["peak_db"] for f in made["files"]) > -0.3
        for mine, other in zip(made["files"], as_it_is["files"], strict=True):
            if mine["peak_db"] > -60:
                assert other["peak_db"] - mine["peak_db"] == pytest.approx(mine["lowered_db"], abs=0.02)
        assert made["lowered_db"]["kit"] == made["lowered_db"]["stems"] > 0.0
        assert {f["lowered_db"] for f in made["files"] if f["output"].startswith("strip:")} == {
            made["lowered_db"]["mics"]
        }

    def test_a_mix_that_fits_is_printed_as_it_is_heard(self, session, tmp_path):
        """Stems that pass full scale before the kit's tools lower themselves and no more: the kit mix keeps its level, measured before or not."""
        limiter = {"kind": "limiter", "id": "limiter", "on": True, "ceiling_db": -6.0}
        changes = {"mics.kd-in.trim_db": 24.0, "kit.tools": [limiter]}
        apply(session.pk, changes, step="level", title="hot stems under a limiter")
        session.refresh_from_db()
        for folder in ("a", "b"):
            manifest = printing.print_session(session, tmp_path / folder)
            kit = next(f for f in manifest["files"] if f["output"] == "kit")
            assert kit["true_peak_db"] == pytest.approx(-6.0, abs=0.1)
            assert manifest["lowered_db"]["stems"] > 3.0
            assert manifest["lowered_db"]["kit"] == 0.0
            whole.measure(session)
        assert printing.lowered_words(manifest["lowered_db"]).startswith("stems and paths by ")

    def test_stems_and_paths_as_printed_add_up(self, session, tmp_path):
        """Before the kit's own tools they are the mix, to -100 dBFS; the paths' levels are in their files."""
        paths = [usual.punch(level_db=-9.0).to_json(), usual.sustain(level_db=-15.0).to_json()]
        sends = [{"id": path["id"], "level_db": -6.0} for path in paths]
        changes = {f"mics.{mic.id}.sends": sends for mic in session.plan.mics} | {"paths": paths}
        apply(session.pk, changes, step="blend", title="paths")
        session.refresh_from_db()
        files = {f["output"]: f["file"] for f in printing.print_session(session, tmp_path / "out", "wav32f")["files"]}
        read = {name: soundfile.read(tmp_path / "out" / file)[0] for name, file in files.items()}
        total = sum(audio for name, audio in read.items() if name.startswith(("group:", "path:")))
        assert np.abs(read["path:punch"]).max() > 0.01
        assert 20 * np.log10(np.abs(total - read["kit"]).max()) < -100

    def test_stems_add_up_to_the_mix(self, session, tmp_path):
        """With the kit's tools off the stems are the mix."""
        manifest = printing.print_session(session, tmp_path / "out", "wav32f")
        read = {f["output"]: soundfile.read(tmp_path / "out" / f["file"])[0] for f in manifest["files"]}
        total = sum(audio for name, audio in read.items() if name.startswith("group:"))
        assert np.max(np.abs(total - read["kit"])) < 1e-5

    def test_same_plan_same_bytes(self, session, tmp_path):
        """Also with dither."""
        a = printing.print_session(session, tmp_path / "a")
        b = printing.print_session(session, tmp_path / "b")
        assert [f["blake3"] for f in a["files"]] == [f["blake3"] for f in b["files"]]

    def test_dither(self, session, tmp_path):
        """A soft passage at 24 bit is off by less than two steps and not merely cut off."""
        manifest = printing.print_session(session, tmp_path / "out")
        name = next(f["file"] for f in manifest["files"] if f["output"] == "strip:sn-top")
        printed, _ = soundfile.read(tmp_path / "out" / name)
        exact = render(session.plan, recordings_of(session), (0, 48_000), "strip:sn-top")
        error = (printed[:48_000] - exact) * 2**23
        assert np.max(np.abs(error)) < 2.0
        assert 0.3 < np.std(error) < 0.7


class TestNothingHalfMade:
    """Refusals and cancels."""

    def test_cancel_leaves_nothing(self, session, tmp_path):
        """No folder, no row."""
        with pytest.raises(CancelledError):
            printing.print_session(session, tmp_path / "out", cancelled=lambda: True)
        assert list(tmp_path.iterdir()) == []
        assert not Print.objects.exists()

    def test_folder_in_use(self, session, tmp_path):
        """Nothing of the user's is overwritten."""
        (tmp_path / "mine.txt").write_text("keep")
        with pytest.raises(AudioError, match="not empty"):
            printing.print_session(session, tmp_path)

    def test_unknown_format(self, session, tmp_path):
        """The known ones are listed."""
        with pytest.raises(SettingsError, match="wav24, wav32f, flac24"):
            printing.print_session(session, tmp_path / "o", "mp3")

    def test_writing_that_fails(self, session, tmp_path, monkeypatch):
        """A full disk is said, and nothing is left."""

        def full(*args):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr(writing.Writer, "write_steps", full)
        with pytest.raises(AudioError, match="No space left"):
            printing.print_session(session, tmp_path / "out")
        assert list(tmp_path.iterdir()) == []
