"""Orders: what each does to a plan and to what is under way, and what that does to the night."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, get_args

from gambrel.core import words
from gambrel.core.loads.load_series import Floats, load_series
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import Job, Plan, Running, RunningMachine, RunningRun
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT

OrderKind = Literal[
    "run", "run in full", "retry", "stop", "hold", "release",
    "hold tonight", "let pass", "no verify", "any proxy", "more slots",
]  # fmt: skip
ORDER_KINDS: tuple[OrderKind, ...] = get_args(OrderKind)
TONIGHT_ONLY: tuple[OrderKind, ...] = ORDER_KINDS[6:]
"""What holds until the night ends, and then is as the plan says."""
LASTING: tuple[OrderKind, ...] = ("hold", "release", *TONIGHT_ONLY)
"""What changes how the plan is carried out from then on, instead of what is under way."""
MOST_MORE_SLOTS = 64
MATTERS_S = MINUTE
"""A run that ends less than this later is not delayed."""


class OrderRefused(ValueError):
    """An order that cannot be carried out now; the text says why."""


@dataclass(frozen=True, slots=True)
class Order:
    """What a runner is asked to do.

    Attributes:
        job: which it is about; "" for "more slots".
        machines: of the job; none: all that it selects.
        proxy, slots: of "more slots", which proxy takes how many more disks at once.
    """

    kind: OrderKind
    job: str
    machines: tuple[str, ...] = ()
    proxy: str | None = None
    slots: int = 0

    @property
    def detail(self) -> dict[str, Any]:
        """What it says beside the job and the machines, as an order of the protocol has it."""
        return {} if self.proxy is None else {"proxy": self.proxy, "slots": self.slots}


def order_in_words(plan: Plan, order: Order) -> str:
    """The order as a sentence for lists and the audit trail."""
    if order.kind == "more slots":
        more = words.count(order.slots, "disk")
        return f"Let {order.proxy} read {more} more at once tonight"
    job = plan.job_by_id[order.job].name
    of = f"{words.count(len(order.machines), 'machine')} of {job}" if order.machines else job
    return {
        "run": f"Run {of} now",
        "run in full": f"Run {of} once in full",
        "retry": f"Retry {of}",
        "stop": f"Stop {of}",
        "hold": f"Hold {job}",
        "release": f"Release {job}",
        "hold tonight": f"Hold {job} until the night is over",
        "let pass": f"Let {job} pass the other jobs tonight",
        "no verify": f"Leave out the verify of {job} tonight",
        "any proxy": f"Let any proxy read for {job} tonight",
    }[order.kind]


def ordered(plan: Plan, order: Order) -> Plan:
    """A plan that is under way once an order has been taken, at the instant of its state.

    Raises:
        OrderRefused: where it cannot be carried out at that instant.
    """
    running = plan.state.running
    assert running is not None
    if order.kind in LASTING:
        return lasting(plan, order)
    if order.kind == "stop":
        return _stopped(plan, running, order)
    return _begun(plan, running, order)


def lasting(plan: Plan, order: Order) -> Plan:
    """A plan as it is carried out while an order of `LASTING` holds.

    Raises:
        OrderRefused: where it changes nothing.
    """
    if order.kind == "more slots":
        return _with_slots(plan, order)
    job = plan.job_by_id[order.job]
    if order.kind == "let pass":
        return _passing(plan, job)
    changed, already = {
        "hold": (replace(job, on_hold=True, hold_until=None), "is on hold already"),
        "hold tonight": (replace(job, on_hold=True, hold_until=None), "is on hold already"),
        "release": (replace(job, on_hold=False, hold_until=None), "is not on hold"),
        "no verify": (replace(job, verify="none"), "verifies nothing"),
        "any proxy": (replace(job, proxies=None), "is not bound to a proxy"),
    }[order.kind]
    if changed == job:
        raise OrderRefused(f"{job.name} {already}")
    return replace(plan, jobs=tuple(changed if j.id == job.id else j for j in plan.jobs))


FIRST = 5
"""The highest priority."""


def _passing(plan: Plan, passing: Job) -> Plan:
    """A plan in which one job stands before all others in every queue."""
    jobs = tuple(
        replace(job, priority=FIRST if job.id == passing.id else min(job.priority, FIRST - 1))
        for job in plan.jobs
    )
    if jobs == plan.jobs:
        raise OrderRefused(f"{passing.name} stands before all others already")
    return replace(plan, jobs=jobs)


def _with_slots(plan: Plan, order: Order) -> Plan:
    if order.proxy not in {proxy.id for proxy in plan.proxies}:
        raise OrderRefused(f"{order.proxy} is no proxy of the plan")
    return replace(
        plan,
        proxies=tuple(
            replace(proxy, slots=proxy.slots + order.slots) if proxy.id == order.proxy else proxy
            for proxy in plan.proxies
        ),
    )


def while_they_hold(plan: Plan, orders: Iterable[Order]) -> Plan:
    """A plan as it is carried out under some orders of `LASTING`, given in this order."""
    for order in orders:
        if order.job and order.job not in plan.job_by_id:
            continue
        try:
            plan = lasting(plan, order)
        except OrderRefused:
            # Another plan was adopted since, in which it says nothing new.
            continue
    return plan


def _with(plan: Plan, running: Running) -> Plan:
    return replace(plan, state=replace(plan.state, running=running))


def _stopped(plan: Plan, running: Running, order: Order) -> Plan:
    found = [run for run in running.runs if run.job == order.job]
    if not found:
        raise OrderRefused(f"{plan.job_by_id[order.job].name} is not running")
    only = set(order.machines)

    def ended(machine: RunningMachine) -> RunningMachine:
        if machine.state in ("ended", "releasing", "transforming", "verifying"):
            return machine
        if only and machine.machine not in only:
            return machine
        return end_machine(machine, running.at)

    runs = tuple(
        replace(run, machines=tuple(map(ended, run.machines))) if run.job == order.job else run
        for run in running.runs
    )
    return _with(plan, replace(running, runs=runs))


def end_machine(machine: RunningMachine, at: float) -> RunningMachine:
    """A machine-run that is stopped at an instant: its slots are free, what moved is counted."""
    if machine.start is None:
        return replace(machine, state="ended", ended=at, outcome="missed")
    source = sum(disk.moved_bytes for disk in machine.disks)
    wire = sum(
        (disk.wire_bytes or 0.0) * disk.moved_bytes / disk.source_bytes
        for disk in machine.disks
        if disk.source_bytes
    )
    return replace(
        machine, state="ended", ended=at, outcome="cut off", source_bytes=source, wire_bytes=wire,
        stored_bytes=0.0, disks=tuple(replace(disk, holds=False) for disk in machine.disks),
    )  # fmt: skip


def _begun(plan: Plan, running: Running, order: Order) -> Plan:
    job = plan.job_by_id[order.job]
    if any(run.job == order.job for run in running.runs):
        raise OrderRefused(f"{job.name} is running; wait until it has ended, or stop it")
    machines = selected_machines(plan, job)
    chosen = set(order.machines or (machine.id for machine in machines))
    unknown = chosen - {machine.id for machine in machines}
    if unknown:
        raise OrderRefused(f"{min(unknown)} is not a machine of {job.name}")
    if not chosen:
        raise OrderRefused(f"{job.name} selects no machine")
    at = running.at
    run = RunningRun(
        job=job.id,
        occurrence=at,
        kind="full" if order.kind == "run in full" else "incremental",
        at_any_time=True,
        machines=tuple(
            RunningMachine(machine.id, "waiting", at if job.before_min <= 0 else None)
            if machine.id in chosen
            else RunningMachine(machine.id, "ended", at, ended=at, outcome="done")
            for machine in machines
        ),
    )
    return _with(plan, replace(running, runs=(*running.runs, run)))


# --- what it does to the night -----------------------------------------------------------------


def effect_in_words(
    plan: Plan, order: Order, before: Forecast, after: Forecast, at: float
) -> list[str]:
    """What an order does, in short sentences: its own end first, then whom it delays or helps."""
    zone = planner_zone(plan)
    said = []
    if order.kind in ("run", "run in full", "retry"):
        own = next(
            (r for r in after.runs if r.job == order.job and abs(r.occurrence - at) < SAME_INSTANT),
            None,
        )
        if own is not None and own.ended is not None:
            end = words.moment(own.ended, zone)
            said.append(f"Ends {end}, after {words.duration(own.ended - at)}.")
            said += _in_limited_hours(after, order.job, at, own.ended, zone)
        said += _skipped(plan, order, after, zone)
    others = [job for job in plan.jobs if job.id != order.job]
    changes = _changes(before.runs, after.runs, {job.id for job in others})
    worse = [change for change in changes if change[1] > MATTERS_S]
    better = [change for change in changes if change[1] < -MATTERS_S]
    for run, late in worse[:3]:
        said.append(
            f"Delays {plan.job_by_id[run.job].name} by {words.duration(late)}{_past_window(run)}."
        )
    if len(worse) > 3:
        said.append(f"Delays {words.count(len(worse) - 3, 'more run')}.")
    if not worse:
        said.append("Delays no other job.")
    for run, late in better[:2]:
        said.append(f"{plan.job_by_id[run.job].name} ends {words.duration(-late)} earlier.")
    missed = _undone(after, order.job) - _undone(before, order.job)
    if missed > 0:
        said.append(f"{words.count(missed, 'more machine')} of other jobs would not be backed up.")
    elif missed < 0:
        said.append(f"{words.count(-missed, 'more machine')} of other jobs would be backed up.")
    return said


def _in_limited_hours(
    forecast: Forecast, job: str, start: float, end: float, zone: str
) -> Iterator[str]:
    """Links that a job loads between two instants while a limit holds on them."""
    for link in forecast.plan.links:
        if not link.limits or end <= start:
            continue
        horizon = max(end, start + DAY)
        series = load_series(forecast, f"link:{link.id}", start, horizon)
        own = [part.steps for part in series.parts if part.job == job]
        capacity = series.capacity or ()
        most = link.carried(link.mbit_per_s)
        ends = [at for at, _ in capacity[1:]] + [horizon]
        for (begins, rate), until in zip(capacity, ends, strict=True):
            if rate < most and any(_loads(steps, begins, min(until, end)) for steps in own):
                yield (
                    f"{words.load_label(forecast.plan, series.name)} carries only {rate:,.0f} "
                    f"Mbit/s meanwhile, until {words.moment(until, zone)}."
                )
                break


def _loads(steps: Floats, begins: float, until: float) -> bool:
    """Whether a load in steps is above nothing at some time between two instants."""
    lasts = [*(float(at) for at, _ in steps[1:]), until]
    return any(
        load > 0 and at < until - SAME_INSTANT and last > begins + SAME_INSTANT
        for (at, load), last in zip(steps.tolist(), lasts, strict=True)
    )


def _past_window(run: Run) -> str:
    return f", {words.duration(run.over_s)} past its window" if run.over_s > MATTERS_S else ""


def _skipped(plan: Plan, order: Order, after: Forecast, zone: str) -> list[str]:
    return [
        f"Its run due {words.moment(run.occurrence, zone)} would be skipped."
        for run in after.runs
        if run.job == order.job and run.outcome == "skipped" and plan.job_by_id
    ][:1]


def _changes(
    before: Sequence[Run], after: Sequence[Run], jobs: set[str]
) -> list[tuple[Run, float]]:
    """Runs of other jobs that end at another time, with how much later, the latest first."""
    was = {(run.job, run.occurrence): run.ended for run in before}
    found = []
    for run in after:
        ended = was.get((run.job, run.occurrence))
        if run.job in jobs and ended is not None and run.ended is not None:
            found.append((run, run.ended - ended))
    return sorted(found, key=lambda change: -change[1])


def _undone(forecast: Forecast, but: str) -> int:
    return sum(
        count
        for run in forecast.runs
        if run.job != but
        for outcome, count in run.outcomes.items()
        if outcome != "done"
    )
