"""Generated plans over many features: what must hold of all of them."""

from collections import defaultdict

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from invariants import check_capacities, check_pools
from plans import EVERY_DAY, FRIDAY_NOON

from gambrel.core.forecast import Forecast
from gambrel.core.nights import night_at, night_outcome
from gambrel.core.plan_reading import read_plan, write_plan
from gambrel.core.simulate import simulate
from gambrel.core.volume import compression, protected_bytes, protected_disks

ZONE = "Europe/Dublin"
END = FRIDAY_NOON + 2 * 86_400

small = st.integers(1, 3)
maybe = st.none() | small
sizes = st.integers(1, 60)
limits = st.none() | st.sampled_from([20, 60, 200])
hours = st.sampled_from(["19:00", "20:00", "20:05", "21:30", "02:00"])


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
        "retention": {"points": draw(st.integers(1, 4))},
    }
    if draw(st.booleans()):
        other = "r1" if job["repository"] == "r0" else "r0"
        job["copies"] = [{"repository": other, "delay_min": draw(st.sampled_from([0, 20]))}]
    return job


@st.composite
def plans(draw):
    count = draw(st.integers(2, 4))
    open_ = {"days": EVERY_DAY, "from": "20:00", "to": draw(st.sampled_from(["20:30", "06:00"]))}
    closing = {"days": EVERY_DAY, "from": "21:00", "to": "23:00", "mbit_per_s": 10}
    return read_plan(
        {
            "format": "gambrel-plan/1",
            "sites": [{"id": "quay", "time_zone": ZONE}, {"id": "hill", "time_zone": ZONE}],
            "links": [
                {"id": "wan", "between": ["quay", "hill"], "mbit_per_s": 300, "limits": [closing]},
                {"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 2000},
            ],
            "hosts": [{"id": "h0", "site": "quay", "snapshot_slots": draw(maybe)}],
            "datastores": [
                {"id": "d0", "hosts": ["h0"], "read_mib_per_s": draw(limits)},
                {"id": "d1", "hosts": ["h0"], "task_slots": draw(maybe)},
            ],
            "proxies": [
                {"id": "p0", "site": "quay", "slots": draw(small), "on_host": "h0"},
                {"id": "p1", "site": "hill", "slots": draw(small), "mib_per_s": draw(limits)},
            ],
            "repositories": [
                {"id": "r0", "site": "quay", "stream_slots": draw(maybe), "read_mib_per_s": 100},
                {"id": "r1", "site": "hill", "dedupe_ratio": 2, "transform_mib_per_s": 50},
            ],
            "machines": [draw(machines(i)) for i in range(count)],
            "windows": [{"id": "night", "time_zone": ZONE, "open": [open_]}],
            "jobs": [draw(jobs(i, count)) for i in range(draw(st.integers(1, 3)))],
        }
    )


def forecast(plan) -> Forecast:
    return simulate(plan, FRIDAY_NOON, END, snapshots_from=[FRIDAY_NOON + 86_400])


@settings(max_examples=60)
@given(plans())
def test_every_generated_plan_keeps_the_rules(plan):
    found = forecast(plan)
    check_order_of_instants(found)
    check_bytes(found)
    check_pools(found)
    check_capacities(found)
    check_windows(found)
    check_points(found)
    night_outcome(found, night_at(FRIDAY_NOON, ZONE))


def check_order_of_instants(found):
    for run in found.runs:
        if run.outcome == "skipped":
            assert (run.machines, run.began, run.ended) == ((), None, None)
            continue
        assert run.began == run.occurrence <= run.ended
        for m in run.machines:
            steps = [x for x in (m.queued, m.start, m.moved, m.ended) if x is not None]
            assert steps == sorted(steps)
            assert (m.moved is None) == (m.outcome != "done")
            assert run.ended >= m.ended
            moving = sum(m.squeeze_s.values())
            disks = len(found.plan.machine_by_id[m.machine].disks)
            assert moving <= disks * (m.ended - (m.start or m.ended)) + 0.01


def check_bytes(found):
    for run in found.runs:
        job = found.plan.job_by_id[run.job]
        repository = found.plan.repository_by_id[job.repository]
        for m in run.machines:
            machine = found.plan.machine_by_id[m.machine]
            whole = sum(protected_bytes(job, disk) for disk in protected_disks(job, machine))
            kappa = compression(job, machine)
            if m.outcome != "done":
                assert m.stored_bytes == 0
            elif m.kind == "full":
                assert m.stored_bytes == pytest.approx(whole / kappa / repository.dedupe_ratio)
            else:
                assert m.stored_bytes == pytest.approx(m.wire_bytes / repository.dedupe_ratio)
            assert m.wire_bytes <= whole / kappa + 1
            assert m.source_bytes <= whole + 1


def check_windows(found):
    """No machine starts outside its window, but for those of jobs that run on past its end."""
    for run in found.runs:
        job = found.plan.job_by_id[run.job]
        for m in run.machines:
            if m.start is None or job.window is None:
                continue
            assert m.start >= run.window_opens - 1e-6
            if job.at_window_end != "run_on":
                assert m.start < run.window_end
            if job.at_window_end == "stop" and m.moved is not None:
                assert m.moved <= run.window_end + 1e-6


def check_points(found):
    total = defaultdict(float)
    for point in found.points:
        assert point.at <= point.exists_from
        assert point.usable
        total[point.repository] += point.stored_bytes
    for space in found.space:
        assert space.end_bytes == pytest.approx(total[space.repository], abs=1)
        assert space.peak_bytes >= space.end_bytes - 1


@settings(max_examples=25)
@given(plans())
def test_a_generated_plan_gives_the_same_result_twice_and_from_its_own_file(plan):
    one, other = forecast(plan), forecast(read_plan(write_plan(plan)))
    assert (one.runs, one.points, one.exposure) == (other.runs, other.points, other.exposure)


@settings(max_examples=25)
@given(plans())
def test_a_generated_plan_can_go_on_from_a_quiet_instant(plan):
    whole = forecast(plan)
    for quiet in whole.quiet:
        if quiet.at < END:
            rest = simulate(plan, quiet.at, END, points=quiet.points)
            later = [run for run in whole.runs if run.occurrence > quiet.at]
            assert [run for run in rest.runs if run.occurrence > quiet.at] == later
            assert rest.points == whole.points
