"""Make A: lists in pages, a user and password with each request, sizes in bytes."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Any
from urllib.parse import urlencode

import requests

from gambrel.connectors.asking import (
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
from gambrel.core.units import GIB

MOST_PAGES = 10_000
"""A source that never comes to its last page is given up."""


class MakeA:
    def __init__(self, place: Place) -> None:
        self.place = place

    def check(self, account: Account, within_s: float) -> Access:
        address = f"{self.place.address}/access?{urlencode({'for': account.scope})}"
        return checked(
            lambda: ask("GET", address, auth=(account.user, account.secret), within_s=within_s)
        )

    def read(self, account: Account, progress: Progress) -> inv.Inventory:
        with requests.Session() as session:
            session.auth = (account.user, account.secret)
            total = ask("GET", f"{self.place.address}/summary", session=session).get("items")
            if not isinstance(total, int):
                raise _not_this_make()
            read = 0
            lists: dict[str, list[Any]] = {"hosts": [], "stores": [], "machines": []}
            for name, items in lists.items():
                for page in self._pages(session, name):
                    items += page
                    read += len(page)
                    progress(read, total)
        return understood(lambda: self._inventory(lists))

    def _pages(self, session: requests.Session, name: str) -> Iterator[list[Any]]:
        page = 1
        while True:
            body = ask("GET", f"{self.place.address}/{name}?page={page}", session=session)
            items, pages = body.get("items"), body.get("pages")
            if not isinstance(items, list) or not isinstance(pages, int) or pages > MOST_PAGES:
                raise _not_this_make()
            yield items
            if page >= pages:
                return
            page += 1

    def _inventory(self, lists: dict[str, list[Any]]) -> inv.Inventory:
        return inv.Inventory(
            self.place.source,
            self.place.site,
            tuple(
                inv.FoundHost(h["ref"], h["label"], h.get("group"), h.get("mbit"))
                for h in lists["hosts"]
            ),
            tuple(
                inv.FoundDatastore(
                    s["ref"], s["label"], tuple(s["mounts"]), tuple(s.get("zone", ()))
                )
                for s in lists["stores"]
            ),
            tuple(_machine(m) for m in lists["machines"]),
        )


def _not_this_make() -> SourceError:
    return SourceError("Its answer is not what this make sends.", "Check the make of the source.")


def _machine(raw: dict[str, Any]) -> inv.FoundMachine:
    place = raw.get("placed")
    return inv.FoundMachine(
        uid=raw["ref"],
        name=raw["label"],
        kind="server" if place is None else "vm",
        host=place,
        folder=raw["path"],
        tags=tuple(raw["labels"]),
        powered_on=raw["on"],
        quiesces=raw["quiet"],
        role=raw.get("role", ""),
        daily_change=raw.get("change_per_day"),
        nic_mbit_per_s=raw.get("mbit"),
        disks=tuple(
            inv.FoundDisk(
                d["slot"], round(d["bytes"] / GIB, 3), round(d["bytes_used"] / GIB, 3),
                round(d.get("bytes_swap", 0) / GIB, 3), d.get("store"), d.get("vault", False),
            )
            for d in raw["drives"]
        ),
        snapshots=tuple(
            inv.FoundSnapshot(
                s["title"], datetime.fromisoformat(s["made"]).timestamp(),
                round(s["bytes"] / GIB, 3),
            )
            for s in raw["shots"]
        ),
    )  # fmt: skip
