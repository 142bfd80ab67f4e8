"""The stand-in runner: carries the adopted plan out in the true world, by a clock of its own.

It speaks the runner protocol as any other runner would. Its clock runs in real time or faster, can
be held, and can go to an instant; it is asked so by orders of the kind "clock".
"""

from __future__ import annotations

import json
import logging
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Mapping
from datetime import date
from typing import Any

from gambrel.core.ledger.ordering import Order
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.units import HOUR
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

log = logging.getLogger(__name__)

TICK_S = 1.0
"""How often it reports, in real seconds."""
STEP_S = 2 * HOUR
"""How much of its own time goes by between two reports where it goes to an instant."""
EVENTS_AT_ONCE = 1000
RETRY_S = 3.0
FASTEST = 3600.0


class Refused(Exception):
    """The application refused a request; the text says why."""


class Client:
    """Speaks the runner protocol to an application."""

    def __init__(self, address: str, token: str) -> None:
        self.address = address
        self.token = token
        self._plan_tag = ""

    def _ask(
        self, path: str, body: Any = None, headers: Mapping[str, str] | None = None
    ) -> tuple[Any, Any]:
        request = urllib.request.Request(  # noqa: S310 - the address is the command's own
            f"{self.address}/api/v1/runner{path}",
            data=None if body is None else json.dumps(body).encode(),
            headers={
                "Authorization": f"Bearer {self.token}",
                "Content-Type": "application/json",
                **(headers or {}),
            },
        )
        try:
            with urllib.request.urlopen(request, timeout=60) as answer:  # noqa: S310
                return json.loads(answer.read()), answer.headers
        except urllib.error.HTTPError as error:
            if error.code == 304:
                return None, error.headers
            if error.code in (401, 409, 422):
                raise Refused(error.read().decode(errors="replace")[:500]) from error
            raise

    def plan(self) -> Plan | None:
        """The adopted plan where it is another one than at the last time, else None."""
        tag = {"If-None-Match": self._plan_tag} if self._plan_tag else {}
        found, headers = self._ask("/plan", headers=tag)
        self._plan_tag = headers.get("ETag", "")
        return None if found is None else read_plan(found)

    def state(self) -> Plan:
        """The plan with what the ledger knows to be under way."""
        return read_plan(self._ask("/state")[0])

    def orders(self, after: int) -> list[dict[str, Any]]:
        """Open orders with a higher number."""
        found: list[dict[str, Any]] = self._ask(f"/orders?after={after}")[0]["orders"]
        return found

    def report(self, events: list[dict[str, Any]], clock: float, speed: float) -> dict[str, Any]:
        """Report events, in batches; the last says what time it is."""
        answer: dict[str, Any] = {}
        for first in range(0, max(1, len(events)), EVENTS_AT_ONCE):
            answer, _ = self._ask(
                "/events",
                {
                    "clock": format_instant(clock),
                    "speed": speed,
                    "events": events[first : first + EVENTS_AT_ONCE],
                },
            )
        return answer


class StandInRunner:
    """Plays a plan against an application until it is told to end.

    Args:
        begins: where its clock stands at the very first start.
        world_of: the true world and the troubles of a plan.
        speed: how many seconds of its clock go by in a real one.
    """

    def __init__(
        self,
        client: Client,
        begins: float,
        world_of: Callable[[Plan], tuple[TrueWorld, dict[date, tuple[str, ...]]]],
        speed: float = 1.0,
    ) -> None:
        self.client = client
        self.speed = speed
        self._until: float | None = None
        self._last_order = 0
        self._unsent: list[dict[str, Any]] = []
        known = client.state()
        plan = client.plan()
        assert plan is not None
        running = known.state.running
        clock = begins if running is None else running.at
        world, told = world_of(plan)
        self.performance = Performance(plan, clock, known.state.points, world, told, running)

    @property
    def clock(self) -> float:
        """Up to when everything has happened."""
        return self.performance.clock

    def tick(self, real_s: float) -> None:
        """Let some real seconds go by: take orders, let time go on, report."""
        self._unsent += self._take_orders()
        plan = self.client.plan()
        if plan is not None:
            self.performance.adopt(plan)
        to = self.clock + real_s * self.speed
        if self._until is not None:
            to = min(self._until, self.clock + STEP_S)
        # Every noon is reported by itself: what is predicted for a night begins with it.
        noon = night_at(self.clock + 1.0, planner_zone(self.performance.adopted)).end
        to = min(to, noon)
        if to > self.clock:
            self._unsent += self.performance.advance(to)
            self._unsent += self.performance.progress()
        if self._until is not None and self.clock >= self._until - 1e-3:
            self._until = None
        # What was not confirmed is sent again: the same event twice does no harm.
        self.client.report(self._unsent, self.clock, self.speed)
        self._unsent = []

    def _take_orders(self) -> list[dict[str, Any]]:
        events: list[dict[str, Any]] = []
        for order in self.client.orders(self._last_order):
            self._last_order = order["id"]
            if order["kind"] == "clock":
                self._set_clock(order["detail"])
                events += self._done_with_clock(order["id"])
            elif order["kind"] == "test":
                events += self.performance.test(
                    order["id"], order["job"], order["machines"][0], order["detail"]
                )
            else:
                detail = order["detail"]
                asked = Order(
                    order["kind"], order["job"] or "", tuple(order["machines"]),
                    detail.get("proxy"), int(detail.get("slots", 0)),
                )  # fmt: skip
                events += self.performance.order(order["id"], asked)
        return events

    def _set_clock(self, detail: Mapping[str, Any]) -> None:
        if "speed" in detail:
            self.speed = min(FASTEST, max(0.0, float(detail["speed"])))
            self._until = None
        if "until" in detail:
            self._until = float(detail["until"])

    def _done_with_clock(self, number: int) -> list[dict[str, Any]]:
        told = {"at": format_instant(self.clock), "order": number, "outcome": "done"}
        return [{"id": f"clock-{number}", "what": "order ended", **told}]

    @property
    def hurries(self) -> bool:
        """Whether it goes to an instant, without waiting between two reports."""
        return self._until is not None

    def play(self, stop: Callable[[float], bool]) -> None:
        """Play on until `stop`, which waits for some seconds, says so."""
        last = time.monotonic()
        while True:
            now = time.monotonic()
            wait = 0.05 if self.hurries else TICK_S
            try:
                self.tick(now - last)
                last = now
            except Refused as error:
                log.warning("refused: %s", error)
                wait = RETRY_S
            except (OSError, urllib.error.URLError, json.JSONDecodeError) as error:
                log.info("the application does not answer: %s", error)
                wait = RETRY_S
            if stop(wait):
                return
