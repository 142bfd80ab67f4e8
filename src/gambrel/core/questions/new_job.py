"""What a new job starts from: settings that suit the plan, another job, or a template."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import date, datetime, time
from typing import Any

from gambrel.core.edits.item_edits import OperationError, free_id, item_value
from gambrel.core.model.selection import selected_machines, used_gib
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import Job, Plan, RuleSchedule, Schedule
from gambrel.core.plan.reading import SCHEDULE
from gambrel.core.schedules.words import CODES, rule_parts

INCREMENTALS_AT = time(20, 0)
FULLS_AT = time(21, 0)
RETENTION = {"days": 14, "weekly": 4}
OF_ONE_JOB = ("id", "name", "machines", "exclude_disks", "exclude_paths", "locked", "on_hold",
              "hold_until")  # fmt: skip
"""What is not taken over from another job."""


def quietest_day(plan: Plan) -> int:
    """The weekday on which the fewest bytes of weekly fulls are due; 0 is Monday."""
    load = [0.0] * 7
    for job in plan.jobs:
        size = sum(map(used_gib, selected_machines(plan, job)))
        for schedule in job.schedules:
            if schedule.kind != "full" or not isinstance(schedule, RuleSchedule):
                continue
            parts = rule_parts(schedule.rrule)
            codes = parts.get("BYDAY", CODES[schedule.start.weekday()]).split(",")
            for code in CODES if parts["FREQ"] == "DAILY" and "BYDAY" not in parts else codes:
                if code[-2:] in CODES:
                    load[CODES.index(code[-2:])] += size
    return min(range(7), key=lambda day: (load[day], -day))


def _repository(plan: Plan, machines: Sequence[str]) -> str:
    """The repository that most jobs use, at the site of most of the machines if there is one."""
    sites = Counter(plan.site_of(plan.machine_by_id[m]) for m in machines)
    used = Counter(job.repository for job in plan.jobs)
    if not plan.repositories:
        raise OperationError("repository", None, "cannot be chosen: the plan has none yet")
    return max(
        plan.repositories,
        key=lambda r: (sites[r.site] if sites else 0, used[r.id], -plan.repositories.index(r)),
    ).id


def _window(plan: Plan) -> str | None:
    """The window that most jobs use; for the first job of a plan its only window."""
    used = Counter(job.window for job in plan.jobs if job.window is not None)
    if used:
        return used.most_common(1)[0][0]
    return plan.windows[0].id if not plan.jobs and len(plan.windows) == 1 else None


def _schedules(plan: Plan, day: date) -> list[Schedule]:
    zone = planner_zone(plan)
    full = quietest_day(plan)
    others = ",".join(code for i, code in enumerate(CODES) if i != full)
    rules = (
        ("incremental", f"FREQ=WEEKLY;BYDAY={others}", INCREMENTALS_AT),
        ("full", f"FREQ=WEEKLY;BYDAY={CODES[full]}", FULLS_AT),
    )
    return [
        RuleSchedule(kind, rule, datetime.combine(day, at), zone)  # type: ignore[arg-type]
        for kind, rule, at in rules
    ]


def new_job(
    plan: Plan,
    name: str,
    day: date,
    *,
    machines: Sequence[str] = (),
    like: Job | None = None,
    template: Mapping[str, Any] | None = None,
    schedules: Sequence[Schedule] | None = None,
) -> dict[str, Any]:
    """A new job as the plan file has it, ready to be edited and added.

    Without a model it runs incrementals every night and a full on the night that has the fewest,
    in the window and the repository that most jobs use.

    Args:
        day: the first date on which it may run.
        machines: ids that it lists by name.
        like: a job whose settings it takes over.
        template: settings to take over (keys of a job in the plan file).
        schedules: when it runs, where that is known and there is no model.

    Raises:
        OperationError: for an unknown machine, and where the plan has no repository.
    """
    for machine in machines:
        if machine not in plan.machine_by_id:
            raise OperationError("machines", machine, "is not the id of a machine of this plan")
    own = {"id": free_id(plan.job_by_id, name), "name": name, "machines": {"ids": list(machines)}}
    model = template if like is None else item_value(like, "jobs")
    if model is not None:
        kept = {key: value for key, value in model.items() if key not in OF_ONE_JOB}
        return {**own, **kept}
    value = {
        **own,
        "repository": _repository(plan, machines),
        "schedules": [SCHEDULE.write(each) for each in schedules or _schedules(plan, day)],
        "retention": RETENTION,
    }
    window = _window(plan)
    if window is not None:
        value["window"] = window
    return value
