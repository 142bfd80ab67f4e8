"""The state of a plan as the ledger knows it: where the rest of the night begins (section 15)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from gambrel.core.ledger.records import DiskRecord, MachineRecord, RunRecord
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    compression,
    disk_volume,
    disks_at,
    protected_bytes,
    protected_disks,
)
from gambrel.core.plan.objects import (
    ExistingPoint,
    Job,
    Kind,
    Machine,
    Plan,
    Running,
    RunningCopy,
    RunningDisk,
    RunningMachine,
    RunningRun,
    State,
)
from gambrel.core.units import DAY, MINUTE

COPIED_WITHIN_S = 2 * DAY
"""A copy that is not there after so long is not made any more."""


def state_from(
    plan: Plan, points: Iterable[ExistingPoint], runs: Iterable[RunRecord], at: float
) -> State:
    """What is under way at an instant, from what runners have reported by then.

    A disk that moves has the bytes that were told last; what it moves in all follows from section
    4. Machines that the plan selects and nobody has reported wait. A machine that failed counts as
    cut off. Copies whose points are not there yet are to be made in full.
    """
    points, runs = tuple(points), list(runs)
    running = Running(
        at=at,
        copies=tuple(_copies(plan, points, runs, at)),
        runs=tuple(
            _run(plan, run)
            for run in sorted(runs, key=lambda run: (run.began or 0.0, run.job))
            if run.began is not None and run.ended is None and run.job in plan.job_by_id
        ),
    )
    return State(points=points, running=running, sizes_as_of=plan.state.sizes_as_of)


def _copies(
    plan: Plan, points: Sequence[ExistingPoint], runs: Iterable[RunRecord], at: float
) -> Iterator[RunningCopy]:
    """The copies that are to be made of the points of late: no runner tells of one before it is
    done. One of a machine-run that is not over comes from that."""
    records = {
        (run.job, name, _in_ms(record.start)): (run, record)
        for run in runs
        for name, record in run.machines.items()
        if record.start is not None
    }
    # A copy is there later than what it is a copy of.
    late = [point for point in points if point.exists_from >= at - COPIED_WITHIN_S]
    there = {(point.job, point.machine, point.repository, _in_ms(point.at)) for point in late}
    orders: dict[str, dict[str, int]] = {}
    for point in late:
        job, machine = plan.job_by_id.get(point.job), plan.machine_by_id.get(point.machine)
        if job is None or machine is None or not job.copies:
            continue
        if point.repository != destination_of(plan, job, machine):
            continue
        run, record = records.get((job.id, machine.id, _in_ms(point.at)), (None, None))
        if record is not None and record.ended is None:
            continue
        if job.id not in orders:
            selected = selected_machines(plan, job)
            orders[job.id] = {each.id: i for i, each in enumerate(selected)}
        order = orders[job.id].get(machine.id)
        if order is None:
            continue
        done = point.exists_from if record is None or record.ended is None else record.ended
        for number, copy in enumerate(job.copies):
            if (job.id, machine.id, copy.repository, _in_ms(point.at)) not in there:
                yield RunningCopy(
                    job=job.id,
                    machine=machine.id,
                    copy=number,
                    occurrence=point.at if run is None else run.occurrence,
                    order=order,
                    kind=point.kind,
                    start=point.at,
                    stored_bytes=point.stored_bytes,
                    due=done + copy.delay_min * MINUTE,
                )


def _in_ms(instant: float) -> int:
    """An instant as runners tell it: two that were rounded alike are the same."""
    return round(instant * 1e3)


def _run(plan: Plan, run: RunRecord) -> RunningRun:
    job = plan.job_by_id[run.job]
    queued = run.occurrence + job.before_min * MINUTE
    return RunningRun(
        job=run.job,
        occurrence=run.occurrence,
        kind=run.kind or "incremental",
        at_any_time=run.order is not None,
        machines=tuple(
            _machine(plan, job, machine, run.machines.get(machine.id), queued, ordered=run.order)
            for machine in selected_machines(plan, job)
        ),
    )


def _machine(
    plan: Plan,
    job: Job,
    machine: Machine,
    record: MachineRecord | None,
    queued: float,
    *,
    ordered: int | None,
) -> RunningMachine:
    if record is None:
        if ordered is not None:
            # An order names its machines: the others of the job have nothing to do in it.
            return RunningMachine(machine.id, "ended", queued, ended=queued, outcome="done")
        return RunningMachine(machine.id, "waiting", queued)
    told = RunningMachine(
        machine.id,
        "waiting",
        queued=queued if record.queued is None else record.queued,
        start=record.start,
        kind=record.kind if record.start is not None else None,
        source_bytes=record.source_bytes,
        wire_bytes=record.wire_bytes,
        stored_bytes=record.stored_bytes,
    )
    if record.ended is not None:
        outcome = "cut off" if record.outcome == "failed" else record.outcome
        return replace(told, state="ended", ended=record.ended, outcome=outcome)
    if record.start is None:
        return told
    disks = tuple(
        _disk(record.disks.get(disk.id), disk.id) for disk in protected_disks(job, machine)
    )
    step = record.step
    if step == "preparing":
        first = _first_disk(job, machine, told.kind or "incremental")
        disks = tuple(replace(disk, holds=disk.disk == first) for disk in disks)
        return replace(told, state="preparing", kind=record.kind or "incremental", disks=disks)
    told = replace(told, kind=record.kind or "incremental", disks=disks)
    if step == "moving":
        return replace(told, state="moving")
    read = record.disks.values()
    wire = record.wire_bytes or sum(disk.wire_bytes for disk in read)
    return replace(
        told,
        state="releasing" if step == "releasing" else "verifying",
        moved=record.moved,
        released=record.released,
        source_bytes=record.source_bytes or sum(disk.source_bytes for disk in read),
        wire_bytes=wire,
        stored_bytes=record.stored_bytes or _stored(plan, job, machine, told, wire),
        disks=tuple(replace(disk, holds=False, moved=True) for disk in disks),
    )


def _first_disk(job: Job, machine: Machine, kind: Kind) -> str | None:
    """The disk that holds a slot while its machine prepares: the one with most to read."""
    since = None if kind == "full" else DAY
    disks = protected_disks(job, machine)
    sizes = {disk.id: disk_volume(job, machine, disk, since).source for disk in disks}
    return max(sizes, key=lambda disk: sizes[disk], default=None)


def _stored(plan: Plan, job: Job, machine: Machine, told: RunningMachine, wire: float) -> float:
    """What a machine's new point takes, where nobody has told it: section 4."""
    dedupe = plan.repository_by_id[destination_of(plan, job, machine)].dedupe_ratio
    if told.kind == "full" and told.start is not None:
        disks = disks_at(job, machine, plan.state.sizes_as_of, told.start)
        protected = sum(protected_bytes(job, machine, disk) for disk in disks)
        return protected / compression(job, machine) / dedupe
    return wire / dedupe


def _disk(record: DiskRecord | None, disk: str) -> RunningDisk:
    if record is None:
        return RunningDisk(disk)
    transport = None if record.transport == "agent" else record.transport
    return RunningDisk(
        disk,
        proxy=record.proxy,
        transport=transport,  # type: ignore[arg-type]
        holds=not record.moved,
        moved=record.moved,
        moved_bytes=record.source_bytes,
    )
