"""Who looks at a plan or edits it at this moment, kept in memory and only for moments."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from threading import Lock

GONE_AFTER_S = 10.0
"""Somebody not heard of for so long has gone; browsers tell every few seconds."""
MOST_PRESENT = 500
"""How many are kept in all; whoever was heard of longest ago goes first."""


@dataclass(frozen=True, slots=True)
class Present:
    """Somebody at a plan: in which view, which draft is in hand, what they are editing.

    Attributes:
        name: of the person.
        view: the name of the view, as in its address.
        draft: the draft in hand; None: the adopted plan.
        editing: what they have changed and not saved, in words; "": nothing.
    """

    name: str
    view: str
    draft: int | None
    editing: str


class Presence:
    """Who is where. Safe to use from several threads."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._lock = Lock()
        self._heard: dict[tuple[int, str], tuple[float, Present]] = {}

    def note(self, plan_id: int, key: str, present: Present) -> list[Present]:
        """Note where somebody is, and return who else is at the plan, one entry for each person.

        Args:
            key: what tells one browser window from another.

        Returns:
            By name. Of several windows of a person the one that is editing counts, else the one
            heard of last. Other windows of the same person are left out.
        """
        now = self._clock()
        with self._lock:
            self._heard.pop((plan_id, key), None)
            self._heard[plan_id, key] = (now, present)
            self._forget(now)
            others = [
                each
                for (plan, _), (_, each) in self._heard.items()
                if plan == plan_id and each.name != present.name
            ]
        by_name: dict[str, Present] = {}
        for each in others:
            before = by_name.get(each.name)
            if before is None or each.editing or not before.editing:
                by_name[each.name] = each
        return sorted(by_name.values(), key=lambda each: each.name)

    def leave(self, plan_id: int, key: str) -> None:
        """Note that a window was closed."""
        with self._lock:
            self._heard.pop((plan_id, key), None)

    def _forget(self, now: float) -> None:
        """Drop who has gone; entries stand in the order in which they were heard of."""
        for key, (heard, _) in list(self._heard.items()):
            if now - heard <= GONE_AFTER_S and len(self._heard) <= MOST_PRESENT:
                break
            del self._heard[key]
