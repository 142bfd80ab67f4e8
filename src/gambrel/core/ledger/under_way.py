"""The state of a plan as the ledger knows it: where the rest of the night begins (section 15)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from gambrel.core.ledger.records import DiskRecord, MachineRecord, RunRecord
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    compression,
    disks_at,
    protected_bytes,
    protected_disks,
)
from gambrel.core.plan.objects import (
    ExistingPoint,
    Job,
    Machine,
    Plan,
    Running,
    RunningDisk,
    RunningMachine,
    RunningRun,
    State,
)
from gambrel.core.units import MINUTE


def state_from(
    plan: Plan, points: Iterable[ExistingPoint], runs: Iterable[RunRecord], at: float
) -> State:
    """What is under way at an instant, from what runners have reported by then.

    A disk that moves has the bytes that were told last; what it moves in all follows from section
    4. Machines that the plan selects and nobody has reported wait. A machine that failed counts as
    cut off.
    """
    running = Running(
        at=at,
        runs=tuple(
            _run(plan, run)
            for run in sorted(runs, key=lambda run: (run.began or 0.0, run.job))
            if run.began is not None and run.ended is None and run.job in plan.job_by_id
        ),
    )
    return State(points=tuple(points), running=running, sizes_as_of=plan.state.sizes_as_of)


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
        first = tuple(replace(disk, holds=i == 0) for i, disk in enumerate(disks))
        return replace(told, state="preparing", kind=record.kind or "incremental", disks=first)
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
