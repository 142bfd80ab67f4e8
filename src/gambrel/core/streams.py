"""Streams that move at the same rate, counted together."""

from __future__ import annotations

from collections.abc import Callable
from heapq import heappop
from math import inf

from gambrel.core.forecast import Flow, Purpose
from gambrel.core.paths import Uses
from gambrel.core.sharing import UNLIMITED

QueueKey = tuple[float, float, int, int, int, float, int]
"""(-priority, occurrence, job position, machine order, stage, -used or index, position)."""


class StreamClass:
    """Streams that always have the same rate.

    `progress` is what each of them has moved since the class was made; a stream ends when the
    progress reaches the target that was set when it joined.
    """

    __slots__ = (
        "active", "demand_key", "ends_at", "job", "progress", "purpose", "rate", "since", "squeeze",
        "squeeze_s", "targets", "uses",
    )  # fmt: skip

    def __init__(
        self, job: int, purpose: Purpose, share: float, ceiling: float | None, uses: Uses
    ) -> None:
        self.job = job
        self.purpose: Purpose = purpose
        self.uses = uses
        self.demand_key = (share, ceiling, uses)
        self.active: set[int] = set()
        self.targets: list[tuple[float, int, Stream]] = []
        self.progress = 0.0
        self.rate = 0.0
        self.squeeze = UNLIMITED
        self.squeeze_s: dict[int, float] = {}
        self.since = 0.0
        self.ends_at = inf

    def settle(self, now: float, record: list[Flow]) -> None:
        """Bring the progress up to `now` and record what flowed since it was last settled."""
        seconds = now - self.since
        if seconds > 0 and self.active:
            if self.rate != inf:
                self.progress += self.rate * seconds
            self.squeeze_s[self.squeeze] = self.squeeze_s.get(self.squeeze, 0.0) + seconds
            record.append(
                Flow(
                    self.job,
                    self.purpose,
                    self.uses,
                    len(self.active),
                    self.rate,
                    self.squeeze,
                    self.since,
                    now,
                )
            )
        self.since = now

    def next_end(self) -> float:
        """When the first of its streams ends at the present rate."""
        while self.targets and self.targets[0][1] not in self.active:
            heappop(self.targets)
        if not self.targets:
            return inf
        left = max(0.0, self.targets[0][0] - self.progress)
        if self.rate == inf or left == 0.0:
            return self.since
        return self.since + left / self.rate if self.rate > 0 else inf


class Stream:
    """One transfer in a StreamClass. `done` is called at its end."""

    __slots__ = ("before", "done", "group", "joined_at", "number", "order", "work")

    def __init__(
        self,
        number: int,
        group: StreamClass,
        work: float,
        order: QueueKey,
        done: Callable[[], None],
    ) -> None:
        self.number = number
        self.group = group
        self.work = work
        self.order = order
        self.done = done
        self.joined_at = group.progress
        self.before = dict(group.squeeze_s)

    def squeezes(self) -> dict[int, float]:
        """Seconds by what limited it, up to the last settling of its class."""
        now = self.group.squeeze_s
        return {k: s - self.before.get(k, 0.0) for k, s in now.items() if s > self.before.get(k, 0)}
