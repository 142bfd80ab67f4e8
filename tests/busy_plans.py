"""Generated plans that planners would recognise: several jobs on weekly schedules, long fulls.

Unlike those of `generated`, which stretch every feature over a few days, these run for weeks; some
of them are never quiet.
"""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from random import Random
from typing import Any

from plans import DAY, EVERY_DAY

from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import state_at

FIRST = date(2026, 11, 2)
"""Their first night."""

ZONES = ("Europe/Dublin", "Europe/Oslo")
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")


def _machine(random: Random, i: int, size: float) -> dict[str, Any]:
    server = random.random() < 0.2
    disks = []
    for d in range(random.choice((1, 1, 2))):
        used = round(random.lognormvariate(size, 0.9), 1)
        disk: dict[str, Any] = {"id": str(d), "provisioned_gib": used * 2, "used_gib": used}
        if not server:
            disk["datastore"] = random.choice(("d0", "d1"))
        disks.append(disk)
    machine: dict[str, Any] = {
        "id": f"m{i}",
        "kind": "server" if server else "vm",
        "tags": [random.choice(("gold", "silver"))],
        "daily_change": random.choice((0.01, 0.03, 0.1)),
        "facts": {"growth_per_year": random.choice((0, 0, 2.5, -0.7))},
        "rpo_hours": random.choice((None, 26, 50, 170)),
        "disks": disks,
    }
    if server:
        return {**machine, "site": random.choice(("quay", "hill")), "agent_streams": 1}
    return {**machine, "host": random.choice(("h0", "h1", "h2"))}


def _schedules(random: Random) -> list[dict[str, Any]]:
    zone = random.choice(ZONES)
    at = random.choice(("19:00", "20:00", "20:30", "21:00", "23:30", "01:00", "11:30"))
    day = random.choice(DAYS)
    start = f"2026-10-{random.randint(1, 20):02d}T{at}"
    full = {"kind": "full", "rrule": f"FREQ=WEEKLY;BYDAY={day}", "start": start, "time_zone": zone}
    rest = ",".join(d for d in DAYS if d != day)
    daily = {
        "kind": random.choice(("incremental", "incremental", "differential")),
        "rrule": random.choice((f"FREQ=WEEKLY;BYDAY={rest}", "FREQ=DAILY")),
        "start": f"2026-10-{random.randint(1, 20):02d}T{at}",
        "time_zone": zone,
    }
    style = random.random()
    if style < 0.15:
        return [{**full, "rrule": "FREQ=DAILY"}]
    if style < 0.25:
        return [{**full, "rrule": "FREQ=MONTHLY;BYDAY=2SA"}, {**daily, "rrule": "FREQ=DAILY"}]
    if style < 0.35:
        return [{**full, "rrule": f"FREQ=WEEKLY;INTERVAL=2;BYDAY={day}"}, daily]
    if style < 0.45:
        row = {
            "kind": "incremental", "every_min": random.choice((45, 120, 240)), "from": "06:00",
            "to": "05:00", "days": EVERY_DAY, "start": "2026-10-05", "time_zone": zone,
        }  # fmt: skip
        return [full, row]
    return [full, daily]


def _job(random: Random, i: int, machines: int) -> dict[str, Any]:
    chosen = random.sample(range(machines), random.randint(1, min(5, machines)))
    repository = random.choice(("r0", "r1"))
    job: dict[str, Any] = {
        "id": f"j{i}",
        "priority": random.randint(1, 5),
        "machines": {"ids": [f"m{m}" for m in chosen]},
        "repository": repository,
        "schedules": _schedules(random),
        "window": random.choice((None, "night", "night", "late")),
        "at_window_end": random.choice(("stop", "finish", "finish", "run_on")),
        "chain": random.choice(("incremental", "incremental", "differential", "forever")),
        "synthetic_full": random.random() < 0.15,
        "verify": random.choice(("none", "none", "checksum", "boot")),
        "verify_fulls": i % 3 != 0,
        "max_streams": random.choice((None, None, 2)),
        "limit_mbit_per_s": random.choice((None, None, None, 200)),
        "proxies": random.choice((None,) * 8 + (["p0"], ["p1"], ["p2"], [])),
        "transport": random.choice(("auto", "auto", "auto", "network")),
        "retention": random.choice(({"points": 3}, {"points": 8}, {"days": 9}, {"weekly": 2})),
        "spread_fulls": random.choice((1, 1, 1, 1, 3)),
    }
    if random.random() < 0.3:
        other = "r1" if repository == "r0" else "r0"
        job["copies"] = [{"repository": other, "delay_min": random.choice((0, 120)),
                          "retention": {"points": 4}}]  # fmt: skip
    if i and random.random() < 0.12:
        job["after"] = f"j{random.randrange(i)}"
        job["spread_fulls"] = 1
        del job["schedules"]
    return job


def busy_file(seed: int, *, slow: bool = False) -> dict[str, Any]:
    """A plan file of a few jobs; `slow`: nights run into one another."""
    random = Random(seed)
    machines = random.randint(3, 9)
    jobs = random.randint(2, 6)
    rate = random.choice((20, 40)) if slow else random.choice((60, 120, 250))
    return {
        "format": "gambrel-plan/1",
        "sites": [{"id": "quay", "time_zone": ZONES[0]}, {"id": "hill", "time_zone": ZONES[0]}],
        "links": [
            {"id": "wan", "between": ["quay", "hill"], "mbit_per_s": random.choice((200, 900)),
             "limits": [{"days": EVERY_DAY[:5], "from": "08:00", "to": "18:00",
                         "mbit_per_s": 80}]},
        ],
        "hosts": [
            {"id": "h0", "site": "quay", "snapshot_slots": random.choice((None, 1))},
            {"id": "h1", "site": "quay", "nic_mbit_per_s": random.choice((None, 1000))},
            {"id": "h2", "site": "hill"},
        ],
        "datastores": [
            {"id": "d0", "hosts": ["h0", "h1"], "read_mib_per_s": rate * 2},
            {"id": "d1", "hosts": ["h0", "h1", "h2"], "task_slots": random.choice((None, 2))},
        ],
        "proxies": [
            {"id": "p0", "site": "quay", "slots": random.randint(1, 3), "mib_per_s": rate,
             "direct_datastores": ["d0"]},
            {"id": "p1", "site": "quay", "slots": random.randint(1, 3), "on_host": "h1"},
            {"id": "p2", "site": "hill", "slots": 2, "mib_per_s": rate},
        ],
        "repositories": [
            {"id": "r0", "site": "quay", "stream_slots": random.choice((None, 3)),
             "ingest_mib_per_s": rate, "read_mib_per_s": 150, "capacity_gib": 4000},
            {"id": "r1", "site": "hill", "dedupe_ratio": 2, "ingest_mib_per_s": rate,
             "read_mib_per_s": 100, "transform_mib_per_s": 60,
             "immutable_days": random.choice((0, 3))},
        ],
        "machines": [_machine(random, i, 5.2 if slow else 4.0) for i in range(machines)],
        "windows": [
            {"id": "night", "time_zone": ZONES[0],
             "open": [{"days": EVERY_DAY, "from": "20:00", "to": "06:00"}]},
            {"id": "late", "time_zone": ZONES[0],
             "open": [{"days": EVERY_DAY, "from": "00:30", "to": "05:00"}],
             "exceptions": [{"date": "2026-11-11", "open": []}]},
        ],
        "jobs": [_job(random, i, machines) for i in range(jobs)],
        "state": {"sizes_as_of": "2026-11-02T00:00:00Z"},
    }  # fmt: skip


def busy_plan(seed: int, *, slow: bool = False, history: bool | None = None) -> Plan:
    """The plan of `busy_file`.

    Args:
        history: whether it has the points that two weeks before its first night would have left;
            None: two plans of three have.
    """
    plan = read_plan(busy_file(seed, slow=slow))
    return with_history(plan) if (seed % 3 if history is None else history) else plan


def with_history(plan: Plan) -> Plan:
    """The plan with the points of a simulation of the two weeks before its first night."""
    first = night_of(FIRST, planner_zone(plan)).start
    points = state_at(plan, first - 14 * DAY, first + 60, first).points
    known = tuple(point for point in points if point.exists_from <= first)
    return replace(plan, state=replace(plan.state, points=known))
