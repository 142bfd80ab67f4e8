"""Make C: a list of changes to follow from number to number; a key; sizes in KiB."""

from __future__ import annotations

from typing import Any

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

MOST_CHANGES = 5_000_000
"""A source whose changes never end is given up."""


def _gib(kib: float) -> float:
    return round(kib / 2**20, 3)


class MakeC:
    def __init__(self, place: Place) -> None:
        self.place = place

    def _headers(self, account: Account) -> dict[str, str]:
        return {"X-Key": f"{account.user}:{account.secret}", "X-Scope": account.scope}

    def check(self, account: Account, within_s: float) -> Access:
        return checked(
            lambda: ask(
                "GET", f"{self.place.address}/key", headers=self._headers(account),
                within_s=within_s,
            )
        )  # fmt: skip

    def read(self, account: Account, progress: Progress) -> inv.Inventory:
        state: dict[str, dict[str, Any]] = {"host": {}, "store": {}, "guest": {}}
        after = read = 0
        with requests.Session() as session:
            session.headers.update(self._headers(account))
            while True:
                body = ask("GET", f"{self.place.address}/changes?after={after}", session=session)
                rest = self._follow(body, state)
                read += len(body["changes"])
                progress(read, read + rest)
                if not rest:
                    break
                if body["upto"] <= after or read > MOST_CHANGES:
                    raise SourceError("Its changes do not end.", "Look at the source.")
                after = body["upto"]
        return understood(lambda: self._inventory(state))

    def _follow(self, body: Any, state: dict[str, dict[str, Any]]) -> int:
        try:
            for change in body["changes"]:
                known = state[change["what"]]
                if change["now"] is None:
                    known.pop(change["id"], None)
                else:
                    known[change["id"]] = change["now"]
            int(body["upto"])
            return int(body["rest"])
        except (KeyError, TypeError, ValueError):
            raise SourceError(
                "Its answer is not what this make sends.", "Check the make of the source."
            ) from None

    def _inventory(self, state: dict[str, dict[str, Any]]) -> inv.Inventory:
        return inv.Inventory(
            self.place.source,
            self.place.site,
            tuple(
                inv.FoundHost(uid, h["called"], h.get("member_of"), h.get("mbit"))
                for uid, h in state["host"].items()
            ),
            tuple(
                inv.FoundDatastore(
                    uid, s["called"], tuple(s["seen_by"]), tuple(s.get("zoned_for", ()))
                )
                for uid, s in state["store"].items()
            ),
            tuple(_guest(uid, guest) for uid, guest in state["guest"].items()),
        )


def _guest(uid: str, raw: dict[str, Any]) -> inv.FoundMachine:
    return inv.FoundMachine(
        uid=uid,
        name=raw["called"],
        kind="server" if raw["at"] is None else "vm",
        host=raw["at"],
        folder=raw["folder"],
        tags=tuple(raw["tags"].split(",")) if raw["tags"] else (),
        powered_on=not raw["resting"],
        quiesces=raw["can_pause"],
        role=raw.get("job", ""),
        nic_mbit_per_s=raw.get("mbit"),
        disks=tuple(
            inv.FoundDisk(
                d["n"], _gib(d["kib"]), _gib(d["kib_written"]), _gib(d.get("kib_swap", 0)),
                d.get("store"), bool(d.get("keeps_backups", False)),
            )
            for d in raw["disks"]
        ),
        snapshots=tuple(
            inv.FoundSnapshot(s["n"], float(s["when"]), _gib(s["kib"])) for s in raw["states"]
        ),
    )  # fmt: skip
