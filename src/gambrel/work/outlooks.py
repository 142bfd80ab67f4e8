"""How nights under way will end: drawn beside the requests, anew when runners have told more."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass, replace
from threading import Lock, Thread
from typing import Any

from gambrel.core.ledger.as_it_goes import FEWEST, Outlook, Rest, outlook
from gambrel.core.ledger.comparing import MachineTrouble
from gambrel.core.ledger.what_would_help import HELP_DRAWS, Help, what_would_help
from gambrel.core.simulation_limits import Cancelled

log = logging.getLogger(__name__)

EVERY_S = 5.0
"""A plan's night is drawn at most so often,"""
REST_TIMES = 2.0
"""and so many times as long as it took is left to others in between."""
DRAWN_FOR_S = 20.0
"""Then fewer draws have to do: of a large estate each takes a second or more."""
TRIED_FOR_S = 60.0
"""Then what has been tried has to do."""


@dataclass(frozen=True, slots=True)
class Told:
    """What is known of the rest of a night.

    Attributes:
        outlook: None where it could not be drawn.
        helps: what would help; until it is found anew, what was found before.
        helps_at: the instant from which `helps` were simulated; None before there are any.
        current: whether nothing has been reported since.
    """

    outlook: Outlook | None
    helps: tuple[Help, ...]
    helps_at: float | None
    current: bool


def _after(seconds: float) -> Callable[[], bool]:
    """Whether some seconds have passed from now."""
    end = time.monotonic() + seconds
    return lambda: time.monotonic() > end


class Outlooks:
    """The newest outlook of each plan's night. Safe to use from several threads.

    One thread works for each plan at most, and none while nobody asks. Only the newest outlook of a
    plan is kept; it holds no forecast.
    """

    def __init__(self) -> None:
        self._lock = Lock()
        self._known: dict[int, tuple[Any, Told]] = {}
        self._working: dict[int, Thread] = {}
        self._due: dict[int, float] = {}

    def latest(
        self,
        plan_id: int,
        key: object,
        rest: Callable[[], tuple[Rest, tuple[MachineTrouble, ...]] | None],
    ) -> Told | None:
        """What is known of a night by now; None before there is anything.

        Args:
            key: tells what it rests on: where it differs, it is drawn anew.
            rest: makes what is drawn, on a thread of its own; None where there is nothing to draw.
        """
        with self._lock:
            known_key, known = self._known.get(plan_id, (None, None))
            current = known_key == key
            due = time.monotonic() >= self._due.get(plan_id, float("-inf"))
            if not current and due and plan_id not in self._working:
                thread = Thread(
                    target=self._work, args=(plan_id, key, rest), daemon=True,
                    name=f"outlook of plan {plan_id}",
                )  # fmt: skip
                self._working[plan_id] = thread
                thread.start()
        return None if known is None else replace(known, current=current)

    def _work(
        self,
        plan_id: int,
        key: object,
        make: Callable[[], tuple[Rest, tuple[MachineTrouble, ...]] | None],
    ) -> None:
        begun = time.monotonic()
        try:
            made = make()
            if made is None:
                self._note(plan_id, key, Told(None, (), None, True))
                return
            rest, failed = made
            found = outlook(rest, enough=_after(DRAWN_FOR_S))
            self._note(plan_id, key, Told(found, (), None, True))
            draws = min(HELP_DRAWS, max(FEWEST, found.draws // 2))
            helps = tuple(what_would_help(rest, failed, draws, enough=_after(TRIED_FOR_S)))
            self._note(plan_id, key, Told(found, helps, found.at, True))
        except (ValueError, Cancelled) as error:
            # Such as runs whose machines have changed: what there is stays the expected course.
            log.info("the night of plan %s is not drawn: %s", plan_id, error)
            self._note(plan_id, key, Told(None, (), None, True))
        except Exception:
            log.exception("the night of plan %s could not be drawn", plan_id)
            self._note(plan_id, key, Told(None, (), None, True))
        finally:
            took = time.monotonic() - begun
            with self._lock:
                self._working.pop(plan_id, None)
                self._due[plan_id] = begun + max(EVERY_S, (1.0 + REST_TIMES) * took)

    def _note(self, plan_id: int, key: object, told: Told) -> None:
        with self._lock:
            before = self._known.get(plan_id)
            if told.helps_at is None and before is not None and told.outlook is not None:
                told = replace(told, helps=before[1].helps, helps_at=before[1].helps_at)
            self._known[plan_id] = (key, told)
