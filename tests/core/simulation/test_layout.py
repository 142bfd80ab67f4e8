"""The arrays of a plan, made anew in part, are those made anew as a whole."""

from dataclasses import replace

import numpy as np
import pytest
from plans import small_file

from gambrel.core.edits.operations import operation_from
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.engine.layout import Layout, layout_of
from gambrel.demo import larkmoor

TABLES = (
    "job", "member", "disk", "klass", "class_items", "candidate", "use", "copy", "copy_chain",
    "repository", "queue", "follower", "capacity", "slots", "machine_class_from", "machine_class",
    "proxy_set_from", "proxy_set",
)  # fmt: skip


@pytest.fixture(scope="module")
def plan():
    return read_plan(larkmoor())


def changed(plan, job, **changes):
    operation = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": changes}
    return operation_from(operation).apply(plan)


def check_same(one, other):
    for name in TABLES:
        assert np.array_equal(getattr(one, name), getattr(other, name)), name
    assert one.chains.tolist() == other.chains.tolist()
    assert one.disk_positions == other.disk_positions
    assert one.ways == other.ways
    assert one.uses_most == other.uses_most


SERVERS = {"field": "kind", "op": "is", "value": "server"}
CHANGES = [
    ("office-files", {"priority": 5}),
    ("office-files", {"max_streams": 2}),
    ("freight-apps", {"proxies": ["quay-p1"]}),
    ("fleet-telemetry", {"limit_mbit_per_s": 300}),
    ("ticketing-web", {"quiesce_s": 90, "retention": {"points": 3}}),
    ("mail", {"copies": []}),
    ("mail", {"window": None, "verify": "boot"}),
    ("ticketing-apps", {"machines": {"rules": [[SERVERS]]}}),
]
TAKEN_BACK = [
    ("office-files", {"max_streams": None}),
    ("fleet-telemetry", {"limit_mbit_per_s": None}),
]


@pytest.mark.parametrize(("job", "changes"), CHANGES)
def test_what_is_the_same_is_used_again_and_the_rest_made_anew(plan, job, changes):
    known, edited = Layout(plan), changed(plan, job, **changes)
    made = Layout(edited, known)
    check_same(made, Layout(edited))
    again = [a is b for a, b in zip(made._parts, known._parts, strict=True)]
    assert again.count(False) == 1
    assert not again[edited.job_position[job]]


def test_edits_on_edits_keep_what_each_of_them_left_alone(plan):
    layout = Layout(plan)
    for job, changes in [*CHANGES[:6], *TAKEN_BACK]:
        plan = changed(plan, job, **changes)
        layout = Layout(plan, layout)
    check_same(layout, Layout(plan))


def test_rows_are_not_taken_from_a_plan_with_other_lists(plan):
    layout = Layout(plan)
    assert layout.has_rows_for(changed(plan, "mail", priority=1))
    fewer = replace(plan, jobs=plan.jobs[1:])
    slower = replace(plan, proxies=(replace(plan.proxies[0], slots=1), *plan.proxies[1:]))
    for other in (fewer, slower):
        assert not layout.has_rows_for(other)
        check_same(layout_of(other), Layout(other))


def test_moved_starts_and_locks_share_one_layout(plan):
    moved = operation_from(
        {"operation": "MoveStart", "job": "mail", "schedule": 0, "start_time": "22:45"}
    ).apply(plan)
    locked = operation_from({"operation": "SetLocked", "job": "mail", "locked": True}).apply(moved)
    assert layout_of(plan) is layout_of(moved) is layout_of(locked)


def test_a_plan_without_jobs_has_a_layout():
    file = small_file()
    file["jobs"] = []
    layout = Layout(read_plan(file))
    assert len(layout.job) == len(layout.member) == len(layout.queue) == 0
