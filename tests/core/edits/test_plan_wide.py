"""Edits that reach over a whole job's schedules or the whole plan."""

import pytest
from plans import small_plan, weekly

from gambrel.core.edits.edit_conflicts import conflicts
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import (
    MoveStart,
    SetTransports,
    SkipCalendar,
    operation_from,
    operation_to_dict,
)
from gambrel.core.edits.plan_diff import compare
from gambrel.core.schedules.calendars import job_occurrences

CALENDARS = [{"id": "freeze", "dates": ["2026-11-06", "2026-11-07"]}]


def frozen_plan():
    return small_plan({"schedules": [weekly("full", "FR", "21:00")]}, calendars=CALENDARS)


def test_a_freeze_of_a_job_drops_what_falls_on_its_dates():
    plan = frozen_plan()
    job = plan.jobs[0]
    operation = SkipCalendar(job.id, "freeze", True)
    after = operation.apply(plan)
    assert all(schedule.skip == ("freeze",) for schedule in after.jobs[0].schedules)
    november = (1_793_491_200.0, 1_796_083_200.0)
    was = job_occurrences(job, plan.calendar_by_id, *november)
    now = job_occurrences(after.jobs[0], after.calendar_by_id, *november)
    assert len(was) - len(now) == 1
    back = SkipCalendar(job.id, "freeze", False)
    assert back.apply(after) == plan
    assert "skips the dates of freeze" in operation.describe(plan)
    assert operation_from(operation_to_dict(operation)) == operation


@pytest.mark.parametrize(
    ("operation", "field"),
    [
        (SkipCalendar("nightly", "none", True), "calendar"),
        (SkipCalendar("nightly", "freeze", False), "calendar"),
        (SkipCalendar("nobody", "freeze", True), "job"),
    ],
)
def test_a_freeze_that_says_nothing_is_refused(operation, field):
    with pytest.raises(OperationError) as told:
        operation.apply(frozen_plan())
    assert told.value.field == field


def test_ceilings_of_one_stream_are_set_told_and_compared():
    plan = small_plan()
    operation = SetTransports({"network_mib_per_s": 140})
    after = operation.apply(plan)
    assert after.transports.network_mib_per_s == 140
    assert after.transports.direct_mib_per_s == plan.transports.direct_mib_per_s
    assert operation.describe(plan) == ("ceilings of one stream: network 140 MiB/s (was 110 MiB/s)")
    told = compare(plan, after)
    assert [(change.subject, change.lines) for change in told] == [
        ("ceilings of one stream", ("network 140 MiB/s (was 110 MiB/s)",))
    ]
    assert operation_from(operation_to_dict(operation)).apply(plan) == after


@pytest.mark.parametrize("changes", [{"network_mib_per_s": 0}, {"by_hand": 4}])
def test_a_ceiling_that_cannot_be_is_named(changes):
    with pytest.raises(OperationError) as told:
        SetTransports(changes).apply(small_plan())
    assert told.value.field in changes


def test_two_people_meet_where_they_set_the_same():
    mine = [SetTransports({"network_mib_per_s": 140}), SkipCalendar("nightly", "freeze", True)]
    theirs = [
        SetTransports({"direct_mib_per_s": 300, "network_mib_per_s": 90}),
        MoveStart("nightly", 0, "22:00"),
    ]
    assert [conflict.index for conflict in conflicts(mine, theirs)] == [0, 1]
