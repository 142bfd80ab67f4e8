"""The worked cases of the planning model."""

from dataclasses import asdict, replace
from pathlib import Path

import pytest
from vector_cases import PLAN_CASES, VECTORS, differences, load

from gambrel.core.model.restore import newest_restore, rto_met
from gambrel.core.model.sharing import Demand, fair_rates
from gambrel.core.plan import reading
from gambrel.core.plan.instants import format_instant, parse_instant
from gambrel.core.schedules.calendars import occurrences
from gambrel.core.simulation.simulate import simulate
from gambrel.formats.result_file import result

SHARED = Path(__file__).parents[4] / "shared" / "vectors"


@pytest.mark.parametrize("name", PLAN_CASES)
def test_plan_gives_the_expected_result(name):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    forecast = simulate(reading.read_plan(case["plan"]), start, end)
    assert differences(case["result"], result(forecast)) == []


@pytest.mark.parametrize("name", [name for name in PLAN_CASES if name.startswith("case-")])
def test_restores_take_as_long_as_expected(name):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    forecast = simulate(reading.read_plan(case["plan"]), start, end)
    for machine in forecast.plan.machines:
        found = newest_restore(forecast.plan, machine, forecast.points, forecast.to)
        estimate = None if found is None else asdict(found)
        assert differences(case["restore"][machine.id], estimate) == []
        assert rto_met(replace(machine, rto_hours=None), found) is None
        assert rto_met(replace(machine, rto_hours=1000), found) is (found is not None)


@pytest.mark.parametrize("case", load("schedules.json"), ids=lambda case: case["name"])
def test_schedule_gives_the_expected_occurrences(case):
    context = reading.Reading()
    schedule = reading.SCHEDULE.read(context, "", case["schedule"])
    calendars = [reading.ITEMS["calendars"].read(context, "", c) for c in case["calendars"]]
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    found = occurrences(schedule, {c.id: c for c in calendars}, start, end)
    assert [format_instant(instant) for instant in found] == case["occurrences"]


@pytest.mark.parametrize("case", load("sharing.json"), ids=lambda case: case["name"])
def test_streams_get_the_expected_rates(case):
    numbers = {name: i for i, name in enumerate(sorted(case["capacity"]))}
    for stream in case["streams"]:
        for name in stream["uses"]:
            numbers.setdefault(name, len(numbers))
    demands = [
        Demand(s["share"], s["ceiling"], tuple((numbers[n], u) for n, u in s["uses"].items()))
        for s in case["streams"]
    ]
    capacity = {numbers[n]: c for n, c in case["capacity"].items() if c is not None}
    rates = [allotment.rate for allotment in fair_rates(demands, capacity)]
    assert rates == pytest.approx(case["rates"], rel=1e-6)


@pytest.mark.skipif(not SHARED.exists(), reason="the originals do not stand beside this clone")
def test_the_copies_are_unchanged():
    for original in SHARED.glob("*.json"):
        assert (VECTORS / original.name).read_bytes() == original.read_bytes()


def test_the_comparison_sees_differences():
    case = load("case-one-full.json")["result"]
    changed = {**case, "runs": [{**case["runs"][0], "over_s": 1.0}]}
    assert differences(case, changed) == [".runs[0].over_s: 0.0 but got 1.0"]
    later = {**case, "runs": [{**case["runs"][0], "ended": "2026-11-02T20:04:05.000Z"}]}
    assert len(differences(case, later)) == 1
