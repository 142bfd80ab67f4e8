"""A job that nobody has made yet: so much data at a site, and the plan as if it were there."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace
from itertools import count, islice

import numpy as np

from gambrel.core.edits.item_edits import OperationError, free_id
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import (
    KINDS,
    Disk,
    Job,
    Kind,
    Machine,
    Plan,
    Selection,
)
from gambrel.core.simulation.known_points import SAVED_POINT, Snapshot
from gambrel.core.units import DAY, EPOCH, GIB

MOST_MACHINES = 500
MOST_GIB = 1_000_000.0


@dataclass(frozen=True, slots=True)
class Imagined:
    """What a job would protect and how.

    Attributes:
        gib: the used space of all its machines together.
        machines: how many it would be spread over evenly.
        daily_change: as of a machine.
        site: id of the site at which they run.
        window: id; None: without a window.
    """

    gib: float
    machines: int
    daily_change: float
    site: str
    repository: str
    kind: Kind
    window: str | None

    def check(self, plan: Plan) -> None:
        """Raises OperationError for what is out of range or not in the plan."""
        if not 0 < self.gib <= MOST_GIB:
            raise OperationError("gib", self.gib, f"is not above 0 and at most {MOST_GIB:,.0f} GiB")
        if not 1 <= self.machines <= MOST_MACHINES:
            raise OperationError("machines", self.machines, f"is not between 1 and {MOST_MACHINES}")
        if not 0 <= self.daily_change <= 10:
            raise OperationError("daily_change", self.daily_change, "is not between 0 and 10")
        known = (
            ("site", self.site, plan.site_by_id, "site"),
            ("repository", self.repository, plan.repository_by_id, "repository"),
            ("window", self.window, plan.window_by_id, "window"),
        )
        for field, value, there, noun in known:
            if value is not None and value not in there:
                raise OperationError(field, value, f"is no {noun} of this plan")


def _busiest_place(plan: Plan, site: str) -> tuple[str, str] | None:
    """The (host, datastore) of a site on which the VMs with the most used space are."""
    used: dict[tuple[str, str], float] = defaultdict(float)
    for store in plan.datastores:
        for host in store.hosts:
            if plan.host_by_id[host].site == site:
                used[host, store.id] += 0.0
    for machine in plan.machines:
        for disk in machine.disks:
            place = (machine.host or "", disk.datastore or "")
            if place in used:
                used[place] += disk.used_gib
    return max(used, key=lambda place: used[place], default=None)


def with_imagined(plan: Plan, wanted: Imagined) -> tuple[Plan, Job, str]:
    """The plan with an imagined job and its machines at the end of their lists; the job; in words
    where the machines would run.

    The machines are VMs on the host and the datastore of the site that hold the most data; at a
    site without any they are servers. The job has no schedule: whoever asks for room gives it one
    run.

    Raises:
        OperationError: see `Imagined.check`.
    """
    wanted.check(plan)
    place = _busiest_place(plan, wanted.site)
    size = wanted.gib / wanted.machines
    free = (name for n in count(1) if (name := f"imagined-{n}") not in plan.machine_by_id)
    idents = tuple(islice(free, wanted.machines))
    change = wanted.daily_change
    if place is None:
        disks = (Disk("0", size, size),)
        made = [Machine(i, "server", disks, site=wanted.site, daily_change=change) for i in idents]
        words = f"as physical servers at {wanted.site}"
    else:
        host, store = place
        disks = (Disk("0", size, size, datastore=store),)
        made = [Machine(i, "vm", disks, host=host, daily_change=change) for i in idents]
        words = f"as VMs on {host}, datastore {store}"
    job = Job(
        id=free_id(plan.job_by_id, "imagined job"),
        name="the imagined job",
        machines=Selection(ids=idents),
        repository=wanted.repository,
        window=wanted.window,
        chain="differential" if wanted.kind == "differential" else "incremental",
    )
    grown = replace(plan, machines=(*plan.machines, *made))
    jobs = tuple(_without(grown, other, idents) for other in plan.jobs)
    return replace(grown, jobs=(*jobs, job)), job, words


def _without(plan: Plan, job: Job, machines: tuple[str, ...]) -> Job:
    """A job that keeps out machines which its rules would take."""
    taken = {machine.id for machine in selected_machines(plan, job)}.intersection(machines)
    if not taken:
        return job
    exclude = (*job.machines.exclude, *sorted(taken))
    return replace(job, machines=replace(job.machines, exclude=exclude))


def with_fulls(plan: Plan, job: Job, points: Snapshot, from_: float) -> Snapshot:
    """Points for a simulation from an instant on, with a full of each machine of a job a day old.

    Without one the first run of each machine would be a full, whatever is asked for.
    """
    repository = [r.id for r in plan.repositories].index(job.repository)
    places = {machine.id: i for i, machine in enumerate(plan.machines)}
    rows = np.zeros(len(job.machines.ids), SAVED_POINT)
    rows["repository"], rows["job"] = repository, plan.job_position[job.id]
    rows["machine"] = [places[ident] for ident in job.machines.ids]
    rows["kind"], rows["base"], rows["usable"] = KINDS.index("full"), -1, 1
    rows["at"] = rows["exists_from"] = from_ - EPOCH - DAY
    rows["stored_bytes"] = [
        sum(disk.used_gib for disk in plan.machine_by_id[ident].disks) * GIB
        for ident in job.machines.ids
    ]
    return Snapshot(np.concatenate([points.points, rows]))
