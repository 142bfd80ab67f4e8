"""Restores beside backups (section 14): the worked cases, and what must hold for any plan."""

from dataclasses import replace

import pytest
from generated import plans
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from invariants import check_capacities, check_engines_agree, check_pools
from plans import DAY, FRIDAY_NOON, small_file, small_plan
from vector_cases import RESTORE_CASES, differences, load

from gambrel.core.loads.load_series import load_series
from gambrel.core.model.restore import newest_restore
from gambrel.core.plan.instants import parse_instant
from gambrel.core.plan.objects import PlannedRestore, State
from gambrel.core.plan.reading import read_plan
from gambrel.core.plan.state import NamedPoint
from gambrel.core.plan.values import PlanError
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate
from gambrel.formats.result_file import result

END = FRIDAY_NOON + 2 * DAY
POINT = {
    "job": "nightly", "machine": "gate", "repository": "vault", "kind": "full",
    "at": "2026-11-01T21:00:00Z", "exists_from": "2026-11-01T22:00:00Z", "stored_bytes": 6e9,
}  # fmt: skip


@pytest.mark.parametrize("play", [simulate, reference.simulate], ids=["engine", "reference"])
@pytest.mark.parametrize("name", RESTORE_CASES)
def test_a_worked_case_gives_the_expected_result(name, play):
    case = load(name)
    start, end = (parse_instant(case[key]) for key in ("from", "to"))
    found = play(read_plan(case["plan"]), start, end)
    assert differences(case["result"], result(found)) == []


@st.composite
def plans_with_restores(draw):
    """A plan with some restores: of any machine, point and target, so many at once."""
    plan = draw(plans())
    assume(plan.machines)
    named = {
        (point.machine, NamedPoint(point.job, point.repository, point.at))
        for point in plan.state.points
    }
    made = []
    for i in range(draw(st.integers(1, 5))):
        machine = draw(st.sampled_from(plan.machines))
        mine = sorted((point for owner, point in named if owner == machine.id), key=repr)
        hosts = [host.id for host in plan.hosts] if machine.kind == "vm" else []
        made.append(
            PlannedRestore(
                f"r{i}",
                machine.id,
                FRIDAY_NOON + draw(st.integers(-2, 50)) * 3600,
                draw(st.sampled_from([None, None, *mine])),
                draw(st.sampled_from(["full", "instant"])),
                draw(st.sampled_from([None, None, *hosts])),
                draw(st.sampled_from([1.0, 0.5, 4.0])),
            )
        )
    return restored(plan, *made, at_once=draw(st.sampled_from([None, 1, 2])))


@settings(max_examples=120, deadline=None)
@given(plans_with_restores())
def test_the_engine_brings_back_as_the_reference_does(plan):
    check_engines_agree(plan, FRIDAY_NOON, END)


@settings(max_examples=40, deadline=None)
@given(plans_with_restores())
def test_nothing_is_filled_beyond_its_capacity_while_machines_come_back(plan):
    forecast = simulate(plan, FRIDAY_NOON, END)
    check_pools(forecast)
    check_capacities(forecast)


@settings(max_examples=30, deadline=None)
@given(plans())
def test_a_night_without_restores_is_what_it_was(plan):
    assume(plan.machines)
    later = PlannedRestore("r", plan.machines[0].id, END)
    with_one = simulate(restored(plan, later), FRIDAY_NOON, END)
    assert with_one.restores[0].outcome is None
    without = result(simulate(plan, FRIDAY_NOON, END))
    assert {**result(with_one), "restores": []} == {**without, "restores": []}


def test_the_loads_of_restores_are_of_no_job():
    forecast = simulate(gate(), FRIDAY_NOON, END)
    series = load_series(forecast, "repository:vault", FRIDAY_NOON, END)
    of_reading = load_series(forecast, "host_nic:h1", FRIDAY_NOON, END)
    found = [part for each in (series, of_reading) for part in each.parts]
    assert any(part.purpose == "restore" and part.job == "" for part in found)


def restored(plan, *restores, at_once=None):
    state = replace(plan.state, restores=restores, restores_at_once=at_once)
    return replace(plan, state=state)


@settings(max_examples=60)
@given(plans(), st.sampled_from(["full", "instant"]))
def test_alone_it_takes_what_the_estimate_says(plan, method):
    quiet = replace(
        plan,
        jobs=tuple(replace(job, schedules=(), after=None, spread_fulls=1) for job in plan.jobs),
        links=tuple(replace(link, limits=()) for link in plan.links),
        datastores=tuple(replace(store, write_mib_per_s=None) for store in plan.datastores),
        state=State(tuple(p for p in plan.state.points if p.exists_from <= FRIDAY_NOON)),
    )
    points = quiet.state.points
    assume(points)
    machine = quiet.machine_by_id[points[0].machine]
    alone = restored(quiet, PlannedRestore("r", machine.id, FRIDAY_NOON, method=method))
    before = reference.simulate(quiet, FRIDAY_NOON, FRIDAY_NOON + 1)
    expected = newest_restore(quiet, machine, before.points, FRIDAY_NOON)
    (found,) = simulate(alone, FRIDAY_NOON, END).restores
    if expected is None:
        assert found.outcome in ("no point", "no path")
        return
    assert (found.outcome, found.points) == ("done", expected.points)
    assert found.whole - found.start == pytest.approx(expected.full_s)
    back = expected.instant_s if method == "instant" else expected.full_s
    assert found.back - found.start == pytest.approx(back)
    assert found.read_bytes == pytest.approx(expected.read_bytes)
    assert found.written_bytes == pytest.approx(expected.written_bytes)


def gate(**more):
    restore = {"id": "r", "machine": "gate", "at": "2026-11-06T12:00:00Z", **more}
    return read_plan(small_file(state={"points": [POINT], "restores": [restore]}))


def test_a_run_does_not_start_a_machine_that_is_being_brought_back():
    plan = gate(at="2026-11-06T20:59:00Z")
    forecast = simulate(plan, FRIDAY_NOON, END)
    (restore,) = forecast.restores
    assert restore.outcome == "done"

    def next_start(found):
        starts = [m.start for run in found.runs for m in run.machines if m.machine == "gate"]
        return min(at for at in starts if at >= restore.due)

    without = simulate(replace(plan, state=State(plan.state.points)), FRIDAY_NOON, END)
    assert next_start(without) < restore.back <= next_start(forecast)


def test_only_so_many_are_under_way_and_one_of_a_machine_waits_for_the_other():
    plan = gate()
    one = plan.state.restores[0]
    twice = restored(plan, one, replace(one, id="again"), at_once=1)
    first, second = simulate(twice, FRIDAY_NOON, END).restores
    assert second.start == pytest.approx(first.whole)


def test_an_instant_start_has_the_machine_back_before_it_is_whole():
    (found,) = simulate(gate(method="instant"), FRIDAY_NOON, END).restores
    assert found.back == pytest.approx(found.start + 140)
    assert found.whole > found.back


@pytest.mark.parametrize(
    ("more", "outcome"),
    [
        ({"machine": "fares"}, "no point"),
        ({"point": {"job": "nightly", "repository": "vault", "at": "2026-11-01T20:00:00Z"}},
         "no point"),
        ({"at": "2026-12-24T12:00:00Z"}, None),
    ],
)  # fmt: skip
def test_what_cannot_be_restored_says_so(more, outcome):
    (found,) = simulate(gate(**more), FRIDAY_NOON, FRIDAY_NOON + 3600).restores
    assert (found.outcome, found.start, found.back) == (outcome, None, None)
    assert (found.whole is None) is (outcome is None)


@pytest.mark.parametrize(
    ("restores", "path"),
    [
        ([{"id": "r", "machine": "ghost", "at": "2026-11-06T12:00:00Z"}], "restores[0].machine"),
        ([{"id": "r", "machine": "gate", "at": "2026-11-06T12:00:00Z", "to_host": "nowhere"}],
         "restores[0].to_host"),
        ([{"id": "r", "machine": "gate", "at": "2026-11-06T12:00:00Z",
           "point": {"job": "ghost", "repository": "vault", "at": "2026-11-06T12:00:00Z"}}],
         "restores[0].point.job"),
        ([{"id": "r", "machine": "gate", "at": "2026-11-06T12:00:00Z"}] * 2, "restores[1].id"),
    ],
)  # fmt: skip
def test_a_restore_of_what_the_plan_lacks_is_refused_by_name(restores, path):
    with pytest.raises(PlanError) as caught:
        read_plan(small_file(state={"restores": restores}))
    assert f"state.{path}" in {problem.path for problem in caught.value.problems}


def test_a_server_cannot_come_back_on_a_host():
    file = small_file()
    file["machines"].append({"id": "tin", "kind": "server", "site": "quay", "disks": []})
    file["state"] = {"restores": [{"id": "r", "machine": "tin", "at": "2026-11-06T12:00:00Z",
                                   "to_host": file["hosts"][0]["id"]}]}  # fmt: skip
    with pytest.raises(PlanError, match="is for a VM"):
        read_plan(file)


def test_datastores_limit_only_what_is_written_to_them():
    plan = gate()
    (fast,) = simulate(plan, FRIDAY_NOON, END).restores
    slow = replace(plan, datastores=tuple(replace(d, write_mib_per_s=5.0) for d in plan.datastores))
    (found,) = simulate(slow, FRIDAY_NOON, END).restores
    assert found.whole > fast.whole
    assert any(name.startswith("datastore_write:") for name in found.squeeze_s)
    nightly = simulate(small_plan(), FRIDAY_NOON, END).runs
    assert (
        simulate(
            replace(
                small_plan(),
                datastores=tuple(replace(d, write_mib_per_s=5.0) for d in small_plan().datastores),
            ),
            FRIDAY_NOON,
            END,
        )
        .runs[0]
        .ended
        == nightly[0].ended
    )
