"""What a source says there is, in one form for all makes.

Identity is the source's own stable id (`uid`): a machine that was renamed or that moved to another
host is the same machine. Sizes are GiB, rates Mbit/s and MiB/s, as in a plan.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any, Literal

from gambrel.core.plan.text_limits import LARGEST, MOST_CHARACTERS, MOST_OF_AN_ID, text_problem

LATEST_INSTANT = 7_258_118_400.0
"""The beginning of the year 2200."""


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
        self._check_ranges()
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

    def _check_ranges(self) -> None:
        """Hold every value to the range that a plan has for it, so that it can be taken over."""
        for host in self.hosts:
            what = f"host {_named(host.name)}"
            _check_texts(what, id=host.uid, name=host.name)
            _check_text(what, "cluster", host.cluster or "", empty=True)
            _check_number(what, "NIC", host.nic_mbit_per_s, above=0)
        for store in self.datastores:
            what = f"datastore {_named(store.name)}"
            _check_texts(what, id=store.uid, name=store.name)
            for name in (*store.hosts, *store.zoned_to):
                _check_text(what, "host", name)
        for machine in self.machines:
            _check_machine(machine)


MOST_DISKS, MOST_TAGS, MOST_SNAPSHOTS = 256, 256, 1024
"""More of one machine is taken for a mistake of the source."""


def _named(name: object) -> str:
    """A name that a source gave, short enough to be shown."""
    return ascii(name)[:60] if not isinstance(name, str) or not name.isprintable() else (
        repr(name[:50])
    )  # fmt: skip


def _check_text(
    what: str, field_: str, value: object, most: int = MOST_OF_AN_ID, *, empty: bool = False
) -> None:
    if not isinstance(value, str):
        raise InventoryError(f"{what}: its {field_} is not a text")
    reason = text_problem(value, most)
    if reason is None and not value and not empty:
        reason = "is empty"
    if reason is not None:
        raise InventoryError(f"{what}: its {field_} {reason}")


def _check_texts(what: str, **values: object) -> None:
    for field_, value in values.items():
        _check_text(what, field_, value)


def _check_number(
    what: str, field_: str, value: object, *, above: float | None = None, least: float = 0.0
) -> None:
    """Hold a number to its range; None means that the source does not say it."""
    if value is None:
        return
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise InventoryError(f"{what}: its {field_} is not a number")
    if not -LARGEST <= value <= LARGEST:
        raise InventoryError(f"{what}: its {field_} is not a number below {LARGEST:g}")
    if value < least or (above is not None and not value > above):
        raise InventoryError(f"{what}: its {field_} is {value:g}, which cannot be")


def _check_machine(machine: FoundMachine) -> None:
    what = f"machine {_named(machine.name)}"
    _check_texts(what, id=machine.uid, name=machine.name)
    _check_text(what, "folder", machine.folder, MOST_CHARACTERS, empty=True)
    _check_text(what, "role", machine.role, empty=True)
    for flag in (machine.powered_on, machine.quiesces):
        if not isinstance(flag, bool):
            raise InventoryError(f"{what}: whether it is on and quiesces is not said by yes or no")
    for few, most, noun in (
        (machine.disks, MOST_DISKS, "disks"), (machine.tags, MOST_TAGS, "tags"),
        (machine.snapshots, MOST_SNAPSHOTS, "snapshots"),
    ):  # fmt: skip
        if len(few) > most:
            raise InventoryError(f"{what}: it has more than {most} {noun}")
    for tag in machine.tags:
        _check_text(what, "tag", tag)
    _check_number(what, "NIC", machine.nic_mbit_per_s, above=0)
    _check_number(what, "daily change", machine.daily_change)
    for shot in machine.snapshots:
        _check_text(what, "snapshot's name", shot.name, MOST_CHARACTERS, empty=True)
        _check_number(what, "snapshot's size", shot.gib)
        _check_number(what, "snapshot's date", shot.taken_at)
        if shot.taken_at > LATEST_INSTANT:
            raise InventoryError(f"{what}: the date of its snapshot cannot be")
    seen: set[str] = set()
    for disk in machine.disks:
        _check_disk(f"{what}, disk {_named(disk.id)}", disk)
        if disk.id in seen:
            raise InventoryError(f"{what}: its disk {_named(disk.id)} is given twice")
        seen.add(disk.id)


def _check_disk(what: str, disk: FoundDisk) -> None:
    _check_text(what, "id", disk.id)
    for field_, value in (
        ("size", disk.provisioned_gib), ("used size", disk.used_gib), ("swap", disk.swap_gib),
    ):  # fmt: skip
        if value is None:
            raise InventoryError(f"{what}: its {field_} is missing")
        _check_number(what, field_, value)
    # Sizes come in other units and are divided; the last digit is forgiven.
    if disk.used_gib > disk.provisioned_gib * (1 + 1e-9):
        raise InventoryError(f"{what}: more of it is used than it is large")
    if disk.swap_gib > disk.used_gib * (1 + 1e-9):
        raise InventoryError(f"{what}: more of it is swap than is used")


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
