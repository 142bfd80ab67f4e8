"""Carrying a plan out in the true world, and telling what happens.

Between disturbances the core knows what comes: one simulation of the true plan. At each disturbance
(a new night, a trouble that begins or ends, a machine that fails, an order, a newly adopted plan)
the state of that instant is taken down, changed, and simulated on (section 15).
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import date
from random import Random
from typing import Any, NamedTuple

from gambrel.core.edits.point_owners import handed_over, handovers
from gambrel.core.estate.effect import new_names
from gambrel.core.ledger.ordering import (
    LASTING,
    TONIGHT_ONLY,
    Order,
    OrderRefused,
    ordered,
    while_they_hold,
)
from gambrel.core.ledger.records import RunKey, run_key
from gambrel.core.model.volume import preparation_s, protected_bytes, protected_disks
from gambrel.core.nights.nights import night_at, planner_zone
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import ExistingPoint, Plan, Running, RunningMachine, State
from gambrel.core.simulation.forecast import Forecast, MachineRun, Run
from gambrel.core.simulation.known_points import found_bad, with_what_is_bad
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.core.units import DAY, HOUR, SAME_INSTANT
from gambrel.standins.troubles import (
    STANDING,
    Trouble,
    disturbed,
    failed,
    troubles_of,
    without_proxy,
)
from gambrel.standins.true_world import TrueWorld

AHEAD_S = DAY + 3 * HOUR
"""How far each simulation looks: past the next noon, where the next night's world begins."""
TEST_FAILS = 0.04
TEST_LEAVES_A_MOUNT = 0.12
"""How often a restore test fails, and how often it leaves its mount behind."""


class RunningTest(NamedTuple):
    """A restore test under way: its point, how long it takes, and its result."""

    order: int
    job: str
    machine: str
    repository: str
    at: float
    begins: float
    ends: float
    reason: str
    leaves_a_mount: bool


class Performance:
    """The true world while a plan is carried out in it.

    Args:
        adopted: the plan as adopted; its points are not looked at.
        points: the restore points that exist at the beginning.
        told: troubles of the story by night, see `troubles._told`.

    Attributes:
        clock: up to when everything has happened.
    """

    def __init__(
        self,
        adopted: Plan,
        at: float,
        points: Iterable[ExistingPoint],
        world: TrueWorld,
        told: dict[date, tuple[str, ...]] | None = None,
        running: Running | None = None,
    ) -> None:
        self.adopted = adopted
        self.world = world
        self.told = told or {}
        self.clock = at
        self.lasting: list[Order] = []
        self.locked: dict[str, float] = {}
        self.night = night_at(at, planner_zone(adopted))
        self._reasons: dict[tuple[RunKey, str], Trouble] = {}
        self._orders: dict[RunKey, tuple[int, tuple[str, ...]]] = {}
        self._tests: list[RunningTest] = []
        self._troubles: list[Trouble] = []
        self._troubles = self._new_troubles()
        self._through: set[tuple[str, float, str, str]] = set()
        self._look_on(State(points=tuple(points), running=running))

    # --- what comes -------------------------------------------------------------------------

    def _new_troubles(self) -> list[Trouble]:
        lasting = [t for t in self._troubles if t.ends > self.clock]
        return lasting + troubles_of(self.world.seed, self.adopted, self.night, self.told)

    def _true_plan(self) -> Plan:
        plan = self.world.plan_of(self.adopted, self.night.date)
        plan = while_they_hold(plan, self.lasting)
        now = self.clock + SAME_INSTANT
        return disturbed(plan, (t for t in self._troubles if t.begins <= now < t.ends))

    def _look_on(self, state: State) -> None:
        """Simulate on from a state of this instant."""
        plan = self._true_plan()
        running = state.running or Running(at=self.clock)
        state = replace(
            state, running=running, sizes_as_of=self.adopted.state.sizes_as_of, restores=()
        )
        self.plan = replace(plan, state=_fitting(plan, state))
        self._from = self.clock
        self.forecast: Forecast = simulate(self.plan, self._from, self._from + AHEAD_S)

    def state(self) -> State:
        """What is under way now, exactly."""
        return state_at(self.plan, self._from, self._from + AHEAD_S, self.clock)

    def _next_disturbance(self, to: float) -> float:
        """When something happens next that the forecast does not know, `to` at the latest."""
        found = [to, self.night.end]
        for trouble in self._troubles:
            found += [trouble.begins, trouble.ends]
        found += [at for at, _, _ in self._failures(to)]
        return min(at for at in found if at > self.clock + SAME_INSTANT or at == to)

    def _failures(self, to: float) -> Iterator[tuple[float, RunKey, str]]:
        """Machine-runs that will fail by a trouble that lasts: (instant, run, machine)."""
        standing = [t for t in self._standing() if t.begins <= to]
        if not standing:
            return
        for run in self.forecast.runs:
            if run.ended is None or run.ended <= self.clock or run.occurrence > to:
                continue
            for machine in run.machines:
                if machine.start is None or machine.start > to:
                    continue
                trouble = self._trouble_of(run.job, machine.machine, machine.start, standing)
                if trouble is not None:
                    at = machine.start + trouble.fails_after_s()
                    if self.clock - SAME_INSTANT <= at < (machine.moved or machine.ended):
                        yield at, run_key(run.job, run.occurrence), machine.machine

    def _standing(self) -> list[Trouble]:
        locked = [
            Trouble("locked", machine, since, float("inf"))
            for machine, since in self.locked.items()
        ]
        return [*locked, *(t for t in self._troubles if t.kind in STANDING)]

    def _trouble_of(
        self, job: str, machine: str, start: float, standing: Iterable[Trouble]
    ) -> Trouble | None:
        for trouble in standing:
            if trouble.begins <= start < trouble.ends and trouble.concerns(
                self.adopted, self.adopted.job_by_id[job], self.adopted.machine_by_id[machine]
            ):
                return trouble
        return None

    # --- time goes on -----------------------------------------------------------------------

    def advance(self, to: float) -> list[dict[str, Any]]:
        """Let time go on to an instant; returns the events up to it, in order."""
        events: list[dict[str, Any]] = []
        while self.clock < to - SAME_INSTANT:
            at = self._next_disturbance(to)
            # What a disturbance ended at this instant is told too; told twice does no harm.
            events += self._events(self.clock - 2 * SAME_INSTANT, at)
            self.clock = at
            if at < to - SAME_INSTANT or self._is_disturbed(at):
                events += self._disturb()
        events += self._ended_tests(to)
        return sorted(events, key=lambda event: str(event["at"]))

    def _is_disturbed(self, at: float) -> bool:
        edges = [t.begins for t in self._troubles] + [t.ends for t in self._troubles]
        due = [when for when, _, _ in self._failures(at + 1.0)]
        return any(abs(edge - at) <= SAME_INSTANT for edge in [*edges, *due, self.night.end])

    def _disturb(self) -> list[dict[str, Any]]:
        """What the world does to what is under way at this instant."""
        state = self.state()
        running = state.running
        assert running is not None
        now = self.clock
        if now >= self.night.end - SAME_INSTANT:
            self.night = night_at(now + 1.0, self.night.zone)
            self._troubles = self._new_troubles()
            self.lasting = [order for order in self.lasting if order.kind not in TONIGHT_ONLY]
        events: list[dict[str, Any]] = []
        for trouble in self._troubles:
            begins = abs(trouble.begins - now) <= SAME_INSTANT
            if begins and trouble.kind == "proxy dies":
                running = without_proxy(running, trouble.subject)
            if begins and trouble.kind == "host restarts":
                running = self._fail(running, self._struck(trouble), events)
        running = self._fail(running, self._overdue, events)
        self._look_on(State(state.points, running=running))
        return events

    def _fail(
        self,
        running: Running,
        cause_of: Callable[[str, RunningMachine], Trouble | None],
        events: list[dict[str, Any]],
    ) -> Running:
        """Have machine-runs fail for which there is a cause."""
        causes: dict[str, Trouble] = {}

        def fails(job: str, machine: RunningMachine) -> bool:
            cause = cause_of(job, machine)
            if cause is not None:
                causes[machine.machine] = cause
            return cause is not None

        running, found = failed(running, fails)
        self._note(found, causes, events)
        return running

    def _struck(self, trouble: Trouble) -> Callable[[str, RunningMachine], Trouble | None]:
        """Of a trouble that fails at once whatever it concerns."""

        def cause_of(job: str, machine: RunningMachine) -> Trouble | None:
            its = self.adopted.machine_by_id[machine.machine]
            hit = trouble.concerns(self.adopted, self.adopted.job_by_id[job], its)
            return trouble if hit else None

        return cause_of

    def _overdue(self, job: str, machine: RunningMachine) -> Trouble | None:
        """The standing trouble by which a machine should have failed by now."""
        assert machine.start is not None
        trouble = self._trouble_of(job, machine.machine, machine.start, self._standing())
        if trouble is None or machine.start + trouble.fails_after_s() > self.clock + 1e-3:
            return None
        return trouble

    def _note(
        self,
        found: list[tuple[str, float, str]],
        causes: dict[str, Trouble],
        events: list[dict[str, Any]],
    ) -> None:
        for job, occurrence, machine in found:
            trouble = causes[machine]
            self._reasons[run_key(job, occurrence), machine] = trouble
            events += self._left(job, occurrence, machine, trouble)

    def _left(
        self, job: str, occurrence: float, machine: str, trouble: Trouble
    ) -> Iterator[dict[str, Any]]:
        for left in trouble.leaves:
            if left == "locked":
                self.locked[machine] = self.clock
            yield self._event(
                "left behind", self.clock, job=job, occurrence=occurrence, machine=machine,
                left=left,
            )  # fmt: skip

    # --- restore tests ------------------------------------------------------------------------

    def test(
        self, number: int, job: str, machine: str, detail: Mapping[str, Any]
    ) -> list[dict[str, Any]]:
        """Start a machine from a point in isolation, at the instant that was asked for."""
        place = (job, machine, detail["repository"], float(detail["at"]))
        chance, reason = self.outcome_of_test(*place)
        begins = max(self.clock, float(detail["starts"]))
        lasts = float(detail["seconds"]) * chance.uniform(0.85, 1.5)
        left = chance.random() < TEST_LEAVES_A_MOUNT
        self._tests.append(RunningTest(number, *place, begins, begins + lasts, reason, left))
        return [self._event("order taken", self.clock, order=number)]

    def outcome_of_test(
        self, job: str, machine: str, repository: str, at: float
    ) -> tuple[Random, str]:
        """Why a test of a point fails, empty where it does not; the same for it every time."""
        chance = Random(f"{self.world.seed} {job} {machine} {repository} {at:.0f}")
        fails = chance.random() < TEST_FAILS
        return chance, "it did not answer within ten minutes" if fails else ""

    def _ended_tests(self, upto: float) -> Iterator[dict[str, Any]]:
        ended = [test for test in self._tests if test.ends <= upto]
        self._tests = [test for test in self._tests if test.ends > upto]
        for test in ended:
            told = self._event(
                "point checked", test.ends, job=test.job, machine=test.machine,
                repository=test.repository, at_point=test.at, order=test.order, check="test",
                outcome="failed" if test.reason else "done", reason=test.reason,
            )  # fmt: skip
            yield {**told, "began": format_instant(test.begins)}
            if test.leaves_a_mount:
                yield self._event("left behind", test.ends, machine=test.machine, left="mount")
            yield self._event("order ended", test.ends, order=test.order, outcome="done")

    # --- orders and plans ---------------------------------------------------------------------

    def order(self, number: int, order: Order) -> list[dict[str, Any]]:
        """Carry an order out now; returns the events of it."""
        events = [self._event("order taken", self.clock, order=number)]
        state = self.state()
        assert state.running is not None
        now = replace(self.plan, state=state)
        try:
            after = ordered(now, order)
        except OrderRefused as error:
            told = self._event(
                "order ended", self.clock, order=number, outcome="failed", reason=str(error)[:500]
            )
            return [*events, told]
        if order.kind in LASTING:
            self.lasting.append(order)
        if order.kind in ("run", "run in full", "retry"):
            machines = tuple(
                m.machine
                for m in (after.state.running or state.running).runs[-1].machines
                if m.state != "ended"
            )
            self._orders[run_key(order.job, self.clock)] = (number, machines)
            events.append(self._began(order, number, machines))
            if order.kind == "retry":
                events += self._unlocked(machines)
        self._look_on(after.state)
        return [*events, self._event("order ended", self.clock, order=number, outcome="done")]

    def _began(self, order: Order, number: int, machines: tuple[str, ...]) -> dict[str, Any]:
        return self._event(
            "run began", self.clock, job=order.job, occurrence=self.clock, order=number,
            kind="full" if order.kind == "run in full" else "incremental",
            machines=list(machines),
        )  # fmt: skip

    def _unlocked(self, machines: Iterable[str]) -> Iterator[dict[str, Any]]:
        for machine in machines:
            if self.locked.pop(machine, None) is not None:
                for left in ("locked", "snapshot"):
                    yield self._event("cleaned up", self.clock, machine=machine, left=left)

    def clean_up(self, older_than_s: float) -> list[dict[str, Any]]:
        """Have somebody unlock machines that have been locked for some time."""
        old = [m for m, since in self.locked.items() if self.clock - since >= older_than_s]
        return list(self._unlocked(old))

    def adopt(self, plan: Plan) -> None:
        """Go on with another plan."""
        names, bad = new_names(self.adopted, plan), found_bad(plan)
        state = _called(self.state(), names)
        self.locked = {names.get(m, m): since for m, since in self.locked.items()}
        # Whose points are may have changed: the plan says it of those that it knows, and what came
        # since goes along with its chain.
        moved = handovers(state.points, plan.state.points)
        points = tuple(
            with_what_is_bad(point, bad) for point in handed_over(plan, state.points, moved)
        )
        self.adopted = plan
        self._look_on(replace(state, points=points))

    # --- telling ------------------------------------------------------------------------------

    def _event(self, what: str, at: float, **more: Any) -> dict[str, Any]:
        told: dict[str, Any] = {"what": what, "at": format_instant(at)}
        for key, value in more.items():
            if key in ("occurrence", "at_point"):
                value = format_instant(value)
            told[key] = value
        said = "/".join(
            str(told.get(key, ""))
            for key in (
                "what", "job", "occurrence", "machine", "disk", "repository", "at_point", "left",
                "order", "kind",
            )
        )  # fmt: skip
        if what in ("disk", "left behind", "cleaned up", "point made", "point gone"):
            said += f"/{told['at']}"
        told["id"] = hashlib.sha256(said.encode()).hexdigest()[:32]
        return told

    def _events(self, after: float, upto: float) -> list[dict[str, Any]]:
        """What the forecast says of (after, upto]."""
        found: list[dict[str, Any]] = []
        for run in self.forecast.runs:
            if run.began is None or run.began > upto or (run.ended or after) < after:
                continue
            found += self._events_of_run(run, after, upto)
        for change in self.forecast.history.changes(after, upto):
            found.append(
                self._event(
                    "point made" if change.made else "point gone", change.instant, job=change.job,
                    machine=change.machine, repository=change.repository, kind=change.kind,
                    at_point=change.at, stored_bytes=round(change.stored_bytes),
                )
            )  # fmt: skip
        return found

    def _events_of_run(self, run: Run, after: float, upto: float) -> Iterator[dict[str, Any]]:
        assert run.began is not None
        number, only = self._orders.get(run_key(run.job, run.occurrence), (None, None))
        its = {"job": run.job, "occurrence": run.occurrence}
        if after < run.began <= upto and number is None:
            machines = [machine.machine for machine in run.machines]
            yield self._event("run began", run.began, **its, kind=run.kind, machines=machines)
        for machine in run.machines:
            if only is None or machine.machine in only:
                yield from self._events_of_machine(run, machine, after, upto)
        if run.ended is not None and after < run.ended <= upto:
            yield self._event("run ended", run.ended, **its)

    def _events_of_machine(
        self, run: Run, machine: MachineRun, after: float, upto: float
    ) -> Iterator[dict[str, Any]]:
        job, its = self.plan.job_by_id[run.job], self.plan.machine_by_id[machine.machine]
        about = {"job": run.job, "occurrence": run.occurrence, "machine": machine.machine}
        trouble = self._reasons.get((run_key(run.job, run.occurrence), machine.machine))
        prepared = None
        if machine.start is not None:
            prepared = machine.start + preparation_s(job, its)
            if prepared > machine.ended:
                prepared = None
        for what, at in (
            ("machine queued", machine.queued),
            ("machine started", machine.start),
            ("machine prepared", prepared),
            ("machine moved", machine.moved),
            ("machine released", None if machine.moved is None else machine.released),
        ):
            if at is not None and after < at <= upto:
                more = {"kind": machine.kind} if what == "machine started" else {}
                yield self._event(what, at, **about, **more)
                if what == "machine moved":
                    yield from self._disks(run, machine, at)
        if after < machine.ended <= upto:
            outcome = "failed" if trouble is not None else machine.outcome
            yield self._event(
                "machine ended", machine.ended, **about, outcome=outcome,
                reason="" if trouble is None else trouble.words,
                source_bytes=round(machine.source_bytes), wire_bytes=round(machine.wire_bytes),
                stored_bytes=round(machine.stored_bytes),
            )  # fmt: skip

    def _disks(self, run: Run, machine: MachineRun, at: float) -> Iterator[dict[str, Any]]:
        """How each disk was read, once all have moved; bytes by what is protected of each."""
        job, its = self.plan.job_by_id[run.job], self.plan.machine_by_id[machine.machine]
        sizes = {d.id: protected_bytes(job, its, d) for d in protected_disks(job, its)}
        total = sum(sizes.values())
        for reading in machine.readings:
            part = sizes.get(reading.disk, 0.0) / total if total else 0.0
            yield self._disk_event(
                run.job, run.occurrence, machine.machine, reading.disk, at, reading.proxy,
                reading.transport, machine.source_bytes * part, machine.wire_bytes * part,
                moved=True,
            )  # fmt: skip

    def _disk_event(
        self, job: str, occurrence: float, machine: str, disk: str, at: float, proxy: str | None,
        transport: str | None, source: float, wire: float, *, moved: bool,
    ) -> dict[str, Any]:  # fmt: skip
        told = self._event(
            "disk", at, job=job, occurrence=occurrence, machine=machine, disk=disk,
            transport=transport or "agent", source_bytes=round(source), wire_bytes=round(wire),
            moved=moved,
        )  # fmt: skip
        return told if proxy is None else {**told, "proxy": proxy}

    def progress(self) -> list[dict[str, Any]]:
        """How much each disk that moves has moved by now, and which of its machine are through.

        The stand-in tells once of each disk that is through.
        """
        running = self.state().running
        assert running is not None
        found, through = [], set[tuple[str, float, str, str]]()
        for run in running.runs:
            for machine in run.machines:
                if machine.state != "moving":
                    continue
                for disk in machine.disks:
                    key = (run.job, run.occurrence, machine.machine, disk.disk)
                    if disk.moved:
                        through.add(key)
                    if key in self._through or not (disk.holds or disk.moved):
                        continue
                    part = disk.moved_bytes / disk.source_bytes if disk.source_bytes else 1.0
                    found.append(
                        self._disk_event(
                            run.job, run.occurrence, machine.machine, disk.disk, self.clock,
                            disk.proxy, disk.transport, disk.moved_bytes,
                            (disk.wire_bytes or 0.0) * part, moved=disk.moved,
                        )
                    )  # fmt: skip
        self._through = through
        return found


def _called(state: State, names: Mapping[str, str]) -> State:
    """A state with other names of machines."""

    def named(items: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(
            replace(item, machine=names[item.machine]) if item.machine in names else item
            for item in items
        )

    running = state.running
    if not names or running is None:
        return state
    return replace(
        state,
        points=named(state.points),
        running=replace(
            running,
            runs=tuple(replace(run, machines=named(run.machines)) for run in running.runs),
            copies=named(running.copies),
            merges=named(running.merges),
            built_on=named(running.built_on),
        ),
    )


def _fitting(plan: Plan, state: State) -> State:
    """A state without what a plan does not have any more."""

    def known(job: str, machine: str, repository: str) -> bool:
        return (
            job in plan.job_by_id
            and machine in plan.machine_by_id
            and repository in plan.repository_by_id
        )

    running = state.running
    assert running is not None
    return replace(
        state,
        points=tuple(p for p in state.points if known(p.job, p.machine, p.repository)),
        running=replace(
            running,
            runs=tuple(
                run
                for run in running.runs
                if run.job in plan.job_by_id
                and all(m.machine in plan.machine_by_id for m in run.machines)
            ),
            copies=tuple(
                copy
                for copy in running.copies
                if copy.job in plan.job_by_id
                and copy.copy < len(plan.job_by_id[copy.job].copies)
                and copy.machine in plan.machine_by_id
            ),
            merges=tuple(m for m in running.merges if known(m.job, m.machine, m.repository)),
            built_on=tuple(b for b in running.built_on if known(b.job, b.machine, b.repository)),
        ),
    )
