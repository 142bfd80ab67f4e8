"""The smallest sample: one site, two hosts, eight VMs, one server, three jobs."""

from __future__ import annotations

from typing import Any

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import FORMAT
from gambrel.demo.past import existing_points
from gambrel.demo.writing import EVERY_DAY, disk, rule, schedule

ZONE = "Europe/Dublin"
BEGINS = "2026-11-02T12:00:00Z"


def _vm(ident: str, host: str, folder: str, used: float, **more: Any) -> dict[str, Any]:
    disks = [disk("0", round(used * 1.7, 1), used, datastore="quay-shared")]
    return {"id": ident, "kind": "vm", "host": host, "folder": folder, "disks": disks, **more}


def tiny() -> dict[str, Any]:
    """The plan file of the smallest sample."""
    file: dict[str, Any] = {
        "format": FORMAT,
        "sites": [{"id": "quay", "name": "Quay", "time_zone": ZONE}],
        "links": [{"id": "quay-lan", "between": ["quay", "quay"], "mbit_per_s": 10000}],
        "hosts": [
            {"id": "qh1", "site": "quay", "cluster": "quay-a", "nic_mbit_per_s": 10000},
            {"id": "qh2", "site": "quay", "cluster": "quay-a", "nic_mbit_per_s": 10000},
        ],
        "datastores": [{"id": "quay-shared", "hosts": ["qh1", "qh2"], "read_mib_per_s": 800}],
        "proxies": [{"id": "quay-p1", "site": "quay", "slots": 2, "on_host": "qh1"}],
        "repositories": [
            {
                "id": "quay-disk",
                "site": "quay",
                "stream_slots": 4,
                "ingest_mib_per_s": 500,
                "read_mib_per_s": 400,
                "capacity_gib": 24000,
            }
        ],
        "machines": [
            _vm("tick-db-01", "qh1", "ticketing", 940, tags=["gold"], rpo_hours=26),
            _vm("tick-web-01", "qh2", "ticketing", 190, tags=["gold"]),
            _vm("tick-web-02", "qh2", "ticketing", 180, tags=["gold"]),
            _vm("office-files-01", "qh1", "office", 2900, tags=["silver"], daily_change=0.01),
            _vm("office-print-01", "qh2", "office", 120, tags=["bronze"]),
            _vm("office-dc-01", "qh1", "office", 140, tags=["silver"]),
            _vm("lab-build-01", "qh2", "lab", 420, daily_change=0.06),
            _vm("lab-build-02", "qh2", "lab", 510, daily_change=0.06, powered_on=False),
            {
                "id": "gate-01",
                "kind": "server",
                "site": "quay",
                "nic_mbit_per_s": 1000,
                "tags": ["gold"],
                "disks": [disk("system", 240, 60, read_mib_per_s=150)],
            },
        ],
        "windows": [
            {
                "id": "night",
                "time_zone": ZONE,
                "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}],
            }
        ],
        "jobs": [
            {
                "id": "ticketing",
                "name": "Ticketing",
                "priority": 5,
                "machines": {"rules": [rule(("folder", "is", "ticketing"))], "ids": ["gate-01"]},
                "repository": "quay-disk",
                "window": "night",
                "retention": {"points": 14},
                "schedules": [
                    schedule("incremental", "FREQ=DAILY", "2026-09-01T20:00", ZONE),
                    schedule("full", "FREQ=WEEKLY;BYDAY=FR", "2026-09-04T21:00", ZONE),
                ],
            },
            {
                "id": "office",
                "name": "Office",
                "machines": {"rules": [rule(("folder", "is", "office"))]},
                "repository": "quay-disk",
                "window": "night",
                "retention": {"points": 10},
                "schedules": [
                    schedule("incremental", "FREQ=DAILY", "2026-09-01T20:30", ZONE),
                    schedule("full", "FREQ=WEEKLY;BYDAY=FR", "2026-09-04T21:00", ZONE),
                ],
            },
            {
                "id": "lab",
                "name": "Lab",
                "priority": 1,
                "machines": {"rules": [rule(("folder", "is", "lab"))]},
                "repository": "quay-disk",
                "window": "night",
                "retention": {"points": 7},
                "schedules": [schedule("incremental", "FREQ=DAILY", "2026-09-01T23:00", ZONE)],
            },
        ],
    }
    file["state"] = {"points": existing_points(file, parse_instant(BEGINS), 21)}
    return file
