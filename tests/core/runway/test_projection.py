"""The projection against section 16 written down plainly, and against the simulation."""

import random
from dataclasses import replace

import numpy as np
import pytest
from generated import plans
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from naive_projection import Naive
from plans import FRIDAY_NOON, small_plan

from gambrel.core.model.restore_points import PointRecord
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.runway.projection import Lifetime, project
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import DAY, GIB, HOUR
from gambrel.demo import tiny

FROM = parse_instant("2026-11-01T12:00:00Z")
TO = FROM + 12 * DAY


def told(records):
    return [
        (r.repository, r.job, r.machine, r.kind, r.at, r.exists_from, r.stored_bytes, r.usable)
        for r in records
    ]


def plainly(naive, plan):
    return [
        (plan.repositories[r].id, plan.jobs[j].id, plan.machines[m].id, point.kind, point.at,
         point.exists_from, point.stored_bytes, point.usable)
        for (r, j, m), points in naive.store.items()
        for point in sorted(points, key=lambda p: p.at)
    ]  # fmt: skip


def same_points(one, other):
    assert [p[:4] for p in one] == [p[:4] for p in other]
    for mine, theirs in zip(one, other, strict=True):
        assert mine[4:7] == pytest.approx(theirs[4:7], rel=1e-9, abs=1e-3)
        assert mine[7] == theirs[7]


@st.composite
def lifetimes(draw, plan):
    found = {}
    for machine in plan.machines:
        if draw(st.integers(0, 3)) == 0:
            until = FROM + draw(st.integers(1, 9)) * DAY
            found[machine.id] = draw(
                st.sampled_from(
                    [
                        Lifetime(since=until),
                        Lifetime(until=until),
                        Lifetime(until=until, points_go=until + 30 * HOUR),
                    ]
                )
            )
    return found


@settings(max_examples=60)
@given(plan=plans(), data=st.data())
def test_it_is_section_16_written_down_plainly(plan, data):
    lives = data.draw(lifetimes(plan))
    made = project(plan, FROM, TO, lifetimes=lives, keep_points=True)
    naive = Naive(plan, FROM, TO, lives)
    far = TO + 60 * DAY
    same_points(told(made.history.at(far)), plainly(naive, plan))
    samples = np.array([used for at, used in naive.used])
    instants = [at for at, _ in naive.used]
    for i in range(len(plan.repositories)):
        assert made.space(i).at(instants) == pytest.approx(samples[:, i], rel=1e-9, abs=1e-3)
        by_job = sum(made.space_of_job(i, j).at(instants) for j in made.jobs_of(i))
        assert by_job + made.rest[i].at(instants) == pytest.approx(
            samples[:, i], rel=1e-9, abs=1e-3
        )
        inside = made.samples
        by_machine = sum(
            job.stored[:, place].sum(axis=0)
            for job in made.jobs
            for place, where in enumerate(job.repositories)
            if where == i
        )
        by_machine = by_machine + made.rest[i].at(inside)
        assert by_machine == pytest.approx(made.space(i).at(inside), rel=1e-9, abs=1e-3)
        chained, immutable = made.held(i)
        assert (chained + immutable <= by_machine + 1e-3).all()
        assert (chained >= 0).all()
        assert (immutable >= 0).all()


def wide(plan):
    """A plan in which nothing limits anything."""
    free = [
        replace(r, stream_slots=None, read_mib_per_s=None, ingest_mib_per_s=None,
                transform_mib_per_s=None, sequential=False, first_byte_s=0.0)
        for r in plan.repositories
    ]  # fmt: skip
    jobs = [
        replace(job, max_streams=None, limit_mbit_per_s=None, before_min=0.0, after_min=0.0,
                window=None, stop_after_min=None, start_within_min=None, quiesce_s=0.0,
                guest_before_s=0.0, guest_after_s=0.0, verify="none", network=None)
        for job in plan.jobs
    ]  # fmt: skip
    machines = [
        replace(m, nic_mbit_per_s=None, agent_streams=100, backup_nic_mbit_per_s=None)
        if m.kind == "server"
        else m
        for m in plan.machines
    ]
    return replace(
        plan,
        repositories=tuple(free),
        jobs=tuple(jobs),
        machines=tuple(machines),
        proxies=tuple(replace(p, slots=1000, mib_per_s=None) for p in plan.proxies),
        hosts=tuple(
            replace(h, snapshot_slots=None, backup_nic_mbit_per_s=None) for h in plan.hosts
        ),
        datastores=tuple(replace(d, read_mib_per_s=None, task_slots=None) for d in plan.datastores),
        links=tuple(replace(link, mbit_per_s=1e9, limits=()) for link in plan.links),
        transports=replace(
            plan.transports, direct_mib_per_s=1e9, hot_add_mib_per_s=1e9,
            network_mib_per_s=1e9, agent_mib_per_s=1e9,
        ),
    )  # fmt: skip


@settings(max_examples=30)
@given(plan=plans())
def test_where_nothing_waits_it_has_the_points_of_the_simulation(plan):
    plan = wide(plan)
    forecast = simulate(plan, FROM, TO)
    assume(all(run.outcome in ("done", "empty", "incomplete") for run in forecast.runs))
    waited = max((m.waiting_s for run in forecast.runs for m in run.machines), default=0.0)
    assume(waited == 0.0)
    # A run that follows another begins when that one ends, not at its occurrence.
    assume(not any(job.after for job in plan.jobs))
    made = project(plan, FROM, TO, keep_points=True)
    one, other = told(made.history.at(TO + 60 * DAY)), told(forecast.points)
    assert [p[:4] for p in one] == [p[:4] for p in other]
    for mine, theirs in zip(one, other, strict=True):
        assert mine[4] == pytest.approx(theirs[4], abs=1e-3)
        assert mine[5] == pytest.approx(theirs[5], abs=10 * 60)
        assert mine[6] == pytest.approx(theirs[6], rel=1e-6, abs=1.0)


@settings(max_examples=25)
@given(plan=plans(), data=st.data())
def test_it_goes_on_from_any_noon(plan, data):
    """What is projected from the points at an instant is the rest of the same history."""
    middle = FROM + data.draw(st.integers(2, 10)) * DAY + 1234.5
    whole = project(plan, FROM, TO, keep_points=True)
    first = project(plan, FROM, middle, keep_points=True)
    rest = project(plan, middle, TO, points=first.points_at_the_end(), keep_points=True)
    copies = any(job.copies for job in plan.jobs)
    assume(not copies)
    same_points(told(rest.history.at(TO + 60 * DAY)), told(whole.history.at(TO + 60 * DAY)))


def edited(plan, rng):
    jobs = list(plan.jobs)
    i = rng.randrange(len(jobs))
    keep = replace(jobs[i].retention, points=rng.randint(1, 5))
    jobs[i] = replace(jobs[i], retention=keep)
    return replace(plan, jobs=tuple(jobs))


@settings(max_examples=25)
@given(plan=plans(), seed=st.integers(0, 1000))
def test_what_is_taken_over_is_what_would_be_made_anew(plan, seed):
    rng = random.Random(seed)
    known = project(plan, FROM, TO)
    for _ in range(3):
        plan = edited(plan, rng)
        known = project(plan, FROM, TO, known=known)
    anew = project(plan, FROM, TO)
    for one, other in zip(known.jobs, anew.jobs, strict=True):
        assert (one.stored == other.stored).all()
        assert (one.chained == other.chained).all()
        for mine, theirs in zip(one.changes, other.changes, strict=True):
            assert (mine == theirs).all()


@settings(max_examples=20)
@given(plan=plans(), seed=st.integers(0, 1000), where=st.integers(0, 5))
def test_points_that_are_kept_are_those_of_one_made_anew(plan, seed, where):
    """Jobs that keep nothing there are taken over; the others are walked again."""
    where %= len(plan.repositories)
    known = project(plan, FROM, TO, keep_points_of=[where])
    plan = edited(plan, random.Random(seed))
    made = project(plan, FROM, TO, keep_points_of=[where], known=known)
    anew = project(plan, FROM, TO, keep_points_of=[where])
    names = ["repository", "job", "machine", "at", "since", "gone", "stored_bytes"]
    mine, theirs = (np.sort(p.rows_of(where)[names], order=names) for p in (made, anew))
    assert (mine == theirs).all()
    for i in range(len(plan.repositories)):
        assert (made.space(i).bytes == anew.space(i).bytes).all()


def test_growth_by_hand_and_the_roof():
    """One full a week of 40 GiB that doubles in a year, one point kept."""
    plan = small_plan()
    plan = replace(plan, state=replace(plan.state, sizes_as_of=FRIDAY_NOON))
    gate = replace(plan.machines[0], facts=replace(plan.machines[0].facts, growth_per_year=1.0))
    job = replace(
        plan.jobs[0], machines=replace(plan.jobs[0].machines, ids=("gate",)),
        schedules=plan.jobs[0].schedules[:1],
        retention=replace(plan.jobs[0].retention, points=1), chain="full_only",
    )  # fmt: skip
    vault = replace(plan.repositories[0], capacity_gib=40.0)
    plan = replace(plan, machines=(gate, plan.machines[1]), jobs=(job,), repositories=(vault,))
    made = project(plan, FRIDAY_NOON, FRIDAY_NOON + 800 * DAY)
    first_run = FRIDAY_NOON + 9 * HOUR
    # 40 GiB compressed 1.6 times are 25; 40 are reached after log2(1.6) years.
    runs = [first_run + week * 7 * DAY for week in range(100)]
    sizes = [25 * 2 ** ((at - FRIDAY_NOON) / (365 * DAY)) for at in runs]
    assert made.space(0).at(runs) / GIB == pytest.approx(sizes, rel=1e-3)
    full = made.full_at(0)
    assert full == pytest.approx(
        next(at for at, s in zip(runs, sizes, strict=True) if s > 40), abs=HOUR
    )
    held = project(plan, FRIDAY_NOON, FRIDAY_NOON + 800 * DAY, provisioned_grows=False)
    # 80 GiB are provisioned: no full takes more than 50.
    assert held.space(0).bytes.max() == pytest.approx(50 * GIB)
    shrinking = replace(gate, facts=replace(gate.facts, growth_per_year=-0.5))
    less = project(
        replace(plan, machines=(shrinking, plan.machines[1])), FRIDAY_NOON, FRIDAY_NOON + 800 * DAY
    )
    assert less.full_at(0) is None


def test_no_capacity_is_no_roof_and_no_span_is_refused():
    plan = read_plan(tiny())
    made = project(plan, FROM, TO)
    for i, repository in enumerate(plan.repositories):
        if repository.space_gib is None:
            assert made.full_at(i) is None
    with pytest.raises(ValueError, match="ends before it begins"):
        project(plan, TO, FROM)
    with pytest.raises(ValueError, match="did not keep its points"):
        _ = made.points_at_the_end()


def test_the_records_are_those_of_a_forecast():
    plan = read_plan(tiny())
    made = project(plan, FROM, TO, keep_points=True)
    records = made.history.at(TO)
    assert records
    assert all(isinstance(record, PointRecord) for record in records)
    assert all(record.chain_points >= 1 for record in records)
