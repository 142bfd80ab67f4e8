"""Larkmoor Ferries: three data rooms, some 220 VMs, 18 servers, 24 jobs as they grew.

The plan holds, on purpose, what such plans hold after some years: fulls that all start on Friday
at 21:00, one proxy that everything is pinned to, a verify that runs into the next day, a backup
disk that is itself backed up, a machine in two jobs and a dozen in none, a retention shorter than
its full interval, and a chain over the slow link to Norrvik.
"""

from __future__ import annotations

from random import Random
from typing import Any

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import FORMAT
from gambrel.demo.estate import with_facts
from gambrel.demo.past import existing_points
from gambrel.demo.writing import EVERY_DAY, WORK_DAYS, disk, rule, schedule

SEED = 20261102
DUBLIN = "Europe/Dublin"
OSLO = "Europe/Oslo"
BEGINS = "2026-11-02T12:00:00Z"
PAST_DAYS = 28

_FLEETS = (
    # folder, role, count, place, median GiB, spread, daily change, compress ratio, tier
    ("ticketing", "db", 8, "quay-a", 420, 0.5, 0.035, 1.8, "gold"),
    ("ticketing", "app", 22, "quay-a", 70, 0.5, 0.015, 1.6, "gold"),
    ("ticketing", "web", 16, "quay-a", 38, 0.4, 0.01, 1.6, "silver"),
    ("freight", "db", 5, "quay-a", 380, 0.5, 0.03, 1.8, "gold"),
    ("freight", "app", 20, "quay-a", 80, 0.6, 0.015, 1.6, "silver"),
    ("fleet", "telemetry", 10, "quay-b", 460, 0.7, 0.03, 1.4, "silver"),
    ("fleet", "planning", 14, "hill-a", 110, 0.6, 0.015, 1.6, "silver"),
    ("finance", "db", 5, "quay-b", 340, 0.4, 0.025, 1.8, "gold"),
    ("finance", "app", 12, "quay-b", 85, 0.5, 0.012, 1.6, "silver"),
    ("office", "files", 6, "quay-b", 1500, 0.5, 0.008, 1.2, "silver"),
    ("office", "desk", 34, "quay-b", 75, 0.7, 0.02, 1.6, "bronze"),
    ("office", "directory", 5, "quay-a", 60, 0.2, 0.012, 1.6, "gold"),
    ("cctv", "view", 9, "quay-s", 130, 0.4, 0.02, 1.2, "bronze"),
    ("lab", "build", 16, "quay-b", 150, 0.8, 0.06, 1.6, "bronze"),
    ("office", "branch", 12, "hill-a", 160, 0.7, 0.015, 1.6, "silver"),
    ("fleet", "harbour", 13, "norrvik", 55, 0.5, 0.012, 1.6, "silver"),
    ("staging", "trial", 12, "hill-a", 90, 0.6, 0.03, 1.6, "bronze"),
)
_OWNERS = {
    "ticketing": "sales-systems",
    "freight": "cargo",
    "fleet": "operations",
    "finance": "accounts",
    "office": "workplace",
    "cctv": "security",
    "lab": "engineering",
    "staging": "engineering",
}
_HOSTS = {
    "quay-a": [f"qa-h{i}" for i in range(1, 7)],
    "quay-b": [f"qb-h{i}" for i in range(1, 5)],
    "quay-s": ["qs-h1", "qs-h2"],
    "hill-a": [f"ha-h{i}" for i in range(1, 5)],
    "norrvik": ["nk-h1", "nk-h2"],
}
_STORES = {
    "quay-a": ("qa-fast", "qa-bulk"),
    "quay-b": ("qb-main", "qb-bulk"),
    "hill-a": ("ha-main", "ha-bulk"),
}
_LOCAL = {"qs-h1": "qs1-local", "qs-h2": "qs2-local", "nk-h1": "nk1-local", "nk-h2": "nk2-local"}


_MEMORY_GIB = {"db": 32, "mail": 32, "files": 16, "build": 16, "app": 8, "telemetry": 8}


def _hosts() -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for place, names in _HOSTS.items():
        site = {"hill-a": "hill", "norrvik": "norrvik"}.get(place, "quay")
        for name in names:
            host: dict[str, Any] = {"id": name, "site": site}
            if place in _STORES:
                host["cluster"] = place
            host["nic_mbit_per_s"] = 1000 if place == "norrvik" else 10000
            host["snapshot_slots"] = 2 if place in ("quay-s", "norrvik") else 4
            host["memory_gib"] = 768 if place in _STORES else 256
            found.append(host)
    return found


def _datastores() -> list[dict[str, Any]]:
    shared = {
        "qa-fast": 1400,
        "qa-bulk": 700,
        "qb-main": 900,
        "qb-bulk": 600,
        "ha-main": 800,
        "ha-bulk": 500,
    }
    found: list[dict[str, Any]] = []
    for place, names in _STORES.items():
        for name in names:
            found.append(
                {
                    "id": name,
                    "hosts": _HOSTS[place],
                    "read_mib_per_s": shared[name],
                    "task_slots": 8,
                    **({"zoned_proxies": ["hill-p1"]} if place == "hill-a" else {}),
                }
            )
    for host, name in _LOCAL.items():
        found.append({"id": name, "hosts": [host], "read_mib_per_s": 300})
    return found


def _machines(random: Random) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    for folder, role, count, place, median, spread, change, ratio, tier in _FLEETS:
        for number in range(1, count + 1):
            host = _HOSTS[place][(number - 1) % len(_HOSTS[place])]
            if place in _STORES:
                store = _STORES[place][random.random() < (0.5 if median >= 1000 else 0.25)]
            else:
                store = _LOCAL[host]
            used = min(6 * median, max(8.0, median * random.lognormvariate(0.0, spread)))
            system = round(min(used, random.uniform(18, 42)), 1)
            swap = round(min(system / 3, random.choice((0, 2, 4, 8))), 1)
            disks = [
                disk(
                    "system",
                    round(system * random.choice((1.5, 2, 2.5)), 1),
                    system,
                    datastore=store,
                    **({"swap_gib": swap} if swap else {}),
                )
            ]
            data = round(used - system, 1)
            if data > 1:
                wide = round(data * random.choice((1.2, 1.5, 2, 3)), 1)
                disks.append(disk("data", wide, data, datastore=store))
            machine: dict[str, Any] = {
                "id": f"{folder}-{role}-{number:02d}",
                "kind": "vm",
                "host": host,
                "folder": folder,
                "tags": [tier, role, _OWNERS[folder]],
                "daily_change": round(change * random.lognormvariate(0.0, 0.25), 4),
                "compress_ratio": ratio,
                "memory_gib": _MEMORY_GIB.get(role, 4),
                "disks": disks,
            }
            if random.random() < 0.04 and tier == "bronze":
                machine["powered_on"] = False
            found.append(machine)
    return found


def _server(
    ident: str, site: str, role: str, tier: str, *disks: dict[str, Any], **more: Any
) -> Any:
    return {
        "id": ident,
        "kind": "server",
        "site": site,
        "folder": role,
        "tags": [tier, role],
        "disks": list(disks),
        **more,
    }


def _servers(random: Random) -> list[dict[str, Any]]:
    found = [
        _server(
            f"gate-{number:02d}",
            "quay" if number <= 6 else "norrvik",
            "gates",
            "gold",
            disk("system", 120, round(random.uniform(28, 44), 1), read_mib_per_s=160),
            nic_mbit_per_s=1000,
        )
        for number in range(1, 9)
    ]
    found += [
        _server(
            f"radar-{number:02d}",
            "hill" if number <= 3 else "quay",
            "radar",
            "silver",
            disk("system", 240, 46, read_mib_per_s=180),
            disk("tracks", 4000, round(random.uniform(900, 1700), 1), read_mib_per_s=220),
            nic_mbit_per_s=1000,
            daily_change=0.03,
            compress_ratio=1.3,
        )
        for number in range(1, 6)
    ]
    found += [
        _server(
            "mail-01",
            "quay",
            "mail",
            "gold",
            disk("system", 240, 70, read_mib_per_s=250),
            disk("mail", 6000, 3400, read_mib_per_s=400),
            nic_mbit_per_s=10000,
        ),
        *(
            _server(
                f"dbserver-{number:02d}",
                "quay",
                "dbserver",
                "gold",
                disk("system", 240, 60, read_mib_per_s=300),
                disk("db", 8000, used, read_mib_per_s=420),
                nic_mbit_per_s=10000,
                daily_change=0.05,
                compress_ratio=2.0,
            )
            for number, used in ((1, 2600), (2, 1900))
        ),
        _server(
            "cctv-store-01",
            "quay",
            "cctvstore",
            "bronze",
            disk("system", 240, 50, read_mib_per_s=200),
            disk("footage-1", 16000, 5200, read_mib_per_s=260),
            disk("footage-2", 16000, 4700, read_mib_per_s=260),
            nic_mbit_per_s=10000,
            daily_change=0.033,
            churn_ceiling=1,
            compress_ratio=1.05,
        ),
        _server(
            "old-vault-01",
            "quay",
            "oldvault",
            "bronze",
            disk("system", 240, 55, read_mib_per_s=180),
            disk("backup-disk", 8000, 3600, read_mib_per_s=200),
            nic_mbit_per_s=1000,
            compress_ratio=1.05,
        ),
    ]
    return found


PROMISES = {"gold": (30, 8), "silver": (50, 24), "bronze": (None, 72)}
"""What each tier is promised: RPO and RTO, in hours.

Gold's fulls take up to six hours, and nothing newer exists before they end: less than 30 hours
could not be kept in any week. Of bronze some machines are in no job at all.
"""


def _promised(machines: list[dict[str, Any]]) -> list[dict[str, Any]]:
    for machine in machines:
        rpo, rto = PROMISES[next(tag for tag in machine["tags"] if tag in PROMISES)]
        if rpo is not None:
            machine["rpo_hours"] = rpo
        machine["rto_hours"] = rto
    return machines


def _weekly(full_day: str, daily: str, full: str, zone: str = DUBLIN) -> list[dict[str, Any]]:
    """A full on one day of the week, incrementals on the six others."""
    others = ",".join(day[:2].upper() for day in EVERY_DAY if day[:2].upper() != full_day)
    return [
        schedule("incremental", f"FREQ=WEEKLY;BYDAY={others}", f"2025-03-03T{daily}", zone),
        schedule("full", f"FREQ=WEEKLY;BYDAY={full_day}", f"2025-03-07T{full}", zone),
    ]


def _job(
    ident: str, name: str, rules: list[Any], repository: str, schedules: Any, **more: Any
) -> Any:
    machines = more.pop("machines", {"rules": rules})
    return {
        "id": ident,
        "name": name,
        "machines": machines,
        "repository": repository,
        "window": "night",
        "schedules": schedules,
        **more,
    }


def _folder(folder: str, *roles: str, **extra: str) -> list[Any]:
    more = [(field, "is", value) for field, value in extra.items()]
    if not roles:
        return [rule(("folder", "is", folder), *more)]
    return [rule(("folder", "is", folder), ("tag", "has", role), *more) for role in roles]


def _jobs() -> list[dict[str, Any]]:
    pinned = ["quay-p2"]
    two_weeks = {"points": 14}
    hill_copy = [{"repository": "hill-disk", "delay_min": 120, "retention": {"points": 10}}]
    usual = _weekly("FR", "20:00", "21:00")
    return [
        _job(
            "ticketing-databases", "Ticketing databases", _folder("ticketing", "db"), "quay-disk",
            usual, priority=5, proxies=pinned, quiesce_s=30, verify="checksum",
            retention=two_weeks, copies=hill_copy,
        ),
        _job(
            "ticketing-apps", "Ticketing apps", _folder("ticketing", "app"), "quay-disk",
            usual, priority=4, proxies=pinned, retention=two_weeks,
        ),
        _job(
            "ticketing-web", "Ticketing web", _folder("ticketing", "web"), "quay-dedupe",
            usual, priority=3, proxies=pinned, retention=two_weeks,
        ),
        _job(
            "ticket-journal", "Ticket journal, every 20 minutes", [], "quay-disk",
            [
                {
                    "kind": "incremental", "every_min": 20, "from": "06:10", "to": "05:40",
                    "days": EVERY_DAY, "start": "2026-02-02", "time_zone": DUBLIN,
                },
            ],
            machines={"ids": ["ticketing-db-06"]},
            window=None, priority=5, proxies=["quay-p1"], max_streams=2, chain="forever",
            retention={"points": 72},
        ),
        _job(
            "freight-manifests", "Freight manifests", _folder("freight", "db"), "quay-disk",
            _weekly("FR", "23:30", "23:30"), priority=5, proxies=pinned, quiesce_s=30,
            retention=two_weeks, copies=hill_copy,
        ),
        _job(
            "freight-apps", "Freight apps", _folder("freight", "app"), "quay-disk",
            usual, proxies=pinned, retention=two_weeks,
        ),
        _job(
            "fleet-telemetry", "Fleet telemetry", _folder("fleet", "telemetry"), "quay-disk",
            usual, proxies=pinned, tracking=False, retention={"points": 10},
        ),
        _job(
            "fleet-planning", "Fleet planning", _folder("fleet", "planning"), "hill-disk",
            usual, proxies=["hill-p1"], retention=two_weeks,
        ),
        _job(
            "finance-databases", "Finance databases", _folder("finance", "db"), "quay-disk",
            [
                schedule("differential", "FREQ=DAILY", "2025-03-03T20:30", DUBLIN),
                schedule("full", "FREQ=WEEKLY;BYDAY=SA", "2025-03-08T20:30", DUBLIN),
            ],
            priority=5, proxies=pinned, chain="differential", quiesce_s=45,
            retention={"points": 21}, copies=hill_copy,
        ),
        _job(
            "finance-apps", "Finance apps", _folder("finance", "app"), "quay-dedupe",
            usual, proxies=pinned, retention=two_weeks,
        ),
        _job(
            "payroll-close", "Payroll close, last working day", [], "quay-dedupe",
            [
                schedule(
                    "full", "FREQ=MONTHLY;BYDAY=MO,TU,WE,TH,FR;BYSETPOS=-1", "2025-03-31T22:30",
                    DUBLIN, skip=["holidays"],
                ),
            ],
            machines={"ids": ["finance-db-01", "finance-app-01"]}, priority=4, chain="full_only",
            retention={"monthly": 12, "yearly": 7},
        ),
        _job(
            "office-desks", "Office machines", _folder("office", "desk"), "quay-dedupe",
            usual, priority=2, proxies=pinned, tracking=False, retention={"points": 10},
        ),
        _job(
            "office-files", "Office file servers", _folder("office", "files"), "quay-disk",
            usual, priority=2, proxies=pinned, retention={"days": 5},
        ),
        _job(
            "directory", "Directory, boot-tested", _folder("office", "directory"), "quay-disk",
            _weekly("SU", "20:15", "20:15"), priority=4, proxies=pinned, verify="boot",
            retention=two_weeks,
        ),
        _job(
            "cctv-viewers", "CCTV viewing stations", _folder("cctv"), "quay-dedupe",
            usual, priority=2, proxies=["quay-p4"], retention={"points": 7},
        ),
        _job(
            "cctv-store", "CCTV store", _folder("cctvstore"), "quay-disk",
            usual, priority=1, retention={"points": 7}, limit_mbit_per_s=3200,
        ),
        _job(
            "lab-builds", "Lab", _folder("lab"), "quay-dedupe",
            _weekly("FR", "22:00", "23:00"), priority=1, proxies=pinned, start_within_min=270,
            retention={"points": 5},
        ),
        _job(
            "gates", "Ticket gates", [rule(("folder", "is", "gates"), ("site", "is", "quay"))],
            "quay-disk", _weekly("WE", "22:00", "22:00"), priority=4, retention=two_weeks,
        ),
        _job(
            "radar", "Radar recorders", _folder("radar"), "hill-disk",
            usual, priority=3, retention=two_weeks,
        ),
        _job(
            "mail", "Mail server", _folder("mail"), "quay-disk",
            [
                schedule("incremental", "FREQ=DAILY", "2025-03-03T20:00", DUBLIN),
                schedule("full", "FREQ=WEEKLY;BYDAY=SA", "2025-03-08T21:00", DUBLIN),
            ],
            priority=4, synthetic_full=True, retention=two_weeks, copies=hill_copy,
        ),
        _job(
            "database-servers", "Database servers", _folder("dbserver"), "quay-dedupe",
            usual, priority=5, quiesce_s=60, verify="checksum", retention={"points": 14},
        ),
        _job(
            "old-vault", "Server room leftovers", _folder("oldvault"), "quay-disk",
            usual, priority=1, retention={"points": 7},
        ),
        _job(
            "hill-branch", "Hill office", _folder("office", "branch"), "hill-disk",
            _weekly("TH", "21:00", "21:00"), priority=3, proxies=["hill-p1"], retention=two_weeks,
        ),
        _job(
            "norrvik-to-quay", "Norrvik harbour", [rule(("site", "is", "norrvik"))], "quay-disk",
            _weekly("FR", "20:00", "21:00", OSLO), priority=2, proxies=["norrvik-p1"],
            window="norrvik-night", at_window_end="run_on", retention=two_weeks,
        ),
    ]  # fmt: skip


def _places() -> dict[str, Any]:
    return {
        "sites": [
            {"id": "quay", "name": "Quay", "time_zone": DUBLIN},
            {"id": "hill", "name": "Hill", "time_zone": DUBLIN},
            {"id": "norrvik", "name": "Norrvik", "time_zone": OSLO},
        ],
        "links": [
            {"id": "quay-lan", "between": ["quay", "quay"], "mbit_per_s": 20000},
            {"id": "hill-lan", "between": ["hill", "hill"], "mbit_per_s": 10000},
            {
                "id": "quay-hill",
                "between": ["quay", "hill"],
                "mbit_per_s": 2000, "purchase_price_per_mbit": 0.6, "lead_days": 70,
                "limits": [
                    {"days": WORK_DAYS, "from": "07:00", "to": "19:00", "mbit_per_s": 400},
                ],
            },
            {
                "id": "quay-norrvik",
                "between": ["quay", "norrvik"],
                "mbit_per_s": 200,
                "encrypted": True,
                "limits": [
                    {"days": EVERY_DAY, "from": "06:00", "to": "20:00", "mbit_per_s": 60},
                ],
            },
        ],
        "hosts": _hosts(),
        "datastores": _datastores(),
        "proxies": [
            {
                "id": "quay-p1", "site": "quay", "slots": 8, "mib_per_s": 1100,
                "direct_datastores": ["qa-fast", "qa-bulk"],
            },
            {
                "id": "quay-p2", "site": "quay", "slots": 8, "mib_per_s": 720,
                "direct_datastores": ["qa-fast", "qa-bulk", "qb-main", "qb-bulk"],
                "purchase_price_per_slot": 140, "lead_days": 14,
            },
            {"id": "quay-p3", "site": "quay", "slots": 6, "mib_per_s": 900, "on_host": "qb-h1"},
            {"id": "quay-p4", "site": "quay", "slots": 4, "mib_per_s": 400, "on_host": "qs-h1"},
            {
                "id": "hill-p1", "site": "hill", "slots": 6, "mib_per_s": 800, "cores": 8,
                "memory_gib": 16, "physical": True,
            },
            {
                "id": "norrvik-p1", "site": "norrvik", "slots": 2, "mib_per_s": 250,
                "on_host": "nk-h1",
            },
        ],
        "repositories": [
            {
                "id": "quay-disk", "site": "quay", "stream_slots": 24, "ingest_mib_per_s": 1600,
                "read_mib_per_s": 1200, "transform_mib_per_s": 500, "capacity_gib": 92160,
                "block_clone": True, "price_per_tib_month": 9, "purchase_price_per_tib": 310,
                "lead_days": 56,
            },
            {
                "id": "quay-dedupe", "site": "quay", "stream_slots": 10, "ingest_mib_per_s": 600,
                "read_mib_per_s": 19, "transform_mib_per_s": 120, "capacity_gib": 30000,
                "dedupe_ratio": 4, "price_per_tib_month": 14, "purchase_price_per_tib": 820,
                "lead_days": 84,
                "tiers": [
                    {
                        "id": "deep shelf", "after_days": 90, "minimum_days": 180,
                        "price_per_tib_month": 2.5, "read_price_per_tib": 12, "delay_min": 240,
                    },
                ],
            },
            {
                "id": "hill-disk", "site": "hill", "stream_slots": 12, "ingest_mib_per_s": 700,
                "read_mib_per_s": 600, "transform_mib_per_s": 250, "capacity_gib": 60000,
                "immutable_days": 7, "price_per_tib_month": 8, "purchase_price_per_tib": 295,
                "lead_days": 56,
            },
            {
                "id": "norrvik-disk", "site": "norrvik", "stream_slots": 4,
                "ingest_mib_per_s": 250, "read_mib_per_s": 250, "capacity_gib": 8000,
            },
        ],
    }  # fmt: skip


def larkmoor() -> dict[str, Any]:
    """The plan file of Larkmoor Ferries: the same on every machine."""
    random = Random(SEED)
    file: dict[str, Any] = {
        "format": FORMAT,
        **_places(),
        "machines": _promised([*_machines(random), *_servers(random)]),
        "windows": [
            {
                "id": "night",
                "time_zone": DUBLIN,
                "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}],
                "exceptions": [
                    {"date": "2026-12-24", "open": [{"from": "22:00", "to": "05:00"}]},
                ],
            },
            {
                "id": "norrvik-night",
                "time_zone": OSLO,
                "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}],
            },
        ],
        "calendars": [{"id": "holidays", "dates": ["2026-10-26", "2026-12-25", "2026-12-26"]}],
        "jobs": _jobs(),
        "assumptions": [
            {
                "id": "Spring fleet",
                "kind": "joins",
                "count": 40,
                "on": "2027-03-01",
                "rules": [[{"field": "tag", "op": "has", "value": "telemetry"}]],
                "active": False,
            },
            {
                "id": "CCTV store goes",
                "kind": "leaves",
                "on": "2027-06-01",
                "rules": [[{"field": "tag", "op": "has", "value": "cctvstore"}]],
                "points_kept_days": 30,
                "active": False,
            },
        ],
    }
    with_facts(file)
    file["state"] = {"points": existing_points(file, parse_instant(BEGINS), PAST_DAYS)}
    file["state"]["points"] += _forgotten_points()
    return file


def _forgotten_points() -> list[dict[str, Any]]:
    """Points of machines that a job protected until somebody moved them to another folder."""
    return [
        {
            "job": "hill-branch", "machine": f"staging-trial-{number:02d}",
            "repository": "hill-disk", "kind": "full", "at": f"2026-{day}T21:04:00Z",
            "exists_from": f"2026-{day}T21:31:00Z", "stored_bytes": 48_000_000_000,
        }
        for number, day in ((1, "09-10"), (2, "09-10"), (3, "08-20"))
    ]  # fmt: skip
