"""Restore tests: a rota that reaches every machine, in hours in which nothing else runs.

A test starts a machine from its newest good point in isolation, sees it boot, and takes it away. It
takes a stream of the repository and the host on which it starts, so it is put where neither has
anything to do: the nights stay what they are.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time
from math import ceil, inf
from typing import Literal, NamedTuple
from zoneinfo import ZoneInfo

from gambrel.core.loads.lanes import TIERS, tier_of
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.paths import Routes
from gambrel.core.model.restore import Restore, chain_of, newest_of, restore_from
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.recovery.machine_points import as_vm
from gambrel.core.schedules.calendars import instant_of, joined, local_of
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import DAY, MINUTE

AWAY_S = 60.0
"""How long it takes to shut a tested machine down and to take it away."""
AHEAD_DAYS = 7
"""How far ahead tests are laid out."""
Span = tuple[float, float]
PointsOf = Callable[[str, float], Iterable[PointRecord]]
"""The points of a machine that exist at an instant."""


@dataclass(frozen=True, slots=True)
class TestRule:
    """Every machine of a tier is tested once in so many days."""

    __test__ = False

    tier: str
    every_days: int


@dataclass(frozen=True, slots=True)
class Rota:
    """Who is tested how often, and when.

    Attributes:
        begins: since when it holds; what was never tested is overdue one turn later.
        at_once: so many tests run side by side.
        opens, closes: the hours of a day, by the planner's clock; `closes` is later.
        weekdays: 0 is Monday.
        host: on which machines are started; None: the own host of each.
    """

    begins: float
    rules: tuple[TestRule, ...]
    at_once: int = 2
    opens: time = time(9)
    closes: time = time(16)
    weekdays: tuple[int, ...] = (0, 1, 2, 3, 4)
    host: str | None = None

    def every_s(self, machine: Machine) -> float | None:
        """How often a machine is to be tested; None for one that no rule reaches."""
        tier = tier_of(machine)
        days = [rule.every_days for rule in self.rules if rule.tier == tier]
        return min(days) * DAY if days and not machine.gone else None


class PlannedTest(NamedTuple):
    """A test that is to come.

    Attributes:
        at: of the point.
        starts, ends: instants; `set_up_s` of it until the machine starts to boot.
        due: by when the machine must be tested.
    """

    machine: str
    host: str
    job: str
    repository: str
    at: float
    starts: float
    ends: float
    set_up_s: float
    due: float


class Untested(NamedTuple):
    """A machine that the coming days do not reach, and why."""

    machine: str
    due: float
    why: Literal["no point", "no host", "no route", "no free hour", "later"]


@dataclass(frozen=True, slots=True)
class Layout:
    """The tests of the coming days, and what is left out.

    Attributes:
        days: each with its hours, and the part of them in which nothing else runs.
    """

    tests: tuple[PlannedTest, ...]
    left_out: tuple[Untested, ...]
    overdue: tuple[str, ...]
    days: tuple[tuple[date, Span, tuple[Span, ...]], ...]


class Busy:
    """When repositories, hosts and machines have something to do.

    Args:
        forecasts: one for each night in question.
    """

    def __init__(self, plan: Plan, forecasts: Iterable[Forecast]) -> None:
        found: dict[tuple[str, str], list[Span]] = {}

        def note(kind: str, name: str | None, start: float | None, end: float | None) -> None:
            if name is not None and start is not None and end is not None and end > start:
                found.setdefault((kind, name), []).append((start, end))

        hosts = {machine.id: machine.host for machine in plan.machines}
        for forecast in forecasts:
            for run in forecast.runs:
                job = plan.job_by_id[run.job]
                for machine in run.machines:
                    itself = plan.machine_by_id[machine.machine]
                    repository = destination_of(plan, job, itself)
                    note("host", hosts.get(machine.machine), machine.start, machine.released)
                    note("machine", machine.machine, machine.start, machine.ended)
                    note("repository", repository, machine.start, machine.ended)
            for copy in forecast.copies:
                itself = plan.machine_by_id[copy.machine]
                source = destination_of(plan, plan.job_by_id[copy.job], itself)
                for repository in (source, copy.repository):
                    note("repository", repository, copy.start, copy.ended)
            for restore in forecast.restores:
                if restore.point is not None:
                    note("repository", restore.point.repository, restore.start, restore.whole)
        self._spans = {key: joined(spans) for key, spans in found.items()}
        self._begins = {key: [span[0] for span in spans] for key, spans in self._spans.items()}

    def after(self, kind: str, name: str | None, start: float, end: float) -> float | None:
        """When what keeps one busy within a span ends; None where nothing does."""
        key = (kind, name or "")
        spans = self._spans.get(key, ())
        first = max(0, bisect_right(self._begins.get(key, ()), start) - 1)
        ends = [e for s, e in spans[first:] if s < end and e > start]
        return max(ends) if ends else None

    def free(self, repositories: Iterable[str], span: Span) -> tuple[Span, ...]:
        """The parts of a span in which none of some repositories has anything to do."""
        busy = joined(
            (max(s, span[0]), min(e, span[1]))
            for repository in repositories
            for s, e in self._spans.get(("repository", repository), ())
            if s < span[1] and e > span[0]
        )
        edges = [span[0], *(edge for pair in busy for edge in pair), span[1]]
        pairs = zip(edges[::2], edges[1::2], strict=True)
        return tuple((start, end) for start, end in pairs if end > start)


def due_at(rota: Rota, machine: Machine, tested: Mapping[str, float]) -> float | None:
    """By when a machine must be tested; None where no rule reaches it."""
    every = rota.every_s(machine)
    return None if every is None else tested.get(machine.id, rota.begins) + every


def laid_out(
    plan: Plan,
    rota: Rota,
    tested: Mapping[str, float],
    busy: Busy,
    points_of: PointsOf,
    now: float,
    zone: str,
    until: float = inf,
) -> Layout:
    """The tests of the coming days: the longest due first, spread evenly, in free hours only.

    Args:
        tested: when each machine was last tested, whatever came of it.
        points_of: asked for instants of the coming AHEAD_DAYS days only.
        until: up to when it is known what else runs; no test is put after it.
    """
    days = [each for each in _days(rota, now, ZoneInfo(zone)) if each[1][1] <= until]
    due = [
        (at, TIERS.index(tier) if (tier := tier_of(m)) in TIERS else len(TIERS), i, m)
        for i, m in enumerate(plan.machines)
        if (at := due_at(rota, m, tested)) is not None
    ]
    order = [(at, machine) for at, _, _, machine in sorted(due, key=lambda row: row[:3])]
    turns = [every for _, machine in order if (every := rota.every_s(machine)) is not None]
    each_day = ceil(sum(7 * DAY / every for every in turns) / max(1, len(rota.weekdays)))
    each_day = max(each_day, ceil(sum(at <= now for at, _ in order) / max(1, len(days))))
    desk = _Desk(plan, rota, busy, points_of)
    waiting = list(order)
    for _, span in days:
        placed = 0
        for entry in list(waiting):
            if placed >= each_day:
                break
            if desk.place(*entry, span):
                waiting.remove(entry)
                placed += 1
    repositories = {test.repository for test in desk.tests} or {r.id for r in plan.repositories}
    return Layout(
        tuple(sorted(desk.tests, key=lambda test: (test.starts, test.machine))),
        tuple(Untested(m.id, at, desk.why.get(m.id, "later")) for at, m in waiting),
        tuple(machine.id for at, machine in order if at < now),
        tuple((day, span, busy.free(repositories, span)) for day, span in days),
    )


def _days(rota: Rota, now: float, zone: ZoneInfo) -> list[tuple[date, Span]]:
    """The hours of the coming days in which tests may run."""
    first = local_of(now, zone).date()
    found = []
    for ahead in range(AHEAD_DAYS):
        day = date.fromordinal(first.toordinal() + ahead)
        if day.weekday() not in rota.weekdays:
            continue
        opens = instant_of(datetime.combine(day, rota.opens), zone)
        closes = instant_of(datetime.combine(day, rota.closes), zone)
        if closes > max(opens, now):
            found.append((day, (max(opens, now), closes)))
    return found


class _Desk:
    """Puts tests side by side."""

    def __init__(self, plan: Plan, rota: Rota, busy: Busy, points_of: PointsOf) -> None:
        self.plan, self.rota, self.busy, self.points_of = plan, rota, busy, points_of
        self.routes = Routes(plan)
        self.tests: list[PlannedTest] = []
        self.why: dict[str, Literal["no point", "no host", "no route", "no free hour"]] = {}

    def place(self, due: float, machine: Machine, span: Span) -> bool:
        """Put the test of a machine into a day; false where it does not fit."""
        chosen = self._point(machine, span[0])
        if chosen is None:
            return False
        restore, point, host = chosen
        job = self.plan.job_by_id[point.job]
        lasts = restore.instant_s + job.boot_min * MINUTE + AWAY_S
        starts = self._earliest(machine.id, host, point.repository, lasts, span)
        if starts is None:
            self.why[machine.id] = "no free hour"
            return False
        self.tests.append(
            PlannedTest(
                machine.id, host, point.job, point.repository, point.at, starts, starts + lasts,
                restore.instant_s, due,
            )
        )  # fmt: skip
        self.why.pop(machine.id, None)
        return True

    def _host(self, machine: Machine) -> str | None:
        """Where a machine starts; a server without a host for tests on the first of its site."""
        if self.rota.host is not None and self.rota.host in self.plan.host_by_id:
            return self.rota.host
        if machine.host is not None:
            return machine.host
        site = self.plan.site_of(machine)
        return next((host.id for host in self.plan.hosts if host.site == site), None)

    def _point(self, machine: Machine, at: float) -> tuple[Restore, PointRecord, str] | None:
        host = self._host(machine)
        if host is None:
            self.why[machine.id] = "no host"
            return None
        target = as_vm(machine, host) if machine.kind == "server" else machine
        usable = [point for point in self.points_of(machine.id, at) if point.usable]
        best = newest_of(
            (point.at, restore, point)
            for point in usable
            if (
                restore := restore_from(
                    self.plan, target, chain_of(self.plan, point, at), host, self.routes
                )
            )
        )
        if best is None:
            self.why[machine.id] = "no route" if usable else "no point"
            return None
        return (*best, host)

    def _earliest(
        self, machine: str, host: str, repository: str, lasts: float, span: Span
    ) -> float | None:
        slots = self.plan.repository_by_id[repository].stream_slots
        at = span[0]
        while at + lasts <= span[1]:
            needs = (("machine", machine), ("host", host), ("repository", repository))
            later = [
                until
                for kind, name in needs
                if (until := self.busy.after(kind, name, at, at + lasts)) is not None
            ]
            beside = [test for test in self.tests if test.starts < at + lasts and test.ends > at]
            of_repository = [test for test in beside if test.repository == repository]
            if len(beside) >= self.rota.at_once:
                later.append(min(test.ends for test in beside))
            if slots is not None and len(of_repository) >= slots:
                later.append(min(test.ends for test in of_repository))
            if not later:
                return at
            at = max(later)
        return None
