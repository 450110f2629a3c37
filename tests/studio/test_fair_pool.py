"""Threads that users share."""

import threading

import pytest

from arkund.studio.jobs.fair_pool import FairPool


class Work:
    """Work of users that lasts until it is let go; remembers who began, in order."""

    def __init__(self, pool: FairPool) -> None:
        self._pool, self._lock, self.began = pool, threading.Condition(), []

    def submit(self, user) -> threading.Event:
        ends = threading.Event()

        def work() -> None:
            with self._lock:
                self.began.append(user)
                self._lock.notify_all()
            assert ends.wait(10.0)

        self._pool.submit(user, work)
        return ends

    def wait_for(self, *began) -> None:
        """Wait until these have begun, and see that no others do."""
        with self._lock:
            assert self._lock.wait_for(lambda: len(self.began) >= len(began), 10.0)
        assert not threading.Event().wait(0.05)
        assert self.began == list(began)


@pytest.fixture
def work():
    return Work(FairPool(2, "test"))


def test_one_user_leaves_room_for_another(work):
    """Ten jobs of one user take one of two threads; another's begins at once, and the turns alternate."""
    of_a = [work.submit("a") for _ in range(3)]
    work.wait_for("a")
    of_b = work.submit("b")
    work.wait_for("a", "b")
    of_a[0].set()
    work.wait_for("a", "b", "a")
    of_b.set()
    work.wait_for("a", "b", "a")
    of_a[1].set()
    work.wait_for("a", "b", "a", "a")
    of_a[2].set()


def test_who_has_the_fewest_comes_first(work):
    """Not who asked first."""
    first, _, of_b = work.submit("a"), work.submit("a"), work.submit("b")
    work.wait_for("a", "b")
    of_c = work.submit("c")
    first.set()
    work.wait_for("a", "b", "a")  # both wait with nothing under way: who asked first
    of_b.set()
    work.wait_for("a", "b", "a", "c")
    of_c.set()


def test_without_users_all_threads(work):
    """Who works alone has all of them, in the order asked."""
    ends = [work.submit(None) for _ in range(3)]
    work.wait_for(None, None)
    ends[0].set()
    work.wait_for(None, None, None)
    for each in ends:
        each.set()


def test_work_that_fails(work):
    """Takes no thread with it."""
    pool = FairPool(1, "test")
    done = threading.Event()
    pool.submit("a", lambda: 1 / 0)
    pool.submit("a", done.set)
    assert done.wait(10.0)
