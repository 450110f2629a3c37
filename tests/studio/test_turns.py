"""Who listens next: a few at a time, each client in its turn, within the memory that there is."""

import threading
import time

import pytest

from arkund.core.errors import BusyError, CancelledError
from arkund.studio.services.turns import Turns


class Crowd:
    """Clients that wait in threads of their own, and the order in which they were let in."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.order, self.threads, self.errors = turns, [], [], []

    def ask(self, client: str, size: int = 1, overtaken=lambda: False) -> None:
        def work():
            try:
                with self.turns.turn(client, size, overtaken):
                    self.order.append(client)
            except (BusyError, CancelledError) as error:
                self.errors.append(error)

        waiting = self.waiting()
        self.threads.append(threading.Thread(target=work))
        self.threads[-1].start()
        until = time.monotonic() + 5
        while self.waiting() == waiting and self.threads[-1].is_alive() and time.monotonic() < until:
            time.sleep(0.001)

    def waiting(self) -> int:
        return sum(map(len, self.turns._waiting.values()))

    def join(self) -> None:
        for thread in self.threads:
            thread.join(5)
            assert not thread.is_alive()


class TestTurns:
    """Fair between clients."""

    def test_one_that_asks_much_does_not_hold_up_the_others(self):
        """Each client has one turn before any has its second."""
        crowd = Crowd(Turns(100, at_once=1))
        with crowd.turns.turn("busy", 1):
            for client in ("greedy", "greedy", "greedy", "modest", "quiet"):
                crowd.ask(client)
            assert crowd.order == []
        crowd.join()
        assert crowd.order == ["greedy", "modest", "quiet", "greedy", "greedy"]

    def test_memory(self):
        """What does not fit beside the others waits; alone it may take more than there is."""
        crowd = Crowd(Turns(100, at_once=8))
        with crowd.turns.turn("a", 60):
            crowd.ask("b", 50)
            assert crowd.order == []
            crowd.ask("c", 10)
            assert crowd.order == []  # nobody overtakes in the row, or the large one would wait for ever
        crowd.join()
        assert crowd.order == ["b", "c"]
        with crowd.turns.turn("huge", 10_000):
            pass

    def test_overtaken_while_waiting(self):
        """A question that its own page has given up leaves the row."""
        crowd, newer = Crowd(Turns(100, at_once=1)), []
        with crowd.turns.turn("busy", 1):
            crowd.ask("page", overtaken=lambda: bool(newer))
            newer.append(True)
            crowd.join()
        assert isinstance(crowd.errors[0], CancelledError)
        with crowd.turns.turn("next", 1):
            pass

    def test_too_many(self):
        """Threads for pages stay free; the places are there again afterwards."""
        crowd = Crowd(Turns(100, at_once=1, most_waiting=3))
        with crowd.turns.turn("busy", 1):
            for number in range(4):
                crowd.ask(f"c{number}")
        crowd.join()
        assert [type(error) for error in crowd.errors] == [BusyError]
        assert len(crowd.order) == 3

    def test_an_error_gives_the_place_back(self):
        """Whatever goes wrong within a turn."""
        turns = Turns(100, at_once=1)
        with pytest.raises(ValueError, match="x"), turns.turn("a", 100):
            raise ValueError("x")
        with turns.turn("b", 100):
            pass
