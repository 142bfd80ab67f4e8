"""Plans made up by hypothesis, over every feature of the model."""

from hypothesis import strategies as st
from plans import EVERY_DAY

from gambrel.core.plan.reading import read_plan

ZONE = "Europe/Dublin"
FIRST_GROWTH = "2026-11-03T09:00:00Z"
"""Amid the horizon of most tests."""

small = st.integers(1, 3)
maybe = st.none() | small
sizes = st.integers(1, 60)
limits = st.none() | st.sampled_from([20, 60, 200])
hours = st.sampled_from(["19:00", "20:00", "20:05", "21:30", "02:00"])


retentions = st.sampled_from(
    [
        {"points": 1},
        {"points": 3},
        {"days": 1},
        {"full_days": 2, "incremental_days": 1},
        {"points": 2, "weekly": 2, "monthly": 1},
        {"yearly": 1},
        {"points": 1, "until": "2026-11-06"},
        {},
    ]
)


OF_VMS = [{"field": "kind", "op": "is", "value": "vm"}]
second_nics = st.sampled_from(
    [
        {},
        {},
        {"backup_network": "storage", "backup_nic_mbit_per_s": 500},
        {"backup_network": "storage"},
        {"backup_nic_mbit_per_s": 500},
        {"backup_network": "of no link"},
    ]
)


@st.composite
def machines(draw, number):
    disks = [
        {"id": str(i), "provisioned_gib": used * 2, "used_gib": used}
        for i, used in enumerate(draw(st.lists(sizes, min_size=1, max_size=2)))
    ]
    common = {
        "id": f"m{number}",
        "daily_change": draw(st.sampled_from([0, 0.02, 0.3])),
        "compress_ratio": draw(st.sampled_from([1, 1.6, 3])),
        "facts": draw(
            st.sampled_from(
                [{}, {"quiesces": False}, {"growth_per_year": 3}, {"growth_per_year": -0.9}]
            )
        ),
    }
    if draw(st.booleans()):
        for disk in disks:
            disk["datastore"] = draw(st.sampled_from(["d0", "d1"]))
        return {**common, "kind": "vm", "host": "h0", "disks": disks}
    return {
        **common,
        "kind": "server",
        "site": draw(st.sampled_from(["quay", "hill"])),
        "agent_streams": draw(small),
        "nic_mbit_per_s": draw(limits),
        **draw(second_nics),
        "disks": disks,
    }


@st.composite
def jobs(draw, number, count):
    start = f"2026-11-0{draw(st.integers(1, 6))}T{draw(hours)}"
    schedule = {"kind": draw(st.sampled_from(["full", "incremental", "differential"])),
                "rrule": draw(st.sampled_from(["FREQ=DAILY", "FREQ=HOURLY;INTERVAL=5"])),
                "start": start, "time_zone": ZONE}  # fmt: skip
    job = {
        "id": f"j{number}",
        "priority": draw(st.integers(1, 5)),
        "share": draw(small),
        "machines": {"ids": draw(st.permutations([f"m{i}" for i in range(count)]))[:2]},
        "repository": draw(st.sampled_from(["r0", "r1"])),
        "schedules": [schedule],
        "window": draw(st.none() | st.just("night")),
        "at_window_end": draw(st.sampled_from(["stop", "finish", "run_on"])),
        "start_within_min": draw(st.none() | st.sampled_from([1, 30])),
        "stop_after_min": draw(st.none() | st.sampled_from([10, 90])),
        "chain": draw(st.sampled_from(["incremental", "differential", "forever", "full_only"])),
        "synthetic_full": draw(st.booleans()),
        "tracking": draw(st.booleans()),
        "max_streams": draw(maybe),
        "limit_mbit_per_s": draw(limits),
        "before_min": draw(st.sampled_from([0, 2])),
        "after_min": draw(st.sampled_from([0, 3])),
        "verify": draw(st.sampled_from(["none", "checksum", "boot"])),
        "verify_fulls": draw(st.sampled_from([True, True, False])),
        "retention": draw(retentions),
        "exclude_disks": draw(st.sampled_from([[], [["m0", "0"]]])),
        "quiesce_s": draw(st.sampled_from([0, 30])),
        "if_quiesce_fails": draw(st.sampled_from(["as it is", "standstill", "leave out"])),
        "standstill": draw(st.sampled_from(["none", "pause"])),
        "guest_before_s": draw(st.sampled_from([0, 7])),
        "guest_after_s": draw(st.sampled_from([0, 0, 11])),
        "encrypt": draw(st.booleans()),
        "encrypt_factor": draw(st.sampled_from([1, 0.5])),
        "machine_order": draw(st.sampled_from(["listed", "largest", "name"])),
        "exclude_disk_rules": draw(
            st.sampled_from([[], [{"field": "used_gib", "op": "at_most", "value": 1}]])
        ),
        "exclude_paths": draw(
            st.sampled_from([[], [{"machine": "m1", "disk": "0", "path": "/tmp", "gib": 1}]])
        ),
        **draw(st.sampled_from([{}, {}, {}, {"on_hold": True, "hold_until": "2026-11-04"}])),
        "compress": draw(st.booleans()),
        "skip_unused": draw(st.booleans()),
        "proxies": draw(st.sampled_from([None, ["p0"], ["p1"], []])),
        "network": draw(st.sampled_from([None, None, None, "storage"])),
    }
    job["spread_fulls"] = draw(st.sampled_from([1, 1, 2, 3]))
    if job["spread_fulls"] > 1:
        for kind, rule in (("incremental", "FREQ=HOURLY;INTERVAL=7"), ("full", "FREQ=WEEKLY")):
            job["schedules"].append(
                {"kind": kind, "rrule": rule, "start": "2026-11-01T21:00", "time_zone": ZONE}
            )
    elif number and draw(st.booleans()):
        job["after"] = f"j{number - 1}"
        del job["schedules"]
    if draw(st.booleans()):
        other = "r1" if job["repository"] == "r0" else "r0"
        delay = draw(st.sampled_from([0, 20]))
        job["copies"] = [{"repository": other, "delay_min": delay, "retention": draw(retentions)}]
    elif draw(st.booleans()):
        # A destination is none of its copies.
        other = "r1" if job["repository"] == "r0" else "r0"
        rule = draw(st.sampled_from([("name", "is", "m1"), ("used_gib", "at_least", 2)]))
        conditions = [dict(zip(("field", "op", "value"), rule, strict=True))]
        job["destinations"] = [{"repository": other, "rules": [conditions]}]
    return job


@st.composite
def points_before(draw, made):
    """Points from before the horizon, one of them still to come."""
    points = []
    for job in made:
        for day in draw(st.lists(st.integers(20, 30), max_size=3, unique=True)):
            kind = draw(st.sampled_from(["full", "incremental", "differential"]))
            month = draw(st.sampled_from([10, 11]))
            points.append(
                {
                    "job": job["id"],
                    "machine": job["machines"]["ids"][0],
                    "repository": job["repository"],
                    "kind": kind,
                    "at": f"2026-10-{day}T20:00:00Z",
                    "exists_from": f"2026-{month}-{day}T21:00:00Z",
                    "stored_bytes": draw(st.sampled_from([0, 1e9, 7e9])),
                }
            )
            if draw(st.integers(0, 4)) == 0:
                found = [f"2026-{month}-{day}T23:00:00Z", "2026-12-02T09:00:00Z"]
                if month == 10:
                    found.append("2026-11-05T09:00:00Z")
                points[-1]["bad_since"] = draw(st.sampled_from(found))
    return points


@st.composite
def plans(draw):
    count = draw(st.integers(2, 4))
    open_ = {"days": EVERY_DAY, "from": "20:00", "to": draw(st.sampled_from(["20:30", "06:00"]))}
    closing = {"days": EVERY_DAY, "from": "21:00", "to": "23:00", "mbit_per_s": 10}
    made = [draw(jobs(i, count)) for i in range(draw(st.integers(1, 3)))]
    return read_plan(
        {
            "format": "gambrel-plan/1",
            "sites": [{"id": "quay", "time_zone": ZONE}, {"id": "hill", "time_zone": ZONE}],
            "links": [
                {
                    "id": "wan",
                    "between": ["quay", "hill"],
                    "mbit_per_s": 300,
                    "limits": [closing],
                    "encrypted": draw(st.booleans()),
                    "encryption_factor": 0.5,
                },
                {"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 2000},
                {
                    "id": "storage",
                    "between": ["quay", "quay"],
                    "mbit_per_s": 400,
                    "network": "storage",
                },
            ],
            "hosts": [
                {
                    "id": "h0",
                    "site": "quay",
                    "snapshot_slots": draw(maybe),
                    "proxies": draw(st.sampled_from([None, None, None, ["p1"]])),
                    **draw(second_nics),
                }
            ],
            "datastores": [
                {"id": "d0", "hosts": ["h0"], "read_mib_per_s": draw(limits)},
                {
                    "id": "d1",
                    "hosts": ["h0"],
                    "task_slots": draw(maybe),
                    "zoned_proxies": draw(st.sampled_from([[], ["p1"]])),
                },
            ],
            "proxies": [
                {"id": "p0", "site": "quay", "slots": draw(small), "on_host": "h0"},
                {"id": "p1", "site": "hill", "slots": draw(small), "mib_per_s": draw(limits)},
            ],
            "repositories": [
                {
                    "id": "r0",
                    "site": "quay",
                    "stream_slots": draw(maybe),
                    "read_mib_per_s": 100,
                    "sequential": draw(st.sampled_from([False, False, True])),
                    "first_byte_s": draw(st.sampled_from([0, 45])),
                },
                {
                    "id": "r1",
                    "site": "hill",
                    "dedupe_ratio": 2,
                    "transform_mib_per_s": 50,
                    "ingest_mib_per_s": draw(limits),
                    "read_part": draw(st.sampled_from([1, 0.5])),
                    "block_clone": draw(st.booleans()),
                    "immutable_days": draw(st.sampled_from([0, 1])),
                },
            ],
            "machines": [draw(machines(i)) for i in range(count)],
            "windows": [
                {
                    "id": "night",
                    "time_zone": ZONE,
                    "open": [open_],
                    "default_for": draw(st.sampled_from([[], [], [OF_VMS]])),
                }
            ],
            "jobs": made,
            "state": {
                "points": draw(points_before(made)),
                "sizes_as_of": draw(st.sampled_from([None, "2026-10-30T00:00:00Z", FIRST_GROWTH])),
            },
        }
    )
