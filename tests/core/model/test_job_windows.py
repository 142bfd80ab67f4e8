"""Windows that are the default of machines, under which a job's own window stands."""

import pytest
from plans import DAY, FRIDAY_NOON, small_file, window

from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.edits.operations import change_job
from gambrel.core.model.job_windows import default_window, has_default_window, window_of
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.values import PlanError
from gambrel.core.simulation.reference import simulate as by_the_text
from gambrel.core.simulation.simulate import simulate
from gambrel.core.words import sentence


def rule(field, value, op="is"):
    return [{"field": field, "op": op, "value": value}]


def plan_with(*defaults, own=None):
    """Windows "night" and "late", which are the defaults of machines for which a rule holds."""
    late = {**window("01:00", "05:00"), "id": "late"}
    windows = [window("20:00", "06:00"), late]
    for entry, rules in zip(windows, defaults, strict=False):
        entry["default_for"] = rules
    file = small_file(windows=windows)
    file["jobs"][0]["window"] = own
    file["machines"][0]["tags"] = ["gold"]
    file["machines"][0]["folder"] = "Quay/gates"
    file["machines"][1]["folder"] = "Quay/fares"
    return read_plan(file)


def found(plan):
    job = plan.jobs[0]
    window = window_of(plan, job)
    return None if window is None else window.id, has_default_window(plan, job)


@pytest.mark.parametrize(
    ("defaults", "own", "expected"),
    [
        ((), None, (None, False)),
        (([], [rule("folder", "Quay", "starts_with")]), None, ("late", True)),
        (([], [rule("folder", "Quay", "starts_with")]), "night", ("night", False)),
        # Not all of its machines match.
        (([], [rule("tag", "gold", "has")]), None, (None, False)),
        # Each of them matches one of the rules.
        (([], [rule("tag", "gold", "has"), rule("folder", "Quay/fares")]), None, ("late", True)),
        # The first in the file.
        (([rule("kind", "vm")], [rule("host", "h1")]), None, ("night", True)),
    ],
)
def test_the_window_of_a_job(defaults, own, expected):
    assert found(plan_with(*defaults, own=own)) == expected


def test_what_a_window_becomes_the_default_of_is_said():
    plan = plan_with()
    edit = ChangeItem("windows", "late", {"default_for": [rule("tag", "gold", "has")]})
    assert edit.describe(plan) == "window late: the default for tagged gold"
    back = ChangeItem("windows", "late", {"default_for": []})
    assert back.describe(edit.apply(plan)) == "window late: the default of no machine"


def test_a_job_of_no_machine_has_no_default():
    plan = change_job("nightly", machines={}).apply(plan_with([rule("kind", "vm")]))
    assert default_window(plan, plan.jobs[0]) is None


@pytest.mark.parametrize("engine", [simulate, by_the_text])
def test_a_default_window_is_a_window_like_any_other(engine):
    by_default = plan_with([], [rule("kind", "vm")])
    named = plan_with(own="late")
    runs = [
        [
            (run.occurrence, run.window_end, run.ended, run.outcome)
            for run in engine(plan, FRIDAY_NOON, FRIDAY_NOON + 3 * DAY).runs
        ]
        for plan in (by_default, named, plan_with())
    ]
    assert runs[0] == runs[1] != runs[2]


def test_an_edit_of_the_estate_or_of_the_rules_changes_the_default():
    plan = plan_with([], [rule("tag", "gold", "has")])
    only_gold = change_job("nightly", machines={"ids": ["gate"]}).apply(plan)
    assert (found(plan), found(only_gold)) == ((None, False), ("late", True))
    # The engine keeps what it has made of a job; another default is another layout.
    ends = [
        simulate(p, FRIDAY_NOON, FRIDAY_NOON + DAY).runs[0].window_end for p in (plan, only_gold)
    ]
    assert ends[0] != ends[1]


def test_it_is_said_in_the_sentence_and_read_back_from_a_file():
    plan = plan_with([], [rule("kind", "vm")])
    assert "inside late (the default of its machines), " in sentence(plan, plan.jobs[0])
    assert read_plan(write_plan(plan)) == plan
    file = write_plan(plan)
    file["windows"][1]["default_for"] = [[]]
    with pytest.raises(PlanError, match=r"default_for\[0\]"):
        read_plan(file)
