"""Background work stands back for those who listen."""

import tracemalloc
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from arkund.core.render.cache import SpanCache
from arkund.core.render.render import render
from arkund.core.tools.compressor import Compressor
from arkund.studio.services import rendering
from tests.kits import small_kit


class Clock:
    """Time that passes only where somebody sleeps; ``then`` happens at a moment."""

    def __init__(self) -> None:
        self.now, self.then = 100.0, {}

    def sleep(self, seconds: float) -> None:
        self.now += seconds
        for at in [at for at in self.then if at <= self.now]:
            self.then.pop(at)()


@pytest.fixture
def clock(monkeypatch):
    clock = Clock()
    monkeypatch.setattr(rendering, "monotonic", lambda: clock.now)
    monkeypatch.setattr(rendering, "sleep", clock.sleep)
    monkeypatch.setattr(rendering, "_last_s", 0.0)
    return clock


class TestGiveWay:
    """How long the next step waits."""

    def test_nobody_listens(self, clock):
        """Not at all."""
        rendering.give_way(3.0)
        assert clock.now == 100.0

    def test_until_the_sound_is_there(self, clock):
        """Until the render is done and nothing followed it for a moment."""
        listening = rendering._listening()
        listening.__enter__()
        clock.then[101.0] = lambda: listening.__exit__(None, None, None)
        rendering.give_way(10.0)
        assert clock.now == pytest.approx(101.0 + rendering.QUIET_S, abs=2 * rendering.LOOK_EVERY_S)

    def test_not_for_ever(self, clock):
        """Who listens all the time does not stop it."""
        with rendering._listening():
            rendering.give_way(3.0)
        assert clock.now == pytest.approx(103.0, abs=rendering.LOOK_EVERY_S)


class TestStandingBack:
    """A measurement between two of its pieces."""

    def test_until_the_sound_is_there(self, clock):
        """It waits while somebody waits for a sound, and goes on at once when that is there."""
        stopped, listening = rendering._standing_back(lambda: False), rendering._listening()
        assert not stopped()
        assert clock.now == 100.0
        listening.__enter__()
        clock.then[101.0] = lambda: listening.__exit__(None, None, None)
        assert not stopped()
        assert clock.now == pytest.approx(101.0, abs=2 * rendering.LOOK_EVERY_S)

    def test_not_for_ever(self, clock):
        """Who listens all the time holds one rendering up for two seconds in all, not at each of its pieces."""
        stopped = rendering._standing_back(lambda: True)
        with rendering._listening():
            assert [stopped() for _ in range(3)] == [True] * 3
        assert clock.now == pytest.approx(100.0 + rendering.MOST_STANDING_BACK_S, abs=2 * rendering.LOOK_EVERY_S)

    def test_a_helper_only_asks(self, clock):
        """It has other work to take."""
        stopped = rendering._standing_back(lambda: True)
        with rendering._listening(), ThreadPoolExecutor(1) as pool:
            assert pool.submit(stopped).result()
        assert clock.now == 100.0


class TestMemory:
    """Rows of tools count, and what does not fit at once is rendered in parts."""

    @pytest.fixture
    def heavy(self):
        kit = small_kit(seed=4101, style="straight", bpm=117.0, bars=3, drop=("Talkback", "Rm L", "Rm R", "Rm mono"))
        row = tuple(Compressor(id=f"c{k}", on=True, threshold_db=-30.0) for k in range(12))
        return kit, kit.plan.replace(mics=tuple(mic.replace(tools=row) for mic in kit.plan.mics))

    @pytest.mark.long
    def test_the_estimate_counts_tools(self, heavy):
        """Within a factor of two of what really is allocated at most, kept spans aside."""
        kit, plan = heavy
        span, cache = (24_000, 312_000), SpanCache(1)
        tracemalloc.start()
        render(plan, kit, span, cache=cache)
        _, peak = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        estimate = rendering.bytes_under_way(plan, span[1] - span[0] + rendering.SETTLING_S * kit.sample_rate_hz)
        assert 0.5 < estimate / peak < 2.0

    @pytest.mark.long
    def test_in_parts(self, heavy, settings, monkeypatch):
        """As it would be at once, within -90 dBFS, with a fraction of the memory."""
        kit, plan = heavy
        monkeypatch.setattr(rendering, "cache", lambda: SpanCache(1))
        span, audio, peaks = (48_000, 144_000), [], []
        for budget_mb in (4000, 20):
            settings.MEMORY_BYTES = budget_mb << 20
            tracemalloc.start()
            audio.append(rendering.rendered(plan, kit, span))
            peaks.append(tracemalloc.get_traced_memory()[1])
            tracemalloc.stop()
        assert 20 * np.log10(np.abs(audio[0] - audio[1]).max() + 1e-12) < -90.0
        assert peaks[1] < 0.8 * peaks[0]
