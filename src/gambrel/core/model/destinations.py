"""Where the backups of each machine of a job go: to its own destination, or to the job's."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from gambrel.core.model.selection import machines_of_rules, selected_machines
from gambrel.core.plan.objects import Destination, Job, Machine, Plan

_KEPT = "_destinations"


def destination_of(plan: Plan, job: Job, machine: Machine) -> str:
    """The repository of a machine of a job: that of the first destination that names it."""
    if not job.destinations:
        return job.repository
    # A plan does not change: what is found once holds for it.
    known: dict[tuple[Destination, ...], Mapping[str, str]] = _kept(plan, "machines")
    if job.destinations not in known:
        found: dict[str, str] = {}
        for each in job.destinations:
            for found_by_rule in machines_of_rules(plan, each.rules):
                found.setdefault(found_by_rule.id, each.repository)
        known[job.destinations] = found
    return known[job.destinations].get(machine.id, job.repository)


def at_destination(plan: Plan, job: Job, machine: Machine) -> Job:
    """The job as it is for one of its machines: its repository is that of the machine."""
    repository = destination_of(plan, job, machine)
    if repository == job.repository:
        return job
    # With the job, as nothing else may come to have its id meanwhile.
    known: dict[tuple[int, str], tuple[Job, Job]] = _kept(plan, "jobs")
    key = id(job), repository
    if key not in known:
        known[key] = (job, replace(job, repository=repository, destinations=()))
    return known[key][1]


def machines_by_destination(plan: Plan, job: Job) -> dict[str, list[Machine]]:
    """The machines of a job by the repository that they go to, the job's own first.

    Repositories to which none goes are not among them.
    """
    found: dict[str, list[Machine]] = {repository: [] for repository in job.repositories}
    for machine in selected_machines(plan, job):
        found[destination_of(plan, job, machine)].append(machine)
    return {repository: machines for repository, machines in found.items() if machines}


def _kept(plan: Plan, what: str) -> dict[Any, Any]:
    found: dict[Any, Any] = vars(plan).setdefault(_KEPT, {}).setdefault(what, {})
    return found
