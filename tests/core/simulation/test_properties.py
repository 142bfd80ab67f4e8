"""Generated plans over many features: what must hold of all of them."""

from collections import defaultdict

import numpy as np
import pytest
from generated import ZONE, plans
from hypothesis import given, settings
from invariants import check_capacities, check_pools
from plans import FRIDAY_NOON

from gambrel.core.model.destinations import destination_of
from gambrel.core.model.volume import compression, disks_at, protected_bytes, read_bytes
from gambrel.core.nights.nights import night_at, night_outcome
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.simulation.forecast import PURPOSES, Forecast
from gambrel.core.simulation.simulate import simulate

END = FRIDAY_NOON + 2 * 86_400
READING = PURPOSES.index("read")


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
    check_loads(found)
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
            assert (m.moved is None) == (m.outcome != "done" or m.start is None)
            assert run.ended >= m.ended
            moving = sum(m.squeeze_s.values())
            disks = len(found.plan.machine_by_id[m.machine].disks)
            assert moving <= disks * (m.ended - (m.start or m.ended)) + 0.01


def check_bytes(found):
    for run in found.runs:
        job = found.plan.job_by_id[run.job]
        for m in run.machines:
            machine = found.plan.machine_by_id[m.machine]
            repository = found.plan.repository_by_id[destination_of(found.plan, job, machine)]
            as_of, start = found.plan.state.sizes_as_of, m.start or m.ended
            disks = disks_at(job, machine, as_of, start)
            whole = sum(protected_bytes(job, machine, disk) for disk in disks)
            kappa = compression(job, machine)
            if m.outcome != "done":
                assert m.stored_bytes == 0
            elif m.kind == "full":
                assert m.stored_bytes == pytest.approx(whole / kappa / repository.dedupe_ratio)
            else:
                assert m.stored_bytes == pytest.approx(m.wire_bytes / repository.dedupe_ratio)
            assert m.wire_bytes <= whole / kappa + 1
            read = sum(read_bytes(job, machine, disk) for disk in disks)
            assert m.source_bytes <= read + 1


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
        total[point.repository] += point.stored_bytes
    for space in found.space:
        assert space.end_bytes == pytest.approx(total[space.repository], abs=1)
        assert space.peak_bytes >= space.end_bytes - 1


def check_loads(found):
    """What the records of loads say of jobs is what their machine-runs say."""
    loads, jobs = found.loads, [job.id for job in found.plan.jobs]
    moved, held, spans = defaultdict(float), defaultdict(float), defaultdict(list)
    at_once = set()
    for flow in loads.flows_in()[0]:
        assert flow["start"] <= flow["end"]
        if flow["purpose"] == READING and np.isinf(flow["rate"]):
            at_once.add(jobs[flow["job"]])
        elif flow["purpose"] == READING:
            moved[jobs[flow["job"]]] += flow["rate"] * (flow["end"] - flow["start"])
    for hold in loads.holds:
        assert hold["start"] < hold["end"]
        pool = found.topology.pool_names[hold["pool"]]
        if hold["purpose"] == READING and pool.startswith("host:"):
            held[jobs[hold["job"]]] += hold["end"] - hold["start"]
    for run in found.runs:
        spans[run.job] += [(m.queued, m.ended) for m in run.machines if m.queued is not None]
    for wait in loads.waits:
        known = spans[jobs[wait["job"]]]
        assert min(begin for begin, _ in known) <= wait["start"] + 1e-6
        assert wait["start"] < wait["end"]
    for job in jobs:
        machines = [m for run in found.runs if run.job == job for m in run.machines]
        if job not in at_once:
            read = sum(m.source_bytes for m in machines)
            assert moved[job] == pytest.approx(read, rel=1e-6, abs=64)
        taken = 0.0
        for m in machines:
            host = found.plan.machine_by_id[m.machine].host
            limited = found.topology.limited_pools(f"host:{host}") if host else ()
            if m.start is not None and limited:
                taken += (m.ended if m.released is None else m.released) - m.start
        assert held[job] == pytest.approx(taken, abs=0.01)


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
