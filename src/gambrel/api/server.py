"""How the server itself is doing: memory and what is kept in it."""

from __future__ import annotations

import re
from collections import defaultdict
from pathlib import Path
from typing import Any

from apiflask import APIBlueprint, Schema
from apiflask.fields import Integer, List, Nested, String

from gambrel.api.schemas import required
from gambrel.core.caches import CacheState, cache_states

blueprint = APIBlueprint("server", __name__, tag="Server", url_prefix="/api/v1/server")


class CacheSchema(Schema):
    name = required(String)
    entries = required(Integer)
    bytes = required(Integer)
    most_bytes = required(
        Integer, metadata={"description": "the limit of all caches of this name together"}
    )


class MemorySchema(Schema):
    resident_bytes = required(
        Integer, metadata={"description": "memory of the process; 0 where that is not known"}
    )
    caches = required(List, Nested(CacheSchema))


def resident_bytes() -> int:
    """The memory that this process has now."""
    try:
        status = Path("/proc/self/status").read_text(encoding="utf-8")
    except OSError:
        return 0
    found = re.search(r"VmRSS:\s+(\d+) kB", status)
    return int(found[1]) * 1024 if found else 0


@blueprint.get("/memory")
@blueprint.output(MemorySchema)
def show_memory() -> dict[str, Any]:
    """The memory of the server and what its caches hold, the largest first."""
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
    caches.sort(key=lambda cache: -cache["bytes"])  # type: ignore[operator]
    return {"resident_bytes": resident_bytes(), "caches": caches}
