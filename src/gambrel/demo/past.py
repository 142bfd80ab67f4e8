"""Restore points of the weeks before a sample plan begins.

They are computed from the plan's own schedules and volumes, as if every past run had moved at its
due time, and thinned by the plan's own retention. A sample then opens in mid-life, with
incrementals due, and not with a first full of everything.
"""

from __future__ import annotations

from typing import Any
from zoneinfo import ZoneInfo

from gambrel.core.model.destinations import destination_of
from gambrel.core.model.retention import Point, PointStore
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    compression,
    disk_volume,
    effective_kind,
    protected_bytes,
    protected_disks,
)
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.objects import Job, Machine, Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.schedules.calendars import job_occurrences
from gambrel.core.units import DAY, MINUTE

SPREAD_MIN = 4
"""Minutes between the points of one run's machines."""


def _due(plan: Plan, job: Job, from_: float, to: float) -> list[tuple[float, Any]]:
    """Past occurrences of a job; a job that follows another has those of the one it follows."""
    lead = job
    while lead.after is not None:
        lead = plan.job_by_id[lead.after]
    found = job_occurrences(lead, plan.calendar_by_id, from_, to)
    return [(instant, kind) for instant, kind, _ in found]


def _make_point(
    job: Job, machine: Machine, store: PointStore, key: tuple[int, int, int], at: float, kind: Any,
    dedupe: float,
) -> None:  # fmt: skip
    full = store.newest_full(key)
    kind = effective_kind(job, kind, full is not None)
    base = store.base_for(key, kind)
    since = None if base is None else at - base.at
    disks = protected_disks(job, machine)
    if since is None:
        stored = sum(protected_bytes(job, machine, disk) for disk in disks) / compression(
            job, machine
        )
    else:
        stored = sum(disk_volume(job, machine, disk, since).wire for disk in disks)
    exists = at + 10 * MINUTE
    store.add(key, Point(kind, round(at), round(exists), round(stored / dedupe), base))


def existing_points(file: dict[str, Any], at: float, days: float) -> list[dict[str, Any]]:
    """The `state.points` of a plan file at an instant, from the `days` before it."""
    plan = read_plan(file)
    repositories = {repository.id: i for i, repository in enumerate(plan.repositories)}
    machines = {machine.id: i for i, machine in enumerate(plan.machines)}
    store = PointStore()
    for position, job in enumerate(plan.jobs):
        selected = selected_machines(plan, job)
        copies = [(copy.repository, copy.retention) for copy in job.copies]
        for instant, kind in _due(plan, job, at - days * DAY, at - DAY / 4):
            for order, machine in enumerate(selected):
                start = min(instant + order * SPREAD_MIN * MINUTE, at - DAY / 8)
                home = destination_of(plan, job, machine)
                for target, retention in ((home, job.retention), *copies):
                    repository = plan.repository_by_id[target]
                    key = (repositories[target], position, machines[machine.id])
                    _make_point(job, machine, store, key, start, kind, repository.dedupe_ratio)
                    zone = ZoneInfo(plan.site_by_id[repository.site].time_zone)
                    if job.chain == "forever":
                        store.merge(key, retention, start, zone)
                    else:
                        store.apply(key, retention, start, repository.immutable_days, zone)
    return [
        {
            "job": plan.jobs[job].id,
            "machine": plan.machines[machine].id,
            "repository": plan.repositories[repository].id,
            "kind": point.kind,
            "at": format_instant(point.at).replace(".000Z", "Z"),
            "exists_from": format_instant(point.exists_from).replace(".000Z", "Z"),
            "stored_bytes": point.stored_bytes,
        }
        for (repository, job, machine), points in store.items()
        for point in sorted(points, key=lambda point: point.at)
    ]
