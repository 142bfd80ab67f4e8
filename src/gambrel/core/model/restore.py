"""How long it takes to have a machine back (section 10)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from gambrel.core.model.paths import Routes
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.units import HOUR, MBIT, MIB, SAME_INSTANT

SET_UP_S = 120.0
PER_POINT_S = 20.0
FILES_S = 30.0


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


def _target_rate(plan: Plan, machine: Machine) -> float:
    """Bytes/s at which a machine can be written, never more than its NIC or its host's."""
    if machine.kind == "server":
        rate, nic = plan.transports.agent_mib_per_s, machine.nic_mbit_per_s
    else:
        assert machine.host is not None
        rate, nic = plan.transports.network_mib_per_s, plan.host_by_id[machine.host].nic_mbit_per_s
    return min(rate * MIB, float("inf") if nic is None else nic * MBIT)


def restore_from(plan: Plan, machine: Machine, point: PointRecord) -> Restore | None:
    """The estimate of restoring a machine from a point; None where no route leads to it."""
    repository = plan.repository_by_id[point.repository]
    job = plan.job_by_id[point.job]
    route = Routes(plan).route(repository.site, plan.site_of(machine))
    if route is None:
        return None
    read = point.chain_bytes * repository.dedupe_ratio
    written = sum(protected_bytes(job, machine, disk) for disk in protected_disks(job, machine))
    slowest = [written / _target_rate(plan, machine)]
    links = [plan.links[position] for position in route]
    slowest += [read / (link.carried(link.mbit_per_s) * MBIT) for link in links]
    if repository.read_mib_per_s is not None:
        slowest.append(read / (repository.read_mib_per_s * MIB))
    begin = SET_UP_S + PER_POINT_S * point.chain_points
    return Restore(
        points=point.chain_points,
        read_bytes=read,
        written_bytes=written,
        full_s=begin + max(slowest),
        instant_s=begin,
        files_s=PER_POINT_S * point.chain_points + FILES_S,
    )


def newest_restore(plan: Plan, machine: Machine, points: Iterable[PointRecord]) -> Restore | None:
    """Restoring a machine from the newest usable point that a route leads from (section 12).

    Of an original and its copies the one with the shortest full restore counts, then the first in
    the order of `points`. None where there is no such point.

    Args:
        points: those that exist, in the order of the result file.
    """
    reachable = [
        (point.at, restore)
        for point in points
        if point.machine == machine.id
        and point.usable
        and (restore := restore_from(plan, machine, point)) is not None
    ]
    if not reachable:
        return None
    newest = max(at for at, _ in reachable)
    best: Restore | None = None
    for at, restore in reachable:
        if at < newest - SAME_INSTANT:
            continue
        if best is None or restore.full_s < best.full_s - SAME_INSTANT:
            best = restore
    return best


def rto_met(machine: Machine, restore: Restore | None) -> bool | None:
    """Whether the full restore fits in the machine's RTO; None where none is set."""
    if machine.rto_hours is None:
        return None
    return restore is not None and restore.full_s <= machine.rto_hours * HOUR
