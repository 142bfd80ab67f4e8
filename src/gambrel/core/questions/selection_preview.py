"""What a selection takes, what it nearly takes, and who has that already."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from gambrel.core.model.selection import holds, selected_machines, used_gib
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.plan.objects import Job, Machine, Plan
from gambrel.core.schedules.words import listed
from gambrel.core.words import rule_in_words

MOST_NEAR = 40
"""Machines that are nearly selected: more are counted but not told."""


@dataclass(frozen=True, slots=True)
class Selected:
    """A machine of a job.

    Attributes:
        by: how it came in: "by name", or the rules that hold.
        disks: ids of the disks that are protected; left_out: of those that are not.
        protected_bytes: what a restore would need.
        elsewhere: names of the other jobs that have it.
    """

    machine: str
    by: tuple[str, ...]
    disks: tuple[str, ...]
    left_out: tuple[str, ...]
    used_gib: float
    protected_bytes: float
    elsewhere: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Near:
    """A machine that a job nearly selects, and what keeps it out."""

    machine: str
    why: str
    used_gib: float
    elsewhere: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SelectionLook:
    selected: tuple[Selected, ...]
    near: tuple[Near, ...]
    near_count: int
    joins: str


def jobs_of_machines(plan: Plan) -> dict[str, list[Job]]:
    """The jobs of each machine, by the machine's id."""
    found: dict[str, list[Job]] = {machine.id: [] for machine in plan.machines}
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            found[machine.id].append(job)
    return found


def _elsewhere(jobs: Sequence[Job], job: Job) -> tuple[str, ...]:
    return tuple(other.name for other in jobs if other.id != job.id)


def _how(plan: Plan, job: Job, machine: Machine) -> tuple[str, ...]:
    by = ["by name"] if machine.id in job.machines.ids else []
    by += [
        rule_in_words(rule)
        for rule in job.machines.rules
        if all(holds(plan, condition, machine) for condition in rule)
    ]
    return tuple(by)


def _what_is_missing(plan: Plan, job: Job, machine: Machine) -> str | None:
    """The one thing that keeps a machine out; None where it is more than one."""
    if machine.id in job.machines.exclude and _how(plan, job, machine):
        return "left out by name"
    for rule in job.machines.rules:
        failed = [condition for condition in rule if not holds(plan, condition, machine)]
        if len(rule) > 1 and len(failed) == 1:
            return f"it is not {rule_in_words(failed)}"
    return None


def _joins(job: Job) -> str:
    if not job.machines.rules:
        return "Machines are listed by name: what is new does not join by itself."
    rules = " or ".join(rule_in_words(rule) for rule in job.machines.rules)
    return f"Whatever comes to match joins at the next run: {rules}."


def look_at_selection(plan: Plan, job: Job) -> SelectionLook:
    """What a job selects, what it nearly selects, and what would join later."""
    owners = jobs_of_machines(plan)
    selected = []
    taken = set()
    for machine in selected_machines(plan, job):
        taken.add(machine.id)
        disks = protected_disks(job, machine)
        kept = {disk.id for disk in disks}
        selected.append(
            Selected(
                machine.id,
                _how(plan, job, machine),
                tuple(disk.id for disk in disks),
                tuple(disk.id for disk in machine.disks if disk.id not in kept),
                used_gib(machine),
                sum(protected_bytes(job, machine, disk) for disk in disks),
                _elsewhere(owners[machine.id], job),
            )
        )
    near = []
    for machine in plan.machines:
        if machine.id in taken or machine.gone:
            continue
        why = _what_is_missing(plan, job, machine)
        if why is not None:
            others = _elsewhere(owners[machine.id], job)
            near.append(Near(machine.id, why, used_gib(machine), others))
    # What nobody has yet comes first: that is what a planner looks for.
    near.sort(key=lambda entry: (len(entry.elsewhere), -entry.used_gib))
    return SelectionLook(tuple(selected), tuple(near[:MOST_NEAR]), len(near), _joins(job))


def names_in_words(names: Sequence[str], most: int = 3) -> str:
    """ "a, b and c", or "a, b, c and 4 more"."""
    if len(names) <= most:
        return listed(list(names))
    return f"{', '.join(names[:most])} and {len(names) - most} more"
