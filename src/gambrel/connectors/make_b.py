"""Make B: one nested tree of groups, nodes and guests; a ticket for an account; sizes in MiB."""

from __future__ import annotations

from typing import Any

from gambrel.connectors.asking import (
    ANSWER_WITHIN_S,
    Access,
    Account,
    Place,
    Progress,
    SourceError,
    ask,
    checked,
    understood,
)
from gambrel.core.estate import inventory as inv


def _gib(mib: float) -> float:
    return round(mib / 1024, 3)


class MakeB:
    def __init__(self, place: Place) -> None:
        self.place = place

    def _ticket(self, account: Account, within_s: float = ANSWER_WITHIN_S) -> str:
        body = ask(
            "POST", f"{self.place.address}/tickets",
            json={"user": account.user, "password": account.secret, "scope": account.scope},
            within_s=within_s,
        )  # fmt: skip
        ticket = body.get("ticket")
        if not isinstance(ticket, str):
            raise SourceError("It gives no ticket.", "Check the make of the source.")
        return ticket

    def check(self, account: Account, within_s: float) -> Access:
        return checked(lambda: self._ticket(account, within_s))

    def read(self, account: Account, progress: Progress) -> inv.Inventory:
        headers = {"X-Ticket": self._ticket(account)}
        tree = ask("GET", f"{self.place.address}/tree", headers=headers)
        found = understood(lambda: self._inventory(tree))
        total = len(found.hosts) + len(found.datastores) + len(found.machines)
        progress(total, total)
        return found

    def _inventory(self, tree: Any) -> inv.Inventory:
        hosts, machines = [], []
        for group in tree["groups"]:
            for node in group["nodes"]:
                hosts.append(
                    inv.FoundHost(node["id"], node["name"], group["name"], node.get("link_mbit"))
                )
                machines += [_guest(guest, node["id"]) for guest in node["guests"]]
        machines += [_guest(guest, None) for guest in tree.get("servers", [])]
        stores = tuple(
            inv.FoundDatastore(
                pool["id"], pool["name"], tuple(pool["nodes"]), tuple(pool.get("initiators", ()))
            )
            for pool in tree["pools"]
        )
        return inv.Inventory(
            self.place.source, self.place.site, tuple(hosts), stores, tuple(machines)
        )


def _guest(raw: dict[str, Any], node: str | None) -> inv.FoundMachine:
    return inv.FoundMachine(
        uid=raw["id"],
        name=raw["name"],
        kind="server" if node is None else "vm",
        host=node,
        folder="/".join(raw["in"]),
        tags=tuple(raw["marks"]),
        powered_on=raw["state"] == "up",
        quiesces=not raw.get("no_quiesce", False),
        role=raw.get("runs", ""),
        nic_mbit_per_s=raw.get("link_mbit"),
        disks=tuple(
            inv.FoundDisk(
                v["name"], _gib(v["size"]), _gib(v["size"] - v["free"]), _gib(v.get("paging", 0)),
                v.get("pool"), v.get("content") == "backups",
            )
            for v in raw["volumes"]
        ),
        snapshots=tuple(
            inv.FoundSnapshot(s["name"], float(s["epoch"]), _gib(s["size"]))
            for s in raw.get("saved_states", [])
        ),
    )  # fmt: skip
