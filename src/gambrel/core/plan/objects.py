"""What is planned: the objects of a plan file (planning model, section 1) as immutable dataclasses.

The values are those of the file, in the file's units (the unit is part of the name). A Plan is made
by `gambrel.core.plan.reading.read_plan`, which checks every rule of the format once; code that
holds a Plan may rely on its ids being known and its numbers being in range.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time
from functools import cached_property
from typing import Literal, Protocol, TypeVar, get_args

Kind = Literal["full", "incremental", "differential"]
KINDS: tuple[Kind, ...] = get_args(Kind)
Chain = Literal["incremental", "differential", "forever", "full_only"]
Transport = Literal["direct", "hot_add", "network"]
WindowEnd = Literal["stop", "finish", "run_on"]

WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
"""Names of the days in a plan file, at the index that `date.weekday()` gives."""


@dataclass(frozen=True, slots=True)
class Site:
    id: str
    name: str
    time_zone: str


@dataclass(frozen=True, slots=True)
class LinkLimit:
    """A weekly interval in which a link carries less; 0 Mbit/s means closed."""

    days: tuple[int, ...]
    from_time: time
    to_time: time
    mbit_per_s: float


@dataclass(frozen=True, slots=True)
class Link:
    """A connection of two sites; of a site with itself: that site's own backup network.

    Attributes:
        encrypted: whether what it carries is encrypted on the way.
        encryption_factor: the share of every rate of the link that is left when it is (0 to 1).
    """

    id: str
    between: tuple[str, str]
    mbit_per_s: float
    limits: tuple[LinkLimit, ...] = ()
    encrypted: bool = False
    encryption_factor: float = 1.0

    def carried(self, mbit_per_s: float) -> float:
        """What is left of a rate of this link, in Mbit/s, where encryption takes its part."""
        return mbit_per_s * self.encryption_factor if self.encrypted else mbit_per_s


@dataclass(frozen=True, slots=True)
class Found:
    """Where discovery found something: the source, and the stable id that the source gives it."""

    source: str
    uid: str


@dataclass(frozen=True, slots=True)
class Host:
    id: str
    site: str
    cluster: str | None = None
    nic_mbit_per_s: float | None = None
    snapshot_slots: int | None = None
    proxies: tuple[str, ...] | None = None
    found: Found | None = None


@dataclass(frozen=True, slots=True)
class Datastore:
    id: str
    hosts: tuple[str, ...]
    read_mib_per_s: float | None = None
    task_slots: int | None = None
    zoned_proxies: tuple[str, ...] = ()
    found: Found | None = None


@dataclass(frozen=True, slots=True)
class Proxy:
    """A machine or a process that reads disks.

    Attributes:
        direct_datastores: those it reads directly, as set by hand.
        left_out_datastores: those it does not read directly although the storage would let it.
        on_host: the host on which it runs, for hot-add.
        on_machine: the VM that it is, which may move to other hosts; in place of `on_host`.
        throughput_from: where `mib_per_s` comes from.
    """

    id: str
    site: str
    slots: int
    mib_per_s: float | None = None
    direct_datastores: tuple[str, ...] = ()
    on_host: str | None = None
    cores: int | None = None
    memory_gib: float | None = None
    physical: bool = False
    on_machine: str | None = None
    left_out_datastores: tuple[str, ...] = ()
    throughput_from: Literal["stated", "learned"] = "stated"


@dataclass(frozen=True, slots=True)
class Volume:
    """One of the volumes that a repository spreads its points over."""

    id: str
    capacity_gib: float


@dataclass(frozen=True, slots=True)
class Repository:
    """A place for restore points.

    Attributes:
        volumes: where it is a pool of several; streams and rates are those of the whole.
        placement: on which volume a new point goes: the one with most free space, or for a point
            that needs another the volume of that one.
    """

    id: str
    site: str
    stream_slots: int | None = None
    ingest_mib_per_s: float | None = None
    read_mib_per_s: float | None = None
    transform_mib_per_s: float | None = None
    capacity_gib: float | None = None
    dedupe_ratio: float = 1.0
    block_clone: bool = False
    immutable_days: float = 0.0
    kind: Literal["disk", "deduplicating", "object", "tape"] = "disk"
    volumes: tuple[Volume, ...] = ()
    placement: Literal["most free", "chain together"] = "most free"

    @property
    def space_gib(self) -> float | None:
        """The space of all its volumes, or of the whole; None where nobody stated it."""
        return sum(v.capacity_gib for v in self.volumes) if self.volumes else self.capacity_gib


@dataclass(frozen=True, slots=True)
class Disk:
    id: str
    provisioned_gib: float
    used_gib: float
    swap_gib: float = 0.0
    datastore: str | None = None
    read_mib_per_s: float | None = None
    holds_backups: bool = False


@dataclass(frozen=True, slots=True)
class UserSnapshot:
    """A snapshot that somebody took by hand; `taken_at` in UTC seconds."""

    name: str
    taken_at: float
    gib: float


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A machine that is not protected on purpose: why, and when to look at that again."""

    reason: str
    review: date | None = None


ChangeSource = Literal["stated", "learned", "role", "reported"]


@dataclass(frozen=True, slots=True)
class Facts:
    """What is known of a machine beside what a simulation needs.

    Attributes:
        found: None for a machine that no discovery found.
        role: of the application on it; "" where nobody said.
        change_from: where `daily_change` comes from.
        growth_per_year: share by which the used space grows in a year.
        quiesces: whether its file systems can be quiesced.
        left_out: set where it is not protected on purpose.
        known_since: when it came into the plan.
        gone_since: when its source stopped naming it; in no job from then on, its points stay.
        reported: what the facts were that the planner overrode, by fact (`core.estate.facts`).
    """

    found: Found | None = None
    role: str = ""
    change_from: ChangeSource = "stated"
    growth_per_year: float = 0.0
    quiesces: bool = True
    snapshots: tuple[UserSnapshot, ...] = ()
    left_out: LeftOut | None = None
    known_since: date | None = None
    gone_since: date | None = None
    reported: tuple[tuple[str, float | None], ...] = ()


@dataclass(frozen=True, slots=True)
class Machine:
    """A VM (`host` set) or a physical server with an agent (`site` set)."""

    id: str
    kind: Literal["vm", "server"]
    disks: tuple[Disk, ...]
    host: str | None = None
    site: str | None = None
    nic_mbit_per_s: float | None = None
    agent_streams: int = 2
    tags: tuple[str, ...] = ()
    folder: str = ""
    powered_on: bool = True
    daily_change: float = 0.02
    churn_ceiling: float = 0.4
    compress_ratio: float = 1.6
    rpo_hours: float | None = None
    rto_hours: float | None = None
    facts: Facts = Facts()

    @property
    def gone(self) -> bool:
        """Whether its source does not name it any more."""
        return self.facts.gone_since is not None


@dataclass(frozen=True, slots=True)
class OpenInterval:
    """Hours in which a window is open on some days of every week."""

    days: tuple[int, ...]
    from_time: time
    to_time: time


@dataclass(frozen=True, slots=True)
class DateInterval:
    from_time: time
    to_time: time


@dataclass(frozen=True, slots=True)
class WindowException:
    """What is open on one date instead of the weekly intervals that begin on it."""

    date: date
    open: tuple[DateInterval, ...]


@dataclass(frozen=True, slots=True)
class Window:
    id: str
    time_zone: str
    open: tuple[OpenInterval, ...]
    exceptions: tuple[WindowException, ...] = ()


@dataclass(frozen=True, slots=True)
class Calendar:
    id: str
    dates: tuple[date, ...]


@dataclass(frozen=True, slots=True)
class Condition:
    """One test of a rule; section 2 says which operators go with which field."""

    field: str
    op: str
    value: str | float | bool


@dataclass(frozen=True, slots=True)
class Selection:
    """Which machines a job protects: listed ones, those that match any rule, minus exclusions."""

    ids: tuple[str, ...] = ()
    rules: tuple[tuple[Condition, ...], ...] = ()
    exclude: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class RuleSchedule:
    """Occurrences by an RFC 5545 recurrence rule, from a local start."""

    kind: Kind
    rrule: str
    start: datetime
    time_zone: str
    skip: tuple[str, ...] = ()
    when_skipped: Literal["drop", "next_day"] = "drop"
    skip_dates: tuple[date, ...] = ()
    extra: tuple[datetime, ...] = ()
    until: date | None = None


@dataclass(frozen=True, slots=True)
class DayRowSchedule:
    """Many runs a day: every `every_min` minutes between two times on each of `days`."""

    kind: Kind
    every_min: float
    from_time: time
    to_time: time
    days: tuple[int, ...]
    start: date
    time_zone: str
    skip: tuple[str, ...] = ()
    when_skipped: Literal["drop", "next_day"] = "drop"
    skip_dates: tuple[date, ...] = ()
    extra: tuple[datetime, ...] = ()
    until: date | None = None


Schedule = RuleSchedule | DayRowSchedule


@dataclass(frozen=True, slots=True)
class Retention:
    """Which points are kept (section 8).

    Attributes:
        until: up to the end of this date at the repository's site everything is kept; from then on
            the other rules decide, and without any nothing but the newest usable point is wanted.
    """

    points: int | None = None
    days: float | None = None
    full_days: float | None = None
    incremental_days: float | None = None
    weekly: int = 0
    monthly: int = 0
    yearly: int = 0
    until: date | None = None

    @property
    def keeps_everything(self) -> bool:
        return self == Retention()


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy of each point of a job, made `delay_min` after the machine is done.

    Attributes:
        cold_after_days: age at which its points go to the repository's colder tier; None: never.
    """

    repository: str
    delay_min: float = 0.0
    retention: Retention = Retention()
    cold_after_days: float | None = None


@dataclass(frozen=True, slots=True)
class ExcludedPath:
    """A path inside a machine that a job leaves out, and how much of a disk that is."""

    machine: str
    disk: str
    path: str
    gib: float


MachineOrder = Literal["listed", "largest", "smallest", "name"]
"""How the machines that rules select stand behind those that are listed."""
Fallback = Literal["as it is", "standstill", "leave out"]
"""What is done with a machine that cannot be quiesced."""
Standstill = Literal["none", "pause", "stop"]
"""Whether a machine is halted while it prepares."""


@dataclass(frozen=True, slots=True)
class Job:
    id: str
    name: str
    repository: str
    machines: Selection
    priority: int = 3
    share: float = 1.0
    exclude_disks: tuple[tuple[str, str], ...] = ()
    proxies: tuple[str, ...] | None = None
    transport: Literal["auto", "direct", "hot_add", "network"] = "auto"
    schedules: tuple[Schedule, ...] = ()
    after: str | None = None
    window: str | None = None
    at_window_end: WindowEnd = "finish"
    start_within_min: float | None = None
    stop_after_min: float | None = None
    chain: Chain = "incremental"
    synthetic_full: bool = False
    tracking: bool = True
    skip_swap: bool = True
    skip_unused: bool = True
    compress: bool = True
    quiesce_s: float = 0.0
    before_min: float = 0.0
    after_min: float = 0.0
    verify: Literal["none", "checksum", "boot"] = "none"
    boot_min: float = 6.0
    limit_mbit_per_s: float | None = None
    max_streams: int | None = None
    retention: Retention = Retention()
    copies: tuple[Copy, ...] = ()
    locked: bool = False
    spread_fulls: int = 1
    on_hold: bool = False
    hold_until: date | None = None
    machine_order: MachineOrder = "listed"
    exclude_disk_rules: tuple[Condition, ...] = ()
    exclude_paths: tuple[ExcludedPath, ...] = ()
    guest_before_s: float = 0.0
    guest_after_s: float = 0.0
    if_quiesce_fails: Fallback = "as it is"
    standstill: Standstill = "none"
    standstill_s: float = 30.0
    encrypt: bool = False
    encrypt_factor: float = 1.0
    notify: Literal["never", "trouble", "always"] = "never"
    notify_to: tuple[str, ...] = ()

    @property
    def stream_factor(self) -> float:
        """What encrypting leaves of the ceiling of one stream."""
        return self.encrypt_factor if self.encrypt else 1.0


@dataclass(frozen=True, slots=True)
class Transports:
    """The ceiling of ONE stream by transport, in MiB/s."""

    direct_mib_per_s: float = 400.0
    hot_add_mib_per_s: float = 250.0
    network_mib_per_s: float = 110.0
    agent_mib_per_s: float = 180.0


@dataclass(frozen=True, slots=True)
class ExistingPoint:
    """A restore point from before the horizon; `at` and `exists_from` are UTC seconds."""

    job: str
    machine: str
    repository: str
    kind: Kind
    at: float
    exists_from: float
    stored_bytes: float


@dataclass(frozen=True, slots=True)
class State:
    points: tuple[ExistingPoint, ...] = ()


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

    def site_of(self, machine: Machine) -> str:
        """The id of the site at which a machine runs or stands."""
        if machine.host is not None:
            return self.host_by_id[machine.host].site
        assert machine.site is not None
        return machine.site
