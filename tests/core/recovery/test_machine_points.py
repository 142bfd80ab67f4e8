"""Points of a machine, the ways back, one restore in a night, and promises."""

from datetime import date

import pytest
from estates import larkmoor_plan
from plans import DAY

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.model.restore import newest_restore
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.objects import PlannedRestore
from gambrel.core.recovery.machine_points import machine_points
from gambrel.core.recovery.one_restore import restore_in_a_night
from gambrel.core.recovery.promises import kept_in
from gambrel.core.simulation.exposure import exposures
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR

FIRST = night_of(date(2026, 11, 2), "Europe/Dublin")
FRIDAY = night_of(date(2026, 11, 6), "Europe/Dublin")
AT = FRIDAY.start + 14 * HOUR


@pytest.fixture(scope="module")
def week():
    plan = larkmoor_plan()
    return plan, simulate(plan, FIRST.start, FRIDAY.end + DAY)


def points_of(week, name, host=None):
    plan, forecast = week
    records = list(forecast.history.at(AT))
    return machine_points(plan, plan.machine_by_id[name], records, AT, host), records


def test_every_point_of_a_machine_is_told_with_its_chain(week):
    found, records = points_of(week, "ticketing-db-06")
    mine = [record for record in records if record.machine == "ticketing-db-06"]
    assert len(found) == len(mine)
    assert {point.told.repository for point in found} == {"quay-disk", "hill-disk"}
    for point in found:
        assert (point.told.base_at is None) == (point.told.kind == "full")
        if point.told.kind == "full":
            assert point.chain_points == 1
    # What needs a point, needs what that needs.
    assert sum(point.told.carries for point in found) == sum(p.chain_points - 1 for p in found)


def test_the_newest_point_takes_what_the_estimate_of_the_machine_says(week):
    plan, _ = week
    found, records = points_of(week, "ticketing-db-06")
    machine = plan.machine_by_id["ticketing-db-06"]
    newest = newest_restore(plan, machine, records, FRIDAY.end)
    best = max(found, key=lambda point: (point.told.at, -point.way.restore.full_s))
    assert best.way.restore.full_s == pytest.approx(newest.full_s)
    assert best.way.limited_by is not None
    # One disk takes no longer than all of them, and its bytes are a part of theirs.
    disks = best.way.disks
    assert sum(d.written_bytes for d in disks) == pytest.approx(best.way.restore.written_bytes)
    assert all(d.seconds <= best.way.restore.full_s + 0.01 for d in disks)


def test_another_host_and_a_server_on_a_host(week):
    here, _ = points_of(week, "mail-01")
    there, _ = points_of(week, "mail-01", "ha-h1")
    pairs = [(a, b) for a, b in zip(here, there, strict=True) if a.way and b.way]
    assert pairs and any(a.way.restore.full_s != b.way.restore.full_s for a, b in pairs)
    with pytest.raises(OperationError) as told:
        points_of(week, "mail-01", "ghost")
    with pytest.raises(OperationError):
        points_of(week, "mail-01", "mail-02")
    assert told.value.field == "to_host"


def test_a_restore_in_a_night_makes_the_night_later_and_takes_longer_there(week):
    plan, forecast = week
    # Over the slow link, which a backup of Norrvik needs at that hour.
    name = "ticketing-db-06"
    at = FRIDAY.start + 9 * HOUR
    planned = PlannedRestore("r", name, at, to_host="nk-h1", share=8)
    found = restore_in_a_night(plan, forecast, FRIDAY, (FIRST.start, None), planned)
    assert found.restore.outcome == "done"
    alone = found.restore.whole - found.restore.start
    records = list(forecast.history.at(at))
    there = machine_points(plan, plan.machine_by_id[name], records, at, "nk-h1")
    newest = max(there, key=lambda point: (point.told.at, -point.way.restore.full_s))
    assert alone >= newest.way.restore.full_s - 0.01
    assert found.later
    ends = {
        run.job: run.ended for run in forecast.runs if FRIDAY.start <= run.occurrence < FRIDAY.end
    }
    assert all(job in ends and seconds > 0 for job, seconds in found.later)


def test_a_restore_belongs_to_the_night_that_is_looked_at(week):
    plan, forecast = week
    planned = PlannedRestore("r", "mail-01", FRIDAY.end + HOUR)
    with pytest.raises(OperationError) as told:
        restore_in_a_night(plan, forecast, FRIDAY, (FIRST.start, None), planned)
    assert told.value.field == "at"


def test_promises_are_those_of_exposures_and_estimates(week):
    plan, forecast = week
    kept = kept_in(plan, forecast, FRIDAY)
    worst = {e.machine: e for e in exposures(forecast, FRIDAY.start, FRIDAY.end)}
    records = list(forecast.history.at(FRIDAY.end - 0.001))
    for machine, found in list(zip(plan.machines, kept, strict=True))[::9]:
        assert found.exposure_s == worst[machine.id].worst_s
        newest = newest_restore(plan, machine, records, FRIDAY.end)
        assert found.restore_s == (None if newest is None else pytest.approx(newest.full_s))
        promised = machine.rto_hours
        met = None if promised is None else (
            newest is not None and newest.full_s <= promised * HOUR
        )  # fmt: skip
        assert found.rto_met is met
    assert any(found.rto_met is False for found in kept)
    for machine, found in zip(plan.machines, kept, strict=True):
        # The moment of the worst is told where it breaks the promise, and what limits a restore.
        assert (found.worst_at is not None) == (
            found.rpo_met is False and found.exposure_s is not None
        )
        if found.worst_at is not None:
            assert found.worst_at - found.worst_since == pytest.approx(found.exposure_s)
            starts = {p.at for p in forecast.newest_points[machine.id]}
            assert any(abs(at - found.worst_since) < 1e-3 for at in starts)
        assert (found.limited_by is not None) == (
            found.rto_met is False and found.restore_s is not None
        )


def test_a_vm_onto_a_server_is_written_as_fast_as_that_server(week):
    plan, _ = week
    server = next(m for m in plan.machines if m.kind == "server")
    there, _ = points_of(week, "mail-01", server.id)
    point = next(p for p in there if p.way is not None)
    nic = server.nic_mbit_per_s
    rate = min(plan.transports.agent_mib_per_s * 2**20, nic * 125_000 if nic else float("inf"))
    set_up = 120 + 20 * point.chain_points
    assert point.way.restore.full_s >= set_up + point.way.restore.written_bytes / rate - 0.01
    in_place, _ = points_of(week, "mail-01", None)
    same = next(p for p in in_place if p.told == point.told)
    assert point.way.restore.written_bytes == same.way.restore.written_bytes
    with_it = restore_in_a_night(
        plan, simulate(plan, FRIDAY.start, FRIDAY.end + DAY), FRIDAY, (FRIDAY.start, None),
        PlannedRestore("x", "mail-01", AT, None, "full", server.id),
    )  # fmt: skip
    assert with_it.restore.outcome == "done"
    assert all("mail-01" not in {m.machine for m in r.machines} for r in with_it.forecast.runs)
