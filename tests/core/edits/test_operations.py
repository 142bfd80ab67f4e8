"""Operations: what they change, what they refuse, and that they can be written down."""

from datetime import timedelta
from itertools import islice

import pytest
from plans import small_plan, weekly

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import (
    ExcludeDisk,
    ExcludeMachine,
    IncludeMachine,
    MoveFull,
    MoveStart,
    SetInterval,
    SetProxies,
    apply_all,
    change_job,
    operation_from,
    operation_to_dict,
)
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.schedules.words import schedule_in_words


def words(plan, position=0):
    return schedule_in_words(plan.jobs[0].schedules[position])


def test_a_start_moves_to_another_time_of_day_and_nothing_else_changes():
    plan = small_plan()
    moved = MoveStart("nightly", 0, "22:35").apply(plan)
    assert words(moved) == "full on Friday at 22:35"
    assert moved.jobs[0].schedules[1] == plan.jobs[0].schedules[1]
    assert words(plan) == "full on Friday at 21:00"


def test_over_midnight_the_weekday_goes_along():
    plan = MoveStart("nightly", 0, "00:30", day_shift=1).apply(small_plan())
    assert words(plan) == "full on Saturday at 00:30"
    back = MoveStart("nightly", 0, "23:00", day_shift=-1).apply(plan)
    assert words(back) == "full on Friday at 23:00"


def test_a_daily_schedule_has_no_weekday_to_move():
    plan = MoveStart("nightly", 1, "00:10", day_shift=1).apply(small_plan())
    assert words(plan, 1) == "incremental every day at 00:10"


def test_many_runs_a_day_move_with_both_their_ends():
    row = {
        "kind": "incremental", "every_min": 20, "from": "06:10", "to": "05:40",
        "days": ["mon", "fri"], "start": "2026-10-01", "time_zone": "Europe/Dublin",
    }  # fmt: skip
    plan = MoveStart("nightly", 0, "06:30").apply(small_plan({"schedules": [row]}))
    assert words(plan) == "incremental every 20 minutes from 06:30 to 06:00 on Monday and Friday"


def test_a_weekly_full_moves_by_days():
    plan = MoveFull("nightly", 0, 2).apply(small_plan())
    assert words(plan) == "full on Sunday at 21:00"


def test_the_increments_change_places_with_a_moved_full():
    others = {**weekly("incremental", "MO", "20:00"), "rrule": "FREQ=WEEKLY;BYDAY=MO,TU,SA"}
    plan = small_plan({"schedules": [weekly("full", "FR", "21:00"), others]})
    moved = MoveFull("nightly", 0, 1).apply(plan)
    assert words(moved) == "full on Saturday at 21:00"
    assert words(moved, 1) == "incremental on Monday, Tuesday and Friday at 20:00"
    assert MoveFull("nightly", 0, -1).apply(moved) == plan
    free = MoveFull("nightly", 0, 2).apply(plan)
    assert words(free, 1) == "incremental on Monday, Tuesday and Saturday at 20:00"


def test_what_is_done_can_be_said():
    plan = small_plan()
    assert MoveFull("nightly", 0, -1).describe(plan) == (
        "Nightly: full starts Thu 21:00 (was Fri 21:00)"
    )
    assert change_job("nightly", locked=True).describe(plan) == "Nightly: locked"


def test_a_locked_job_stays_where_it_is_until_it_is_unlocked():
    locked = change_job("nightly", locked=True).apply(small_plan())
    with pytest.raises(OperationError, match="locked"):
        MoveStart("nightly", 0, "22:00").apply(locked)
    freed = change_job("nightly", locked=False).apply(locked)
    assert words(MoveStart("nightly", 0, "22:00").apply(freed)) == "full on Friday at 22:00"


def monthly():
    schedule = {**weekly("full", "FR", "21:00"), "rrule": "FREQ=MONTHLY;BYDAY=FR;BYSETPOS=-1"}
    return small_plan({"schedules": [schedule]})


def clocked():
    schedule = {**weekly("full", "FR", "21:00"), "rrule": "FREQ=DAILY;BYHOUR=2,14"}
    return small_plan({"schedules": [schedule]})


REFUSED = [
    (small_plan, MoveStart("ghost", 0, "22:00"), "job"),
    (small_plan, MoveStart("nightly", 7, "22:00"), "schedule"),
    (small_plan, MoveStart("nightly", -1, "22:00"), "schedule"),
    (small_plan, MoveStart("nightly", 0, "24:00"), "start_time"),
    (small_plan, MoveStart("nightly", 0, "half past"), "start_time"),
    (small_plan, MoveStart("nightly", 0, "22:00", day_shift=3), "day_shift"),
    (small_plan, MoveFull("nightly", 1, 1), "schedule"),
    (small_plan, MoveFull("nightly", 0, 9), "days"),
    (monthly, MoveStart("nightly", 0, "01:00", day_shift=1), "day_shift"),
    (monthly, MoveFull("nightly", 0, 1), "schedule"),
    (clocked, MoveStart("nightly", 0, "22:00"), "start_time"),
]


@pytest.mark.parametrize(
    ("plan", "operation", "field"),
    REFUSED,
    ids=lambda value: getattr(value, "__name__", str(value)),
)
def test_refused_by_the_field_at_fault(plan, operation, field):
    with pytest.raises(OperationError) as caught:
        operation.apply(plan())
    assert caught.value.field == field


@pytest.mark.parametrize(
    "operation",
    [MoveStart("a", 1, "20:00", -1), MoveFull("a", 0, 3), change_job("a", locked=False)],
    ids=lambda operation: operation.name,
)
def test_written_down_and_read_again_it_is_the_same(operation):
    assert operation_from(operation_to_dict(operation)) == operation


@pytest.mark.parametrize(
    ("value", "field"),
    [
        ({}, "operation"),
        ({"operation": "DropTables"}, "operation"),
        ({"operation": "MoveFull", "job": "a", "schedule": 0}, "days"),
        ({"operation": "MoveFull", "job": "a", "schedule": True, "days": 1}, "schedule"),
        ({"operation": "SetLocked", "job": "a"}, "locked"),
        ({"operation": "SetLocked", "job": "a", "locked": True, "days": 1}, "days"),
        ({"operation": ["MoveStart"]}, "operation"),
    ],
)
def test_what_is_no_operation_is_refused(value, field):
    with pytest.raises(OperationError) as caught:
        operation_from(value)
    assert caught.value.field == field


@pytest.mark.parametrize(
    ("earlier", "changes"),
    [
        ({"operation": "SetLocked", "locked": True}, {"locked": True}),
        ({"operation": "SetTransport", "transport": "network"}, {"transport": "network"}),
        ({"operation": "SetVerify", "verify": "boot"}, {"verify": "boot"}),
        (
            {"operation": "SetWindow", "window": None, "at_window_end": "stop"},
            {"window": None, "at_window_end": "stop"},
        ),
    ],
)
def test_drafts_that_hold_operations_by_earlier_names_are_still_read(earlier, changes):
    assert operation_from({**earlier, "job": "nightly"}) == change_job("nightly", **changes)


def test_operations_apply_one_after_the_other():
    plan = apply_all(small_plan(), [MoveFull("nightly", 0, 1), MoveStart("nightly", 0, "23:00")])
    assert words(plan) == "full on Saturday at 23:00"


# --- readers, machines, checks ------------------------------------------------------------------

ROW = {
    "kind": "incremental", "every_min": 20, "from": "06:00", "to": "20:00", "days": ["mon"],
    "start": "2026-01-01", "time_zone": "Europe/Dublin",
}  # fmt: skip


@pytest.mark.parametrize(
    ("operation", "changed", "words"),
    [
        (SetProxies("nightly", ("p1",)), ("proxies", ("p1",)), "Nightly: read by p1"),
        (SetProxies("nightly", None), ("proxies", None), "Nightly: read by any proxy"),
        (
            change_job("nightly", transport="hot_add"),
            ("transport", "hot_add"),
            "Nightly: read by any proxy, hot-add only (was any proxy, best transport)",
        ),
        (
            change_job("nightly", verify="boot"),
            ("verify", "boot"),
            "Nightly: checked by a boot test of 6 min (was nothing)",
        ),
        (
            ExcludeDisk("nightly", "gate", "0"),
            ("exclude_disks", (("gate", "0"),)),
            "Nightly: disk 0 of gate is left out",
        ),
    ],
)
def test_what_an_operation_on_a_job_changes_and_says(operation, changed, words):
    plan = small_plan()
    field, value = changed
    assert getattr(operation.apply(plan).jobs[0], field) == value
    assert operation.describe(plan) == words
    assert operation_from(operation_to_dict(operation)) == operation


def test_machines_join_and_are_left_out():
    plan = small_plan({"machines": {"ids": ["gate"]}})
    joined = IncludeMachine("nightly", "fares").apply(plan)
    assert joined.jobs[0].machines.ids == ("gate", "fares")
    left = ExcludeMachine("nightly", "fares").apply(joined)
    assert left.jobs[0].machines.exclude == ("fares",)
    again = IncludeMachine("nightly", "fares").apply(left)
    assert again.jobs[0].machines.exclude == ()


def test_a_row_of_runs_gets_another_interval():
    plan = small_plan({"schedules": [ROW]})
    operation = SetInterval("nightly", 0, 45)
    assert operation.apply(plan).jobs[0].schedules[0].every_min == 45
    assert operation.describe(plan) == "Nightly: every 45 min"


@pytest.mark.parametrize(
    ("operation", "field"),
    [
        (SetProxies("nightly", ("ghost",)), "proxies"),
        (change_job("nightly", transport="pigeon"), "transport"),
        (change_job("nightly", verify="prayer"), "verify"),
        (change_job("nightly", locked=1), "locked"),
        (IncludeMachine("nightly", "gate"), "machine"),
        (IncludeMachine("nightly", "ghost"), "machine"),
        (ExcludeDisk("nightly", "gate", "9"), "disk"),
        (SetInterval("nightly", 0, 45), "schedule"),
    ],
)
def test_what_cannot_be_done_is_refused_by_field(operation, field):
    with pytest.raises(OperationError) as error:
        operation.apply(small_plan())
    assert error.value.field == field


@pytest.mark.parametrize(
    "value",
    [
        {"operation": "SetProxies", "job": "nightly", "proxies": "p1"},
        {"operation": "SetProxies", "job": "nightly", "proxies": [1]},
        {"operation": "SetInterval", "job": "nightly", "schedule": 0, "minutes": "9"},
    ],
)
def test_ill_typed_arguments_are_refused(value):
    with pytest.raises(OperationError):
        operation_from(value)


@pytest.mark.parametrize(
    ("rule", "days", "becomes"),
    [
        ("FREQ=WEEKLY;INTERVAL=2;BYDAY=FR", 7, "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR"),
        ("FREQ=MONTHLY;BYDAY=2SA", 7, "FREQ=MONTHLY;BYDAY=3SA"),
        ("FREQ=MONTHLY;BYDAY=2SA", -7, "FREQ=MONTHLY;BYDAY=1SA"),
    ],
)
def test_a_full_moves_to_another_week(rule, days, becomes):
    full = {"kind": "full", "rrule": rule, "start": "2026-10-02T21:00", "time_zone": "UTC"}
    plan = small_plan({"schedules": [full]})
    moved = MoveFull("nightly", 0, days).apply(plan).jobs[0].schedules[0]
    assert moved.rrule == becomes
    was = plan.jobs[0].schedules[0]
    dates = [[*islice(parse_rule(s.rrule, s.start).rule, 9)] for s in (was, moved)]
    assert dates[1] == [at + timedelta(days=days) for at in dates[0]]


@pytest.mark.parametrize(
    ("rule", "days"),
    [("FREQ=MONTHLY;BYDAY=1SA", -7), ("FREQ=MONTHLY;BYDAY=2SA", 3), ("FREQ=MONTHLY", 7)],
)
def test_a_full_that_has_no_such_week_is_refused(rule, days):
    full = {"kind": "full", "rrule": rule, "start": "2026-10-02T21:00", "time_zone": "UTC"}
    with pytest.raises(OperationError):
        MoveFull("nightly", 0, days).apply(small_plan({"schedules": [full]}))
