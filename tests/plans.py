"""Small plans for tests."""

from __future__ import annotations

import copy
from typing import Any

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan

EVERY_DAY = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
FRIDAY_NOON = parse_instant("2026-11-06T12:00:00Z")
DAY = 86_400.0

_SMALL: dict[str, Any] = {
    "format": "gambrel-plan/1",
    "sites": [{"id": "quay", "time_zone": "Europe/Dublin"}],
    "links": [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000}],
    "hosts": [{"id": "h1", "site": "quay"}],
    "datastores": [{"id": "store", "hosts": ["h1"]}],
    "proxies": [{"id": "p1", "site": "quay", "slots": 2, "on_host": "h1"}],
    "repositories": [{"id": "vault", "site": "quay", "read_mib_per_s": 200}],
    "machines": [
        {
            "id": name,
            "kind": "vm",
            "host": "h1",
            "disks": [
                {"id": "0", "datastore": "store", "provisioned_gib": 80, "used_gib": 40},
            ],
        }
        for name in ("gate", "fares")
    ],
    "windows": [
        {
            "id": "night",
            "time_zone": "Europe/Dublin",
            "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}],
        }
    ],
    "jobs": [
        {
            "id": "nightly",
            "name": "Nightly",
            "machines": {"ids": ["gate", "fares"]},
            "repository": "vault",
            "window": "night",
            "schedules": [
                {
                    "kind": "full",
                    "rrule": "FREQ=WEEKLY;BYDAY=FR",
                    "start": "2026-10-02T21:00",
                    "time_zone": "Europe/Dublin",
                },
                {
                    "kind": "incremental",
                    "rrule": "FREQ=DAILY",
                    "start": "2026-10-01T20:00",
                    "time_zone": "Europe/Dublin",
                },
            ],
        }
    ],
}


def small_file(**changes: Any) -> dict[str, Any]:
    """A plan file of one job on two VMs. Keys of `changes` replace whole lists."""
    return {**copy.deepcopy(_SMALL), **changes}


def small_plan(job: dict[str, Any] | None = None, **changes: Any) -> Plan:
    """The small plan; `job` adds or replaces keys of its job."""
    file = small_file(**changes)
    file["jobs"][0].update(job or {})
    return read_plan(file)


def window(opens: str, closes: str, days: list[str] | None = None, **more: Any) -> dict[str, Any]:
    hours = {"days": days or EVERY_DAY, "from": opens, "to": closes}
    return {"id": "night", "time_zone": "Europe/Dublin", "open": [hours], **more}


def weekly(kind: str, day: str, at: str, zone: str = "Europe/Dublin") -> dict[str, Any]:
    rule = f"FREQ=WEEKLY;BYDAY={day}"
    return {"kind": kind, "rrule": rule, "start": f"2026-10-02T{at}", "time_zone": zone}
