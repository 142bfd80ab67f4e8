"""What data flow through: sites, links, hosts, datastores, proxies, repositories."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import time
from itertools import pairwise
from typing import Annotated, Any, Literal

from gambrel.core.plan.kinds import (
    Amount,
    Capacity,
    Count,
    DatastoreId,
    Factor,
    HostId,
    Ident,
    MachineId,
    ProxyId,
    SiteId,
    Span,
    Weekday,
    Zone,
)
from gambrel.core.plan.learned import Learned
from gambrel.core.plan.shapes import Key, Rows

Taken = Annotated[tuple[Learned, ...], Key("Taken from the ledger", form=False)]
"""Which values of an entry are as the ledger shows them."""

Wrong = Iterator[tuple[str, Any, str]]
"""Problems of an object that its single values do not show: the key, its value, the reason."""


def repeated_ids(key: str, items: tuple[Any, ...]) -> Wrong:
    """Ids that two entries of a list share."""
    seen: set[str] = set()
    for i, item in enumerate(items):
        if item.id in seen:
            yield f"{key}[{i}].id", item.id, f"is in {key} twice"
        seen.add(item.id)


@dataclass(frozen=True, slots=True)
class Site:
    id: Ident
    name: Annotated[str, Key("Name", otherwise="id")]
    time_zone: Annotated[Zone, Key("Time zone")]


@dataclass(frozen=True, slots=True)
class LinkLimit:
    """A weekly interval in which a link carries less; 0 Mbit/s means closed."""

    days: tuple[Weekday, ...]
    from_time: time
    to_time: time
    mbit_per_s: Amount


@dataclass(frozen=True, slots=True)
class Link:
    """A connection of two sites; of a site with itself: that site's own backup network.

    Attributes:
        network: of a link of a site with itself: the name of the further network that it is. The
            site's own network is the one without a name.
        encrypted: whether what it carries is encrypted on the way.
        encryption_factor: the share of every rate of the link that is left when it is (0 to 1).
    """

    id: Ident
    between: tuple[SiteId, SiteId]
    mbit_per_s: Annotated[Capacity, Key("Rate")]
    limits: Annotated[tuple[LinkLimit, ...], Key("Limits by hour", form=False)] = ()
    encrypted: Annotated[bool, Key("Encrypted")] = False
    encryption_factor: Annotated[Factor, Key("Rate left by encryption", percent=True)] = 1.0
    network: Annotated[Ident | None, Key("Named network", null="none")] = None
    purchase_price_per_mbit: Annotated[
        Amount | None, Key("Price of more", unit="a Mbit/s and month", null="not known")
    ] = None
    lead_days: Annotated[Amount | None, Key("Delivery of more takes", null="not known")] = None
    learned: Taken = ()

    def problems(self) -> Wrong:
        """A network of one site that joins two."""
        if self.network is not None and self.between[0] != self.between[1]:
            yield "network", self.network, "is for a link of a site with itself"

    def carried(self, mbit_per_s: float) -> float:
        """What encryption leaves of a rate of this link, in Mbit/s."""
        return mbit_per_s * self.encryption_factor if self.encrypted else mbit_per_s


@dataclass(frozen=True, slots=True)
class Found:
    """Where discovery found something: the source, and the stable id that the source gives it."""

    source: Ident
    uid: Ident


@dataclass(frozen=True, slots=True)
class Host:
    """A hypervisor host.

    Attributes:
        nic_mbit_per_s: of the NIC that backups and restores use.
        backup_network: the named network in which the host has a second NIC. Backups by network
            transport leave by that one; restores come by the first.
        backup_nic_mbit_per_s: of the second NIC, where there is one.
    """

    id: Ident
    site: Annotated[SiteId, Key("Site", form=False)]
    cluster: Annotated[Ident | None, Key("Cluster", null="none")] = None
    nic_mbit_per_s: Annotated[Capacity | None, Key("Network", null="no limit")] = None
    snapshot_slots: Annotated[Count | None, Key("Snapshots at once", null="no limit")] = None
    proxies: Annotated[
        tuple[ProxyId, ...] | None, Rows(distinct=True), Key("Read by", null="any proxy")
    ] = None
    memory_gib: Annotated[Capacity | None, Key("Memory", null="not known")] = None
    backup_network: Annotated[Ident | None, Key("Second NIC in network", null="none")] = None
    backup_nic_mbit_per_s: Annotated[Capacity | None, Key("Second NIC", null="no limit")] = None
    found: Found | None = None
    learned: Taken = ()


@dataclass(frozen=True, slots=True)
class Datastore:
    """Storage that hosts mount.

    Attributes:
        read_mib_per_s: of all backups that read it; `write_mib_per_s` of all restores to it.
        zoned_proxies: those that the storage lets read it directly.
    """

    id: Ident
    hosts: Annotated[tuple[HostId, ...], Rows(distinct=True), Key("Mounted by")]
    read_mib_per_s: Annotated[Capacity | None, Key("Read rate", null="no limit")] = None
    write_mib_per_s: Annotated[Capacity | None, Key("Write rate", null="no limit")] = None
    task_slots: Annotated[Count | None, Key("Disks at once", null="no limit")] = None
    zoned_proxies: Annotated[
        tuple[ProxyId, ...], Rows(distinct=True), Key("Zoned to", form=False)
    ] = ()
    found: Found | None = None
    learned: Taken = ()


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

    id: Ident
    site: SiteId
    slots: Annotated[Count, Key("Slots")]
    mib_per_s: Annotated[Capacity | None, Key("Throughput", null="no limit")] = None
    direct_datastores: Annotated[
        tuple[DatastoreId, ...], Rows(distinct=True), Key("Reads directly")
    ] = ()
    on_host: Annotated[HostId | None, Key("Runs on host", null="no host")] = None
    cores: Annotated[Count | None, Key("Cores", null="not known")] = None
    memory_gib: Annotated[Capacity | None, Key("Memory", null="not known")] = None
    physical: Annotated[bool, Key("Physical machine")] = False
    on_machine: Annotated[MachineId | None, Key("Is the machine", null="none of the estate")] = None
    left_out_datastores: Annotated[
        tuple[DatastoreId, ...], Rows(distinct=True), Key("Does not read directly")
    ] = ()
    throughput_from: Annotated[Literal["stated", "learned"], Key("Throughput is", form=False)] = (
        "stated"
    )
    purchase_price_per_slot: Annotated[
        Amount | None, Key("Price of one more", unit="a slot", null="not known")
    ] = None
    lead_days: Annotated[Amount | None, Key("Delivery of more takes", null="not known")] = None
    learned: Taken = ()

    def problems(self) -> Wrong:
        """Two places at once."""
        if self.on_machine is not None and self.on_host is not None:
            yield "on_host", self.on_host, "cannot go with on_machine; the host is that machine's"
        if self.physical and (self.on_machine is not None or self.on_host is not None):
            yield "physical", True, "cannot be said of a proxy that runs on a host"


@dataclass(frozen=True, slots=True)
class Volume:
    """One of the volumes that a repository spreads its points over."""

    id: Ident
    capacity_gib: Capacity


MOST_TIERS = 3
"""How many colder tiers a repository has at most."""


@dataclass(frozen=True, slots=True)
class Tier:
    """A colder place to which the points of a repository move with age.

    Attributes:
        after_days: age at which a point moves there.
        minimum_days: for how long at least a point is paid for there, although it went sooner.
        price_per_tib_month, read_price_per_tib: of storing and of reading back, in any currency.
        delay_min: how long a restore waits before the first byte comes.
    """

    id: Ident
    after_days: Span
    minimum_days: Amount = 0.0
    price_per_tib_month: Amount | None = None
    read_price_per_tib: Amount | None = None
    delay_min: Amount = 0.0


USUAL_OF_KIND: dict[str, dict[str, object]] = {
    "disk": {"sequential": False, "first_byte_s": 0, "read_part": 1},
    "deduplicating": {"sequential": False, "first_byte_s": 0, "read_part": 0.35},
    "object": {"sequential": False, "first_byte_s": 0.2, "read_part": 1},
    "tape": {"sequential": True, "first_byte_s": 90, "read_part": 1},
}
"""What a form proposes where the kind of a repository is chosen: how such a one usually behaves."""


@dataclass(frozen=True, slots=True)
class Repository:
    """A place for restore points.

    Attributes:
        volumes: where it is a pool of several; streams and rates are those of the whole.
        placement: on which volume a new point goes: the one with most free space, or for a point
            that needs another the volume of that one.
        sequential: one stream at a time, read and written in order only, as tape is: fulls are not
            made in it, and a machine that is restored from it starts once all of it is written.
        first_byte_s: how long it takes before it gives out anything, for each point of a chain.
        read_part: its read rate as a part of its write rate, where no read rate is stated.
        tiers: colder places within it, by the age at which points move there.
        price_per_tib_month: of storing in it, in any currency; of points in no tier.
        purchase_price_per_tib: of more space; `lead_days`: from the order until it is there.
    """

    id: Ident
    site: SiteId
    kind: Annotated[Literal["disk", "deduplicating", "object", "tape"], Key("Kind")] = "disk"
    capacity_gib: Annotated[Capacity | None, Key("Space", null="not known")] = None
    volumes: Annotated[
        tuple[Volume, ...], Key("Volumes of the pool", unit="each a name and GiB")
    ] = ()
    placement: Annotated[
        Literal["most free", "chain together"], Key("A new point goes to the volume with")
    ] = "most free"
    stream_slots: Annotated[Count | None, Key("Streams at once", null="no limit")] = None
    ingest_mib_per_s: Annotated[Capacity | None, Key("Write rate", null="no limit")] = None
    read_mib_per_s: Annotated[Capacity | None, Key("Read rate", null="no limit")] = None
    transform_mib_per_s: Annotated[
        Capacity | None, Key("Rate of each transform", null="no limit")
    ] = None
    dedupe_ratio: Annotated[Capacity, Key("Deduplication ratio")] = 1.0
    block_clone: Annotated[bool, Key("Block clone")] = False
    immutable_days: Annotated[Amount, Key("Immutable for")] = 0.0
    sequential: Annotated[bool, Key("Sequential: one stream at a time, in order")] = False
    first_byte_s: Annotated[Amount, Key("Time to the first byte")] = 0.0
    read_part: Annotated[
        Factor, Key("Read rate as a part of the write rate, where none is stated", percent=True)
    ] = 1.0
    tiers: Annotated[
        tuple[Tier, ...],
        Key(
            "Colder tiers",
            unit="each: NAME from 90 days, least 180, price 2.5, reading 12, waits 240",
        ),
    ] = ()
    price_per_tib_month: Annotated[
        Amount | None, Key("Price of storing", unit="a TiB and month", null="not known")
    ] = None
    purchase_price_per_tib: Annotated[
        Amount | None, Key("Price of more space", unit="a TiB", null="not known")
    ] = None
    lead_days: Annotated[Amount | None, Key("Delivery of more takes", null="not known")] = None
    learned: Taken = ()

    def problems(self) -> Wrong:
        """A capacity that its volumes have already, volumes or tiers of the same name or age."""
        if self.volumes and self.capacity_gib is not None:
            reason = "cannot go with volumes; the capacity is theirs"
            yield "capacity_gib", self.capacity_gib, reason
        yield from repeated_ids("volumes", self.volumes)
        yield from repeated_ids("tiers", self.tiers)
        if len(self.tiers) > MOST_TIERS:
            yield (
                f"tiers[{MOST_TIERS}]",
                self.tiers[MOST_TIERS].id,
                "is a fourth tier; three are known",
            )
        ages = [tier.after_days for tier in self.tiers]
        for i, (young, old) in enumerate(pairwise(ages)):
            if old <= young:
                reason = "is not above that of the tier before it"
                yield f"tiers[{i + 1}].after_days", old, reason
        for i, (young, old) in enumerate(pairwise(tier.delay_min for tier in self.tiers)):
            if old < young:
                reason = "is below that of the tier before it"
                yield f"tiers[{i + 1}].delay_min", old, reason

    @property
    def streams(self) -> int | None:
        """How many streams it takes at once; None: any number."""
        return 1 if self.sequential else self.stream_slots

    @property
    def read_rate_mib_per_s(self) -> float | None:
        """What it gives out; None: without limit."""
        if self.read_mib_per_s is not None or self.read_part == 1 or self.ingest_mib_per_s is None:
            return self.read_mib_per_s
        return self.ingest_mib_per_s * self.read_part

    @property
    def space_gib(self) -> float | None:
        """The space of all its volumes, or of the whole; None where nobody stated it."""
        return sum(v.capacity_gib for v in self.volumes) if self.volumes else self.capacity_gib
