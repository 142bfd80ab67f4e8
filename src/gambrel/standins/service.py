"""The three dialects that the simulated sources speak, on one loopback port.

A source answers below `/<its name>`. Make A gives lists in pages, make B one tree, make C a list of
changes. Only this computer may ask, and only with an account of the source.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import asdict
from datetime import UTC, datetime
from typing import Any

from flask import Flask, Response, abort, jsonify, request

from gambrel.core.estate.inventory import FoundHost, FoundMachine
from gambrel.core.units import GIB
from gambrel.standins.world import Source, World

PAGE = 50
CHANGES_AT_ONCE = 60


def create_service(world: World) -> Flask:
    """The application that plays all sources of a world."""
    app = Flask(__name__)
    tickets: dict[str, str] = {}

    def source(name: str, make: str) -> Source:
        found = world.sources.get(name)
        if found is None or found.sample.make != make:
            abort(404)
        if found.latency_s:
            time.sleep(found.latency_s)
        if found.fault == "down":
            abort(503)
        return found

    def admitted(found: Source, user: str, secret: str, scope: str | None) -> None:
        account = found.account(user, secret, scope)
        if account is None:
            _refuse(401, "The user or the secret is wrong.")
        elif account.fault == "expired":
            _refuse(401, "The password has expired.")
        elif account.fault == "may not":
            _refuse(403, f"{user} may not open the applications of {scope}.")
        elif account.fault == "locked":
            _refuse(423, f"The account {user} is locked after too many failures.")

    # --- make A ---------------------------------------------------------------------------

    def basic(name: str, scope: str | None) -> Source:
        found, given = source(name, "A"), request.authorization
        user = (given.username if given else "") or ""
        admitted(found, user, (given.password if given else "") or "", scope)
        return found

    @app.get("/<name>/access")
    def access(name: str) -> Any:
        basic(name, request.args.get("for", "source"))
        return {"granted": True}

    @app.get("/<name>/summary")
    def summary(name: str) -> Any:
        found = basic(name, "source")
        return {"items": len(found.hosts) + len(found.stores) + len(found.machines)}

    def pages(name: str, items: Callable[[Source], list[Any]]) -> Any:
        found = basic(name, "source")
        with world.lock:
            every = items(found)
        page = max(1, request.args.get("page", 1, int))
        if found.fault == "half" and page > 1:
            abort(500)
        count = max(1, -(-len(every) // PAGE))
        return {"page": page, "pages": count, "items": every[(page - 1) * PAGE : page * PAGE]}

    @app.get("/<name>/hosts")
    def hosts(name: str) -> Any:
        return pages(
            name,
            lambda found: [
                {"ref": h.uid, "label": h.name, "group": h.cluster, "mbit": h.nic_mbit_per_s}
                for h in found.hosts.values()
            ],
        )

    @app.get("/<name>/stores")
    def stores(name: str) -> Any:
        return pages(
            name,
            lambda found: [
                {
                    "ref": s.uid,
                    "label": s.name,
                    "mounts": list(s.hosts),
                    "zone": list(s.zoned_to),
                }
                for s in found.stores.values()
            ],
        )

    @app.get("/<name>/machines")
    def machines(name: str) -> Any:
        return pages(name, lambda found: [_as_a(m) for m in found.machines.values()])

    # --- make B ---------------------------------------------------------------------------

    @app.post("/<name>/tickets")
    def ticket(name: str) -> Any:
        found = source(name, "B")
        given = request.get_json(silent=True) or {}
        admitted(
            found, str(given.get("user", "")), str(given.get("password", "")), given.get("scope")
        )
        made = f"t{len(tickets)}-{name}"
        tickets[made] = name
        return {"ticket": made}

    @app.get("/<name>/tree")
    def tree(name: str) -> Any:
        found = source(name, "B")
        if tickets.get(request.headers.get("X-Ticket", "")) != name:
            _refuse(401, "There is no such ticket.")
        with world.lock:
            groups: dict[str | None, list[FoundHost]] = {}
            for host in found.hosts.values():
                groups.setdefault(host.cluster, []).append(host)
            every = list(found.machines.values())
            return {
                "groups": [
                    {
                        "name": group,
                        "nodes": [
                            {
                                "id": node.uid,
                                "name": node.name,
                                "link_mbit": node.nic_mbit_per_s,
                                "guests": [_as_b(m) for m in every if m.host == node.uid],
                            }
                            for node in nodes
                        ],
                    }
                    for group, nodes in groups.items()
                ],
                "servers": [_as_b(m) for m in every if m.host is None],
                "pools": [
                    {
                        "id": s.uid,
                        "name": s.name,
                        "nodes": list(s.hosts),
                        "initiators": list(s.zoned_to),
                    }
                    for s in found.stores.values()
                ],
            }

    # --- make C ---------------------------------------------------------------------------

    def keyed(name: str) -> Source:
        found = source(name, "C")
        user, _, secret = request.headers.get("X-Key", "").partition(":")
        admitted(found, user, secret, request.headers.get("X-Scope", "source"))
        return found

    @app.get("/<name>/key")
    def key(name: str) -> Any:
        keyed(name)
        return {"valid": True}

    @app.get("/<name>/changes")
    def changes(name: str) -> Any:
        found = keyed(name)
        after = max(0, request.args.get("after", 0, int))
        with world.lock:
            some = found.changes[after : after + CHANGES_AT_ONCE]
            return {
                "upto": after + len(some),
                "rest": max(0, len(found.changes) - after - len(some)),
                "changes": [
                    {"n": after + i, "what": what, "id": uid, "now": _as_c(what, now)}
                    for i, (what, uid, now) in enumerate(some, start=1)
                ],
            }

    @app.errorhandler(404)
    @app.errorhandler(500)
    @app.errorhandler(503)
    def failed(error: Any) -> Any:
        return {"reason": str(error.description)}, error.code

    return app


def _refuse(status: int, reason: str) -> None:
    response: Response = jsonify({"reason": reason})
    response.status_code = status
    abort(response)


def _as_a(machine: FoundMachine) -> dict[str, Any]:
    return {
        "ref": machine.uid,
        "label": machine.name,
        "on": machine.powered_on,
        "placed": machine.host,
        "path": machine.folder,
        "labels": list(machine.tags),
        "quiet": machine.quiesces,
        "role": machine.role,
        "change_per_day": machine.daily_change,
        "mbit": machine.nic_mbit_per_s,
        "drives": [
            {
                "slot": d.id, "bytes": round(d.provisioned_gib * GIB),
                "bytes_used": round(d.used_gib * GIB), "bytes_swap": round(d.swap_gib * GIB),
                "store": d.datastore, "vault": d.holds_backups,
            }
            for d in machine.disks
        ],
        "shots": [
            {
                "title": s.name, "made": datetime.fromtimestamp(s.taken_at, UTC).isoformat(),
                "bytes": round(s.gib * GIB),
            }
            for s in machine.snapshots
        ],
    }  # fmt: skip


def _as_b(machine: FoundMachine) -> dict[str, Any]:
    return {
        "id": machine.uid,
        "name": machine.name,
        "state": "up" if machine.powered_on else "down",
        "in": machine.folder.split("/") if machine.folder else [],
        "marks": list(machine.tags),
        "runs": machine.role,
        "no_quiesce": not machine.quiesces,
        "link_mbit": machine.nic_mbit_per_s,
        "volumes": [
            {
                "name": d.id, "size": d.provisioned_gib * 1024,
                "free": (d.provisioned_gib - d.used_gib) * 1024, "paging": d.swap_gib * 1024,
                "pool": d.datastore, "content": "backups" if d.holds_backups else "data",
            }
            for d in machine.disks
        ],
        "saved_states": [
            {"name": s.name, "epoch": s.taken_at, "size": s.gib * 1024} for s in machine.snapshots
        ],
    }  # fmt: skip


def _as_c(what: str, now: Any) -> dict[str, Any] | None:
    if now is None:
        return None
    raw = asdict(now)
    if what == "host":
        return {"called": now.name, "member_of": now.cluster, "mbit": now.nic_mbit_per_s}
    if what == "store":
        return {
            "called": now.name,
            "seen_by": list(now.hosts),
            "zoned_for": list(now.zoned_to),
        }
    return {
        "called": now.name,
        "at": now.host,
        "folder": now.folder,
        "tags": ",".join(now.tags),
        "resting": not now.powered_on,
        "can_pause": now.quiesces,
        "job": now.role,
        "mbit": now.nic_mbit_per_s,
        "disks": [
            {
                "n": d["id"], "kib": d["provisioned_gib"] * 2**20,
                "kib_written": d["used_gib"] * 2**20, "kib_swap": d["swap_gib"] * 2**20,
                "store": d["datastore"], "keeps_backups": d["holds_backups"],
            }
            for d in raw["disks"]
        ],
        "states": [
            {"n": s["name"], "when": s["taken_at"], "kib": s["gib"] * 2**20}
            for s in raw["snapshots"]
        ],
    }  # fmt: skip
