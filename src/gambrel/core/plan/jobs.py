"""Jobs: what is backed up where to, when, how, and how long it is kept."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Annotated, Literal

from gambrel.core.plan import values as v
from gambrel.core.plan.conditions import (
    DiskCondition,
    ExcludedPath,
    ExclusionReason,
    Rule,
    Selection,
)
from gambrel.core.plan.kinds import (
    Amount,
    Capacity,
    Count,
    Factor,
    Ident,
    JobId,
    ProxyId,
    RepositoryId,
    Span,
    Tally,
    WindowId,
)
from gambrel.core.plan.learned import Learned
from gambrel.core.plan.places import Wrong
from gambrel.core.plan.shapes import Key, Rows
from gambrel.core.plan.times import Schedule

Chain = Literal["incremental", "differential", "forever", "full_only"]
Transport = Literal["direct", "hot_add", "network"]
WindowEnd = Literal["stop", "finish", "run_on"]
MachineOrder = Literal["listed", "largest", "smallest", "name"]
"""How the machines that rules select stand behind those that are listed."""
Fallback = Literal["as it is", "standstill", "leave out"]
"""What is done with a machine that cannot be quiesced."""
Standstill = Literal["none", "pause", "stop"]
"""Whether a machine is halted while it prepares."""


@dataclass(frozen=True, slots=True)
class Retention:
    """Which points are kept (section 8).

    Attributes:
        until: up to the end of this date at the repository's site everything is kept; from then on
            the other rules decide, and without any nothing but the newest usable point is wanted.
    """

    points: Count | None = None
    days: Span | None = None
    full_days: Span | None = None
    incremental_days: Span | None = None
    weekly: Tally = 0
    monthly: Tally = 0
    yearly: Tally = 0
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

    repository: RepositoryId
    delay_min: Amount = 0.0
    retention: Retention = Retention()
    cold_after_days: Span | None = None


@dataclass(frozen=True, slots=True)
class Destination:
    """A repository to which some machines of a job go instead of the job's own.

    Attributes:
        rules: as those of a selection: machines for which all conditions of any of them hold.
    """

    repository: RepositoryId
    rules: Annotated[tuple[Rule, ...], Rows(least=1)]


@dataclass(frozen=True, slots=True, kw_only=True)
class Job:
    """A job.

    Attributes:
        exclude_reasons: why machines are left out by name; of others it says nothing.
        guest_before_name, guest_after_name: what the steps in the guest are called.
        destinations: where some of its machines go; the first that names a machine counts.
        network: the named network to which the job is held; None: each machine's own.
    """

    id: Ident
    name: Annotated[str, Key("Name", otherwise="id")]
    priority: Annotated[int, v.number(least=1, most=5, whole=True)] = 3
    share: Capacity = 1.0
    machines: Selection
    exclude_disks: Annotated[tuple[tuple[Ident, Ident], ...], Rows(distinct=True)] = ()
    repository: RepositoryId
    proxies: Annotated[tuple[ProxyId, ...] | None, Rows(distinct=True)] = None
    transport: Literal["auto", "direct", "hot_add", "network"] = "auto"
    schedules: tuple[Schedule, ...] = ()
    after: JobId | None = None
    window: WindowId | None = None
    at_window_end: WindowEnd = "finish"
    start_within_min: Amount | None = None
    stop_after_min: Amount | None = None
    chain: Chain = "incremental"
    synthetic_full: bool = False
    tracking: bool = True
    skip_swap: bool = True
    skip_unused: bool = True
    compress: bool = True
    quiesce_s: Amount = 0.0
    before_min: Amount = 0.0
    after_min: Amount = 0.0
    verify: Literal["none", "checksum", "boot"] = "none"
    boot_min: Amount = 6.0
    verify_fulls: bool = True
    limit_mbit_per_s: Capacity | None = None
    max_streams: Count | None = None
    network: Ident | None = None
    destinations: tuple[Destination, ...] = ()
    retention: Retention = Retention()
    copies: tuple[Copy, ...] = ()
    locked: bool = False
    spread_fulls: Annotated[int, v.number(least=1, most=14, whole=True)] = 1
    on_hold: bool = False
    hold_until: date | None = None
    machine_order: MachineOrder = "listed"
    exclude_disk_rules: tuple[DiskCondition, ...] = ()
    exclude_paths: tuple[ExcludedPath, ...] = ()
    exclude_reasons: tuple[ExclusionReason, ...] = ()
    guest_before_s: Amount = 0.0
    guest_after_s: Amount = 0.0
    guest_before_name: str = ""
    guest_after_name: str = ""
    if_quiesce_fails: Fallback = "as it is"
    standstill: Standstill = "none"
    standstill_s: Amount = 30.0
    encrypt: bool = False
    encrypt_factor: Factor = 1.0
    notify: Literal["never", "trouble", "always"] = "never"
    notify_to: Annotated[tuple[Ident, ...], Rows(distinct=True)] = ()
    learned: tuple[Learned, ...] = ()

    def problems(self) -> Wrong:
        """Keys that cannot go together."""
        if self.after is not None and self.schedules:
            yield "after", self.after, "cannot go with schedules; a job has one of the two"
        if self.after is not None and self.spread_fulls > 1:
            yield "spread_fulls", self.spread_fulls, "is for a job with schedules of its own"
        for i, destination in enumerate(self.destinations):
            if destination.repository == self.repository:
                yield (
                    f"destinations[{i}].repository",
                    destination.repository,
                    "is the job's own repository",
                )
        for i, copy in enumerate(self.copies):
            at = f"copies[{i}].repository"
            if copy.repository == self.repository:
                yield at, copy.repository, "is the job's own repository"
            elif copy.repository in self.repositories:
                yield at, copy.repository, "is where some machines of the job go"
        if self.hold_until is not None and not self.on_hold:
            yield "hold_until", self.hold_until.isoformat(), "requires on_hold"

    @property
    def repositories(self) -> tuple[str, ...]:
        """Its own repository, then those of its destinations, each once."""
        return tuple(dict.fromkeys((self.repository, *(d.repository for d in self.destinations))))

    @property
    def places(self) -> tuple[str, ...]:
        """All repositories that its points go to: its own and its destinations, then its copies."""
        return (*self.repositories, *(copy.repository for copy in self.copies))

    @property
    def verifies_fulls_too(self) -> bool:
        """Whether it verifies its fulls beside other points, so that it could spare the fulls."""
        return self.verify != "none" and self.verify_fulls and self.chain != "full_only"

    @property
    def stream_factor(self) -> float:
        """What encrypting leaves of the ceiling of one stream."""
        return self.encrypt_factor if self.encrypt else 1.0


@dataclass(frozen=True, slots=True)
class Transports:
    """The ceiling of ONE stream by transport, in MiB/s."""

    direct_mib_per_s: Annotated[Capacity, Key("Direct")] = 400.0
    hot_add_mib_per_s: Annotated[Capacity, Key("Hot-add")] = 250.0
    network_mib_per_s: Annotated[Capacity, Key("Network")] = 110.0
    agent_mib_per_s: Annotated[Capacity, Key("Agent")] = 180.0
    learned: Annotated[tuple[Learned, ...], Key("Taken from the ledger", form=False)] = ()
