"""Beginning in the middle (section 15): from any instant on it is the same history."""

import json
from dataclasses import replace
from random import Random

import pytest
from generated import plans
from hypothesis import given, settings
from hypothesis import strategies as st
from middles import check_middle
from plans import DAY, FRIDAY_NOON, small_plan
from vector_cases import PLAN_CASES, RESTORE_CASES, load

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import ExistingPoint, PlannedRestore, Retention
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate, state_at

END = FRIDAY_NOON + 2 * DAY


def events(forecast, end):
    """Instants at which something happens: the hardest to begin at."""
    found = {forecast.from_}
    for run in forecast.runs:
        found |= {run.occurrence, run.ended}
        for machine in run.machines:
            found |= {machine.queued, machine.start, machine.moved, machine.released, machine.ended}
    for copy in forecast.copies:
        found |= {copy.queued, copy.start, copy.ended}
    for restore in forecast.restores:
        found |= {restore.due, restore.start, restore.back, restore.whole}
    return sorted(at for at in found if at is not None and forecast.from_ <= at < end)


def check(plan, whole, end, instant):
    """Both ways of simulating, and what the engine takes down taken up by the reference."""
    found = []
    for go_on, take_down in (
        (simulate, state_at),
        (reference.simulate, reference.state_at),
        (reference.simulate, state_at),
        (simulate, reference.state_at),
    ):
        found += check_middle(
            plan, whole, whole.from_, end, instant, simulate=go_on, state_at=take_down
        )
    return found


@pytest.mark.parametrize("name", [*PLAN_CASES, *RESTORE_CASES])
def test_worked_cases_go_on_from_somewhere(name):
    go_on_from(name, Random(name).choice(["at an event", "between"]))


@pytest.mark.long
@pytest.mark.parametrize("where", ["at an event", "between"])
@pytest.mark.parametrize("name", [*PLAN_CASES, *RESTORE_CASES])
def test_worked_cases_go_on_from_anywhere(name, where):
    go_on_from(name, where)


def go_on_from(name, where):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    plan = read_plan(case["plan"])
    whole = simulate(plan, start, end)
    random = Random(name)
    instants = {"at an event": random.choice(events(whole, end)),
                "between": random.uniform(start, end)}  # fmt: skip
    # An instant is written to the millisecond by those who ask for it.
    assert check(plan, whole, end, round(instants[where] * 1000) / 1000) == []


restored_machines = st.lists(
    st.tuples(st.integers(0, 5), st.integers(0, 47), st.sampled_from(["full", "instant"])),
    max_size=3,
)


@settings(max_examples=100)
@given(plans(), restored_machines, st.floats(0, 1), st.booleans())
def test_generated_plans_go_on_from_anywhere(plan, restores, part, at_an_event):
    planned = tuple(
        PlannedRestore(
            f"r{i}", plan.machines[m % len(plan.machines)].id, FRIDAY_NOON + h * 3600,
            method=method,
        )
        for i, (m, h, method) in enumerate(restores if plan.machines else [])
    )  # fmt: skip
    first = replace(plan, state=replace(plan.state, restores=planned))
    whole = simulate(first, FRIDAY_NOON, END)
    found = events(whole, END)
    instant = found[int(part * (len(found) - 1))] if at_an_event else FRIDAY_NOON + part * (DAY - 1)
    assert check(first, whole, END, round(instant * 1000) / 1000) == []


def test_points_to_come_whose_full_is_gone_are_what_they_were():
    plan = small_plan()
    job, machine = plan.jobs[0], plan.machines[0].id
    job = replace(job, retention=Retention(points=1))
    told = [("full", 9, -1), ("incremental", 8, 3), ("incremental", 7, 3)]
    points = tuple(
        ExistingPoint(
            job.id, machine, job.repository, kind, FRIDAY_NOON - before * DAY,
            FRIDAY_NOON + exists * DAY, 1e9,
        )
        for kind, before, exists in told
    )  # fmt: skip
    full = tuple(replace(schedule, kind="full") for schedule in job.schedules)
    job = replace(job, schedules=full, chain="full_only", synthetic_full=False)
    plan = replace(plan, jobs=(job, *plan.jobs[1:]), state=replace(plan.state, points=points))
    whole = simulate(plan, FRIDAY_NOON, END)
    assert check(plan, whole, END, FRIDAY_NOON + DAY) == []


def test_the_engine_goes_on_with_restores_by_itself(monkeypatch):
    case = load("restores/case-order-and-slots.json")
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    plan = read_plan(case["plan"])
    whole = simulate(plan, start, end)
    begun = next(r for r in whole.restores if r.squeeze_s and r.start < r.whole)

    def refuse(*_):
        raise AssertionError("the reference was asked")

    monkeypatch.setattr(reference, "simulate", refuse)
    monkeypatch.setattr(reference, "state_at", refuse)
    instant = begun.whole - 1
    state = state_at(plan, start, end, instant)
    told = {restore.id: restore for restore in state.running.restores}
    assert 0 < told[begun.id].moved_bytes < begun.written_bytes
    # Neither the point nor the job's hold on the machine matters to it any more.
    state = replace(state, points=())
    resumed = simulate(replace(plan, state=state), instant, end)
    again = next(r for r in resumed.restores if r.id == begun.id)
    assert again.whole == pytest.approx(begun.whole, abs=1e-3)
    assert again.squeeze_s == pytest.approx(begun.squeeze_s, abs=1e-3)
    assert again.point == begun.point


def test_what_is_under_way_is_written_and_read_with_the_plan():
    plan = small_plan()
    run = simulate(plan, FRIDAY_NOON, END).runs[0]
    state = state_at(plan, FRIDAY_NOON, END, run.machines[0].start + 30)
    assert state.running.runs[0].machines[0].state == "moving"
    file = json.loads(json.dumps(write_plan(replace(plan, state=state))))
    assert write_plan(read_plan(file)) == file


def _without(value, *keys):
    """A file without some keys, wherever they stand."""
    if isinstance(value, dict):
        return {key: _without(item, *keys) for key, item in value.items() if key not in keys}
    return [_without(item, *keys) for item in value] if isinstance(value, list) else value


def test_what_a_runner_cannot_know_may_be_left_out():
    plan = small_plan()
    whole = simulate(plan, FRIDAY_NOON, END)
    for run in whole.runs:
        instant = run.machines[0].start + 30
        file = write_plan(replace(plan, state=state_at(plan, FRIDAY_NOON, END, instant)))
        file["state"]["running"] = _without(
            file["state"]["running"], "source_bytes", "wire_bytes", "base_at", "transport"
        )
        resumed = simulate(read_plan(file), instant, END).runs[0]
        for known, found in zip(run.machines, resumed.machines, strict=True):
            assert found.ended == pytest.approx(known.ended, abs=0.01)
            assert found.stored_bytes == pytest.approx(known.stored_bytes)


def test_a_state_is_of_one_instant():
    plan = small_plan()
    state = state_at(plan, FRIDAY_NOON, END, FRIDAY_NOON + 3600)
    with pytest.raises(ValueError, match="simulate from there"):
        simulate(replace(plan, state=state), FRIDAY_NOON, END)
    for instant in (FRIDAY_NOON - 1, END):
        with pytest.raises(ValueError, match="within the horizon"):
            state_at(plan, FRIDAY_NOON, END, instant)
