"""How a machine came into a job, and which jobs would suit one that is in none."""

from __future__ import annotations

from collections.abc import Iterable

from gambrel.core.model.selection import holds, selected_machines
from gambrel.core.plan.objects import Job, Machine, Plan
from gambrel.core.words import rule_in_words


def how_selected(plan: Plan, job: Job, machine: Machine) -> str:
    """Why a job selects a machine, in words; "" where it does not."""
    if machine.id in job.machines.ids:
        return "listed by its name"
    for rule in job.machines.rules:
        if all(holds(plan, condition, machine) for condition in rule):
            return rule_in_words(rule)
    return ""


def jobs_of(plan: Plan, machine: Machine) -> set[str]:
    """The ids of the jobs that select a machine."""
    return {job.id for job in plan.jobs if machine in selected_machines(plan, job)}


def suitable_jobs(plan: Plan, machine: Machine) -> list[tuple[Job, int]]:
    """All jobs, those first that have most machines like this one, with how many they have.

    Alike are machines of the same kind and site that share the folder, the host or the role.
    """

    def alike(other: Machine) -> bool:
        if plan.site_of(other) != plan.site_of(machine) or other.kind != machine.kind:
            return False
        role = bool(machine.facts.role) and other.facts.role == machine.facts.role
        return other.folder == machine.folder or other.host == machine.host or role

    def number(machines: Iterable[Machine]) -> int:
        return sum(alike(other) for other in machines)

    counted = [(job, number(selected_machines(plan, job))) for job in plan.jobs]
    return sorted(counted, key=lambda entry: -entry[1])
