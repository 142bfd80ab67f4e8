"""A whole plan, and all kinds of object that it is made of by one name (planning model, section 1).

The values are those of the file, in the file's units (the unit is part of the name). A Plan is made
by `gambrel.core.plan.reading.read_plan`, which checks every rule of the format once; code that
holds a Plan may rely on its ids being known and its numbers being in range.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Protocol, TypeVar

from gambrel.core.plan.conditions import (
    Condition,
    ExcludedPath,
    ExclusionReason,
    Selection,
)
from gambrel.core.plan.jobs import (
    Chain,
    Copy,
    Destination,
    Fallback,
    Job,
    MachineOrder,
    Retention,
    Standstill,
    Transport,
    Transports,
    WindowEnd,
)
from gambrel.core.plan.kinds import KINDS, Kind
from gambrel.core.plan.learned import Learned
from gambrel.core.plan.machines import (
    ChangeSource,
    Disk,
    Facts,
    LeftOut,
    Machine,
    UserSnapshot,
)
from gambrel.core.plan.outlook import Assumption, AssumptionKind
from gambrel.core.plan.places import (
    Datastore,
    Found,
    Host,
    Link,
    LinkLimit,
    Proxy,
    Repository,
    Site,
    Tier,
    Volume,
)
from gambrel.core.plan.state import (
    BuiltOn,
    ExistingPoint,
    NamedPoint,
    PlannedRestore,
    Running,
    RunningCopy,
    RunningDisk,
    RunningMachine,
    RunningMerge,
    RunningRestore,
    RunningRun,
    RunningWork,
    State,
)
from gambrel.core.plan.times import (
    Calendar,
    DateInterval,
    DayRowSchedule,
    OpenInterval,
    RuleSchedule,
    Schedule,
    Window,
    WindowException,
)
from gambrel.core.plan.values import WEEKDAYS

__all__ = [
    "KINDS", "WEEKDAYS", "Assumption", "AssumptionKind", "BuiltOn", "Calendar", "Chain",
    "ChangeSource", "Condition", "Copy", "Datastore", "DateInterval", "DayRowSchedule",
    "Destination", "Disk", "ExcludedPath", "ExclusionReason", "ExistingPoint", "Facts", "Fallback",
    "Found", "Host", "Job", "Kind", "Learned", "LeftOut", "Link", "LinkLimit",
    "Machine", "MachineOrder", "NamedPoint", "OpenInterval", "Plan", "PlannedRestore", "Proxy",
    "Repository", "Retention", "RuleSchedule", "Running", "RunningCopy", "RunningDisk",
    "RunningMachine", "RunningMerge", "RunningRestore", "RunningRun", "RunningWork", "Schedule",
    "Selection", "Site", "Standstill", "State", "Tier", "Transport", "Transports", "UserSnapshot",
    "Volume", "Window", "WindowEnd", "WindowException",
]  # fmt: skip


class _Identified(Protocol):
    @property
    def id(self) -> str: ...


_T = TypeVar("_T", bound=_Identified)


def _by_id(items: Sequence[_T]) -> dict[str, _T]:
    return {item.id: item for item in items}


@dataclass(frozen=True)
class Plan:
    """One whole plan. Lists keep the order of the file, which is the last key of every ordering."""

    sites: tuple[Site, ...] = ()
    links: tuple[Link, ...] = ()
    hosts: tuple[Host, ...] = ()
    datastores: tuple[Datastore, ...] = ()
    proxies: tuple[Proxy, ...] = ()
    repositories: tuple[Repository, ...] = ()
    machines: tuple[Machine, ...] = ()
    windows: tuple[Window, ...] = ()
    calendars: tuple[Calendar, ...] = ()
    jobs: tuple[Job, ...] = ()
    assumptions: tuple[Assumption, ...] = ()
    transports: Transports = field(default_factory=Transports)
    state: State = field(default_factory=State)

    @cached_property
    def site_by_id(self) -> dict[str, Site]:
        return _by_id(self.sites)

    @cached_property
    def host_by_id(self) -> dict[str, Host]:
        return _by_id(self.hosts)

    @cached_property
    def datastore_by_id(self) -> dict[str, Datastore]:
        return _by_id(self.datastores)

    @cached_property
    def repository_by_id(self) -> dict[str, Repository]:
        return _by_id(self.repositories)

    @cached_property
    def machine_by_id(self) -> dict[str, Machine]:
        return _by_id(self.machines)

    @cached_property
    def window_by_id(self) -> dict[str, Window]:
        return _by_id(self.windows)

    @cached_property
    def calendar_by_id(self) -> dict[str, Calendar]:
        return _by_id(self.calendars)

    @cached_property
    def job_by_id(self) -> dict[str, Job]:
        return _by_id(self.jobs)

    @cached_property
    def job_position(self) -> dict[str, int]:
        return {job.id: position for position, job in enumerate(self.jobs)}

    def host_of_proxy(self, proxy: Proxy) -> str | None:
        """The id of the host on which a proxy runs now; None for one that is on no host."""
        if proxy.on_machine is not None:
            return self.machine_by_id[proxy.on_machine].host
        return proxy.on_host

    @cached_property
    def direct_by_proxy(self) -> dict[str, frozenset[str]]:
        """The datastores that each proxy reads directly: set or zoned, less those left out."""
        found = {proxy.id: set(proxy.direct_datastores) for proxy in self.proxies}
        for store in self.datastores:
            for proxy in store.zoned_proxies:
                found[proxy].add(store.id)
        return {
            p.id: frozenset(found[p.id].difference(p.left_out_datastores)) for p in self.proxies
        }

    @cached_property
    def networks(self) -> tuple[str, ...]:
        """The named networks that links, hosts and servers have, in the order of their names."""
        named = (
            *(link.network for link in self.links),
            *(host.backup_network for host in self.hosts),
            *(machine.backup_network for machine in self.machines),
        )
        return tuple(sorted({network for network in named if network is not None}))

    def site_of(self, machine: Machine) -> str:
        """The id of the site at which a machine runs or stands."""
        if machine.host is not None:
            return self.host_by_id[machine.host].site
        assert machine.site is not None
        return machine.site
