"""A job that nobody has made yet."""

from dataclasses import replace
from datetime import date

import pytest
from busy_plans import busy_plan
from plans import small_plan

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import night_of
from gambrel.core.questions.imagined_job import Imagined, with_fulls, with_imagined
from gambrel.core.questions.start_search import room, run_at
from gambrel.core.simulation import reference
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.simulate import simulate_span
from gambrel.core.units import DAY

NIGHT = date(2026, 11, 6)


def wanted(plan, **changes):
    usual = Imagined(
        gib=40.0, machines=2, daily_change=0.05, site=plan.sites[0].id,
        repository=plan.repositories[0].id, kind="full", window=None,
    )  # fmt: skip
    return replace(usual, **changes)


def test_its_machines_join_no_other_job_and_hold_the_data_between_them():
    plan = small_plan()
    everything = replace(
        plan.jobs[0].machines, ids=(), rules=plan.jobs[0].machines.rules, exclude=()
    )
    plan = replace(plan, jobs=(replace(plan.jobs[0], machines=everything), *plan.jobs[1:]))
    made, job, where = with_imagined(plan, wanted(plan))
    mine = selected_machines(made, job)
    assert sum(d.used_gib for m in mine for d in m.disks) == pytest.approx(40)
    assert where.startswith("as VMs on ")
    for other in made.jobs[:-1]:
        assert not {m.id for m in mine} & {m.id for m in selected_machines(made, other)}


@pytest.mark.parametrize("kind", ["full", "incremental"])
@pytest.mark.parametrize("seed", [3, 8])
def test_its_room_is_that_of_a_plain_simulation(seed, kind):
    plan = busy_plan(seed)
    asked = wanted(plan, kind=kind, window=plan.windows[0].id)
    made, job, _where = with_imagined(plan, asked)
    night = night_of(NIGHT, plan.sites[0].time_zone)
    from_ = night.start - DAY
    points = snapshot_of_state(made)
    if kind != "full":
        points = with_fulls(made, job, points, from_)

    def play(changed):
        return simulate_span(changed, from_, night.end, points=points)

    starts = list(room(made, job, kind, night, play, from_=from_, step_min=240))
    assert len(starts) == 6
    for start in starts[::2]:
        plain = run_at(made, job, kind, night, start.at, from_=from_)
        if kind == "full":
            forecast = reference.simulate(plain, from_, night.end + 9 * DAY)
        else:
            forecast = simulate_span(plain, from_, night.end + 5 * DAY, points=points)
        run = next(r for r in forecast.runs if r.job == job.id)
        assert run.ended == pytest.approx(start.end, abs=0.01)
        assert {m.kind for m in run.machines if m.start is not None} <= {kind}


def test_starts_outside_the_window_say_when_it_opens():
    plan = busy_plan(3)
    made, job, _where = with_imagined(plan, wanted(plan, window=plan.windows[0].id))
    night = night_of(NIGHT, plan.sites[0].time_zone)
    points = snapshot_of_state(made)

    def play(changed):
        return simulate_span(changed, night.start, night.end, points=points)

    starts = list(room(made, job, "full", night, play, from_=night.start, step_min=120))
    closed = [start for start in starts if start.opens is not None]
    assert closed and len(closed) < len(starts)
    assert all(start.opens > start.at and "waits for its window" in start.why for start in closed)


@pytest.mark.parametrize(
    ("field", "value"),
    [("gib", 0.0), ("machines", 501), ("daily_change", -1.0), ("site", "nowhere"),
     ("repository", "none"), ("window", "none")],
)  # fmt: skip
def test_what_cannot_be_is_named(field, value):
    plan = small_plan()
    with pytest.raises(OperationError) as told:
        with_imagined(plan, wanted(plan, **{field: value}))
    assert told.value.field == field
