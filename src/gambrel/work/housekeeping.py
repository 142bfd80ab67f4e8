"""Giving up what is old, in the background, for as long as the application runs."""

from __future__ import annotations

import ctypes
import logging
import time
from threading import Event, Thread

from gambrel.store import housekeeping as store
from gambrel.store.housekeeping import Keep
from gambrel.work.planning import Planning

log = logging.getLogger(__name__)

EVERY_S = 1800.0
GIVES_BACK_EVERY_S = 5.0


def tidy(planning: Planning, keep: Keep) -> tuple[int, int]:
    """Give up all that the rules do not keep: (versions, other rows)."""
    versions = 0
    while some := planning.write(lambda db: store.empty_old_versions(db, keep)):
        versions += some
    return versions, planning.write(lambda db: store.drop_old_results(db, keep))


class Housekeeping:
    """Tidies at the start and every half hour."""

    def __init__(self, planning: Planning, keep: Keep) -> None:
        self.planning = planning
        self.keep = keep
        self._stopped = Event()

    def begin(self) -> Thread:
        """Tidy from now on, in a thread of its own."""
        thread = Thread(target=self._run, name="housekeeping", daemon=True)
        thread.start()
        return thread

    def stop(self) -> None:
        """Tidy no more."""
        self._stopped.set()

    def _run(self) -> None:
        while True:
            try:
                versions, rows = tidy(self.planning, self.keep)
                if versions or rows:
                    log.info("gave up %d old versions and %d other rows", versions, rows)
            except Exception:
                log.exception("giving up what is old")
            if self._stopped.wait(EVERY_S):
                return


def give_memory_back() -> None:
    """Have the C library return what is free to the system every few seconds, in a thread.

    By itself it returns only the end of a heap. What threads freed before that stays, though
    nobody uses it. A round takes some milliseconds and holds up no Python. A C library other than
    glibc has no `malloc_trim`, and nothing happens.
    """
    trim = getattr(ctypes.CDLL(None), "malloc_trim", None)
    if trim is None:
        return

    def run() -> None:
        while True:
            time.sleep(GIVES_BACK_EVERY_S)
            trim(0)

    Thread(target=run, name="memory", daemon=True).start()
