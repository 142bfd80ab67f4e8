"""What must hold of every simulation, and cases followed by hand."""

from dataclasses import replace
from zoneinfo import ZoneInfo

import pytest
from invariants import check_capacities, check_pools
from plans import DAY, EVERY_DAY, FRIDAY_NOON, small_file, small_plan, weekly, window
from vector_cases import PLAN_CASES, load

from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.reading import read_plan
from gambrel.core.schedules.calendars import limit_intervals
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import GIB, MBIT, MIB
from gambrel.demo import tiny

CASES = PLAN_CASES[::3]


def forecast_of(name, **more):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    return simulate(read_plan(case["plan"]), start, end, **more)


@pytest.mark.parametrize(
    "name",
    [
        pytest.param(name, marks=pytest.mark.long) if name == "case-chained.json" else name
        for name in CASES
    ],
)
def test_no_pool_and_no_resource_is_ever_overdrawn(name):
    found = forecast_of(name)
    check_pools(found)
    check_capacities(found)


@pytest.mark.parametrize("name", CASES)
def test_every_byte_that_is_reported_has_flowed(name):
    """All that disks, copies, transforms and merges moved is all that streams carried."""
    forecast = forecast_of(name)
    flowed = sum(f["rate"] * (f["end"] - f["start"]) for f in forecast.loads.flows_in()[0])
    moved = sum(m.source_bytes for run in forecast.runs for m in run.machines)
    assert flowed >= moved * (1 - 1e-6) - 1


NEVER_QUIET = {"mixed-03.json", "mixed-30.json"}
"""Cases in which something runs or waits all the time."""


@pytest.mark.parametrize("name", PLAN_CASES)
def test_a_simulation_from_a_quiet_instant_goes_on_as_if_it_had_not_stopped(name):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    plan = read_plan(case["plan"])
    inside = [start + (end - start) * part / 24 for part in range(1, 24)]
    found = simulate(plan, start, end, snapshots_from=inside).quiet
    assert bool(found) is (name not in NEVER_QUIET)
    if not found:
        return
    quiet = found[len(found) // 2]
    whole = simulate(plan, start, end)
    rest = simulate(plan, quiet.at, end, points=quiet.points)
    later = [r for r in whole.runs if r.occurrence > quiet.at]
    assert [r for r in rest.runs if r.occurrence > quiet.at] == later
    assert rest.points == whole.points


def test_the_same_plan_gives_the_same_result_bit_for_bit():
    one, other = forecast_of("mixed-21.json"), forecast_of("mixed-21.json")
    assert one.runs == other.runs
    assert (one.loads.flows_in()[0] == other.loads.flows_in()[0]).all()


def test_a_longer_window_never_makes_a_run_miss():
    missed = []
    for closes in ("20:03", "20:08", "20:20", "23:00"):
        plan = small_plan(
            {"schedules": [weekly("full", "FR", "20:00")], "max_streams": 1},
            windows=[window("20:00", closes)],
        )
        run = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).runs[0]
        missed.append(sum(machine.outcome != "done" for machine in run.machines))
    assert missed == sorted(missed, reverse=True)
    assert (missed[0], missed[-1]) == (1, 0)


def test_one_full_by_hand():
    """Two VMs of 40 GiB by hot-add over 1 Gbit/s: 80 GiB / 1.6 at 125e6 bytes/s, after 20 s."""
    forecast = simulate(small_plan(), FRIDAY_NOON, FRIDAY_NOON + 9.5 * 3600)
    full = forecast.runs[-1]
    assert (full.kind, full.outcome) == ("full", "done")
    moving = 2 * 40 * GIB / 1.6 / (1000 * MBIT)
    assert full.machines[0].moved - full.machines[0].start == pytest.approx(20 + moving, rel=1e-6)
    assert full.machines[0].squeeze_s == pytest.approx({"link:lan": moving}, rel=1e-6)


def test_a_ceiling_is_the_squeeze_where_nothing_shared_binds():
    links = [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 100_000}]
    forecast = simulate(small_plan(links=links), FRIDAY_NOON, FRIDAY_NOON + 8.5 * 3600)
    machine = forecast.runs[0].machines[0]
    assert machine.squeeze_s == pytest.approx({"transport": 40 * GIB / (250 * MIB)}, rel=1e-6)


def test_a_link_that_is_closed_holds_its_streams_until_it_opens():
    limits = [{"days": EVERY_DAY, "from": "20:00", "to": "23:00", "mbit_per_s": 0}]
    links = [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000, "limits": limits}]
    plan = small_plan({"schedules": [weekly("full", "FR", "20:00")]}, links=links)
    run = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).runs[0]
    assert run.machines[0].moved > parse_instant("2026-11-06T23:00:00Z")
    assert run.machines[0].squeeze_s["link:lan"] > 3 * 3600 - 21


def test_a_link_that_never_opens_ends_thirty_days_after_the_horizon():
    limits = [{"days": EVERY_DAY, "from": "00:00", "to": "00:00", "mbit_per_s": 0}]
    links = [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000, "limits": limits}]
    plan = small_plan({"schedules": [weekly("full", "FR", "20:00")]}, links=links)
    run = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).runs[0]
    assert [machine.outcome for machine in run.machines] == ["cut off", "cut off"]
    assert run.ended == FRIDAY_NOON + 31 * DAY


def test_a_window_that_never_opens_misses_everything_at_the_occurrence():
    plan = small_plan(
        {"at_window_end": "run_on"},
        windows=[{"id": "night", "time_zone": "Europe/Dublin", "open": []}],
    )
    for run in simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY).runs:
        assert (run.outcome, run.window_opens, run.window_end) == ("missed", None, run.occurrence)
        assert {machine.ended for machine in run.machines} == {run.occurrence}


def test_a_machine_with_no_path_is_an_outcome_and_the_others_go_on():
    file = small_file()
    file["sites"].append({"id": "far", "time_zone": "Europe/Oslo"})
    file["hosts"].append({"id": "h9", "site": "far"})
    file["datastores"].append({"id": "lonely", "hosts": ["h9"]})
    file["machines"][0]["host"] = "h9"
    file["machines"][0]["disks"][0]["datastore"] = "lonely"
    run = simulate(read_plan(file), FRIDAY_NOON, FRIDAY_NOON + DAY).runs[0]
    assert {m.machine: m.outcome for m in run.machines} == {"gate": "no path", "fares": "done"}
    assert run.outcome == "incomplete"


def test_a_job_that_selects_nothing_is_empty_and_takes_its_time():
    plan = small_plan({"machines": {}, "before_min": 2, "after_min": 3})
    run = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + 8.5 * 3600).runs[0]
    assert (run.outcome, run.ended - run.began) == ("empty", 300.0)


def test_the_horizon_must_end_after_it_begins():
    with pytest.raises(ValueError, match="horizon"):
        simulate(small_plan(), FRIDAY_NOON, FRIDAY_NOON)


def test_results_depend_on_positions_only_and_not_on_names():
    plan = read_plan(tiny())
    renamed = replace(plan, jobs=tuple(replace(job, name=job.name[::-1]) for job in plan.jobs))
    one, other = (simulate(p, FRIDAY_NOON, FRIDAY_NOON + DAY) for p in (plan, renamed))
    assert one.runs == other.runs


def test_limits_of_a_link_follow_the_zone_of_its_first_site():
    limits = [{"days": ["fri"], "from": "22:00", "to": "23:00", "mbit_per_s": 5}]
    links = [{"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000, "limits": limits}]
    plan = small_plan(links=links)
    limit = plan.links[0].limits[0]
    summer = parse_instant("2026-07-01T00:00:00Z")
    first = limit_intervals(limit, ZoneInfo("Europe/Dublin"), summer, summer + 7 * DAY)[0]
    assert first[0] == parse_instant("2026-07-03T21:00:00Z")


def test_fulls_need_not_be_verified():
    """A boot test of half an hour after each machine, but for those whose run came to be a full."""
    checked = {"verify": "boot", "boot_min": 30, "retention": {"days": 30}}
    every, but_fulls = (
        simulate(small_plan({**checked, "verify_fulls": fulls}), FRIDAY_NOON, FRIDAY_NOON + 3 * DAY)
        for fulls in (True, False)
    )
    kinds = set()
    for one, other in zip(every.runs, but_fulls.runs, strict=True):
        for verified, spared in zip(one.machines, other.machines, strict=True):
            # An increment after a run that ended sooner moves otherwise; it is verified as long.
            after = {"full": 0.0, "incremental": 1800.0}[spared.kind]
            kinds.add(spared.kind)
            assert verified.kind == spared.kind
            assert sum(s for kind, s, *_ in verified.account if kind == "verifying") == 1800.0
            assert sum(s for kind, s, *_ in spared.account if kind == "verifying") == after
    assert kinds == {"full", "incremental"}
