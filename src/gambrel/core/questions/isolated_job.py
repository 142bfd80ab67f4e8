"""A job by itself: its plan without the other jobs, for questions that take weeks of simulation."""

from __future__ import annotations

from dataclasses import replace

from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Job, Plan


def schedules_of(plan: Plan, job: Job) -> Job:
    """A job with schedules of its own: one that follows another takes that one's."""
    seen = {job.id}
    leader = job
    while leader.after is not None and leader.after not in seen:
        seen.add(leader.after)
        leader = plan.job_by_id[leader.after]
    return job if leader is job else replace(job, after=None, schedules=leader.schedules)


def alone(plan: Plan, job: Job, machines: frozenset[str] | None = None) -> Plan:
    """The plan with one job only, its machines and its restore points.

    Args:
        machines: ids to which its machines are narrowed; None: all that it selects.
    """
    chosen = {m.id for m in selected_machines(plan, job)}
    if machines is not None and job.spread_fulls > 1:
        # Which day is a machine's full depends on all of them; so the others stay without disks.
        others = chosen.difference(machines)
        job = replace(
            job,
            exclude_disks=(
                *job.exclude_disks,
                *((m.id, d.id) for m in plan.machines if m.id in others for d in m.disks),
            ),
        )
    elif machines is not None:
        chosen = chosen.intersection(machines)
    needed = chosen.union(p.on_machine for p in plan.proxies if p.on_machine is not None)
    narrowed = replace(
        schedules_of(plan, job),
        on_hold=False,
        hold_until=None,
        machines=replace(
            job.machines,
            ids=tuple(m for m in job.machines.ids if m in chosen),
            exclude=tuple(sorted(needed.difference(chosen))),
        ),
        exclude_paths=tuple(x for x in job.exclude_paths if x.machine in chosen),
    )
    points = tuple(p for p in plan.state.points if p.job == job.id and p.machine in chosen)
    return replace(
        plan,
        jobs=(narrowed,),
        machines=tuple(m for m in plan.machines if m.id in needed),
        state=replace(plan.state, points=points),
    )
