"""Which window a job runs in: its own, or the default of its machines."""

from __future__ import annotations

from collections.abc import Mapping

from gambrel.core.model.selection import machines_of_rules, selected_machines
from gambrel.core.plan.objects import Job, Plan, Window

_KEPT = "_default_windows"


def window_id_of(plan: Plan, job: Job) -> str | None:
    """The window of a job of a plan: its own, else its default; None: it may run at any hour."""
    return job.window or _defaults(plan).get(job.id)


def window_of(plan: Plan, job: Job) -> Window | None:
    """The window that `window_id_of` names."""
    ident = window_id_of(plan, job)
    return None if ident is None else plan.window_by_id[ident]


def has_default_window(plan: Plan, job: Job) -> bool:
    """Whether the window of a job is the default of its machines, and not its own."""
    return job.window is None and job.id in _defaults(plan)


def default_window(plan: Plan, job: Job) -> str | None:
    """The window that is the default of all machines of a job, whatever the job itself says.

    The first of the plan; None where there is none, or the job selects no machine.
    """
    return _default(plan, job, _covered(plan))


def _covered(plan: Plan) -> Mapping[str, frozenset[str]]:
    """The machines that each default window covers, by its id."""
    return {
        window.id: frozenset(m.id for m in machines_of_rules(plan, window.default_for))
        for window in plan.windows
        if window.default_for
    }


def _default(plan: Plan, job: Job, covered: Mapping[str, frozenset[str]]) -> str | None:
    members = {machine.id for machine in selected_machines(plan, job)} if covered else None
    if not members:
        return None
    return next((ident for ident, machines in covered.items() if members <= machines), None)


def _defaults(plan: Plan) -> Mapping[str, str]:
    """The default windows of the jobs without one of their own."""
    kept = vars(plan)
    if _KEPT not in kept:
        covered = _covered(plan)
        found = ((job.id, _default(plan, job, covered)) for job in plan.jobs if job.window is None)
        # A plan does not change: what is found once holds for it.
        kept[_KEPT] = {job: window for job, window in found if window is not None}
    defaults: Mapping[str, str] = kept[_KEPT]
    return defaults
