"""The restores of a plan's state as arrays: what each may start from and what it uses."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from gambrel.core.model.restore import stream_ceiling, target_rate, target_site
from gambrel.core.model.tiers import tier_ages
from gambrel.core.model.volume import left_out_bytes, protected_disks
from gambrel.core.plan.objects import (
    Job,
    Machine,
    Plan,
    PlannedRestore,
    Repository,
    Running,
    RunningRestore,
)
from gambrel.core.plan.places import MOST_TIERS
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.job_arrays import Row, table
from gambrel.core.simulation.engine.layout import Layout
from gambrel.core.units import GIB, MBIT, MIB, MINUTE, SAME_INSTANT

Chains = Sequence[tuple[int, int, int]]
"""(repository, job, machine) of each chain, all by position."""


class RestoreArrays(NamedTuple):
    """Rows of RESTORE, in the order of the queue, with those that belong to them.

    Attributes:
        squeezed: seconds of each restore before the walk began, as in `World.restore_squeezed`.
    """

    restore: t.Table
    option: t.Table
    use: t.Table
    disk: t.Table
    squeezed: tuple[tuple[float, ...], ...]

    @property
    def uses_most(self) -> int:
        """The most resources that one of them uses."""
        return int(self.option["uses_n"].max(initial=0))


def chains_of_restores(plan: Plan, running: Running | None) -> list[tuple[int, int, int]]:
    """(repository, job, machine) of the points from which restores under way read.

    The points themselves may be gone since.
    """
    if running is None or not running.restores:
        return []
    planned = {restore.id: restore for restore in plan.state.restores}
    repositories = {repository.id: i for i, repository in enumerate(plan.repositories)}
    machines = {machine.id: i for i, machine in enumerate(plan.machines)}
    return [
        (
            repositories[told.point.repository],
            plan.job_position[told.point.job],
            machines[planned[told.id].machine],
        )
        for told in running.restores
        if told.point is not None
    ]


def restore_arrays(
    layout: Layout,
    plan: Plan,
    chains: t.Ints,
    from_: float,
    to: float,
    running: Running | None = None,
) -> RestoreArrays:
    """The restores that come due in [from_, to), after those that are under way at `from_`.

    Args:
        chains: as `Walk.chains`.
    """
    told = {restore.id: restore for restore in (running.restores if running else ())}
    made = _Rows(layout, plan)
    if plan.state.restores:
        _add_all(made, [*map(tuple, chains.tolist())], from_, to, told)
    return RestoreArrays(
        table(t.RESTORE, made.restores),
        table(t.OPTION, made.options),
        table(t.RESTORE_USE, made.uses),
        table(t.RESTORE_DISK, made.disks),
        tuple(made.squeezed),
    )


def _add_all(
    made: _Rows, chains: Chains, from_: float, to: float, told: Mapping[str, RunningRestore]
) -> None:
    """Add the restores that are under way, by `told`, and then those that come due."""
    plan = made.plan
    of_machine: dict[int, list[int]] = {}
    for number, (_, _, machine) in enumerate(chains):
        of_machine.setdefault(machine, []).append(number)
    begun = sorted((told[r.id].due, i) for i, r in enumerate(plan.state.restores) if r.id in told)
    coming = sorted(
        (max(restore.at, from_), i)
        for i, restore in enumerate(plan.state.restores)
        if restore.id not in told and max(restore.at, from_) < to - SAME_INSTANT
    )
    positions = {machine.id: i for i, machine in enumerate(plan.machines)}
    last: dict[int, int] = {}
    for row, (at, position) in enumerate([*begun, *coming]):
        planned = plan.state.restores[position]
        machine = positions[planned.machine]
        made.add(planned, machine, position, at - t.EPOCH, last.get(machine, -1), chains,
                 of_machine.get(machine, []), told.get(planned.id))  # fmt: skip
        last[machine] = row


def squeezes_of(world: t.World, option: Any, seconds: t.Floats) -> dict[int, float]:
    """The seconds of a restore's row by what limited it: 0 its own ceiling, then resources + 1."""
    first, count = int(option["uses_from"]), int(option["uses_n"])
    resources = world.restore_use["resource"][first : first + count].tolist()
    numbers = [0, *(resource + 1 for resource in resources)]
    told = seconds[: count + 1].tolist()
    return {number: each for number, each in zip(numbers, told, strict=True) if each > 0}


class _Rows:
    def __init__(self, layout: Layout, plan: Plan) -> None:
        self.layout = layout
        self.plan = plan
        self.restores: list[Row] = []
        self.options: list[Row] = []
        self.uses: list[Row] = []
        self.disks: list[Row] = []
        self.squeezed: list[tuple[float, ...]] = []

    def add(
        self,
        planned: PlannedRestore,
        machine: int,
        position: int,
        due: float,
        before: int,
        chains: Chains,
        mine: Sequence[int],
        told: RunningRestore | None,
    ) -> None:
        """Add a restore with its options, those in the order of the result file."""
        plan, named = self.plan, planned.point
        first = len(self.options)
        for number in sorted(mine, key=lambda chain: chains[chain]):
            repository, job, _ = chains[number]
            place = (plan.jobs[job].id, plan.repositories[repository].id)
            if named is None or place == (named.job, named.repository):
                self._add_option(planned, plan.machines[machine], number, chains[number])
        self.restores.append(
            {
                "position": position,
                "machine": machine,
                "instant": int(planned.method == "instant"),
                "before": before,
                "options_from": first,
                "options_n": len(self.options) - first,
                "outcome": -1,
                "seen": -1,
                "point": -1,
                "state": t.R_COMING,
                "option": 0,
                "points_n": 0,
                "due": due,
                "share": planned.share,
                "ceiling": stream_ceiling(plan, plan.machines[machine]),
                "named_at": np.nan if named is None else named.at - t.EPOCH,
                "start": np.nan,
                "back": np.nan,
                "whole": np.nan,
                **dict.fromkeys(("at", "read", "written", "done", "delay"), 0.0),
            }
        )
        self.squeezed.append(())
        if told is not None:
            self._go_on(told, chains)

    def _go_on(self, told: RunningRestore, chains: Chains) -> None:
        """Put what a restore under way has done into its row, the last one."""
        row = self.restores[-1]
        row["state"] = t.R_DUE
        if told.start is None or told.point is None:
            return
        first = int(row["options_from"])
        place = (told.point.job, told.point.repository)
        option = next(
            number
            for number in range(first, first + int(row["options_n"]))
            if self._place_of(chains[int(self.options[number]["chain"])]) == place
        )
        row |= {
            "state": t.R_UNDER_WAY,
            "option": option,
            "points_n": told.points or 1,
            "at": told.point.at - t.EPOCH,
            "start": told.start - t.EPOCH,
            "back": np.nan if told.back is None else told.back - t.EPOCH,
            "read": told.read_bytes,
            "written": told.written_bytes,
            "done": told.moved_bytes,
            "delay": told.delay_s,
        }
        seconds = dict(told.squeeze_s)
        uses = int(self.options[option]["uses_from"])
        names = self.layout.topology.resource_names
        columns = ("transport", *(names[int(use["resource"])] for use in self.uses[uses:]))
        count = 1 + int(self.options[option]["uses_n"])
        self.squeezed[-1] = tuple(seconds.get(name, 0.0) for name in columns[:count])

    def _place_of(self, chain: tuple[int, int, int]) -> tuple[str, str]:
        return self.plan.jobs[chain[1]].id, self.plan.repositories[chain[0]].id

    def _add_option(
        self, planned: PlannedRestore, machine: Machine, number: int, key: tuple[int, int, int]
    ) -> None:
        plan, topology = self.plan, self.layout.topology
        repository, job = plan.repositories[key[0]], plan.jobs[key[1]]
        route = topology.routes.route(repository.site, target_site(plan, machine, planned.to_host))
        links = [] if route is None else [plan.links[position] for position in route]
        pools = topology.limited_pools(f"repository:{repository.id}")
        disks_from, uses_from = len(self.disks), len(self.uses)
        disks = protected_disks(job, machine)
        place: dict[int, int] = {}
        if route is not None:
            stores = {disk.datastore: 1.0 for disk in disks if disk.datastore is not None}
            used = topology.restore_uses(repository, machine, planned.to_host, stores, 0.0)
            for k, (resource, _) in enumerate(used):
                name = topology.resource_names[resource]
                place[resource] = k
                self.uses.append({"resource": resource, "what": _what(name)})
        for disk in disks:
            written_to = -1
            if disk.datastore is not None:
                written_to = topology.resource(f"datastore_write:{disk.datastore}")
            self.disks.append(
                {
                    "use": place.get(written_to, -1),
                    "used": disk.used_gib * GIB,
                    "left_out": left_out_bytes(job, machine, disk),
                }
            )
        self.options.append(
            {
                "chain": number,
                "routed": int(route is not None),
                "pool": pools[0] if pools else -1,
                "sequential": int(repository.sequential),
                "uses_from": uses_from,
                "uses_n": len(self.uses) - uses_from,
                "disks_from": disks_from,
                "disks_n": len(self.disks) - disks_from,
                "growth": 1.0 + machine.facts.growth_per_year,
                "dedupe": repository.dedupe_ratio,
                "link": min(
                    (link.carried(link.mbit_per_s) * MBIT for link in links), default=np.inf
                ),
                "read": np.inf
                if repository.read_rate_mib_per_s is None
                else repository.read_rate_mib_per_s * MIB,
                "target": target_rate(plan, machine, planned.to_host),
                "first_byte": repository.first_byte_s,
                **_tiers(repository, job),
            }
        )


def _tiers(repository: Repository, job: Job) -> Row:
    """The colder tiers of a repository for the points of a job."""
    found: Row = {}
    ages = tier_ages(repository, job)
    for i in range(MOST_TIERS):
        there = i < len(ages)
        found[f"cold_{i + 1}"] = ages[i] if there else np.inf
        found[f"delay_{i + 1}"] = repository.tiers[i].delay_min * MINUTE if there else 0.0
    return found


def _what(resource: str) -> int:
    kind = resource.partition(":")[0]
    if kind == "datastore_write":
        return t.U_PART
    return t.U_WRITTEN if kind in ("host_nic", "server_nic") else t.U_READ
