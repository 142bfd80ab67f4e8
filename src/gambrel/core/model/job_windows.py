"""Which window a job runs in: its own, or the default of its machines."""

from __future__ import annotations

from collections.abc import Mapping

from gambrel.core.model.selection import machines_of_rules, selected_machines
from gambrel.core.plan.objects import Job, Plan, Window

_KEPT = "_default_windows"


def window_of(plan: Plan, job: Job) -> Window | None:
    """The window of a job of a plan: its own, else its default; None: it may run at any hour."""
    ident = job.window or _defaults(plan).get(job.id)
    return None if ident is None else plan.window_by_id[ident]


def has_default_window(plan: Plan, job: Job) -> bool:
    """Whether the window of a job is the default of its machines, and not its own."""
    return job.window is None and job.id in _defaults(plan)


def default_window(plan: Plan, job: Job) -> Window | None:
    """The first window of which the rules hold for every machine that a job selects.

    None where it selects none. What the job itself says is not looked at.
    """
    with_rules = [window for window in plan.windows if window.default_for]
    if not with_rules:
        return None
    members = {machine.id for machine in selected_machines(plan, job)}
    if not members:
        return None
    for window in with_rules:
        if members <= {machine.id for machine in machines_of_rules(plan, window.default_for)}:
            return window
    return None


def _defaults(plan: Plan) -> Mapping[str, str]:
    """The default windows of the jobs without one of their own."""
    kept = vars(plan)
    if _KEPT not in kept:
        found = ((job.id, default_window(plan, job)) for job in plan.jobs if job.window is None)
        # A plan does not change: what is found once holds for it.
        kept[_KEPT] = {ident: window.id for ident, window in found if window is not None}
    defaults: Mapping[str, str] = kept[_KEPT]
    return defaults
