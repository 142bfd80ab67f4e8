"""What if: things that happen to a plan without anybody planning them, alone or together."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from datetime import date, timedelta
from typing import Any, ClassVar, get_args
from zoneinfo import ZoneInfo

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.twin_proxy import proxy_like
from gambrel.core.nights.nights import Night, night_of, planner_zone
from gambrel.core.plan.objects import (
    DateInterval,
    Disk,
    Host,
    Machine,
    Plan,
    Window,
    WindowException,
)
from gambrel.core.schedules.calendars import hours_on, interval_on, local_of
from gambrel.core.schedules.words import number
from gambrel.core.words import count

MOST_GROWTH = 100.0


def _known(plan: Plan, what: str, kind: str, ident: str) -> Any:
    found = next((item for item in getattr(plan, kind) if item.id == ident), None)
    if found is None:
        raise OperationError(what, ident, f"is not the id of a {what} of this plan")
    return found


def _without(proxies: tuple[str, ...] | None, gone: str) -> tuple[str, ...] | None:
    return None if proxies is None else tuple(proxy for proxy in proxies if proxy != gone)


@dataclass(frozen=True, slots=True)
class LoseProxy:
    """A proxy is not there. Jobs that are pinned to it alone have nobody to read them."""

    name: ClassVar[str] = "LoseProxy"
    proxy: str

    def apply(self, plan: Plan) -> Plan:
        _known(plan, "proxy", "proxies", self.proxy)
        return replace(
            plan,
            proxies=tuple(p for p in plan.proxies if p.id != self.proxy),
            jobs=tuple(replace(j, proxies=_without(j.proxies, self.proxy)) for j in plan.jobs),
            hosts=tuple(replace(h, proxies=_without(h.proxies, self.proxy)) for h in plan.hosts),
            datastores=tuple(
                replace(d, zoned_proxies=tuple(p for p in d.zoned_proxies if p != self.proxy))
                for d in plan.datastores
            ),
        )

    def describe(self, _: Plan) -> str:
        return f"proxy {self.proxy} is lost"


@dataclass(frozen=True, slots=True)
class LoseHost:
    """A host is not there: its machines restart on the other hosts of its cluster.

    They are dealt by falling used size to the host of the cluster that has least, among those that
    mount all their datastores. A machine that no other host can run is off: nothing reads it, and
    its jobs go on without it. Proxies on the host are lost with it.
    """

    name: ClassVar[str] = "LoseHost"
    host: str

    def apply(self, plan: Plan) -> Plan:
        lost: Host = _known(plan, "host", "hosts", self.host)
        load = {
            host.id: 0.0
            for host in plan.hosts
            if host.id != lost.id and host.cluster is not None and host.cluster == lost.cluster
        }
        used = {m.id: sum(d.used_gib for d in m.disks) for m in plan.machines}
        for machine in plan.machines:
            if machine.host in load:
                load[machine.host] += used[machine.id]
        mounts = {d.id: frozenset(d.hosts) for d in plan.datastores}
        moved: dict[str, str | None] = {}
        on_it = [m for m in plan.machines if m.host == lost.id]
        for machine in sorted(on_it, key=lambda m: -used[m.id]):
            fit = [
                host
                for host in load
                if all(host in mounts[d.datastore] for d in machine.disks if d.datastore)
            ]
            target = min(fit, key=lambda host: load[host], default=None)
            moved[machine.id] = target
            if target is not None:
                load[target] += used[machine.id]
        stays = tuple(m for m in plan.machines if moved.get(m.id, m) is not None)
        machines = tuple(replace(m, host=moved[m.id]) if m.id in moved else m for m in stays)
        made = replace(plan, machines=machines)
        off = {ident for ident, target in moved.items() if target is None}
        if off:
            made = _without_machines(made, off)
        for proxy in plan.proxies:
            if proxy.on_host == lost.id or proxy.on_machine in off:
                made = LoseProxy(proxy.id).apply(made)
        return made

    def describe(self, plan: Plan) -> str:
        machines = sum(1 for machine in plan.machines if machine.host == self.host)
        return f"host {self.host} is lost, its {count(machines, 'machine')} restart elsewhere"


def _without_machines(plan: Plan, gone: set[str]) -> Plan:
    def kept(names: Iterable[str]) -> tuple[str, ...]:
        return tuple(name for name in names if name not in gone)

    jobs = tuple(
        replace(
            job,
            machines=replace(
                job.machines, ids=kept(job.machines.ids), exclude=kept(job.machines.exclude)
            ),
            exclude_disks=tuple(pair for pair in job.exclude_disks if pair[0] not in gone),
            exclude_paths=tuple(path for path in job.exclude_paths if path.machine not in gone),
        )
        for job in plan.jobs
    )
    points = tuple(point for point in plan.state.points if point.machine not in gone)
    return replace(plan, jobs=jobs, state=replace(plan.state, points=points))


@dataclass(frozen=True, slots=True)
class LinkAt:
    """A link carries a part of what it does, its limits by hour with it."""

    name: ClassVar[str] = "LinkAt"
    link: str
    part: float

    def apply(self, plan: Plan) -> Plan:
        _known(plan, "link", "links", self.link)
        if not 0 < self.part <= 1:
            raise OperationError("part", self.part, "is not above 0 and at most 1")
        return replace(
            plan,
            links=tuple(
                link
                if link.id != self.link
                else replace(
                    link,
                    mbit_per_s=link.mbit_per_s * self.part,
                    limits=tuple(
                        replace(limit, mbit_per_s=limit.mbit_per_s * self.part)
                        for limit in link.limits
                    ),
                )
                for link in plan.links
            ),
        )

    def describe(self, _: Plan) -> str:
        return f"link {self.link} at {number(round(self.part * 100, 1))} %"


@dataclass(frozen=True, slots=True)
class Grow:
    """All data, or that of the machines in one folder, become more by a factor.

    Disks that would be fuller than they are large become larger.
    """

    name: ClassVar[str] = "Grow"
    factor: float
    folder: str | None = None

    def _grown(self, disk: Disk) -> Disk:
        used = disk.used_gib * self.factor
        return replace(
            disk,
            used_gib=used,
            swap_gib=min(disk.swap_gib, used),
            provisioned_gib=max(disk.provisioned_gib, used),
        )

    def _touches(self, machine: Machine) -> bool:
        return self.folder is None or machine.folder.casefold() == self.folder.casefold()

    def apply(self, plan: Plan) -> Plan:
        if not 0 < self.factor <= MOST_GROWTH:
            raise OperationError("factor", self.factor, "is not above 0 and at most 100")
        if not any(self._touches(machine) for machine in plan.machines):
            raise OperationError("folder", self.folder, "holds no machine of this plan")
        return replace(
            plan,
            machines=tuple(
                replace(m, disks=tuple(self._grown(d) for d in m.disks)) if self._touches(m) else m
                for m in plan.machines
            ),
        )

    def describe(self, _: Plan) -> str:
        what = "all data" if self.folder is None else f"data in folder {self.folder}"
        return f"{what} times {number(self.factor)}"


@dataclass(frozen=True, slots=True)
class AddProxy:
    """One more proxy like one that is there, free to every job that is pinned to that one."""

    name: ClassVar[str] = "AddProxy"
    like: str

    def apply(self, plan: Plan) -> Plan:
        _known(plan, "proxy", "proxies", self.like)
        twin = proxy_like(plan, self.like)

        def joined(proxies: tuple[str, ...] | None) -> tuple[str, ...] | None:
            return (*proxies, twin.id) if proxies is not None and self.like in proxies else proxies

        return replace(
            plan,
            proxies=(*plan.proxies, twin),
            jobs=tuple(replace(job, proxies=joined(job.proxies)) for job in plan.jobs),
            hosts=tuple(replace(host, proxies=joined(host.proxies)) for host in plan.hosts),
        )

    def describe(self, _: Plan) -> str:
        return f"one more proxy like {self.like}"


@dataclass(frozen=True, slots=True)
class AddSlots:
    """A proxy has more slots."""

    name: ClassVar[str] = "AddSlots"
    proxy: str
    slots: int

    def apply(self, plan: Plan) -> Plan:
        _known(plan, "proxy", "proxies", self.proxy)
        if not 1 <= self.slots <= 1000:
            raise OperationError("slots", self.slots, "is not between 1 and 1000")
        return replace(
            plan,
            proxies=tuple(
                replace(p, slots=p.slots + self.slots) if p.id == self.proxy else p
                for p in plan.proxies
            ),
        )

    def describe(self, _: Plan) -> str:
        return f"{count(self.slots, 'more slot')} at {self.proxy}"


def _closed(window: Window, night: Night) -> Window:
    """A window that is not open in a night, and open as before around it."""
    zone = ZoneInfo(window.time_zone)
    first = local_of(night.start, zone).date() - timedelta(days=1)
    days = [first + timedelta(days=i) for i in range(4)]
    was = {day: hours_on(window, day) for day in days}
    now: dict[date, list[DateInterval]] = {day: [] for day in days}
    for day, hours in was.items():
        for interval in hours:
            opens, closes = interval_on(day, interval, zone)
            for start, end in ((opens, min(closes, night.start)), (max(opens, night.end), closes)):
                if end > start:
                    begins, ends = local_of(start, zone), local_of(end, zone)
                    now[begins.date()].append(DateInterval(begins.time(), ends.time()))
    changed = {day for day in days if tuple(now[day]) != was[day]}
    kept = tuple(entry for entry in window.exceptions if entry.date not in changed)
    made = tuple(WindowException(day, tuple(now[day])) for day in sorted(changed))
    return replace(window, exceptions=(*kept, *made))


@dataclass(frozen=True, slots=True)
class CloseNight:
    """All windows are closed from noon to noon of one night; what is due waits for the next."""

    name: ClassVar[str] = "CloseNight"
    night: str

    def apply(self, plan: Plan) -> Plan:
        try:
            day = date.fromisoformat(self.night)
        except ValueError:
            raise OperationError("night", self.night, "is not a date like 2026-11-06") from None
        if not plan.windows:
            raise OperationError("night", self.night, "cannot be closed: there are no windows")
        night = night_of(day, planner_zone(plan))
        return replace(plan, windows=tuple(_closed(window, night) for window in plan.windows))

    def describe(self, _: Plan) -> str:
        return f"the night of {date.fromisoformat(self.night):%a %-d %b} is closed"


Happening = LoseProxy | LoseHost | LinkAt | Grow | AddProxy | AddSlots | CloseNight
_KINDS: dict[str, Callable[..., Happening]] = {kind.name: kind for kind in get_args(Happening)}
_TYPES: dict[str, tuple[type, ...]] = {
    "proxy": (str,), "host": (str,), "link": (str,), "part": (int, float), "factor": (int, float),
    "folder": (str, type(None)), "like": (str,), "slots": (int,), "night": (str,),
}  # fmt: skip


LOSSES = ("proxies", "hosts", "links")
"""Kinds of single losses that a plan can be asked to stand."""
HALF = 0.5


def single_losses(plan: Plan, kinds: Iterable[str], most: int) -> tuple[Happening, ...]:
    """Each proxy that may be lost, each host, the slowest link at half.

    Of more hosts than there is room for, those that run most.
    """
    wanted, found = set(kinds), list[Happening]()
    if "proxies" in wanted:
        found += (LoseProxy(proxy.id) for proxy in plan.proxies)
    if "links" in wanted and plan.links:
        slowest = min(plan.links, key=lambda link: link.carried(link.mbit_per_s))
        found.append(LinkAt(slowest.id, HALF))
    if "hosts" in wanted:
        machines = Counter(machine.host for machine in plan.machines if machine.host is not None)
        most_first = sorted(plan.hosts, key=lambda host: -machines[host.id])
        found += (LoseHost(host.id) for host in most_first)
    return tuple(found[:most])


def happening_to_dict(happening: Happening) -> dict[str, Any]:
    """A happening as `happening_from` reads it."""
    return {"happens": happening.name, **asdict(happening)}


def happening_from(value: Mapping[str, Any]) -> Happening:
    """What a mapping with the key `happens` and its arguments describes.

    Raises:
        OperationError: for an unknown name, and for a missing, unknown or ill-typed argument.
    """
    name = value.get("happens")
    if not isinstance(name, str) or name not in _KINDS:
        raise OperationError("happens", name, "is none of " + ", ".join(_KINDS))
    kind = _KINDS[name]
    fields = kind.__dataclass_fields__  # type: ignore[attr-defined]
    known = {key for key in fields if key != "name"}
    arguments = {key: item for key, item in value.items() if key != "happens"}
    for key, item in arguments.items():
        if key not in known:
            raise OperationError(key, item, f"is no argument of {name}")
        if not isinstance(item, _TYPES[key]) or isinstance(item, bool):
            raise OperationError(key, item, "is not of the right kind")
    for key in sorted(known - arguments.keys() - {"folder"}):
        raise OperationError(key, None, f"is required by {name} and missing")
    return kind(**arguments)


def happen_all(plan: Plan, happenings: Iterable[Happening]) -> Plan:
    """The plan after all of some things have happened, one after the other.

    Raises:
        OperationError: where one of them cannot happen to the plan.
    """
    for happening in happenings:
        plan = happening.apply(plan)
    return plan
