"""The day of the loss: how machines come back, simulated like any other schedule (section 14)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal, NamedTuple

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.loads.lanes import tier_of
from gambrel.core.model.destinations import machines_by_destination
from gambrel.core.model.restore import set_up_s
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.plan.conditions import Selection
from gambrel.core.plan.objects import Job, Machine, Plan, PlannedRestore, State
from gambrel.core.plan.state import ExistingPoint
from gambrel.core.questions.what_if import LoseProxy
from gambrel.core.recovery.loss import Loss, Lost, lost_with
from gambrel.core.recovery.machine_points import as_vm
from gambrel.core.simulation.forecast import Forecast, RestoredPoint, RestoreOutcome
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY, HOUR, SAME_INSTANT

LATEST_BEGIN_S = 7 * DAY
"""How long after a loss its recovery may begin."""
FOLLOWED_DAYS = (1, 3, 9, 28)
"""How many days the other backups go on beside a recovery: the first that its end lies in."""
MOST_AT_ONCE = 1000


@dataclass(frozen=True, slots=True)
class Way:
    """How machines are to come back.

    Attributes:
        begins: when the first may start, UTC seconds; None: at the loss.
        order: ids of lost machines, the first first; the others stand behind them by promise.
        at_once: how many are under way at one time at most; None: any number.
        instant: ids of machines that start from the repository before they are written.
        to_site: where machines of lost hosts go; None: to the other hosts of their cluster, then of
            their site, then to where their newest points lie.
        targets: the host to which a machine goes, by its id.
        goes_on: whether the backups of what is not lost go on meanwhile.
    """

    begins: float | None = None
    order: tuple[str, ...] = ()
    at_once: int | None = None
    instant: frozenset[str] = frozenset()
    to_site: str | None = None
    targets: Mapping[str, str] = field(default_factory=dict)
    goes_on: bool = False


class ComesBack(NamedTuple):
    """How one lost machine comes back; instants in UTC seconds.

    Attributes:
        target: the host to which it goes; None: its own hardware, or nothing is left for it.
        as_vm: whether a server comes back as a VM.
        outcome: "no target" where no host that is left has room for it.
        squeezes: what limited its stream, with seconds, the most first.
        delay_s: how long it waits for points in colder tiers.
        exposure_s: how much work is lost: from its point to the loss.
        rto_s: what was promised; None: nothing.
    """

    machine: str
    tier: str
    place: int
    target: str | None
    as_vm: bool
    method: Literal["full", "instant"]
    outcome: RestoreOutcome | Literal["no target"]
    point: RestoredPoint | None
    points: int | None
    start: float | None
    back: float | None
    whole: float | None
    read_bytes: float | None
    written_bytes: float | None
    squeezes: tuple[tuple[str, float], ...]
    exposure_s: float | None
    rpo_s: float | None
    rto_s: float | None
    delay_s: float = 0.0

    def late_s(self, lost_at: float) -> float | None:
        """How long after its promised time it is back; 0 in time, None without a promise.

        One that does not come back at all has no time: infinite.
        """
        if self.rto_s is None:
            return None
        if self.back is None:
            return float("inf")
        return max(0.0, self.back - lost_at - self.rto_s - SAME_INSTANT)


class Bound(NamedTuple):
    """The earliest instant at which all of a tier can be back, in whatever order, and why.

    Attributes:
        resource: what has to carry `bytes` first; None where a machine alone takes that long.
    """

    at: float
    resource: str | None
    bytes: float


@dataclass(frozen=True, eq=False)
class Recovery:
    """A loss, the way back, and what comes of it.

    Attributes:
        plan: what was simulated; its state has the restores.
        rows: the lost machines, in the order in which they stand.
    """

    loss: Loss
    lost: Lost
    way: Way
    begins: float
    plan: Plan
    forecast: Forecast | None
    rows: tuple[ComesBack, ...]

    @cached_property
    def late(self) -> tuple[ComesBack, ...]:
        """Those that are back after their promised time, or not at all."""
        return tuple(row for row in self.rows if row.late_s(self.loss.at))

    @property
    def score(self) -> tuple[float, float, float]:
        """The smaller the better: machines late, their hours late, hours until all are back."""
        lateness = sum(min(row.late_s(self.loss.at) or 0.0, 30 * DAY) for row in self.rows)
        backs = [row.back for row in self.rows if row.back is not None]
        return (
            len(self.late),
            lateness / HOUR,
            (max(backs, default=self.loss.at) - self.loss.at) / HOUR,
        )

    @cached_property
    def bounds(self) -> dict[str, Bound]:
        """For each tier that comes back, the earliest instant at which all of it can be."""
        tiers: dict[str, list[ComesBack]] = {}
        for row in self.rows:
            if row.back is not None and row.outcome == "done":
                tiers.setdefault(row.tier, []).append(row)
        return {tier: self._bound(rows) for tier, rows in tiers.items()}

    def _bound(self, rows: Sequence[ComesBack]) -> Bound:
        """All bytes that a resource carries for them, at its capacity, after the least set-up."""
        topology = self.forecast.topology if self.forecast is not None else None
        assert topology is not None
        carried: dict[int, float] = {}
        alone, least_set_up = self.begins, float("inf")
        for row in rows:
            assert row.point is not None and row.start is not None and row.back is not None
            assert row.read_bytes is not None and row.written_bytes is not None
            set_up = self.set_up_s(row)
            least_set_up = min(least_set_up, set_up)
            if row.method == "instant" or row.written_bytes <= 0:
                alone = max(alone, self.begins + set_up)
                continue
            machine = self.plan.machine_by_id[row.machine]
            uses = topology.restore_uses(
                self.plan.repository_by_id[row.point.repository], machine,
                None if row.as_vm else row.target,
                {disk.datastore: 0.0 for disk in machine.disks if disk.datastore is not None},
                row.read_bytes / row.written_bytes,
            )  # fmt: skip
            slowest = 0.0
            for resource, amount in uses:
                work = amount * row.written_bytes
                carried[resource] = carried.get(resource, 0.0) + work
                capacity = topology.capacity.get(resource)
                if capacity:
                    slowest = max(slowest, work / capacity)
            alone = max(alone, self.begins + set_up + slowest)
        best = Bound(alone, None, 0.0)
        for resource, work in carried.items():
            capacity = topology.capacity.get(resource)
            if capacity:
                at = self.begins + least_set_up + work / capacity
                if at > best.at:
                    best = Bound(at, topology.resource_names[resource], work)
        return best

    def set_up_s(self, row: ComesBack) -> float:
        """How long a machine that started is set up."""
        assert row.point is not None and row.points is not None
        repository = self.plan.repository_by_id[row.point.repository]
        return set_up_s(repository, row.points) + row.delay_s


# --- before it is simulated ---------------------------------------------------------------------


def by_promise(machines: Iterable[Machine]) -> list[Machine]:
    """The usual order: the shortest promised time first, then the smallest."""
    return sorted(
        machines,
        key=lambda machine: (
            machine.rto_hours if machine.rto_hours is not None else float("inf"),
            used_gib(machine),
            machine.id,
        ),
    )


def used_gib(machine: Machine) -> float:
    """What of a machine's disks is in use."""
    return sum(disk.used_gib for disk in machine.disks)


def _in_order(lost: Lost, way: Way) -> list[Machine]:
    known = {machine.id: machine for machine in lost.machines}
    first = [known[ident] for ident in dict.fromkeys(way.order) if ident in known]
    named = {machine.id for machine in first}
    return first + by_promise(m for m in lost.machines if m.id not in named)


def check_way(plan: Plan, loss: Loss, lost: Lost, way: Way) -> None:
    """Raise OperationError for what cannot be asked of a recovery."""
    begins = loss.at if way.begins is None else way.begins
    if not loss.at - SAME_INSTANT <= begins <= loss.at + LATEST_BEGIN_S:
        raise OperationError("begins", begins, "is before the loss, or more than a week after it")
    if way.at_once is not None and not 1 <= way.at_once <= MOST_AT_ONCE:
        raise OperationError("at_once", way.at_once, f"is not between 1 and {MOST_AT_ONCE}")
    if way.to_site is not None:
        if way.to_site not in plan.site_by_id:
            raise OperationError("to_site", way.to_site, "is not a site of this plan")
        if way.to_site in lost.sites:
            raise OperationError("to_site", way.to_site, "is lost itself")
        if not any(h.site == way.to_site and h.id not in lost.hosts for h in plan.hosts):
            raise OperationError("to_site", way.to_site, "has no host that is left")
    for machine, host in way.targets.items():
        if host not in plan.host_by_id:
            raise OperationError(f"targets.{machine}", host, "is not a host of this plan")
        if host in lost.hosts:
            raise OperationError(f"targets.{machine}", host, "is lost itself")


class _Dealer:
    """Deals machines of lost hosts to hosts that are left, each to the one with least in use.

    A host takes no more than its memory holds, where that and the machine's are known.
    """

    def __init__(self, plan: Plan, lost: Lost, way: Way, points: Iterable[ExistingPoint]) -> None:
        self.plan = plan
        self.way = way
        self.near = _sites_of_newest(plan, points)
        gone = {machine.id for machine in lost.machines}
        self.load = {host.id: 0.0 for host in plan.hosts if host.id not in lost.hosts}
        self.room = {host.id: host.memory_gib for host in plan.hosts}
        """GiB of memory that are free; None where a host's memory is not known."""
        for machine in plan.machines:
            if machine.id not in gone and machine.host in self.load:
                self.load[machine.host] += used_gib(machine)
                if machine.powered_on:
                    self._take_room(machine.host, machine)

    def _take_room(self, host: str, machine: Machine) -> None:
        free = self.room[host]
        if free is not None:
            self.room[host] = free - (machine.memory_gib or 0.0)

    def _has_room(self, host: str, machine: Machine) -> bool:
        free, needs = self.room[host], machine.memory_gib
        return free is None or needs is None or needs <= free

    def target(self, machine: Machine) -> str | None:
        """The host for a machine; None where none has room for it.

        Raises:
            OperationError: where the host that was chosen for it has no room.
        """
        host = self.way.targets.get(machine.id)
        if host is not None and not self._has_room(host, machine):
            free = max(0.0, self.room[host] or 0.0)
            raise OperationError(
                f"targets.{machine.id}", host,
                f"has {free:g} GiB of memory left; the machine needs {machine.memory_gib:g}",
            )  # fmt: skip
        if host is None:
            fit = self._candidates(machine)
            host = min(fit, key=lambda each: self.load[each], default=None)
        if host is not None:
            self.load[host] += used_gib(machine)
            self._take_room(host, machine)
        return host

    def _candidates(self, machine: Machine) -> list[str]:
        hosts = [
            host
            for host in self.plan.hosts
            if host.id in self.load and self._has_room(host.id, machine)
        ]
        if self.way.to_site is not None:
            return [host.id for host in hosts if host.site == self.way.to_site]
        own = self.plan.host_by_id.get(machine.host or "")
        cluster = own.cluster if own is not None else None
        site = self.plan.site_of(machine)
        near = self.near.get(machine.id, frozenset())
        for fits in (
            [h for h in hosts if cluster is not None and h.cluster == cluster],
            [h for h in hosts if h.site == site],
            [h for h in hosts if h.site in near],
            hosts,
        ):
            if fits:
                return [host.id for host in fits]
        return []


def _sites_of_newest(plan: Plan, points: Iterable[ExistingPoint]) -> Mapping[str, frozenset[str]]:
    """Of each machine the sites at which its newest points lie."""
    newest: dict[str, tuple[float, set[str]]] = {}
    for point in points:
        site = plan.repository_by_id[point.repository].site
        at, sites = newest.get(point.machine, (float("-inf"), set()))
        if point.at > at + SAME_INSTANT:
            newest[point.machine] = point.at, {site}
        elif point.at >= at - SAME_INSTANT:
            sites.add(site)
    return {machine: frozenset(sites) for machine, (_, sites) in newest.items()}


def _needs_host(machine: Machine, lost: Lost, way: Way) -> bool:
    """Whether a machine cannot come back where it was, or is sent elsewhere."""
    if machine.id in way.targets:
        return True
    if machine.kind == "server":
        return machine.site in lost.sites
    return machine.host in lost.hosts


def _still(job: Job) -> Job:
    """A job that starts nothing: it keeps its points and what it leaves out of a machine."""
    return replace(job, machines=Selection(), schedules=(), after=None, spread_fulls=1)


def _jobs(plan: Plan, lost: Lost, goes_on: bool) -> tuple[Job, ...]:
    if not goes_on:
        return tuple(map(_still, plan.jobs))
    gone = tuple(machine.id for machine in lost.machines)
    made = []
    for job in plan.jobs:
        if all(repository in lost.repositories for repository in job.repositories):
            made.append(_still(job))
            continue
        homeless = (
            machine.id
            for repository, machines in machines_by_destination(plan, job).items()
            if repository in lost.repositories
            for machine in machines
        )
        left_out = tuple(dict.fromkeys((*job.machines.exclude, *gone, *homeless)))
        copies = tuple(c for c in job.copies if c.repository not in lost.repositories)
        machines = replace(job.machines, exclude=left_out)
        made.append(replace(job, machines=machines, copies=copies))
    return tuple(made)


def _points(points: Iterable[PointRecord], lost: Lost, goes_on: bool) -> tuple[ExistingPoint, ...]:
    """The points that are left and can be used; what needs a bad one can only be left out."""
    gone = {machine.id for machine in lost.machines}
    return tuple(
        ExistingPoint(
            point.job, point.machine, point.repository, point.kind,
            point.at, point.exists_from, point.stored_bytes,
        )
        for point in points
        if point.usable
        and point.repository not in lost.repositories
        and (goes_on or point.machine in gone)
    )  # fmt: skip


# --- simulated ----------------------------------------------------------------------------------


def recover(plan: Plan, points: Iterable[PointRecord], loss: Loss, way: Way) -> Recovery:
    """Bring all lost machines back in one way.

    What is under way at the loss is stopped there; runs that fall due later go on where `way` lets
    them, without what is lost. Machines that came back are not backed up before the recovery ends.

    Args:
        points: all restore points that exist at the loss.

    Raises:
        OperationError: for a loss or a way that this plan cannot have.
    """
    lost = lost_with(plan, loss)
    check_way(plan, loss, lost, way)
    begins = loss.at if way.begins is None else way.begins
    left = _points(points, lost, way.goes_on)
    dealer = _Dealer(plan, lost, way, left)
    machines = _in_order(lost, way)
    targets: dict[str, str | None] = {}
    restores: list[PlannedRestore] = []
    changed: dict[str, Machine] = {}
    for machine in machines:
        if _needs_host(machine, lost, way):
            host = dealer.target(machine)
            targets[machine.id] = host
            if host is None:
                continue
            if machine.kind == "server":
                changed[machine.id] = as_vm(machine, host)
        restores.append(
            PlannedRestore(
                machine.id,
                machine.id,
                begins,
                method="instant" if machine.id in way.instant else "full",
                to_host=None if machine.id in changed else targets.get(machine.id),
            )
        )
    made = replace(
        plan,
        jobs=_jobs(plan, lost, way.goes_on),
        machines=tuple(changed.get(machine.id, machine) for machine in plan.machines),
        state=State(
            left,
            sizes_as_of=plan.state.sizes_as_of,
            restores=tuple(restores),
            restores_at_once=way.at_once,
        ),
    )
    if way.goes_on:
        for proxy in sorted(lost.proxies):
            made = LoseProxy(proxy).apply(made)
    forecast = _simulated(made, loss.at, begins, way.goes_on) if restores else None
    return Recovery(
        loss, lost, way, begins, made, forecast,
        tuple(_rows(forecast, loss, machines, way, targets, frozenset(changed))),
    )  # fmt: skip


def _simulated(plan: Plan, lost_at: float, begins: float, goes_on: bool) -> Forecast:
    if not goes_on:
        # Nothing else falls due: all is followed to its end.
        return simulate(plan, lost_at, begins + HOUR)
    for days in FOLLOWED_DAYS:
        forecast = simulate(plan, lost_at, begins + days * DAY)
        ends = [restore.whole for restore in forecast.restores if restore.whole is not None]
        if max(ends, default=0.0) <= forecast.to:
            break
    return forecast


def _rows(
    forecast: Forecast | None,
    loss: Loss,
    machines: Sequence[Machine],
    way: Way,
    targets: Mapping[str, str | None],
    as_vms: frozenset[str],
) -> Iterable[ComesBack]:
    found = {} if forecast is None else {run.id: run for run in forecast.restores}
    for place, machine in enumerate(machines):
        run = found.get(machine.id)
        method: Literal["full", "instant"] = "instant" if machine.id in way.instant else "full"
        squeezes = sorted((run.squeeze_s or {}).items(), key=lambda p: -p[1]) if run else []
        yield ComesBack(
            machine=machine.id,
            tier=tier_of(machine),
            place=place,
            target=targets.get(machine.id),
            as_vm=machine.id in as_vms,
            method=method,
            outcome="no target" if run is None or run.outcome is None else run.outcome,
            point=run.point if run else None,
            points=run.points if run else None,
            start=run.start if run else None,
            back=run.back if run else None,
            whole=run.whole if run and run.start is not None else None,
            read_bytes=run.read_bytes if run else None,
            written_bytes=run.written_bytes if run else None,
            squeezes=tuple(squeezes),
            exposure_s=None if run is None or run.point is None else loss.at - run.point.at,
            rpo_s=None if machine.rpo_hours is None else machine.rpo_hours * HOUR,
            rto_s=None if machine.rto_hours is None else machine.rto_hours * HOUR,
            delay_s=run.delay_s if run else 0.0,
        )
