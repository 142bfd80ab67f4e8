"""Plan files as text."""

import json

import pytest
from plans import small_file, small_plan

from gambrel.core.plan.values import PlanError
from gambrel.formats import plan_file


def test_text_and_bytes_with_and_without_a_mark():
    text = json.dumps(small_file())
    assert plan_file.read(text) == small_plan()
    assert plan_file.read(text.encode()) == small_plan()
    assert plan_file.read(b"\xef\xbb\xbf" + text.encode()) == small_plan()


def test_what_is_written_can_be_read():
    assert plan_file.read(plan_file.write(small_plan())) == small_plan()


@pytest.mark.parametrize(
    ("text", "where", "why"),
    [
        ("", "line 1, column 1", "JSON"),
        ('{"format": ', "line 1, column 12", "JSON"),
        ('{"format": "gambrel-plan/1",\n "sites": [}', "line 2, column 12", "JSON"),
        ('{"format": 1, "format": 2}', "(file)", "twice"),
        ('{"format": NaN}', "(file)", "not a number"),
        (b"\xff\xfe", "(file)", "UTF-8"),
        ("[" * 100_000, "(file)", "nested"),
    ],
)
def test_what_is_no_json_is_refused_with_its_place(text, where, why):
    with pytest.raises(PlanError) as caught:
        plan_file.read(text)
    (problem,) = caught.value.problems
    assert problem.path == where
    assert why in problem.reason
