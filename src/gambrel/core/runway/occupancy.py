"""Who takes how much: provisioned, used, read and stored, by group, at a date."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from math import isnan, nan
from types import MappingProxyType
from typing import Literal, get_args

import numpy as np

from gambrel.core.loads.lanes import tier_of
from gambrel.core.model.destinations import destination_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.tiers import tier_at
from gambrel.core.model.volume import growth_factor
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.runway.projection import Projection
from gambrel.core.units import DAY, GIB, TIB

Grouping = Literal[
    "machine", "folder", "tag", "owner", "tier", "role", "kind", "site", "cluster", "repository",
    "job",
]  # fmt: skip
GROUPINGS: tuple[Grouping, ...] = get_args(Grouping)

READ_DAYS = 28
"""Over how many days what was read is summed: four weeks, so that each weekday counts alike."""
NOTHING = "none"
"""The group of what has no such thing."""


@dataclass(slots=True)
class Occupied:
    """What a group takes at an instant, in bytes.

    Attributes:
        machines: how many there are; `protected`: how many are in a job.
        provisioned, used: of their disks, all of them. Of a job: of the disks that it takes.
        read: source bytes that runs read in the days before the instant.
        stored: points in the repositories of the jobs that made them, `copies`: in others.
        by_repository: both together, by id.
        cost: of its points for a month, by the tiers in which they lie; `priced`: whether every
            price that this needs is stated.
    """

    group: str
    machines: int = 0
    protected: int = 0
    provisioned: float = 0.0
    used: float = 0.0
    read: float = 0.0
    stored: float = 0.0
    copies: float = 0.0
    by_repository: dict[str, float] = field(default_factory=dict)
    cost: float = 0.0
    priced: bool = True

    def add(self, repository: str, amount: float, price: float | None, *, copy: bool) -> None:
        """Count bytes of points, at a price for a TiB and month."""
        self.cost += 0.0 if price is None else amount / TIB * price
        self.priced &= price is not None
        if copy:
            self.copies += amount
        else:
            self.stored += amount
        self.by_repository[repository] = self.by_repository.get(repository, 0.0) + amount


@dataclass(frozen=True, slots=True)
class Occupancy:
    """All groups at an instant, the largest first, and what they come to.

    Attributes:
        total: of the whole plan; a machine with two tags is in two groups and counts once.
    """

    at: float
    groups: tuple[Occupied, ...]
    total: Occupied


def groups_of(plan: Plan, machine: Machine, by: Grouping) -> list[str]:
    """The groups that a machine belongs to; of a tag as many as it has."""
    host = plan.host_by_id.get(machine.host or "")
    found: dict[Grouping, Callable[[], list[str]]] = {
        "machine": lambda: [machine.id],
        "folder": lambda: [machine.folder or NOTHING],
        "tag": lambda: list(machine.tags) or [NOTHING],
        "owner": lambda: [machine.facts.owner or NOTHING],
        "tier": lambda: [tier_of(machine)],
        "role": lambda: [machine.facts.role or NOTHING],
        "kind": lambda: ["virtual machine" if machine.kind == "vm" else "physical server"],
        "site": lambda: [plan.site_by_id[plan.site_of(machine)].name],
        "cluster": lambda: [host.cluster if host and host.cluster else NOTHING],
    }
    return found[by]()


def occupancy(
    projection: Projection,
    at: float,
    by: Grouping,
    *,
    read_before: Mapping[tuple[str, str], float] = MappingProxyType({}),
) -> Occupancy:
    """Who takes how much at one of a projection's samples.

    Args:
        at: one of `projection.samples`; so must be the instant READ_DAYS before it, if that is
            within the projection.
        read_before: source bytes by (job, machine) that were read in the days that count but lie
            before the projection begins.

    Costs by tier need the points of repositories with tiers to be kept; without, all of them count
    as lying at first.

    Raises:
        ValueError: where `at` is no sample.
    """
    samples = projection.samples
    s = int(np.argmin(np.abs(samples - at)))
    if abs(samples[s] - at) > 1:
        raise ValueError("the instant is not one of those that were looked at")
    count = _Count(projection, s, by)
    count.machines()
    count.points()
    count.read(read_before)
    groups = [g for g in count.found.values() if g.machines or g.stored or g.copies or g.read]
    groups.sort(key=lambda g: (-(g.stored + g.copies), -g.used, g.group))
    return Occupancy(float(samples[s]), tuple(groups), count.total)


class _Count:
    def __init__(self, projection: Projection, sample: int, by: Grouping) -> None:
        self.projection, self.sample, self.by = projection, sample, by
        self.plan = projection.plan
        self.found: dict[str, Occupied] = {}
        self.total = Occupied("all")
        self._prices = self._prices_by_tier()
        self.there = [self._is_there(m) for m in self.plan.machines]

    def _is_there(self, machine: Machine) -> bool:
        life = self.projection.lifetimes.get(machine.id)
        at = self.projection.samples[self.sample]
        return not machine.gone and (life is None or life.since <= at < life.until)

    def _group(self, name: str) -> Occupied:
        return self.found.setdefault(name, Occupied(name))

    def _of(self, machine: Machine, job: int | None, repository: int | None) -> list[Occupied]:
        if self.by == "job":
            return [] if job is None else [self._group(self.plan.jobs[job].name)]
        if self.by == "repository":
            return [] if repository is None else [self._group(self._repository(repository))]
        return [self._group(name) for name in groups_of(self.plan, machine, self.by)]

    def _repository(self, position: int) -> str:
        return self.plan.repositories[position].id

    def machines(self) -> None:
        """Count machines with their disks."""
        jobs_of: dict[str, list[int]] = {}
        for j, job in enumerate(self.plan.jobs):
            for machine in selected_machines(self.plan, job):
                jobs_of.setdefault(machine.id, []).append(j)
        at = float(self.projection.samples[self.sample])
        as_of = self.plan.state.sizes_as_of
        grows = self.projection.provisioned_grows
        for machine, there in zip(self.plan.machines, self.there, strict=True):
            if not there:
                continue
            factor = growth_factor(machine, as_of, at)
            provisioned = sum(d.provisioned_gib for d in machine.disks) * GIB
            used = sum(
                d.used_gib * factor if grows else min(d.used_gib * factor, d.provisioned_gib)
                for d in machine.disks
            ) * GIB  # fmt: skip
            provisioned *= factor if grows else 1.0
            jobs = jobs_of.get(machine.id, [])
            if self.by == "job":
                groups = [g for j in jobs for g in self._of(machine, j, None)]
            elif self.by == "repository":
                where = dict.fromkeys(
                    self.plan.repositories.index(self.plan.repository_by_id[name])
                    for j in jobs
                    for name in (
                        destination_of(self.plan, self.plan.jobs[j], machine),
                        *(copy.repository for copy in self.plan.jobs[j].copies),
                    )
                )
                groups = [g for r in where for g in self._of(machine, None, r)]
            else:
                groups = self._of(machine, None, None)
            for group in (*groups, self.total):
                group.machines += 1
                group.protected += bool(jobs)
                group.provisioned += provisioned
                group.used += used

    def points(self) -> None:
        """Count the points of each machine, those that no job looks after too."""
        plan, s = self.plan, self.sample
        for j, space in enumerate(self.projection.jobs):
            homes = len(space.job.repositories)
            for i, position in enumerate(space.machines.tolist()):
                machine = plan.machines[position]
                for place, repository in enumerate(space.repositories):
                    amount = float(space.stored[i, place, s])
                    if amount:
                        groups = self._of(machine, j, repository)
                        key = (repository, j, position)
                        self._add(groups, key, amount, copy=place >= homes)
        at = float(self.projection.samples[s])
        for job, position, repository, amount in self.projection.rest_at(at):
            groups = self._of(plan.machines[position], job, repository)
            home = plan.repositories[repository].id in plan.jobs[job].repositories
            self._add(groups, (repository, job, position), amount, copy=not home)

    def _add(
        self, groups: Iterable[Occupied], key: tuple[int, int, int], amount: float, *, copy: bool
    ) -> None:
        price = self._prices.get(key, self.plan.repositories[key[0]].price_per_tib_month)
        for group in (*groups, self.total):
            group.add(self._repository(key[0]), amount, price, copy=copy)

    def _prices_by_tier(self) -> dict[tuple[int, int, int], float | None]:
        """The price of a TiB of each (repository, job, machine) whose points lie in tiers.

        That of a mixture is the mean, weighted by the bytes that lie in each tier.
        """
        at = float(self.projection.samples[self.sample])
        found: dict[tuple[int, int, int], float | None] = {}
        for position, repository in enumerate(self.plan.repositories):
            if not repository.tiers or not self.projection.keeps_points:
                continue
            rows = self.projection.rows_of(position)
            rows = rows[(rows["since"] <= at + 1e-6) & (rows["gone"] > at + 1e-6)]
            sums: dict[tuple[int, int, int], list[float]] = {}
            for job, machine, begun, stored in zip(
                *(rows[name].tolist() for name in ("job", "machine", "at", "stored_bytes")),
                strict=True,
            ):
                tier = tier_at(repository, self.plan.jobs[job], at - begun)
                price = repository.price_per_tib_month if tier is None else tier.price_per_tib_month
                total = sums.setdefault((position, job, machine), [0.0, 0.0])
                total[0] += stored
                total[1] += nan if price is None else stored * price
            for key, (stored, paid) in sums.items():
                found[key] = None if isnan(paid) else paid / stored if stored else 0.0
        return found

    def read(self, before: Mapping[tuple[str, str], float]) -> None:
        """Count what runs read in the days before the instant."""
        plan, s = self.plan, self.sample
        samples = self.projection.samples
        since = max(float(samples[s]) - READ_DAYS * DAY, float(samples[0]))
        first = int(np.argmin(np.abs(samples - since)))
        if abs(samples[first] - since) > 1:
            raise ValueError("nobody looked at the instant from which on reading is counted")
        for space in self.projection.jobs:
            position = plan.job_position[space.job.id]
            for i, number in enumerate(space.machines.tolist()):
                amount = float(space.read[i, s] - space.read[i, first])
                self._add_read(plan.machines[number], position, amount)
        for (job, name), amount in before.items():
            if name in plan.machine_by_id and job in plan.job_position:
                self._add_read(plan.machine_by_id[name], plan.job_position[job], amount)

    def _add_read(self, machine: Machine, job: int, amount: float) -> None:
        name = destination_of(self.plan, self.plan.jobs[job], machine)
        home = self.plan.repositories.index(self.plan.repository_by_id[name])
        for group in (*self._of(machine, job, home), self.total):
            group.read += amount
