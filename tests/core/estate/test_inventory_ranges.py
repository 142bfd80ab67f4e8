"""What a source says is held to the ranges of a plan before anything is stored."""

from dataclasses import replace

import pytest

from gambrel.core.estate.inventory import (
    FoundDatastore,
    FoundDisk,
    FoundHost,
    FoundMachine,
    FoundSnapshot,
    Inventory,
    InventoryError,
)

DISK = FoundDisk("0", 100.0, 40.0, 4.0, "d1")
MACHINE = FoundMachine(
    "m1", "gate-01", "vm", (DISK,), "h1", "ticketing", ("gold",),
    snapshots=(FoundSnapshot("before", 1.7e9, 3.0),), daily_change=0.02, nic_mbit_per_s=1000.0,
)  # fmt: skip


def inventory(machine=MACHINE, host=None, store=None):
    return Inventory(
        "source",
        "quay",
        (host or FoundHost("h1", "host-1", None, 10_000.0),),
        (store or FoundDatastore("d1", "store-1", ("h1",)),),
        (machine,),
    )


def test_what_makes_sense_is_taken():
    assert inventory().machines == (MACHINE,)
    assert inventory(replace(MACHINE, disks=())).machines[0].disks == ()


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"snapshots": (FoundSnapshot("s", 1.7e9, -3.0),)}, "snapshot's size is -3"),
        ({"snapshots": (FoundSnapshot("s", 1e300, 3.0),)}, "snapshot's date"),
        ({"disks": (replace(DISK, provisioned_gib=-1.0),)}, "size is -1"),
        ({"disks": (replace(DISK, used_gib=float("nan")),)}, "used size is not a number"),
        ({"disks": (replace(DISK, used_gib=101.0),)}, "more of it is used than it is large"),
        ({"disks": (replace(DISK, swap_gib=41.0),)}, "more of it is swap"),
        ({"disks": (replace(DISK, provisioned_gib="100"),)}, "size is not a number"),
        ({"disks": (replace(DISK, id=""),)}, "id is empty"),
        ({"disks": (DISK, DISK)}, "is given twice"),
        ({"disks": (DISK,) * 300}, "more than 256 disks"),
        ({"name": ""}, "name is empty"),
        ({"name": 7}, "name is not a text"),
        ({"name": "x" * 200}, "longer than 190"),
        ({"name": "\ud800"}, "character that does not exist"),
        ({"folder": "x" * 65_536}, "longer than 2000"),
        ({"tags": ("",)}, "tag is empty"),
        ({"tags": (3,)}, "tag is not a text"),
        ({"powered_on": "yes"}, "yes or no"),
        ({"nic_mbit_per_s": 0.0}, "NIC is 0"),
        ({"daily_change": -0.1}, "daily change is -0.1"),
        ({"daily_change": True}, "daily change is not a number"),
    ],
    ids=lambda value: str(value)[:40],
)
def test_what_cannot_be_is_named(change, said):
    with pytest.raises(InventoryError) as error:
        inventory(replace(MACHINE, **change))
    assert said in str(error.value)
    assert str(error.value).startswith("machine ")
    assert len(str(error.value)) < 300


def test_hosts_and_datastores_are_held_to_ranges_too():
    with pytest.raises(InventoryError, match="host 'host-1': its NIC is -5"):
        inventory(host=FoundHost("h1", "host-1", None, -5.0))
    with pytest.raises(InventoryError, match="its name is empty"):
        inventory(store=FoundDatastore("d1", "", ("h1",)))
