"""How much is simulated at once, and when a simulation is not wanted any more.

Whoever starts work says how to find out that nobody waits for it (`while_wanted`); every simulation
of that thread then asks now and then and ends early. `simulations` limits how many run at once:
more than there are cores only slow each other down, and all need their memory at the same time.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from threading import Condition

from gambrel.core.simulation_limits import Cancelled

ASKED_EVERY_S = 0.05
"""How often a simulation that waits for its turn asks whether it is still wanted."""

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


class Turns:
    """Lets a limited number of threads work at once; the others wait in line.

    Args:
        at_once: how many; None for as many as come.
    """

    def __init__(self, at_once: int | None = None) -> None:
        self.at_once = at_once
        self.running = 0
        self._free = Condition()
        self._line: deque[object] = deque()

    @property
    def waiting(self) -> int:
        """How many wait in line."""
        return len(self._line)

    @contextmanager
    def take(self) -> Iterator[None]:
        """Wait for a turn and hold it. Raises Cancelled where it is not wanted any more."""
        with self._free:
            me = object()
            self._line.append(me)
            try:
                while self.at_once is not None and (
                    self.running >= self.at_once or self._line[0] is not me
                ):
                    self._free.wait(ASKED_EVERY_S)
                    stop_if_unwanted()
                self.running += 1
            finally:
                self._line.remove(me)
                self._free.notify_all()
        try:
            yield
        finally:
            with self._free:
                self.running -= 1
                self._free.notify_all()


simulations = Turns()
"""The turns of this process; a server sets `at_once`."""
