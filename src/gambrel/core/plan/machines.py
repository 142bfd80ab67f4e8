"""What is protected: virtual machines and physical servers, their disks, their facts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from typing import Annotated, ClassVar, Literal

from gambrel.core.plan import values as v
from gambrel.core.plan.kinds import (
    Amount,
    Capacity,
    Count,
    DatastoreId,
    Fraction,
    Growth,
    HostId,
    Ident,
    Instant,
    SiteId,
)
from gambrel.core.plan.places import Found, Wrong, repeated_ids
from gambrel.core.plan.shapes import Key, Rows


@dataclass(frozen=True, slots=True)
class Disk:
    variants: ClassVar[Mapping[str, str]] = {"vm": "a VM's disk", "server": "a server's disk"}

    id: Ident
    provisioned_gib: Amount
    used_gib: Amount
    swap_gib: Amount = 0.0
    datastore: Annotated[DatastoreId | None, Key(only="vm", required=True)] = None
    read_mib_per_s: Annotated[Capacity | None, Key(only="server")] = None
    holds_backups: bool = False

    def problems(self) -> Wrong:
        """Parts that are larger than the whole."""
        if self.used_gib > self.provisioned_gib:
            yield "used_gib", self.used_gib, "is more than provisioned_gib"
        if self.swap_gib > self.used_gib:
            yield "swap_gib", self.swap_gib, "is more than used_gib, which includes it"


@dataclass(frozen=True, slots=True)
class UserSnapshot:
    """A snapshot that somebody took by hand."""

    name: str
    taken_at: Instant
    gib: Amount


@dataclass(frozen=True, slots=True)
class LeftOut:
    """A machine that is not protected on purpose: why, and when to look at that again."""

    reason: Ident
    review: date | None = None


FactValue = Annotated[float | str, v.number_or_text(least=-1)]
"""A fact as a source reports it: a number, a flag as 1 or 0, a text."""
ChangeSource = Literal["stated", "learned", "role", "reported"]


@dataclass(frozen=True, slots=True)
class Facts:
    """What is known of a machine beyond what a simulation needs.

    Attributes:
        found: None for a machine that no discovery found.
        role: of the application on it; "" where nobody said.
        owner: who answers for it, such as a team; "" where nobody said.
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
    owner: str = ""
    change_from: ChangeSource = "stated"
    growth_per_year: Growth = 0.0
    quiesces: bool = True
    snapshots: tuple[UserSnapshot, ...] = ()
    left_out: LeftOut | None = None
    known_since: date | None = None
    gone_since: date | None = None
    reported: tuple[tuple[Ident, FactValue | None], ...] = ()


@dataclass(frozen=True, slots=True)
class Machine:
    """A VM (`host` set) or a physical server with an agent (`site` set).

    Attributes:
        backup_network: of a server: the named network in which it has a second NIC, by which its
            backups leave; `backup_nic_mbit_per_s` is that NIC's rate.
    """

    variants: ClassVar[Mapping[str, str]] = {"vm": "a VM", "server": "a server"}
    variant_told_by: ClassVar[str] = "kind"

    id: Ident
    kind: Literal["vm", "server"]
    disks: Annotated[tuple[Disk, ...], Key(required=True)]
    host: Annotated[HostId | None, Key(only="vm", required=True)] = None
    site: Annotated[SiteId | None, Key(only="server", required=True)] = None
    nic_mbit_per_s: Annotated[Capacity | None, Key(only="server")] = None
    agent_streams: Annotated[Count, Key(only="server")] = 2
    backup_network: Annotated[Ident | None, Key(only="server")] = None
    backup_nic_mbit_per_s: Annotated[Capacity | None, Key(only="server")] = None
    tags: Annotated[tuple[Ident, ...], Rows(distinct=True)] = ()
    folder: str = ""
    powered_on: bool = True
    daily_change: Amount = 0.02
    churn_ceiling: Fraction = 0.4
    compress_ratio: Capacity = 1.6
    rpo_hours: Capacity | None = None
    rto_hours: Capacity | None = None
    memory_gib: Capacity | None = None
    facts: Facts = Facts()

    def problems(self) -> Wrong:
        """Disks of the same name."""
        return repeated_ids("disks", self.disks)

    @property
    def gone(self) -> bool:
        """Whether its source does not name it any more."""
        return self.facts.gone_since is not None
