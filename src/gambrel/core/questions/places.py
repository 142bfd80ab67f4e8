"""What a planner should know of a place: who hands data to whom, its form, loads and slots."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from gambrel.core.loads.load_series import shown_load_names
from gambrel.core.model.destinations import machines_by_destination
from gambrel.core.model.paths import Topology
from gambrel.core.plan.objects import Disk, Machine, Plan, Proxy
from gambrel.core.simulation.forecast import Forecast

SLOTS_PER_CORE = 1.0
"""Streams that a core of a proxy serves without slowing the others down."""
MEMORY_GIB_PER_SLOT = 2.0
"""Memory that one stream needs, in GiB, ..."""
MEMORY_GIB_OF_SYSTEM = 2.0
"""... on top of what the proxy's own system takes."""


@dataclass(frozen=True, slots=True)
class Flow:
    """Data that one place hands to another.

    Attributes:
        from_, to: "datastore:D", "proxy:P", "repository:R" or, for servers, "site:S".
        by: a transport, "agent", "write" or "copy".
        count: of disks, servers or jobs.
        over: the links on its way.
    """

    from_: str
    to: str
    by: str
    count: int
    over: tuple[str, ...]


def flows(plan: Plan) -> list[Flow]:
    """Who reads what and where it goes: to proxies, from there or from servers to repositories."""
    topology = Topology(plan)
    sites = {f"proxy:{proxy.id}": proxy.site for proxy in plan.proxies}
    sites |= {f"repository:{r.id}": r.site for r in plan.repositories}
    sites |= {f"site:{site.id}": site.id for site in plan.sites}
    reads: dict[tuple[str, str, str, str], int] = defaultdict(int)
    writes: dict[tuple[str, str, str], int] = defaultdict(int)
    for job in plan.jobs:
        for home, machines in (machines_by_destination(plan, job) or {job.repository: []}).items():
            target = f"repository:{home}"
            groups: dict[tuple[str | None, str | None], list[tuple[Machine, Disk]]]
            groups = defaultdict(list)
            for machine in machines:
                if machine.kind == "server":
                    writes[f"site:{machine.site}", target, "agent"] += 1
                    continue
                for disk in machine.disks:
                    groups[machine.host, disk.datastore].append((machine, disk))
            for (_, store), disks in groups.items():
                machine, disk = disks[0]
                for candidate in topology.candidates(job, machine, disk):
                    proxy = f"proxy:{plan.proxies[candidate.proxy or 0].id}"
                    by = candidate.transport or ""
                    reads[f"datastore:{store}", proxy, by, plan.site_of(machine)] += len(disks)
                    writes[proxy, target, "write"] += len(disks)
            for copy in job.copies:
                writes[target, f"repository:{copy.repository}", "copy"] += 1

    def over(start: str, end: str) -> tuple[str, ...]:
        return tuple(plan.links[i].id for i in topology.routes.route(start, end) or ())

    return [
        *(
            Flow(a, b, by, n, over(site, sites[b]) if by == "network" else ())
            for (a, b, by, site), n in reads.items()
        ),
        *(Flow(a, b, by, n, over(sites[a], sites[b])) for (a, b, by), n in writes.items()),
    ]


def loads_by_place(plan: Plan) -> Mapping[tuple[str, str], Sequence[str]]:
    """The names of the loads of each place, by the word for its kind and its id."""
    found: dict[tuple[str, str], list[str]] = defaultdict(list)
    for name in shown_load_names(plan):
        kind, _, ident = name.removeprefix("slots:").partition(":")
        found["host" if kind.startswith("host_nic") else kind, ident].append(name)
    return found


@dataclass(frozen=True, slots=True)
class LoadUser:
    """A job that makes a load: bytes moved or seconds of slots held, and how long it waited."""

    job: str
    amount: float
    waited_s: float


def load_users(forecast: Forecast, name: str, start: float, end: float) -> list[LoadUser]:
    """Who makes a load between two instants, the largest first."""
    topology, loads = forecast.topology, forecast.loads
    if name.startswith("slots:"):
        pool = topology.pool(name.removeprefix("slots:"))
        rows, waits = loads.holds_of(pool), loads.waits_of(pool)
        heights = np.ones(len(rows))
    else:
        resource = topology.resource(name)
        rows, waits = loads.uses_of(resource), loads.squeezed_by(resource)
        heights = rows["rate"]

    def lengths(of: Any) -> Any:
        return np.clip(np.minimum(of["end"], end) - np.maximum(of["start"], start), 0, None)

    jobs = len(forecast.plan.jobs)
    amounts = np.bincount(rows["job"], lengths(rows) * heights, jobs)
    waited = np.bincount(waits["job"], lengths(waits), jobs)
    found = [
        LoadUser(job.id, float(amounts[i]), float(waited[i]))
        for i, job in enumerate(forecast.plan.jobs)
        if amounts[i] > 0 or waited[i] > 0
    ]
    return sorted(found, key=lambda user: (-user.amount, -user.waited_s))


# --- one place --------------------------------------------------------------------------------


def advised_slots(proxy: Proxy) -> tuple[int, str] | None:
    """How many slots a proxy's cores and memory serve, and which of them says so; None unknown."""
    found: list[tuple[int, str]] = []
    if proxy.cores is not None:
        found.append((max(1, int(proxy.cores * SLOTS_PER_CORE)), f"{proxy.cores} cores"))
    if proxy.memory_gib is not None:
        fit = int((proxy.memory_gib - MEMORY_GIB_OF_SYSTEM) / MEMORY_GIB_PER_SLOT)
        found.append((max(1, fit), f"{proxy.memory_gib:g} GiB of memory"))
    return min(found, default=None)


def proxy_form(proxy: Proxy) -> str:
    """What a proxy is, in words."""
    if proxy.on_machine is not None:
        return f"the machine {proxy.on_machine}"
    if proxy.on_host is not None:
        return f"on host {proxy.on_host}"
    return "a physical machine" if proxy.physical else "off-host"


def place_notes(plan: Plan, kind: str, item: Any) -> list[str]:
    """What deserves a look at an entry of a list of the plan, in whole sentences."""
    if kind == "links":
        one, other = item.between
        if one != other and not item.encrypted:
            return ["What it carries leaves a site unencrypted."]
    if kind == "proxies":
        advised = advised_slots(item)
        if advised is not None and item.slots > advised[0]:
            return [f"{item.slots} slots are more than its {advised[1]} serve."]
    if kind == "datastores" and not any(
        item.id in stores for stores in plan.direct_by_proxy.values()
    ):
        return ["No proxy reads it directly."]
    return []
