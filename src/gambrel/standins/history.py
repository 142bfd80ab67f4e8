"""The nights before the demo opens: what the ledger would hold if the stand-in had run them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from itertools import cycle
from typing import Any

from gambrel.core.constants import RESTORE_PER_POINT_S, RESTORE_SET_UP_S
from gambrel.core.ledger.events import Event, event_from
from gambrel.core.ledger.predicting import predicted_runs, window_end
from gambrel.core.ledger.records import RunRecord, apply_event, claim_prediction
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import Night, night_of, planner_zone
from gambrel.core.plan.objects import ExistingPoint, Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY, HOUR, MINUTE, YEAR
from gambrel.demo.past import existing_points
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

SEED = 7
NIGHTS = 60
POINTS_DAYS = 40
"""How far back the restore points reach that exist when the history begins."""
WRONG_JOB, WRONG_FACTOR = "fleet-telemetry", 3.0
"""A job whose machines change so many times as much as the plan says."""
BEFORE = {
    18: ("no power:hill:4:20",),
    33: ("proxy dies:quay-p2:8.6:3",),
    47: ("host restarts:qb-h2:9.3:0.2",),
}
"""What went wrong before the demo opens, by the number of the night from the first."""
GROWN_FOLDER, GROWN_FACTOR = "fleet", 1.5
"""A folder whose machines really grow so many times as fast as the plan says."""
UNLOCKED_AFTER_S = 1.4 * DAY
"""In the history, somebody unlocks a machine in the morning after it failed a second time."""
TESTS_A_DAY = 5
MOUNTED_FOR_S = 2 * DAY
"""In the history, what a restore test left mounted is cleaned up after so long."""
TO_COME = {
    1: ("quiesce:{quiesce}:0:24",),
    3: ("host restarts:qa-h4:10.6:0.2",),
    4: ("host restarts:qa-h3:10.6:0.2", "link down:quay-hill:10.2:1", "proxy dies:quay-p3:12.5:4"),
}
"""What will go wrong after it has opened, by the number of the night from the first to come."""


@dataclass(frozen=True, slots=True)
class PastNight:
    """A night of the history: predicted and carried out."""

    night: Night
    runs: tuple[RunRecord, ...]


def nights_of(environment: Mapping[str, str]) -> int:
    """How many past nights the sample ledger begins with: GAMBREL_SAMPLE_NIGHTS, usually 60."""
    text = environment.get("GAMBREL_SAMPLE_NIGHTS", "")
    return min(NIGHTS, max(1, int(text))) if text.isascii() and text.isdigit() else NIGHTS


def true_world(plan: Plan, first: date) -> TrueWorld:
    """The world in which Larkmoor's plan is carried out."""
    job = plan.job_by_id.get(WRONG_JOB)
    wrong = {}
    if job is not None:
        wrong = {machine.id: WRONG_FACTOR for machine in selected_machines(plan, job)}
    return TrueWorld(SEED, first, wrong)


def story(plan: Plan, first: date, nights: int) -> dict[date, tuple[str, ...]]:
    """What goes wrong, by night: before the demo opens and after it."""
    found: dict[date, tuple[str, ...]] = {
        first + timedelta(days=number): what for number, what in BEFORE.items() if number < nights
    }
    gold = sorted(
        m.id for m in plan.machines if "gold" in m.tags and m.kind == "vm" and m.host is not None
    )
    quiesce = gold[len(gold) // 2] if gold else ""
    for number, what in TO_COME.items():
        found[first + timedelta(days=nights + number)] = tuple(
            each.format(quiesce=quiesce) for each in what
        )
    return found


def first_night(file: dict[str, Any], begins: date, nights: int = NIGHTS) -> Night:
    """The first night of the history of a plan that opens on a day."""
    zone = planner_zone(read_plan(file))
    return night_of(begins - timedelta(days=nights), zone)


RunsByKey = dict[tuple[str, float], RunRecord]


def note_event(plan: Plan, open_: RunsByKey, event: Event) -> None:
    """Write an event of a run down among the runs that are predicted or under way."""
    assert event.job is not None
    assert event.occurrence is not None
    key = (event.job, event.occurrence)
    run = open_.get(key)
    if run is None:
        run = RunRecord(*key, window_end=window_end(plan, *key))
        if plan.job_by_id[event.job].after is not None:
            due = [k for k, r in open_.items() if k[0] == event.job and r.began is None]
            if due:
                claim_prediction(run, open_.pop(min(due)))
        open_[key] = run
    apply_event(run, event)


def as_it_was(plan: Plan, then: float, now: float) -> Plan:
    """A plan whose disks have the sizes of an earlier instant, and grow to those of today."""
    machines = []
    for machine in plan.machines:
        growth = machine.facts.growth_per_year
        if machine.folder == GROWN_FOLDER:
            growth *= GROWN_FACTOR
        factor = (1.0 + growth) ** ((now - then) / YEAR)
        disks = tuple(
            replace(
                disk,
                used_gib=max(disk.swap_gib, disk.used_gib / factor),
                provisioned_gib=max(disk.swap_gib, disk.provisioned_gib / factor),
            )
            for disk in machine.disks
        )
        facts = replace(machine.facts, growth_per_year=growth)
        machines.append(replace(machine, disks=disks, facts=facts))
    state = replace(plan.state, sizes_as_of=then)
    return replace(plan, machines=tuple(machines), state=state)


class History:
    """Carries a plan out over some nights; iterate over it, then look at what is left.

    Attributes:
        points: those that exist at the end, once it has been iterated over.
        left: (machine, what, since) of what has been left behind by then.
        checks: the restore tests of the days, as their events tell them, with their prediction.
    """

    def __init__(self, file: dict[str, Any], begins: date, nights: int = NIGHTS) -> None:
        self.begins = begins
        self.first = first_night(file, begins, nights)
        self.nights = nights
        start = self.first.start
        self.plan = as_it_was(read_plan(file), start, start + nights * DAY)
        raw = existing_points(file, start, POINTS_DAYS)
        before = read_plan({**file, "state": {"points": raw}}).state.points
        self._points = before
        self.points: tuple[ExistingPoint, ...] = before
        self.left: list[tuple[str, str, float]] = []
        self.checks: list[tuple[Event, float]] = []
        self._tested: dict[int, float] = {}

    def __iter__(self) -> Iterator[PastNight]:
        told = story(self.plan, self.first.date, self.nights)
        world = true_world(self.plan, self.first.date)
        performance = Performance(self.plan, self.first.start, self._points, world, told)
        open_: RunsByKey = {}
        night = self.first
        turn = cycle(sorted(m.id for m in self.plan.machines if {"gold", "silver"} & {*m.tags}))
        for number in range(self.nights):
            points = performance.state().points
            if night.date.weekday() < 5:
                self._order_tests(performance, points, turn, ended=number < self.nights - 40)
            forecast = simulate(
                replace(self.plan, state=replace(self.plan.state, points=points)),
                night.start,
                night.end,
            )
            found = {(run.job, run.occurrence): run for run in predicted_runs(forecast, night)}
            open_ |= found
            for raw in performance.advance(night.end):
                self._tell(raw, open_)
            for raw in performance.clean_up(UNLOCKED_AFTER_S):
                self._tell(raw, open_)
            gone = night.end - MOUNTED_FOR_S
            self.left = [x for x in self.left if x[1] != "mount" or x[2] > gone]
            done = [key for key, run in open_.items() if run.ended is not None]
            yield PastNight(night, tuple(open_.pop(key) for key in done))
            night = night_of(night.date + timedelta(days=1), night.zone)
        self.points = performance.state().points
        yield PastNight(night, tuple(open_.values()))

    def _order_tests(
        self,
        performance: Performance,
        points: tuple[ExistingPoint, ...],
        turn: Iterator[str],
        *,
        ended: bool,
    ) -> None:
        """Order the tests of an afternoon. `ended`: no point of today can be among what fails."""
        newest = {point.machine: point for point in sorted(points, key=lambda point: point.at)}
        for place in range(TESTS_A_DAY):
            point = newest.get(next(turn, ""))
            if point is None:
                continue
            where = (point.job, point.machine, point.repository, point.at)
            if not ended and performance.outcome_of_test(*where)[1]:
                continue
            number = len(self._tested) + 1
            seconds = RESTORE_SET_UP_S + 4 * RESTORE_PER_POINT_S + 7 * MINUTE
            self._tested[number] = seconds
            detail = {
                "repository": point.repository, "at": point.at, "seconds": seconds,
                "starts": performance.clock + HOUR + place * 20 * MINUTE,
            }  # fmt: skip
            performance.test(number, point.job, point.machine, detail)

    def _tell(self, raw: dict[str, Any], open_: RunsByKey) -> None:
        event = event_from(raw)
        if event.what == "cleaned up":
            self.left = [x for x in self.left if x[:2] != (event.machine, event.left)]
        if event.what == "point checked":
            self.checks.append((event, self._tested[event.order or 0]))
            return
        if event.what == "left behind" and event.left == "mount" and event.machine:
            self.left.append((event.machine, event.left, event.at))
        if event.job is None or event.occurrence is None:
            return
        if event.what == "left behind" and event.machine and event.left:
            self.left.append((event.machine, event.left, event.at))
        note_event(self.plan, open_, event)
