"""Troubles that stand for days."""

from plans import DAY, FRIDAY_NOON, small_plan

from gambrel.core.findings.from_ledger import standing_findings
from gambrel.core.ledger.records import MachineRecord, RunRecord
from gambrel.core.ledger.standing import overdue_tests, standing_troubles

PLAN = small_plan()
NOW = FRIDAY_NOON + 8 * DAY


def runs(outcomes, *, late_s=0.0):
    """Nightly runs, the newest last; a letter a night for "gate": done or failed."""
    found = []
    for i, letter in enumerate(outcomes):
        due = NOW - (len(outcomes) - i) * DAY + 3600
        gate = MachineRecord("gate", "done" if letter == "d" else "failed", "it was locked")
        gate.ended = due + 600
        run = RunRecord("nightly", due, ended=due + 600 + late_s, predicted={"ended": due + 600})
        run.machines = {"gate": gate}
        found.append(run)
    return found


def told(found, newest=None):
    newest = {"gate": NOW - DAY, "fares": NOW - DAY} if newest is None else newest
    return [(s.kind, s.machine or s.job) for s in standing_troubles(PLAN, found, newest, NOW)]


def test_only_the_newest_runs_in_a_row_count():
    assert told(runs("ddff")) == [("failed in a row", "gate")]
    assert told(runs("ffd")) == []
    assert told(runs("dddf")) == []
    said = standing_troubles(PLAN, runs("dfff"), {"gate": NOW}, NOW)[0]
    assert said.what == "gate failed 3 times in a row in Nightly."
    assert said.why == "Last: it was locked."


def test_a_machine_that_was_tried_and_has_no_point_is_named():
    assert told(runs("ff"), newest={"fares": NOW})[0] == ("no good point", "gate")
    assert ("no good point", "fares") not in told(runs("ff"), newest={})


def test_a_forecast_is_off_where_it_is_off_the_same_way_on_most_nights():
    assert told(runs("ddddd", late_s=1200)) == [("forecast off", "nightly")]
    assert told(runs("ddddd", late_s=-1200)) == [("forecast off", "nightly")]
    assert told(runs("dddd", late_s=1200)) == []
    assert told(runs("ddddddd", late_s=600)) == []
    said = standing_troubles(PLAN, runs("dddddd", late_s=1800), {"gate": NOW}, NOW)[0]
    assert said.what == "Nightly ends 30 min later than predicted."
    assert said.why.startswith("In 6 of the last 7 nights.")


def test_as_findings_they_tell_machines_and_jobs_apart():
    standing = standing_troubles(PLAN, runs("dddff", late_s=1800), {"fares": NOW}, NOW)
    found = standing_findings(standing)
    assert [(f.key, f.gravity) for f in found] == [
        ("no good point machine:gate job:nightly", "risks"),
        ("failed in a row machine:gate job:nightly", "breaks"),
        ("forecast off job:nightly", "risks"),
    ]
    assert found[1].what == "gate failed 2 times in a row in Nightly."


def test_overdue_restore_tests_are_one_trouble_with_the_longest_first():
    at = FRIDAY_NOON + DAY
    due = {"gate": at - 20 * DAY, "fares": at - DAY, "later": at + DAY}
    (found,) = overdue_tests(due, at, "Europe/Dublin")
    assert found.what == "2 machines are past the turn of a restore test."
    assert found.why.startswith("gate longest: it was due Sun 18 Oct 13:00.")
    assert overdue_tests({"later": at + DAY}, at, "Europe/Dublin") == []
    (told,) = standing_findings([found])
    assert (told.kind, told.gravity, told.subjects) == ("restore tests overdue", "risks", ())
