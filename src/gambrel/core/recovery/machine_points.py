"""The restore points of one machine, what holds each, and how long each way back from it takes."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.model.paths import Routes
from gambrel.core.model.restore import Chain, Restore, chain_of, restore_from, target_rate
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.volume import disks_at, protected_bytes
from gambrel.core.plan.objects import Machine, Plan
from gambrel.core.questions.points_ahead import PointAhead, points_told
from gambrel.core.units import MBIT, MIB


@dataclass(frozen=True, slots=True)
class DiskEstimate:
    """Bringing one disk back.

    Attributes:
        seconds: with the set-up; the part of the chain that belongs to the disk is read.
    """

    disk: str
    written_bytes: float
    seconds: float


@dataclass(frozen=True, slots=True)
class WayBack:
    """How long it takes to have a machine back from a point, alone, and what limits it.

    Attributes:
        limited_by: the name of a resource, "transport" for the ceiling of one stream, None where
            nothing is written.
        disks: each of its disks alone.
    """

    restore: Restore
    limited_by: str | None
    disks: tuple[DiskEstimate, ...]


@dataclass(frozen=True, slots=True)
class MachinePoint:
    """A point of a machine.

    Attributes:
        way: None where no route leads from its repository to the target, or a point of its chain is
            missing.
    """

    job: str
    told: PointAhead
    chain_points: int
    chain_bytes: float
    usable: bool
    way: WayBack | None


def target_of(plan: Plan, machine: Machine, to_host: str | None) -> tuple[Machine, str | None]:
    """The machine as it comes back on a host, and the host as a restore names it.

    A server that goes to a host becomes a VM there: it is written as fast as a VM is. A machine
    that goes onto a server takes its place: it is written as fast as that server is.

    Args:
        to_host: a host, or a server; None: where the machine is now.

    Raises:
        OperationError: for a host or a server that the plan does not have.
    """
    if to_host is None or to_host == machine.id:
        return machine, None
    if to_host not in plan.host_by_id:
        server = plan.machine_by_id.get(to_host)
        if server is None or server.kind != "server":
            raise OperationError("to_host", to_host, "is no host and no server of this plan")
        return onto(machine, server), None
    return (as_vm(machine, to_host), None) if machine.kind == "server" else (machine, to_host)


def as_vm(machine: Machine, host: str) -> Machine:
    """A server as the VM that it becomes on a host: the same disks, on no datastore of the plan."""
    disks = tuple(replace(disk, datastore=None) for disk in machine.disks)
    return replace(machine, kind="vm", host=host, site=None, disks=disks)


def onto(machine: Machine, server: Machine) -> Machine:
    """A machine on the hardware of a server: the same disks, the server's site, NIC and agent."""
    disks = tuple(replace(disk, datastore=None) for disk in machine.disks)
    return replace(
        server, id=machine.id, disks=disks, facts=machine.facts, tags=machine.tags,
        rto_hours=machine.rto_hours, rpo_hours=machine.rpo_hours,
    )  # fmt: skip


def machine_points(
    plan: Plan, machine: Machine, points: Iterable[PointRecord], at: float, to_host: str | None
) -> list[MachinePoint]:
    """The points of a machine that exist at an instant, in all repositories.

    Args:
        points: those that exist then; others than the machine's are passed over.

    Raises:
        OperationError: for a host that the plan does not have.
    """
    target, host = target_of(plan, machine, to_host)
    routes = Routes(plan)
    mine = [point for point in points if point.machine == machine.id]
    found: list[MachinePoint] = []
    for job in plan.jobs:
        of_job = [point for point in mine if point.job == job.id]
        by_place = {(point.repository, point.at): point for point in of_job}
        for told in points_told(plan, job, of_job, at):
            point = by_place[(told.repository, told.at)]
            way = (
                way_back(plan, target, chain_of(plan, point, at), host, routes)
                if point.usable
                else None
            )
            found.append(
                MachinePoint(job.id, told, point.chain_points, point.chain_bytes, point.usable, way)
            )
    return found


def way_back(
    plan: Plan, machine: Machine, chain: Chain, to_host: str | None, routes: Routes | None = None
) -> WayBack | None:
    """The ways back from a point with what limits them; None where no route leads to the target."""
    routes = Routes(plan) if routes is None else routes
    restore = restore_from(plan, machine, chain, to_host, routes)
    if restore is None:
        return None
    repository, job = plan.repository_by_id[chain.repository], plan.job_by_id[chain.job]
    host = machine.host if to_host is None else to_host
    site = plan.site_of(machine) if host is None else plan.host_by_id[host].site
    route = routes.route(repository.site, site) or ()
    rates: list[tuple[str, float]] = [("transport", target_rate(plan, machine, to_host))]
    read_rates: list[tuple[str, float]] = [
        (f"link:{plan.links[i].id}", plan.links[i].carried(plan.links[i].mbit_per_s) * MBIT)
        for i in route
    ]
    if repository.read_rate_mib_per_s is not None:
        read_rates.append(
            (f"repository_read:{repository.id}", repository.read_rate_mib_per_s * MIB)
        )
    if host is not None:
        nic = plan.host_by_id[host].nic_mbit_per_s
        if nic is not None and nic * MBIT <= rates[0][1]:
            rates = [(f"host_nic:{host}", nic * MBIT)]

    def seconds(part: float) -> tuple[float, str | None]:
        """For a part of all bytes: how long they take, and what takes that long."""
        times = [(restore.written_bytes * part / rate, name) for name, rate in rates]
        times += [(restore.read_bytes * part / rate, name) for name, rate in read_rates]
        slowest = max(times, key=lambda pair: pair[0])
        return slowest if slowest[0] > 0 else (0.0, None)

    set_up = restore.full_s - seconds(1.0)[0]
    disks = []
    for disk in disks_at(job, machine, plan.state.sizes_as_of, chain.at):
        written = protected_bytes(job, machine, disk)
        part = written / restore.written_bytes if restore.written_bytes > 0 else 0.0
        disks.append(DiskEstimate(disk.id, written, set_up + seconds(part)[0]))
    return WayBack(restore, seconds(1.0)[1], tuple(disks))
