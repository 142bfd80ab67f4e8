"""Who reads a disk and how: routes, resources, slot pools and candidates (section 5)."""

from __future__ import annotations

from collections.abc import Mapping
from copy import copy
from dataclasses import dataclass, replace
from typing import Literal, TypeVar

from gambrel.core.model.destinations import at_destination
from gambrel.core.plan.objects import Disk, Host, Job, Machine, Plan, Proxy, Repository, Transport
from gambrel.core.units import MBIT, MIB

T = TypeVar("T", int, float)
Pin = Literal["transport", "job", "host"]
"""What holds a disk to some of its ways: the job's transport, its pin, the pin of the host."""
PINS: tuple[Pin, ...] = ("transport", "job", "host")

Uses = tuple[tuple[int, float], ...]
"""(resource, amount used per source byte) pairs, in the order of the resources."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A proxy that can read a disk, with the one transport it would use.

    Attributes:
        proxy: position of the proxy in the plan; None for an agent that reads by itself.
        ceiling: the most that one stream moves, in bytes/s.
        raw: resources that carry the source bytes.
        compressed: resources that carry the wire bytes.
    """

    proxy: int | None
    transport: Transport | None
    ceiling: float
    raw: tuple[int, ...]
    compressed: tuple[int, ...]

    def uses(self, wire_per_source: float) -> Uses:
        """What a stream uses of each resource for each source byte it moves."""
        amounts: dict[int, float] = {}
        for resource in self.raw:
            amounts[resource] = amounts.get(resource, 0.0) + 1.0
        for resource in self.compressed:
            amounts[resource] = amounts.get(resource, 0.0) + wire_per_source
        return tuple(sorted(amounts.items()))


def may_send(on: Host | Machine, network: str | None) -> bool:
    """Whether a host or a server may send for a job that is held to a network; None: to none."""
    return network in (None, on.backup_network)


class Routes:
    """Which links lead from one site to another."""

    def __init__(self, plan: Plan) -> None:
        self._own: dict[tuple[str, str | None], tuple[int, ...]] = {}
        self._between: list[tuple[int, str, str]] = []
        for position, link in enumerate(plan.links):
            one, other = link.between
            if one == other:
                self._own.setdefault((one, link.network), (position,))
            else:
                self._between.append((position, one, other))
        self._from: dict[str, dict[str, tuple[int, ...]]] = {}

    def route(self, start: str, end: str, network: str | None = None) -> tuple[int, ...] | None:
        """Positions of the links from one site to another; None where there is no way.

        Within a site: its own link if it has one. Else the fewest links, then the smallest list
        of positions, compared in the direction of travel.

        Args:
            network: the named network that is used within a site; where a site has none of that
                name, its own link.
        """
        if start == end:
            own = self._own.get((start, None), ())
            return self._own.get((start, network), own)
        if start not in self._from:
            self._from[start] = self._search(start)
        return self._from[start].get(end)

    def _search(self, start: str) -> dict[str, tuple[int, ...]]:
        found: dict[str, tuple[int, ...]] = {start: ()}
        edge = {start: ()}
        while edge:
            reached: dict[str, tuple[int, ...]] = {}
            for site, path in edge.items():
                for position, one, other in self._between:
                    if site not in (one, other):
                        continue
                    target = other if site == one else one
                    if target in found:
                        continue
                    longer = (*path, position)
                    if target not in reached or longer < reached[target]:
                        reached[target] = longer
            found.update(reached)
            edge = reached  # type: ignore[assignment]
        return found


def _set(limits: dict[int, T], number: int, limit: T | None) -> None:
    """Write down a limit; there is none where it is None."""
    limits.pop(number, None)
    if limit is not None:
        limits[number] = limit


class Topology:
    """The resources and slot pools of a plan, numbered, and the candidates of its disks.

    Resources are numbered in the order in which a squeeze is named when several bind at once:
    datastores that restores write to, datastores and server disks, host NICs, server NICs (of both
    the first ones, then the second ones), proxies, links, repository reads, repositories, jobs.
    Only those with a capacity are in `capacity` (bytes/s). A slot pool is in `slots` only where it
    is limited.
    """

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.routes = Routes(plan)
        self.resource_names: list[str] = []
        self.capacity: dict[int, float] = {}
        self.pool_names: list[str] = []
        self.slots: dict[int, int] = {}
        self._resource: dict[str, int] = {}
        self._pool: dict[str, int] = {}
        self._number_resources()
        self._number_pools()
        self._candidates: dict[tuple[object, ...], tuple[Candidate, ...]] = {}
        self._ways: dict[tuple[object, ...], tuple[Candidate, ...]] = {}
        self._best: dict[tuple[object, ...], tuple[tuple[int, Transport], ...]] = {}
        self._direct: dict[str, frozenset[int]] = {}
        self._ranks: dict[tuple[str | None, ...], tuple[tuple[int, Transport, int], ...]] = {}
        self._serves: dict[str, frozenset[int]] = {}

    def with_jobs_of(self, plan: Plan) -> Topology:
        """The topology of a plan whose jobs have the ids of these, and which else is the same.

        What does not depend on jobs is shared with this one.
        """
        made = copy(self)
        made.plan, made._candidates, made._ways = plan, {}, {}
        made.capacity, made.slots = dict(self.capacity), dict(self.slots)
        for job in plan.jobs:
            _set(
                made.capacity, self._resource[f"job:{job.id}"], _scaled(MBIT)(job.limit_mbit_per_s)
            )
            _set(made.slots, self._pool[f"job:{job.id}"], job.max_streams)
        return made

    # --- numbering ---

    def _add_resource(self, name: str, capacity: float | None) -> None:
        self._resource[name] = len(self.resource_names)
        self.resource_names.append(name)
        if capacity is not None:
            self.capacity[self._resource[name]] = capacity

    def _number_resources(self) -> None:
        plan = self.plan
        mib = _scaled(MIB)
        mbit = _scaled(MBIT)
        if plan.state.restores:
            # Only restores write to datastores; nothing else needs to know these.
            for store in plan.datastores:
                self._add_resource(f"datastore_write:{store.id}", mib(store.write_mib_per_s))
        for datastore in plan.datastores:
            self._add_resource(f"datastore:{datastore.id}", mib(datastore.read_mib_per_s))
        for machine in plan.machines:
            if machine.kind == "server":
                for disk in machine.disks:
                    name = f"server_disk:{machine.id}/{disk.id}"
                    self._add_resource(name, mib(disk.read_mib_per_s))
        for host in plan.hosts:
            self._add_resource(f"host_nic:{host.id}", mbit(host.nic_mbit_per_s))
        for host in plan.hosts:
            if host.backup_network is not None:
                self._add_resource(f"host_nic_2:{host.id}", mbit(host.backup_nic_mbit_per_s))
        for machine in plan.machines:
            if machine.kind == "server":
                self._add_resource(f"server_nic:{machine.id}", mbit(machine.nic_mbit_per_s))
        for machine in plan.machines:
            if machine.backup_network is not None:
                self._add_resource(
                    f"server_nic_2:{machine.id}", mbit(machine.backup_nic_mbit_per_s)
                )
        for proxy in plan.proxies:
            self._add_resource(f"proxy:{proxy.id}", mib(proxy.mib_per_s))
        for link in plan.links:
            self._add_resource(f"link:{link.id}", link.carried(link.mbit_per_s) * MBIT)
        for repository in plan.repositories:
            self._add_resource(
                f"repository_read:{repository.id}", mib(repository.read_rate_mib_per_s)
            )
        for repository in plan.repositories:
            self._add_resource(f"repository:{repository.id}", mib(repository.ingest_mib_per_s))
        for job in plan.jobs:
            self._add_resource(f"job:{job.id}", mbit(job.limit_mbit_per_s))

    def _add_pool(self, name: str, slots: int | None) -> None:
        self._pool[name] = len(self.pool_names)
        self.pool_names.append(name)
        if slots is not None:
            self.slots[self._pool[name]] = slots

    def _number_pools(self) -> None:
        plan = self.plan
        for proxy in plan.proxies:
            self._add_pool(f"proxy:{proxy.id}", proxy.slots)
        for machine in plan.machines:
            if machine.kind == "server":
                self._add_pool(f"agent:{machine.id}", machine.agent_streams)
        for repository in plan.repositories:
            self._add_pool(f"repository:{repository.id}", repository.streams)
        for datastore in plan.datastores:
            self._add_pool(f"datastore:{datastore.id}", datastore.task_slots)
        for job in plan.jobs:
            self._add_pool(f"job:{job.id}", job.max_streams)
        for host in plan.hosts:
            self._add_pool(f"host:{host.id}", host.snapshot_slots)

    def resource(self, name: str) -> int:
        """The number of a resource by its name, such as `link:quay-hill`. KeyError if unknown."""
        return self._resource[name]

    def knows(self, name: str) -> bool:
        """Whether there is a resource of a name."""
        return name in self._resource

    def pool(self, name: str) -> int:
        """The number of a slot pool by its name, such as `proxy:quay-p2`. KeyError if unknown."""
        return self._pool[name]

    def limited_pools(self, *names: str) -> tuple[int, ...]:
        """Those of the named pools that are limited at all."""
        numbers = (self._pool[name] for name in names)
        return tuple(number for number in numbers if number in self.slots)

    def links(self, route: tuple[int, ...]) -> tuple[int, ...]:
        """The resources of the links of a route."""
        first = self._resource[f"link:{self.plan.links[0].id}"] if self.plan.links else 0
        return tuple(first + position for position in route)

    # --- candidates ---

    def candidates(self, job: Job, machine: Machine, disk: Disk) -> tuple[Candidate, ...]:
        """Who can read a disk for a job, in plan order; empty where there is no path.

        Disks of a job that are read in the same ways are given the same tuple.
        """
        job = at_destination(self.plan, job, machine)
        if machine.kind == "server":
            key: tuple[object, ...] = (job.id, job.repository, machine.id, disk.id)
        else:
            key = (job.id, job.repository, machine.host, disk.datastore)
        if key not in self._candidates:
            find = self._agent if machine.kind == "server" else self._proxies
            self._candidates[key] = find(job, machine, disk)
        return self._candidates[key]

    def unpinned(self, job: Job, machine: Machine, disk: Disk) -> tuple[Candidate, ...]:
        """Who could read a VM's disk for a job of the plan if it and the host had no pins."""
        return self.freed(job, machine, disk, frozenset(PINS))

    def freed(
        self, job: Job, machine: Machine, disk: Disk, pins: frozenset[Pin]
    ) -> tuple[Candidate, ...]:
        """Who could read a VM's disk for a job of the plan without some of its pins."""
        held = {"transport": job.transport != "auto", "job": job.proxies is not None}
        held["host"] = self.plan.host_by_id[machine.host or ""].proxies is not None
        if not any(held[pin] for pin in pins):
            return self.candidates(job, machine, disk)
        job = at_destination(self.plan, job, machine)
        key = ("freed", pins, job.id, job.repository, machine.host, disk.datastore)
        if key not in self._candidates:
            proxies = None if "job" in pins else job.proxies
            free = replace(
                job, proxies=proxies, transport="auto" if "transport" in pins else job.transport
            )
            pinned = "host" not in pins
            self._candidates[key] = self._proxies(free, machine, disk, pinned=pinned)
        return self._candidates[key]

    def pinned_to(
        self, job: Job, machine: Machine, disk: Disk, proxy: str
    ) -> tuple[Candidate, ...]:
        """How one proxy would read a VM's disk for a job of the plan that is pinned to it."""
        job = at_destination(self.plan, job, machine)
        key = ("pinned", proxy, job.id, job.repository, machine.host, disk.datastore)
        if key not in self._candidates:
            only = replace(job, proxies=(proxy,))
            self._candidates[key] = self._proxies(only, machine, disk)
        return self._candidates[key]

    def _agent(self, job: Job, machine: Machine, disk: Disk) -> tuple[Candidate, ...]:
        network = machine.backup_network
        if not may_send(machine, job.network):
            return ()
        repository = self.plan.repository_by_id[job.repository]
        route = self.routes.route(self.plan.site_of(machine), repository.site, network)
        if route is None:
            return ()
        raw = (self.resource(f"server_disk:{machine.id}/{disk.id}"),)
        nic = self.resource(f"{'server_nic' if network is None else 'server_nic_2'}:{machine.id}")
        compressed = (nic, *self._arrival(job, route))
        ceiling = self.plan.transports.agent_mib_per_s * MIB * job.stream_factor
        return (Candidate(None, None, ceiling, raw, compressed),)

    def _arrival(self, job: Job, route: tuple[int, ...]) -> tuple[int, ...]:
        """Resources that carry wire bytes once they have left the reader's site."""
        return (
            *self.links(route),
            self.resource(f"repository:{job.repository}"),
            self.resource(f"job:{job.id}"),
        )

    def _rank(
        self, transport: str, proxy: Proxy, direct: bool, hot_add: bool, host: Host, sends: bool
    ) -> tuple[int, Transport] | None:
        """How well a proxy reaches a disk (0 is best) and by what; None where it does not.

        Args:
            sends: whether the host may send by a network at all.
        """
        if transport in ("auto", "direct") and direct:
            return 0, "direct"
        if transport in ("auto", "hot_add") and hot_add:
            return 1, "hot_add"
        if transport in ("auto", "network") and sends:
            if self.routes.route(host.site, proxy.site) is None:
                return None
            return 2 if proxy.site == host.site else 3, "network"
        return None

    def ranked(
        self, host: Host, datastore: str, transport: str, network: str | None = None
    ) -> tuple[tuple[int, Transport, int], ...]:
        """(rank, transport, position) of all proxies that reach a disk of a host, in plan order.

        Args:
            network: the named network to which the reading job is held.
        """
        sends = may_send(host, network)
        key = (host.id, datastore, transport, network)
        if key not in self._ranks:
            plan = self.plan
            mounted_by = plan.datastore_by_id[datastore].hosts
            reaching = self._reaching(datastore)
            found = []
            for position, proxy in enumerate(plan.proxies):
                on_host = plan.host_of_proxy(proxy)
                hot_add = on_host is not None and on_host in mounted_by
                rank = self._rank(transport, proxy, position in reaching, hot_add, host, sends)
                if rank is not None:
                    found.append((*rank, position))
            self._ranks[key] = tuple(found)
        return self._ranks[key]

    def _serving(self, site: str) -> frozenset[int]:
        """Positions of the proxies from which a route leads to a site."""
        if site not in self._serves:
            self._serves[site] = frozenset(
                i
                for i, proxy in enumerate(self.plan.proxies)
                if self.routes.route(proxy.site, site) is not None
            )
        return self._serves[site]

    def _proxies(
        self, job: Job, machine: Machine, disk: Disk, *, pinned: bool = True
    ) -> tuple[Candidate, ...]:
        plan = self.plan
        assert machine.host is not None and disk.datastore is not None
        host = plan.host_by_id[machine.host]
        allowed = None if job.proxies is None else frozenset(job.proxies)
        if pinned and host.proxies is not None:
            its = frozenset(host.proxies)
            allowed = its if allowed is None else allowed & its
        site = plan.repository_by_id[job.repository].site
        found = self._best_of(host, disk.datastore, job.transport, job.network, site, allowed)
        # Only what is read by the network goes through the host: else all hosts have the same ways.
        through = host.id if any(way == "network" for _, way in found) else None
        key = (job.id, job.repository, disk.datastore, through, found)
        if key not in self._ways:
            self._ways[key] = tuple(self._way(job, machine, disk, *each) for each in found)
        return self._ways[key]

    def _best_of(
        self,
        host: Host,
        datastore: str,
        transport: str,
        network: str | None,
        site: str,
        allowed: frozenset[str] | None,
    ) -> tuple[tuple[int, Transport], ...]:
        """(position, transport) of the proxies that read a disk of a host best, in plan order.

        Args:
            site: where what they read goes to.
            allowed: ids of those that may; None: all may.
        """
        key = (host.id, datastore, transport, network, site, allowed)
        if key not in self._best:
            serving, proxies = self._serving(site), self.plan.proxies
            ranked = [
                entry
                for entry in self.ranked(host, datastore, transport, network)
                if entry[2] in serving and (allowed is None or proxies[entry[2]].id in allowed)
            ]
            best = min((rank for rank, _, _ in ranked), default=0)
            self._best[key] = tuple((i, way) for rank, way, i in ranked if rank == best)
        return self._best[key]

    def _reaching(self, datastore: str) -> frozenset[int]:
        """Positions of the proxies that read a datastore directly."""
        if datastore not in self._direct:
            self._direct[datastore] = frozenset(
                i
                for i, proxy in enumerate(self.plan.proxies)
                if datastore in self.plan.direct_by_proxy[proxy.id]
            )
        return self._direct[datastore]

    def _way(
        self, job: Job, machine: Machine, disk: Disk, position: int, transport: Transport
    ) -> Candidate:
        """The candidate that a proxy is, by the transport that it would use."""
        plan, proxy = self.plan, self.plan.proxies[position]
        assert machine.host is not None
        site = plan.repository_by_id[job.repository].site
        route = self.routes.route(proxy.site, site, job.network)
        assert route is not None
        raw = [self.resource(f"datastore:{disk.datastore}"), self.resource(f"proxy:{proxy.id}")]
        ceilings = {
            "direct": plan.transports.direct_mib_per_s,
            "hot_add": plan.transports.hot_add_mib_per_s,
            "network": plan.transports.network_mib_per_s,
        }
        if transport == "network":
            host = plan.host_by_id[machine.host]
            way = self.routes.route(host.site, proxy.site, host.backup_network)
            assert way is not None
            nic = "host_nic" if host.backup_network is None else "host_nic_2"
            raw += [self.resource(f"{nic}:{machine.host}"), *self.links(way)]
        return Candidate(
            position,
            transport,
            ceilings[transport] * MIB * job.stream_factor,
            tuple(raw),
            self._arrival(job, route),
        )

    # --- work between repositories ---

    def copy_uses(self, source: Repository, target: Repository) -> Uses | None:
        """What a copy uses for each byte it carries; None where no route leads there."""
        route = self.routes.route(source.site, target.site)
        if route is None:
            return None
        return tuple(
            (resource, 1.0)
            for resource in sorted(
                (
                    self.resource(f"repository_read:{source.id}"),
                    *self.links(route),
                    self.resource(f"repository:{target.id}"),
                )
            )
        )

    def restore_uses(
        self,
        repository: Repository,
        machine: Machine,
        to_host: str | None,
        written_to: Mapping[str, float],
        read_per_written: float,
    ) -> Uses:
        """What a restore uses for each byte it writes (section 14).

        Args:
            to_host: of a VM; None: its own.
            written_to: the part of all written bytes that belongs to each datastore.
            read_per_written: ρ, bytes read from the repository for each byte written.
        """
        plan = self.plan
        if machine.kind == "server":
            site = plan.site_of(machine)
            uses = {self.resource(f"server_nic:{machine.id}"): 1.0}
        else:
            host = machine.host if to_host is None else to_host
            assert host is not None
            site = plan.host_by_id[host].site
            uses = {
                self.resource(f"datastore_write:{store.id}"): written_to[store.id]
                for store in plan.datastores
                if host in store.hosts and store.id in written_to
            }
            uses[self.resource(f"host_nic:{host}")] = 1.0
        route = self.routes.route(repository.site, site)
        assert route is not None
        for resource in (*self.links(route), self.resource(f"repository_read:{repository.id}")):
            uses[resource] = read_per_written
        return tuple(sorted(uses.items()))


def _scaled(unit: float):  # type: ignore[no-untyped-def]
    return lambda value: None if value is None else value * unit
