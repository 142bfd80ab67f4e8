"""What a source says there is, in one form for all makes.

Identity is the source's own stable id (`uid`): a machine that was renamed or that moved to another
host is the same machine. Sizes are GiB, rates Mbit/s and MiB/s, as in a plan.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, Literal


class InventoryError(ValueError):
    """An inventory that contradicts itself: what is wrong, and with which entry."""


@dataclass(frozen=True, slots=True)
class FoundDisk:
    """A disk; `datastore` is the uid of the one it lies on, None for a server's own disk."""

    id: str
    provisioned_gib: float
    used_gib: float
    swap_gib: float = 0.0
    datastore: str | None = None
    holds_backups: bool = False


@dataclass(frozen=True, slots=True)
class FoundSnapshot:
    name: str
    taken_at: float
    gib: float


@dataclass(frozen=True, slots=True)
class FoundMachine:
    """A VM (`host` is the uid of its host) or a physical server (`host` is None)."""

    uid: str
    name: str
    kind: Literal["vm", "server"]
    disks: tuple[FoundDisk, ...]
    host: str | None = None
    folder: str = ""
    tags: tuple[str, ...] = ()
    powered_on: bool = True
    quiesces: bool = True
    role: str = ""
    snapshots: tuple[FoundSnapshot, ...] = ()
    daily_change: float | None = None
    nic_mbit_per_s: float | None = None


@dataclass(frozen=True, slots=True)
class FoundHost:
    uid: str
    name: str
    cluster: str | None = None
    nic_mbit_per_s: float | None = None


@dataclass(frozen=True, slots=True)
class FoundDatastore:
    """A datastore.

    Attributes:
        hosts: uids of the hosts that mount it.
        zoned_to: names of machines that the storage is zoned to, beside those hosts.
    """

    uid: str
    name: str
    hosts: tuple[str, ...] = ()
    zoned_to: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Inventory:
    """All that one source names.

    Attributes:
        source: id of the source in the plan's `found` entries.
        site: id of the site at which all of it stands.
        complete: whether what is not named is gone; a file only ever adds.
    """

    source: str
    site: str
    hosts: tuple[FoundHost, ...] = ()
    datastores: tuple[FoundDatastore, ...] = ()
    machines: tuple[FoundMachine, ...] = ()
    complete: bool = field(default=True)

    def __post_init__(self) -> None:
        for what in ("hosts", "datastores", "machines"):
            seen: set[str] = set()
            for item in getattr(self, what):
                if item.uid in seen:
                    raise InventoryError(f"{what}: the id {item.uid!r} is given twice")
                seen.add(item.uid)
        hosts = {host.uid for host in self.hosts}
        stores = {store.uid for store in self.datastores}
        for machine in self.machines:
            if self.complete and machine.host is not None and machine.host not in hosts:
                raise InventoryError(
                    f"machine {machine.name!r}: its host {machine.host!r} is not named"
                )
            for disk in machine.disks:
                if self.complete and disk.datastore is not None and disk.datastore not in stores:
                    raise InventoryError(
                        f"machine {machine.name!r}, disk {disk.id!r}: its datastore "
                        f"{disk.datastore!r} is not named"
                    )


Item = FoundHost | FoundDatastore | FoundMachine


def item_to_dict(item: Item) -> dict[str, Any]:
    """A found item as JSON values."""
    return asdict(item)


def machine_from_dict(raw: Mapping[str, Any]) -> FoundMachine:
    """The machine that `item_to_dict` wrote."""
    more = {
        **raw,
        "disks": tuple(FoundDisk(**disk) for disk in raw["disks"]),
        "tags": tuple(raw["tags"]),
        "snapshots": tuple(FoundSnapshot(**shot) for shot in raw["snapshots"]),
    }
    return FoundMachine(**more)


def host_from_dict(raw: Mapping[str, Any]) -> FoundHost:
    """The host that `item_to_dict` wrote."""
    return FoundHost(**raw)


def datastore_from_dict(raw: Mapping[str, Any]) -> FoundDatastore:
    """The datastore that `item_to_dict` wrote."""
    zoned = tuple(raw.get("zoned_to", ()))
    return FoundDatastore(**{**raw, "hosts": tuple(raw["hosts"]), "zoned_to": zoned})
