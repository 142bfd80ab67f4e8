"""Which proxy reads which machines, by which transport, and why not by a better one (section 5)."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

from gambrel.core.model.paths import Topology
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.objects import Disk, Host, Machine, Plan, Proxy, Transport

GroupBy = Literal["host", "datastore", "tag"]
GROUPS: tuple[GroupBy, ...] = ("host", "datastore", "tag")
_BEST_FIRST: tuple[Transport, ...] = ("direct", "hot_add", "network")
_SAID = {"direct": "direct", "hot_add": "hot-add", "network": "network"}


@dataclass(frozen=True, slots=True)
class Reach:
    """How one proxy could read the disks of one host on one datastore.

    Attributes:
        transport: the best one that it has; None where it reaches nothing.
        why: a line for each transport, best first: why it is used, or why it is not possible.
        pinned: whether the host is pinned to other proxies, which forbids this one.
    """

    transport: Transport | None
    why: tuple[str, ...]
    pinned: bool


def reach(topology: Topology, host: Host, datastore: str, proxy: Proxy) -> Reach:
    """How a proxy could read disks of a host on a datastore, whatever jobs may say."""
    plan = topology.plan
    ways = dict(
        zip(
            _BEST_FIRST,
            (
                _direct(plan, datastore, proxy),
                _hot_add(plan, datastore, proxy),
                _network(topology, host, proxy),
            ),
            strict=True,
        )
    )
    best: Transport | None = next((way for way in _BEST_FIRST if ways[way][0]), None)
    lines = []
    for way, (possible, words) in ways.items():
        lines.append(f"{_SAID[way]}: {'yes' if possible else 'no'}, {words}")
        if way == best:
            break
    pinned = host.proxies is not None and proxy.id not in host.proxies
    if pinned:
        allowed = " or ".join(host.proxies or ()) or "no proxy"
        lines.insert(0, f"not used: host {host.id} is pinned to {allowed}")
    return Reach(best, tuple(lines), pinned)


def _direct(plan: Plan, datastore: str, proxy: Proxy) -> tuple[bool, str]:
    if datastore in plan.direct_by_proxy[proxy.id]:
        zoned = proxy.id in plan.datastore_by_id[datastore].zoned_proxies
        by = "the storage is zoned to it" if zoned else "set by hand"
        return True, f"it reads {datastore} itself ({by})"
    if datastore in proxy.left_out_datastores:
        return False, f"{datastore} is left out of what it reads"
    return False, f"it is not connected to {datastore}"


def _hot_add(plan: Plan, datastore: str, proxy: Proxy) -> tuple[bool, str]:
    on_host = plan.host_of_proxy(proxy)
    if on_host is None:
        return False, "it runs on no host"
    if on_host in plan.datastore_by_id[datastore].hosts:
        return True, f"its host {on_host} mounts {datastore}"
    return False, f"its host {on_host} does not mount {datastore}"


def _network(topology: Topology, host: Host, proxy: Proxy) -> tuple[bool, str]:
    route = topology.routes.route(host.site, proxy.site)
    if route is None:
        return False, f"no link leads from {host.site} to {proxy.site}"
    if host.site == proxy.site:
        return True, f"both stand at {proxy.site}"
    links = ", ".join(topology.plan.links[position].id for position in route)
    return True, f"from {host.site} to {proxy.site} over {links}"


# --- the table --------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Cell:
    """What a proxy is to a group of machines.

    Attributes:
        disks: how many disks of the group it could read, by transport.
        unreached: how many it could not, pins of hosts included.
        jobs: ids of the jobs that may have it read some of these disks.
    """

    proxy: str
    disks: tuple[tuple[Transport, int], ...]
    unreached: int
    jobs: tuple[str, ...]

    @property
    def best(self) -> Transport | None:
        """The transport of most of the disks that it could read."""
        return max(self.disks, key=lambda entry: entry[1])[0] if self.disks else None


@dataclass(frozen=True, slots=True)
class ReachRow:
    """A group of machines that are read alike as far as the grouping tells."""

    name: str
    machines: int
    used_gib: float
    cells: tuple[Cell, ...]


def _groups(machine: Machine, disk: Disk, by: GroupBy) -> Iterable[str]:
    if by == "host":
        return (machine.host or "",)
    if by == "datastore":
        return (disk.datastore or "",)
    return machine.tags or ("(no tag)",)


def _disks(plan: Plan) -> Iterator[tuple[Machine, Disk]]:
    for machine in plan.machines:
        if machine.kind == "vm" and not machine.gone:
            for disk in machine.disks:
                yield machine, disk


Place = tuple[str, str]
"""(host, datastore): disks of one place are read alike by any one job."""


@dataclass(slots=True)
class _Members:
    """What a group holds: machines, and by place its disks and the jobs that protect them."""

    machines: set[str] = field(default_factory=set)
    used_gib: float = 0.0
    disks: dict[Place, int] = field(default_factory=lambda: defaultdict(int))
    jobs: dict[Place, dict[str, tuple[Machine, Disk]]] = field(
        default_factory=lambda: defaultdict(dict)
    )


def _members(plan: Plan, by: GroupBy) -> dict[str, _Members]:
    jobs_of: dict[str, list[str]] = defaultdict(list)
    for job in plan.jobs:
        for machine in selected_machines(plan, job):
            jobs_of[machine.id].append(job.id)
    found: dict[str, _Members] = defaultdict(_Members)
    for machine, disk in _disks(plan):
        place = (machine.host or "", disk.datastore or "")
        for group in _groups(machine, disk, by):
            members = found[group]
            members.machines.add(machine.id)
            members.used_gib += disk.used_gib
            members.disks[place] += 1
            for name in jobs_of[machine.id]:
                members.jobs[place].setdefault(name, (machine, disk))
    return found


def reach_table(plan: Plan, by: GroupBy) -> Sequence[ReachRow]:
    """Groups of VMs against proxies, in the order in which the groups first come up."""
    topology = Topology(plan)
    rows = []
    for group, members in _members(plan, by).items():
        used_by: dict[int, dict[str, None]] = defaultdict(dict)
        for jobs in members.jobs.values():
            for name, (machine, disk) in jobs.items():
                for candidate in topology.candidates(plan.job_by_id[name], machine, disk):
                    if candidate.proxy is not None:
                        used_by[candidate.proxy][name] = None
        counted: list[dict[Transport, int]] = [{} for _ in plan.proxies]
        for (host_id, store), disks in members.disks.items():
            host = plan.host_by_id[host_id]
            allowed = None if host.proxies is None else set(host.proxies)
            for _, transport, position in topology.ranked(host, store, "auto"):
                if allowed is None or plan.proxies[position].id in allowed:
                    of = counted[position]
                    of[transport] = of.get(transport, 0) + disks
        total = sum(members.disks.values())
        cells = [
            Cell(
                proxy.id,
                tuple((way, of[way]) for way in _BEST_FIRST if way in of),
                total - sum(of.values()),
                tuple(used_by[position]),
            )
            for position, (proxy, of) in enumerate(zip(plan.proxies, counted, strict=True))
        ]
        rows.append(ReachRow(group, len(members.machines), members.used_gib, tuple(cells)))
    return tuple(rows)


@dataclass(frozen=True, slots=True)
class ReachReason:
    """Why a proxy reads disks of a host on a datastore as it does."""

    host: str
    datastore: str
    disks: int
    found: Reach


def reach_reasons(plan: Plan, by: GroupBy, group: str, proxy: str) -> Sequence[ReachReason]:
    """The reasons behind a cell, by host and datastore, most disks first.

    Raises:
        KeyError: for a proxy that the plan does not have.
    """
    topology = Topology(plan)
    reader = next((x for x in plan.proxies if x.id == proxy), None)
    if reader is None:
        raise KeyError(proxy)
    counted: dict[tuple[str, str], int] = defaultdict(int)
    for machine, disk in _disks(plan):
        if group in _groups(machine, disk, by):
            counted[machine.host or "", disk.datastore or ""] += 1
    ordered = sorted(counted.items(), key=lambda entry: -entry[1])
    return tuple(
        ReachReason(host, store, disks, reach(topology, plan.host_by_id[host], store, reader))
        for (host, store), disks in ordered
    )
