"""Work shared among threads: all of it is done once, in order, whoever helps."""

import threading
from concurrent.futures import ThreadPoolExecutor
from time import sleep

import numpy as np
import pytest

from arkund.core.beside import at_once, by_slices, shared


class TestShared:
    """Whoever has the work begins with it at once."""

    def test_in_order(self):
        """Whichever thread took what."""
        assert shared(lambda n: (sleep(0.001 * (n % 3)), n)[1], range(40)) == list(range(40))

    def test_nothing_to_do(self):
        """Is done."""
        assert shared(lambda n: n, []) == []

    def test_helpers_that_never_come(self):
        """A pool whose only thread is kept by other work costs nothing."""
        let_go = threading.Event()
        with ThreadPoolExecutor(1) as busy:
            busy.submit(let_go.wait, 60)
            try:
                assert shared(lambda n: n * n, range(10), busy) == [n * n for n in range(10)]
            finally:
                let_go.set()

    def test_within_itself(self):
        """Shared work that shares its own work ends."""
        sums = shared(lambda n: sum(shared(lambda m: n * m, range(5))), range(8))
        assert sums == [10 * n for n in range(8)]

    @pytest.mark.parametrize("bad", [0, 7, 15])
    def test_a_failure_is_raised(self, bad):
        """Here, whoever met it."""

        def one(n):
            if n == bad:
                raise ValueError("bad")
            sleep(0.001)

        with pytest.raises(ValueError, match="bad"):
            shared(one, range(16))

    def test_some_works(self):
        """Each gives its own."""
        assert at_once(lambda: 1, lambda: "two") == [1, "two"]


@pytest.mark.parametrize(("count", "worth"), [(0, 1), (1, 1), (9, 1), (1000, 1), (63, 64)])
def test_slices_cover_all_rows_once(count, worth):
    """However many there are."""
    seen = np.zeros(count, int)

    def fill(part):
        seen[part] += 1

    by_slices(fill, count, worth)
    assert (seen == 1).all()
