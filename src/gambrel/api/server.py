"""How the server itself is doing: memory, what is kept in it, and what it works on."""

from __future__ import annotations

import re
from collections import defaultdict
from pathlib import Path
from typing import Any

from apiflask import APIBlueprint, Schema
from apiflask.fields import Integer, List, Nested, String
from flask import current_app

from gambrel.api.schemas import nullable, required
from gambrel.api.sessions import planning
from gambrel.build import build
from gambrel.core.caches import CacheState, cache_states
from gambrel.core.simulation.turns import Turns, simulations
from gambrel.store.database import newest_revision
from gambrel.store.housekeeping import Keep, taken
from gambrel.work.computations import Computations

blueprint = APIBlueprint("server", __name__, tag="Server", url_prefix="/api/v1/server")


class CacheSchema(Schema):
    name = required(String)
    entries = required(Integer)
    bytes = required(Integer)
    most_bytes = required(
        Integer, metadata={"description": "the limit of all caches of this name together"}
    )


class WorkSchema(Schema):
    at_once = nullable(Integer, metadata={"description": "null: as many as come"})
    running = required(Integer)
    waiting = required(Integer)


class ServerSchema(Schema):
    build = required(String)
    resident_bytes = required(
        Integer, metadata={"description": "memory of the process; 0 where that is not known"}
    )
    caches = required(List, Nested(CacheSchema))
    simulations = required(Nested, WorkSchema)
    computations = required(Nested, WorkSchema)


class TakenSchema(Schema):
    """What a kind of data takes, as the database estimates it."""

    kind = required(String)
    rows = required(Integer)
    bytes = required(Integer)


class KeepSchema(Schema):
    """How much is kept: of each plan the newest so many, and so many days."""

    versions = required(Integer)
    computations = required(Integer)
    event_days = required(Integer)
    audit_days = required(Integer)
    ledger_days = required(Integer)


class DataSchema(Schema):
    revision = required(String, metadata={"description": "of the schema"})
    taken = required(List, Nested(TakenSchema))
    keep = required(Nested, KeepSchema)


def resident_bytes() -> int:
    """The memory that this process has now."""
    try:
        status = Path("/proc/self/status").read_text(encoding="utf-8")
    except OSError:
        return 0
    found = re.search(r"VmRSS:\s+(\d+) kB", status)
    return int(found[1]) * 1024 if found else 0


def _work(turns: Turns) -> dict[str, Any]:
    return {"at_once": turns.at_once, "running": turns.running, "waiting": turns.waiting}


def caches_by_name() -> list[dict[str, Any]]:
    """What the caches hold, all of one name together, the largest first."""
    by_name: dict[str, list[CacheState]] = defaultdict(list)
    for state in cache_states():
        by_name[state.name].append(state)
    caches = [
        {
            "name": name,
            "entries": sum(state.entries for state in states),
            "bytes": sum(state.bytes for state in states),
            "most_bytes": sum(state.most_bytes for state in states),
        }
        for name, states in by_name.items()
    ]
    return sorted(caches, key=lambda cache: -cache["bytes"])


@blueprint.get("")
@blueprint.output(ServerSchema)
def show_server() -> dict[str, Any]:
    """The memory of the server, what its caches hold, the largest first, and what it works on."""
    computations: Computations = current_app.extensions["gambrel-computations"]
    return {
        "build": build(),
        "resident_bytes": resident_bytes(),
        "caches": caches_by_name(),
        "simulations": _work(simulations),
        "computations": _work(computations.turns),
    }


@blueprint.get("/data")
@blueprint.output(DataSchema)
def show_data() -> dict[str, Any]:
    """What Gambrel's own data take in the database, the most first, and how much is kept."""
    with planning().sessions() as db:
        found = taken(db)
    keep: Keep = current_app.config["KEEP"]
    return {
        "revision": newest_revision(),
        "taken": [{"kind": t.kind, "rows": t.rows, "bytes": t.bytes} for t in found],
        "keep": {
            "versions": keep.versions,
            "computations": keep.computations,
            "event_days": keep.event_days,
            "audit_days": keep.audit_days,
            "ledger_days": keep.ledger_days,
        },
    }
