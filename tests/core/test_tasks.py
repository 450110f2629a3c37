"""Long work handed to another process: what it tells and asks through small files."""

import pickle
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from time import monotonic, sleep

import numpy as np
import pytest

from arkund.core import tasks
from arkund.core.errors import AudioError, CancelledError
from arkund.core.files.library import Library
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.tasks import Signs, run_elsewhere


def patient(work) -> str:
    """Work that goes on until it is asked to stop."""
    until = monotonic() + 20
    while monotonic() < until:
        work.progress(0.5, "half way")
        if work.cancelled():
            raise CancelledError("as asked")
        sleep(0.02)
    return "never asked"


@pytest.fixture(scope="module")
def elsewhere():
    with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as pool:
        yield pool


class TestSigns:
    """Both sides see the same folder."""

    def test_progress_and_stop(self, tmp_path, elsewhere):
        """Progress is told, the wish to stop is heard, and the reason comes back."""
        signs = Signs(tmp_path / "signs")
        signs.folder.mkdir()
        future = elsewhere.submit(run_elsewhere, patient, (), signs)
        until = monotonic() + 60
        while signs.told() == (0.0, "") and monotonic() < until:
            sleep(0.02)
        assert signs.told() == (0.5, "half way")
        signs.stop()
        with pytest.raises(CancelledError, match="as asked"):
            future.result(timeout=20)

    def test_nobody_waits(self, tmp_path):
        """Where the folder is gone, the work stops by itself."""
        signs = Signs(tmp_path / "gone")
        assert signs.stopped()
        with pytest.raises(CancelledError, match="Nobody waits"):
            signs.tell(0.1)

    def test_half_written(self, tmp_path):
        """What cannot be read says nothing yet."""
        (tmp_path / "progress").write_text("[0.5")
        assert Signs(tmp_path).told() == (0.0, "")


class TestPrintBelow:
    """A print as a task of plain data."""

    def library(self, folder) -> Library:
        np.save(folder / "aa.npy", np.random.default_rng(7).normal(0, 0.1, 30_000).astype(np.float32))
        return Library(folder=folder, sample_rate_hz=48_000, files={("t", "sn"): "aa"}, lengths={"t": 30_000})

    def test_the_same_elsewhere(self, tmp_path, elsewhere):
        """Another process prints the same bytes, each try in a folder of its own."""
        plan = Plan(take="t", mics=(MicPlan(id="sn", name="SN", piece="snare", role="top"),))
        library = self.library(tmp_path)
        assert pickle.loads(pickle.dumps(library)) == library  # noqa: S301 (our own)
        signs = Signs(tmp_path / "signs")
        signs.folder.mkdir()
        job = (plan, library, tmp_path, "wav24", 0.0)
        there, rows = elsewhere.submit(run_elsewhere, tasks.print_below, job, signs).result(timeout=60)
        here, again = run_elsewhere(tasks.print_below, job, signs)
        assert there != here
        assert rows == again
        assert all((there / row["file"]).read_bytes() == (here / row["file"]).read_bytes() for row in rows)

    def test_a_recording_that_is_gone(self, tmp_path):
        """It is said in a sentence, wherever the work runs."""
        library = Library(folder=tmp_path, sample_rate_hz=48_000, files={("t", "sn"): "nothing"}, lengths={"t": 9})
        with pytest.raises(AudioError, match="arkund doctor"):
            library.mic("t", "sn")
        assert library.mic("t", "kd") is None
