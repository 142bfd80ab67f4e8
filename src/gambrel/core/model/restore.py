"""How long it takes to have a machine back (section 10)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from math import inf
from typing import TypeVar

from gambrel.core.model.paths import Routes
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.units import HOUR, MBIT, MIB, SAME_INSTANT

SET_UP_S = 120.0
PER_POINT_S = 20.0
FILES_S = 30.0

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Restore:
    """A restore of one machine from one point.

    Attributes:
        points: length of the chain.
        read_bytes: read from the repository, written_bytes: written to the machine.
        full_s: the whole machine.
        instant_s: running from the repository.
        files_s: single files.
    """

    points: int
    read_bytes: float
    written_bytes: float
    full_s: float
    instant_s: float
    files_s: float


def target_site(plan: Plan, machine: Machine, to_host: str | None = None) -> str:
    """The site to which a machine comes back: that of a host, else where it runs or stands."""
    return plan.site_of(machine) if to_host is None else plan.host_by_id[to_host].site


def stream_ceiling(plan: Plan, machine: Machine) -> float:
    """Bytes/s at which one stream writes a machine at most."""
    server = machine.kind == "server"
    return (plan.transports.agent_mib_per_s if server else plan.transports.network_mib_per_s) * MIB


def _target_rate(plan: Plan, machine: Machine, to_host: str | None) -> float:
    """Bytes/s at which a machine can be written, never more than its NIC or its host's."""
    if machine.kind == "server":
        nic = machine.nic_mbit_per_s
    else:
        host = machine.host if to_host is None else to_host
        assert host is not None
        nic = plan.host_by_id[host].nic_mbit_per_s
    return min(stream_ceiling(plan, machine), inf if nic is None else nic * MBIT)


@dataclass(frozen=True, slots=True)
class Chain:
    """A restore point with the points that it needs, as a restore reads them."""

    job: str
    repository: str
    points: int
    stored_bytes: float


def restore_from(
    plan: Plan,
    machine: Machine,
    chain: Chain,
    to_host: str | None = None,
    routes: Routes | None = None,
) -> Restore | None:
    """The estimate of restoring a machine from a point; None where no route leads to it.

    Args:
        to_host: of a VM; None: the host on which it runs.
        routes: those of the plan, where they are known already.
    """
    repository = plan.repository_by_id[chain.repository]
    job = plan.job_by_id[chain.job]
    routes = Routes(plan) if routes is None else routes
    route = routes.route(repository.site, target_site(plan, machine, to_host))
    if route is None:
        return None
    read = chain.stored_bytes * repository.dedupe_ratio
    written = sum(protected_bytes(job, machine, disk) for disk in protected_disks(job, machine))
    slowest = 0.0
    if written > 0:
        links = [plan.links[position] for position in route]
        slowest = max(
            written / _target_rate(plan, machine, to_host),
            *(read / (link.carried(link.mbit_per_s) * MBIT) for link in links),
            0.0 if repository.read_mib_per_s is None else read / (repository.read_mib_per_s * MIB),
        )
    begin = SET_UP_S + PER_POINT_S * chain.points
    return Restore(
        points=chain.points,
        read_bytes=read,
        written_bytes=written,
        full_s=begin + slowest,
        instant_s=begin,
        files_s=PER_POINT_S * chain.points + FILES_S,
    )


def newest_of(found: Iterable[tuple[float, Restore, T]]) -> tuple[Restore, T] | None:
    """Choose the point to restore from, of the usable ones with a route (section 12).

    The newest; of an original and its copies the one with the shortest full restore, then the
    first.

    Args:
        found: (`at`, estimate, whatever tells the point) in the order of the result file, then in
            that in which they came to exist.
    """
    reachable = list(found)
    if not reachable:
        return None
    newest = max(at for at, _, _ in reachable)
    best: tuple[Restore, T] | None = None
    for at, restore, item in reachable:
        if at < newest - SAME_INSTANT:
            continue
        if best is None or restore.full_s < best[0].full_s - SAME_INSTANT:
            best = restore, item
    return best


def newest_restore(plan: Plan, machine: Machine, points: Iterable[PointRecord]) -> Restore | None:
    """Restoring a machine from its newest usable point; None where there is no such point.

    Args:
        points: those that exist, in the order of the result file.
    """
    routes = Routes(plan)
    best = newest_of(
        (point.at, restore, point)
        for point in points
        if point.machine == machine.id
        and point.usable
        and (restore := restore_from(plan, machine, chain_of(point), routes=routes)) is not None
    )
    return None if best is None else best[0]


def chain_of(point: PointRecord) -> Chain:
    """The chain of a point that a simulation left."""
    return Chain(point.job, point.repository, point.chain_points, point.chain_bytes)


def rto_met(machine: Machine, restore: Restore | None) -> bool | None:
    """Whether the full restore fits in the machine's RTO; None where none is set."""
    if machine.rto_hours is None:
        return None
    return restore is not None and restore.full_s <= machine.rto_hours * HOUR
