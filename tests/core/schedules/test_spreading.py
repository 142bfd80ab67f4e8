"""Fulls of one job dealt over several days, in both engines."""

import pytest
from plans import DAY, FRIDAY_NOON, small_file

from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.values import PlanError
from gambrel.core.schedules.spread_fulls import NOBODYS, full_groups, job_dues
from gambrel.core.simulation.reference import simulate as by_the_text
from gambrel.core.simulation.simulate import simulate

WEEKS = 3


def spread_plan(days, **job):
    file = small_file()
    for number, size in ((2, 30), (3, 10)):
        more = {**file["machines"][0], "id": f"more-{number}"}
        more["disks"] = [{**more["disks"][0], "used_gib": size}]
        file["machines"].append(more)
    rule = [{"field": "kind", "op": "is", "value": "vm"}]
    file["jobs"][0].update(machines={"rules": [rule]}, spread_fulls=days, **job)
    return read_plan(file)


def fulls(plan, engine=simulate):
    """Days after the first Friday on which each machine took a full, after its very first."""
    forecast = engine(plan, FRIDAY_NOON, FRIDAY_NOON + WEEKS * 7 * DAY)
    found = {}
    for run in forecast.runs:
        for machine in run.machines:
            if machine.kind == "full":
                day = int((run.occurrence - FRIDAY_NOON) // DAY)
                found.setdefault(machine.machine, []).append(day)
    return {name: days[1:] for name, days in found.items()}


@pytest.mark.parametrize("engine", [simulate, by_the_text])
def test_each_machine_has_a_full_day_of_its_own(engine):
    # Dealt by size: gate (40 GiB), fares (40), more-2 and more-3 (30 and 10).
    found = fulls(spread_plan(3), engine)
    assert found["gate"] == [0, 7, 14]
    assert found["fares"] == [1, 8, 15]
    assert found["more-2"] == [2, 9, 16]
    assert found["more-3"] == [2, 9, 16]


def test_without_the_key_all_fulls_fall_together():
    assert set(map(tuple, fulls(spread_plan(1)).values())) == {(0, 7, 14)}


def test_groups_are_dealt_by_size():
    plan = spread_plan(2)
    assert full_groups(plan.jobs[0], plan.machines) == [0, 1, 0, 1]
    alone = spread_plan(1)
    assert set(full_groups(alone.jobs[0], alone.machines)) == {NOBODYS}


def test_days_are_counted_from_a_full_before_the_horizon():
    plan = spread_plan(3)
    saturday = FRIDAY_NOON + DAY
    turns = [due[3] for due in job_dues(plan.jobs[0], {}, saturday, saturday + 6 * DAY)]
    assert turns == [1, 2, 3, 4, 5, 6]


def test_only_the_first_run_of_a_day_takes_fulls():
    schedules = small_file()["jobs"][0]["schedules"]
    late = {**schedules[1], "start": "2026-10-01T23:00"}
    plan = spread_plan(2, schedules=[*schedules, late])
    turns = [due[3] for due in job_dues(plan.jobs[0], {}, FRIDAY_NOON, FRIDAY_NOON + 2 * DAY)]
    assert turns == [7, 0, NOBODYS, 1, NOBODYS]


@pytest.mark.parametrize("value", [0, 15, 1.5, "2"])
def test_other_values_are_refused_by_name(value):
    with pytest.raises(PlanError, match="spread_fulls"):
        spread_plan(value)


def test_a_job_that_follows_has_nothing_to_spread():
    file = small_file()
    second = {**file["jobs"][0], "id": "after", "after": "nightly", "spread_fulls": 2}
    del second["schedules"]
    with pytest.raises(PlanError, match="spread_fulls"):
        read_plan({**file, "jobs": [file["jobs"][0], second]})
