"""A move does what it says to every date of a rule, or is refused with the reason."""

from datetime import date, datetime, timedelta
from itertools import takewhile
from random import Random

import pytest
from plans import small_plan

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import MoveFull, MoveStart
from gambrel.core.plan.objects import DayRowSchedule, RuleSchedule
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.recurrence_rules import parse_rule
from gambrel.core.schedules.calendars import _row_times

UNTIL = datetime(2028, 3, 1)
ZONE = "Europe/Dublin"
PLANNED = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")


def dates(schedule):
    """The local times that the rule of a schedule gives, before anything is skipped."""
    if isinstance(schedule, DayRowSchedule):
        found = _row_times(schedule, datetime(2026, 1, 1), UNTIL + timedelta(days=30))
        # Near the end of a row some of its runs are cut off by the horizon of this test.
    else:
        parsed = parse_rule(schedule.rrule, schedule.start)
        found = takewhile(lambda at: at < UNTIL + timedelta(days=30), parsed.rule)
    times = list(found)
    if isinstance(schedule, RuleSchedule) and parsed.until_instant is not None:
        times = [at for at in times if at.timestamp() <= parsed.until_instant]
    return [at for at in times if schedule.until is None or at.date() <= schedule.until]


def with_schedule(**keys):
    return small_plan({"schedules": [{"kind": "full", "time_zone": ZONE, **keys}]})


def random_rule(random):
    frequency = random.choice(("DAILY", "WEEKLY", "WEEKLY", "WEEKLY", "MONTHLY", "HOURLY"))
    parts = [f"FREQ={frequency}"]
    if random.random() < 0.6:
        parts.append(f"INTERVAL={random.choice((1, 2, 2, 3, 5))}")
    if frequency in ("DAILY", "WEEKLY") and random.random() < 0.8:
        days = random.sample(PLANNED, random.randint(1, 4))
        parts.append(f"BYDAY={','.join(days)}")
        if frequency == "WEEKLY" and random.random() < 0.15:
            parts.append("BYSETPOS=" + random.choice(("1", "-1")))
    if frequency == "MONTHLY":
        number = random.choice(("1", "2", "3", "4", "5", "-1", "-2", "-4", "-5", "+2"))
        parts.append(random.choice((f"BYDAY={number}{random.choice(PLANNED)}", "BYMONTHDAY=15")))
        if random.random() < 0.3:
            parts.append("BYMONTH=3,6,9,12")
    if random.random() < 0.3:
        parts.append(f"WKST={random.choice(PLANNED)}")
    end = random.random()
    if end < 0.2:
        parts.append(f"COUNT={random.randint(2, 30)}")
    elif end < 0.35:
        parts.append("UNTIL=20270218T210000" + random.choice(("", "Z")))
    return ";".join(parts)


def random_schedule(random):
    start = datetime(2026, random.randint(9, 12), random.randint(1, 30), random.randrange(24))
    more = {} if random.random() < 0.8 else {"until": f"2027-0{random.randint(1, 9)}-11"}
    if random.random() < 0.25:
        begin, length = random.randrange(1440), random.randint(30, 1439)
        end = (begin + length) % 1440
        return {
            "every_min": random.choice((20, 45, 60, 240)),
            "from": f"{begin // 60:02d}:{begin % 60:02d}",
            "to": f"{end // 60:02d}:{end % 60:02d}",
            "days": [d.lower() for d in random.sample(("mon", "tue", "sat", "sun"), 2)],
            "start": f"{start:%Y-%m-%d}",
            **more,
        }
    return {"rrule": random_rule(random), "start": f"{start:%Y-%m-%dT%H:%M}", **more}


def moved_dates(plan, operation):
    was = dates(plan.jobs[0].schedules[0])
    now = dates(operation.apply(plan).jobs[0].schedules[0])
    return was, now


def only_together(was, now, by):
    """Both lists up to where one of them was not followed any further."""
    end = min(UNTIL, UNTIL + by)
    return [at + by for at in was if at + by < end], [at for at in now if at < end]


def test_moves_of_any_rule_move_each_of_its_dates():
    random = Random(7)
    done = refused = 0
    while done < 400:
        try:
            plan = with_schedule(**random_schedule(random))
        except ValueError:
            continue
        schedule = plan.jobs[0].schedules[0]
        if random.random() < 0.5:
            row = isinstance(schedule, DayRowSchedule)
            was_at = schedule.from_time if row else schedule.start.time()
            at = timedelta(minutes=15 * random.randrange(96))
            shift = random.choice((-1, 0, 0, 1))
            clock = (datetime(2026, 1, 1) + at).time()
            operation = MoveStart("nightly", 0, f"{clock:%H:%M}", shift)
            by = timedelta(days=shift) + at
            by -= timedelta(hours=was_at.hour, minutes=was_at.minute)
        else:
            days = random.choice((*range(-8, 9), 14, -14, 21))
            operation, by = MoveFull("nightly", 0, days), timedelta(days=days)
        try:
            was, now = moved_dates(plan, operation)
        except OperationError as error:
            assert len(error.reason) > 10
            refused += 1
            continue
        expected, found = only_together(was, now, by)
        assert found == expected, (schedule, operation)
        done += 1
        # What is moved can be written down and read again.
        changed = operation.apply(plan)
        assert read_plan(write_plan(changed)).jobs == changed.jobs
    assert refused < done


LATE_ROW = {"every_min": 60, "from": "20:00", "to": "23:30", "days": ["mon"]}
RULES_THAT_STAY = [
    ("FREQ=MONTHLY;BYDAY=5SA", -7),
    ("FREQ=MONTHLY;BYDAY=4SA", 7),
    ("FREQ=YEARLY;BYDAY=2SA", 7),
    ("FREQ=WEEKLY;BYDAY=SA;BYMONTH=11", 1),
]


@pytest.mark.parametrize(
    ("keys", "operation"),
    [
        *(
            ({"rrule": rule, "start": "2026-10-01T21:00"}, MoveFull("nightly", 0, days))
            for rule, days in RULES_THAT_STAY
        ),
        (
            {"rrule": "FREQ=HOURLY;INTERVAL=5", "start": "2026-10-01T21:00", "until": "2026-12-01"},
            MoveStart("nightly", 0, "23:00"),
        ),
        (
            {**LATE_ROW, "start": "2026-10-01", "until": "2026-12-01"},
            MoveStart("nightly", 0, "22:00"),
        ),
    ],
)
def test_what_cannot_move_as_a_whole_is_refused(keys, operation):
    with pytest.raises(OperationError):
        operation.apply(with_schedule(**keys))


def job_with_daily(day, daily_start, **more):
    rest = ",".join(d for d in PLANNED if d != day)
    full = {"kind": "full", "rrule": f"FREQ=WEEKLY;BYDAY={day}", "start": "2026-10-01T21:00"}
    daily = {"kind": "incremental", "rrule": f"FREQ=WEEKLY;BYDAY={rest}", "start": daily_start}
    schedules = [{**s, "time_zone": ZONE} for s in (full, {**daily, **more})]
    return small_plan({"schedules": schedules})


@pytest.mark.parametrize("start_day", range(1, 8))
@pytest.mark.parametrize("days", [-6, -3, -1, 1, 2, 5])
def test_the_schedule_that_changes_places_gains_and_loses_no_run(start_day, days):
    plan = job_with_daily("FR", f"2026-11-0{start_day}T20:00")
    made = MoveFull("nightly", 0, days).apply(plan)
    was, now = (p.jobs[0].schedules[1] for p in (plan, made))
    new = PLANNED[(4 + days) % 7]
    expected = sorted(
        at - timedelta(days=days) if PLANNED[at.weekday()] == new else at
        for at in dates(was)
        if at < datetime(2026, 12, 20)
    )
    found = {at for at in dates(now) if at.date() not in now.skip_dates} | set(now.extra)
    last = datetime(2026, 12, 6)
    assert sorted(at for at in found if at < last) == [at for at in expected if at < last]


def test_words_name_the_week_and_who_changes_places():
    plan = job_with_daily("FR", "2026-10-01T20:00")
    assert MoveFull("nightly", 0, 1).describe(plan) == (
        "Nightly: full starts Sat 21:00 (was Fri 21:00); incremental runs on Fri instead of Sat"
    )
    every_2 = {"rrule": "FREQ=WEEKLY;INTERVAL=2;BYDAY=FR", "start": "2026-10-02T21:00"}
    assert MoveFull("nightly", 0, 7).describe(with_schedule(**every_2)) == (
        "Nightly: full starts Fri 21:00 (was Fri 21:00), 1 week later"
    )
    numbered = {"rrule": "FREQ=MONTHLY;BYDAY=2SA", "start": "2026-10-01T21:00"}
    assert MoveFull("nightly", 0, -7).describe(with_schedule(**numbered)) == (
        "Nightly: full on the first Saturday of the month at 21:00 "
        "(was on the second Saturday of the month at 21:00)"
    )


def test_a_last_date_moves_along():
    keys = {"rrule": "FREQ=WEEKLY;BYDAY=FR", "start": "2026-10-02T21:00", "until": "2026-10-16"}
    moved = MoveFull("nightly", 0, 1).apply(with_schedule(**keys)).jobs[0].schedules[0]
    assert moved.until == date(2026, 10, 17)
