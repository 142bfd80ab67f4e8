"""Copies to another site that would have saved what a loss takes for good."""

from __future__ import annotations

from collections.abc import Iterable

from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.paths import Routes
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Copy, Job, Plan, Repository
from gambrel.core.plan.shapes import shape_of
from gambrel.core.recovery.coming_back import Recovery
from gambrel.core.recovery.loss import Lost

KEPT_DAYS = 14
"""How long such a copy is kept."""
_COPY = shape_of(Copy)
_UNLIKELY = ("tape",)
"""Kinds of repositories that are only taken where there is no other."""


def jobs_without_copy(plan: Plan, recovery: Recovery) -> list[Job]:
    """Jobs that protected machines for which no point is left, and all of whose points are lost."""
    without = {row.machine for row in recovery.rows if row.outcome == "no point"}
    lost = recovery.lost.repositories
    return [
        job
        for job in plan.jobs
        if all(copy.repository in lost for copy in job.copies)
        and any(
            machine.id in without and destination_of(plan, job, machine) in lost
            for machine in selected_machines(plan, job)
        )
    ]


def copies_that_help(plan: Plan, lost: Lost, jobs: Iterable[Job]) -> list[ChangeItem]:
    """A copy of each job to a repository that the loss leaves, where a route leads to one.

    Each goes to the one with the most room of those that can be read back at once.
    """
    routes = Routes(plan)
    found = []
    for job in jobs:
        homes = [plan.repository_by_id[name] for name in job.repositories]
        reached = [
            each
            for each in plan.repositories
            if each.id not in lost.repositories
            and each not in homes
            and all(routes.route(home.site, each.site) is not None for home in homes)
        ]
        if not reached:
            continue
        best = max(reached, key=_room)
        made = [_COPY.write(copy) for copy in job.copies]
        made.append({"repository": best.id, "retention": {"days": KEPT_DAYS}})
        found.append(ChangeItem("jobs", job.id, {"copies": made}))
    return found


def _room(repository: Repository) -> tuple[bool, float]:
    capacity = float("inf") if repository.capacity_gib is None else repository.capacity_gib
    return repository.kind not in _UNLIKELY and not repository.sequential, capacity
