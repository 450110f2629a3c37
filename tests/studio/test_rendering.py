"""Background work stands back for those who listen."""

from concurrent.futures import ThreadPoolExecutor

import pytest

from arkund.studio.services import rendering


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
        """Who listens all the time holds one measurement up for ten seconds in all, not at each of its pieces."""
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
