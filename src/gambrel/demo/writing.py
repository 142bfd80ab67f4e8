"""Short ways to write the parts of a sample plan file."""

from __future__ import annotations

from typing import Any

EVERY_DAY = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
WORK_DAYS = EVERY_DAY[:5]


def schedule(kind: str, rule: str, start: str, zone: str, **more: Any) -> dict[str, Any]:
    return {"kind": kind, "rrule": rule, "start": start, "time_zone": zone, **more}


def rule(*conditions: tuple[str, str, Any]) -> list[dict[str, Any]]:
    return [{"field": field, "op": op, "value": value} for field, op, value in conditions]


def disk(ident: str, provisioned: float, used: float, **more: Any) -> dict[str, Any]:
    return {"id": ident, "provisioned_gib": provisioned, "used_gib": used, **more}
