"""Jobs that a move splits: which job of the first plan each job of another one comes from."""

from __future__ import annotations

import numpy as np

from gambrel.core.plan.objects import Job, Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.known_points import Snapshot


def origins(first: Plan, plan: Plan) -> t.Ints:
    """The position in the first plan of what each job of a plan is, or was split from.

    A job that a split makes stands behind the one that it comes from; see `SplitJob`.
    """
    known = first.job_position
    found = np.array([known.get(job.id, -1) for job in plan.jobs], np.int64)
    # Of each the nearest row, at it or before it, that the first plan knows.
    rows = np.maximum.accumulate(np.where(found >= 0, np.arange(len(found)), 0))
    return found[rows] if len(found) else found


def jobs_from(first: Plan, plan: Plan, ident: str) -> list[Job]:
    """What a job of the first plan has become in a plan: itself, and what was split from it."""
    position = first.job_position[ident]
    of_each = zip(plan.jobs, origins(first, plan).tolist(), strict=True)
    return [job for job, origin in of_each if origin == position]


def is_split(first: Plan, plan: Plan) -> bool:
    """Whether a plan that moves make of the first one has jobs that are split."""
    return len(plan.jobs) != len(first.jobs)


def points_after(first: Plan, plan: Plan, points: Snapshot) -> Snapshot:
    """The points of the first plan under their owners in a plan that moves make of it.

    Those of the machines of a new job go along with them.
    """
    if not is_split(first, plan):
        return points
    place = {machine.id: i for i, machine in enumerate(first.machines)}
    rows = points.points.copy()
    was = points.points["job"]
    for position, (job, origin) in enumerate(
        zip(plan.jobs, origins(first, plan).tolist(), strict=True)
    ):
        mine = was == origin
        if job.id != first.jobs[origin].id:
            theirs = [place[name] for name in job.machines.ids if name in place]
            mine &= np.isin(rows["machine"], theirs)
        rows["job"][mine] = position
    return Snapshot(rows)
