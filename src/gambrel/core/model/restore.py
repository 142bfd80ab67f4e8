"""How long it takes to have a machine back (section 10)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from math import inf
from typing import TypeVar

from gambrel.core.constants import RESTORE_PER_POINT_S, RESTORE_SET_UP_S
from gambrel.core.model.paths import Routes
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.tiers import chain_delay_s
from gambrel.core.model.volume import disks_at, protected_bytes
from gambrel.core.plan.objects import Machine, Plan, Repository
from gambrel.core.units import HOUR, MBIT, MIB, SAME_INSTANT

FILES_S = 30.0

T = TypeVar("T")


def of_points_s(repository: Repository, points: int) -> float:
    """What the points of a chain add to its set-up."""
    return (RESTORE_PER_POINT_S + repository.first_byte_s) * points


def set_up_s(repository: Repository, points: int) -> float:
    """How long a restore of a chain of some points is set up."""
    return RESTORE_SET_UP_S + of_points_s(repository, points)


@dataclass(frozen=True, slots=True)
class Restore:
    """A restore of one machine from one point.

    Attributes:
        points: length of the chain.
        read_bytes: read from the repository, written_bytes: written to the machine.
        full_s: the whole machine.
        instant_s: until it runs from the repository.
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


def target_rate(plan: Plan, machine: Machine, to_host: str | None) -> float:
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
    """A restore point with the points that it needs, as a restore reads them.

    Attributes:
        at: when the run of the point began.
        delay_s: how long a restore waits for those of its points that lie in a colder tier.
    """

    job: str
    repository: str
    points: int
    stored_bytes: float
    at: float
    delay_s: float = 0.0


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
    written = sum(
        protected_bytes(job, machine, disk)
        for disk in disks_at(job, machine, plan.state.sizes_as_of, chain.at)
    )
    slowest, rate = 0.0, repository.read_rate_mib_per_s
    if written > 0:
        links = [plan.links[position] for position in route]
        slowest = max(
            written / target_rate(plan, machine, to_host),
            *(read / (link.carried(link.mbit_per_s) * MBIT) for link in links),
            0.0 if rate is None else read / (rate * MIB),
        )
    begin = set_up_s(repository, chain.points) + chain.delay_s
    whole = begin + slowest
    return Restore(
        points=chain.points,
        read_bytes=read,
        written_bytes=written,
        full_s=whole,
        # What is read in order only is read to its end before anything of it can be used.
        instant_s=whole if repository.sequential else begin,
        files_s=whole
        if repository.sequential
        else of_points_s(repository, chain.points) + chain.delay_s + FILES_S,
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


def newest_restore(
    plan: Plan,
    machine: Machine,
    points: Iterable[PointRecord],
    now: float,
    routes: Routes | None = None,
) -> Restore | None:
    """Restoring a machine from its newest usable point; None where there is no such point.

    Arguments as of `newest_way`.
    """
    found = newest_way(plan, machine, points, now, routes)
    return None if found is None else found[0]


def newest_way(
    plan: Plan,
    machine: Machine,
    points: Iterable[PointRecord],
    now: float,
    routes: Routes | None = None,
) -> tuple[Restore, PointRecord] | None:
    """The newest usable point of a machine, with restoring it from there.

    Args:
        points: those that exist, in the order of the result file; of other machines too.
        now: when the restore would start: from then on points lie in colder tiers or not.
        routes: those of the plan, where they are known already.
    """
    routes = Routes(plan) if routes is None else routes
    mine = [point for point in points if point.machine == machine.id and point.usable]
    if not mine:
        return None
    # An original and its copies have the same start: older points are for where no route leads.
    latest = max(point.at for point in mine)
    near = [point for point in mine if point.at >= latest - HOUR]
    for some in (near, mine):
        best = newest_of(
            (point.at, restore, point)
            for point in some
            if (restore := restore_from(plan, machine, chain_of(plan, point, now), routes=routes))
            is not None
        )
        if best is not None:
            return best
    return None


def chain_of(plan: Plan, point: PointRecord, now: float) -> Chain:
    """The chain of a point that a simulation left, as a restore that starts at `now` finds it.

    Args:
        now: UTC seconds.
    """
    repository, job = plan.repository_by_id[point.repository], plan.job_by_id[point.job]
    delay = chain_delay_s(repository, job, now, point.chain_since)
    return Chain(
        point.job, point.repository, point.chain_points, point.chain_bytes, point.at, delay
    )


def rto_met(machine: Machine, restore: Restore | None) -> bool | None:
    """Whether the full restore fits in the machine's RTO; None where none is set."""
    if machine.rto_hours is None:
        return None
    return restore is not None and restore.full_s <= machine.rto_hours * HOUR
