"""How much is simulated at once, and when a simulation is not wanted any more.

Whoever starts work says how to find out that nobody waits for it (`while_wanted`); every simulation
of that thread then asks now and then and ends early. `simulations` limits how many run at once:
more than there are cores only slow each other down, and all need their memory at the same time.
A simulation says how much that may be.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from threading import Condition

from gambrel.core.simulation_limits import Cancelled

ASKED_EVERY_S = 0.05
"""How often a simulation that waits for its turn asks whether it is still wanted."""
PASSED_MOST = 4
"""How many may go before one that has to wait for memory."""

_unwanted: ContextVar[Callable[[], bool] | None] = ContextVar("unwanted", default=None)


@contextmanager
def while_wanted(unwanted: Callable[[], bool]) -> Iterator[None]:
    """Have all simulations of this thread raise Cancelled once `unwanted` says so."""
    token = _unwanted.set(unwanted)
    try:
        yield
    finally:
        _unwanted.reset(token)


def stop_if_unwanted() -> None:
    """Raise Cancelled if nobody wants the result of this thread's work any more."""
    unwanted = _unwanted.get()
    if unwanted is not None and unwanted():
        raise Cancelled("The simulation was cancelled. Nothing was changed.")


@dataclass(eq=False, slots=True)
class _Waiting:
    """Somebody in line: the bytes of the work, and how often others went before it."""

    size: int
    passed: int = 0


class Turns:
    """Lets a limited number of threads work at once; the others wait in line.

    Where the work of several would take more memory than there is for it, they work one after the
    other. What is small may go before what has to wait for memory, but not for ever.

    Args:
        at_once: how many; None for as many as come.

    Attributes:
        most_bytes: what the process may hold for another to begin beside those that work; None
            where that does not matter.
        small_bytes: what takes no more than that never waits for memory.
        held_bytes: says what the process holds.
    """

    def __init__(self, at_once: int | None = None) -> None:
        self.at_once = at_once
        self.most_bytes: int | None = None
        self.small_bytes = 0
        self.held_bytes: Callable[[], int] = int
        self.running = 0
        self._bytes = 0
        self._free = Condition()
        self._line: list[_Waiting] = []

    @property
    def waiting(self) -> int:
        """How many wait in line."""
        return len(self._line)

    def _next(self) -> _Waiting | None:
        """Whose turn it is now."""
        if self.at_once is not None and self.running >= self.at_once:
            return None
        for each in self._line:
            if self._has_memory_for(each.size):
                return each
            if each.passed >= PASSED_MOST:
                return None
        return None

    def _has_memory_for(self, size: int) -> bool:
        if self.running == 0 or self.most_bytes is None or size <= self.small_bytes:
            return True
        # What those that work will take may not have been taken yet.
        return self.held_bytes() + self._bytes + size <= self.most_bytes

    @contextmanager
    def take(self, size: int = 0) -> Iterator[None]:
        """Wait for a turn and hold it. Raises Cancelled where it is not wanted any more.

        Args:
            size: the bytes that the work will take, at most.
        """
        with self._free:
            me = _Waiting(size)
            self._line.append(me)
            try:
                while self._next() is not me:
                    self._free.wait(ASKED_EVERY_S)
                    stop_if_unwanted()
                for other in self._line[: self._line.index(me)]:
                    other.passed += 1
                self.running += 1
                self._bytes += size
            finally:
                self._line.remove(me)
                self._free.notify_all()
        try:
            yield
        finally:
            with self._free:
                self.running -= 1
                self._bytes -= size
                self._free.notify_all()


simulations = Turns()
"""The turns of this process; a server sets `at_once` and `most_bytes`."""
