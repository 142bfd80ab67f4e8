"""A plan of any size for the benchmarks: sites of the same shape, sizes from skewed distributions.

With the default it is 10,000 machines with 26,000 disks in 120 jobs at 12 sites.
"""

from __future__ import annotations

from random import Random
from typing import Any

MACHINES = 10_000
SITES = 12
JOBS_OF_A_SITE = 10
DISKS_OF_FIVE = (1, 2, 2, 3, 5)
"""Disks of five machines in a row: 2.6 on average."""
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
EVERY_DAY = [day.lower() for day in ("mon", "tue", "wed", "thu", "fri", "sat", "sun")]
ZONE = "Europe/Dublin"


def large(machines: int = MACHINES, sites: int = SITES) -> dict[str, Any]:
    """The plan file of an estate of some machines, the same every time.

    Args:
        machines: how many, spread evenly over the sites; hosts, proxies and repository streams
            grow with them.
    """
    random = Random(20261102)
    plan: dict[str, Any] = {
        "format": "gambrel-plan/1",
        "sites": [{"id": f"s{s}", "time_zone": ZONE} for s in range(sites)],
        "links": [
            {"id": f"l{s}", "between": [f"s{s}", f"s{(s + 1) % sites}"], "mbit_per_s": 10_000}
            for s in range(sites if sites > 2 else sites - 1)
        ],
        "windows": [
            {
                "id": "night",
                "time_zone": ZONE,
                "open": [{"days": EVERY_DAY, "from": "19:00", "to": "07:00"}],
            }
        ],
    }
    for name in ("hosts", "datastores", "proxies", "repositories", "machines", "jobs"):
        plan[name] = []
    for s in range(sites):
        _site(plan, random, s, machines * (s + 1) // sites - machines * s // sites, sites)
    return plan


def _site(plan: dict[str, Any], random: Random, s: int, machines: int, sites: int) -> None:
    hosts = max(2, machines // 40)
    proxies = max(2, machines // 110)
    names = [f"s{s}-h{h}" for h in range(hosts)]
    plan["hosts"] += [{"id": h, "site": f"s{s}", "snapshot_slots": 4} for h in names]
    stores = [f"s{s}-d{d}" for d in range(max(2, hosts // 4))]
    plan["datastores"] += [
        {"id": store, "hosts": names, "read_mib_per_s": 2400, "task_slots": 24} for store in stores
    ]
    plan["proxies"] += [
        {
            "id": f"s{s}-p{p}",
            "site": f"s{s}",
            "slots": 8,
            "mib_per_s": 1200,
            "direct_datastores": stores,
        }
        for p in range(proxies)
    ]
    plan["repositories"].append(
        {
            "id": f"s{s}-vault",
            "site": f"s{s}",
            "stream_slots": 8 * proxies,
            "ingest_mib_per_s": 700 * proxies,
            "read_mib_per_s": 700 * proxies,
        }
    )
    for m in range(machines):
        plan["machines"].append(_machine(random, s, m, names, stores))
    for j in range(JOBS_OF_A_SITE):
        plan["jobs"].append(_job(s, j, sites))


def _machine(random: Random, s: int, m: int, hosts: list[str], stores: list[str]) -> dict[str, Any]:
    store = random.choice(stores)
    disks = []
    for d in range(DISKS_OF_FIVE[m % len(DISKS_OF_FIVE)]):
        used = min(2000.0, max(4.0, random.lognormvariate(3.4, 0.9)))
        disks.append(
            {
                "id": str(d),
                "datastore": store,
                "used_gib": round(used, 1),
                "provisioned_gib": round(2 * used, 1),
            }
        )
    return {
        "id": f"s{s}-m{m:04}",
        "kind": "vm",
        "host": random.choice(hosts),
        "folder": f"j{m % JOBS_OF_A_SITE}",
        "daily_change": round(random.uniform(0.005, 0.06), 3),
        "compress_ratio": random.choice([1.3, 1.6, 2.0]),
        "disks": disks,
    }


def _job(s: int, j: int, sites: int) -> dict[str, Any]:
    full = DAYS[(s + j) % 7]
    rest = ",".join(day for day in DAYS if day != full)
    conditions = [
        {"field": "site", "op": "is", "value": f"s{s}"},
        {"field": "folder", "op": "is", "value": f"j{j}"},
    ]
    job: dict[str, Any] = {
        "id": f"s{s}-j{j}",
        "priority": 1 + j % 5,
        "machines": {"rules": [conditions]},
        "repository": f"s{s}-vault",
        "window": "night",
        "schedules": [
            {
                "kind": kind,
                "rrule": f"FREQ=WEEKLY;BYDAY={days}",
                "start": f"2026-01-05T{19 + j % 4}:00",
                "time_zone": ZONE,
            }
            for kind, days in (("full", full), ("incremental", rest))
        ],
        "retention": {"points": 14},
    }
    if j % 3 == 0 and sites > 1:
        target = f"s{(s + 1) % sites}-vault"
        job["copies"] = [{"repository": target, "retention": {"days": 30}}]
    return job
