"""Orders: what each does to a plan and to what is under way, and what that does to the night."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from gambrel.core import words
from gambrel.core.loads.load_series import Floats, load_series
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import Plan, Running, RunningMachine, RunningRun
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT

OrderKind = Literal["run", "run in full", "retry", "stop", "hold", "release"]
ORDER_KINDS: tuple[OrderKind, ...] = ("run", "run in full", "retry", "stop", "hold", "release")
MATTERS_S = MINUTE
"""A run that ends less than this later is not delayed."""


class OrderRefused(ValueError):
    """An order that cannot be carried out now; the text says why."""


@dataclass(frozen=True, slots=True)
class Order:
    """What a runner is asked to do.

    Attributes:
        machines: of the job; none: all that it selects.
        occurrence: of "stop", which run; None: the one that is under way.
    """

    kind: OrderKind
    job: str
    machines: tuple[str, ...] = ()


def order_in_words(plan: Plan, order: Order) -> str:
    """The order as a sentence for lists and the audit trail."""
    job = plan.job_by_id[order.job].name
    of = f"{words.count(len(order.machines), 'machine')} of {job}" if order.machines else job
    return {
        "run": f"Run {of} now",
        "run in full": f"Run {of} once in full",
        "retry": f"Retry {of}",
        "stop": f"Stop {of}",
        "hold": f"Hold {job}",
        "release": f"Release {job}",
    }[order.kind]


def ordered(plan: Plan, order: Order) -> Plan:
    """A plan that is under way once an order has been taken, at the instant of its state.

    Raises:
        OrderRefused: where it cannot be carried out at that instant.
    """
    running = plan.state.running
    assert running is not None
    if order.kind in ("hold", "release"):
        job = plan.job_by_id[order.job]
        held = replace(job, on_hold=order.kind == "hold", hold_until=None)
        if held.on_hold == job.on_hold:
            raise OrderRefused(f"{job.name} {'is on hold already' if job.on_hold else 'runs'}")
        return replace(plan, jobs=tuple(held if j.id == job.id else j for j in plan.jobs))
    if order.kind == "stop":
        return _stopped(plan, running, order)
    return _begun(plan, running, order)


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
