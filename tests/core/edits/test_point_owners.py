"""Jobs that go on from points that exist: of another job, or carried from another repository."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import (
    ExcludeMachine,
    apply_all,
    change_job,
    operation_from,
    operation_to_dict,
    points_move,
)
from gambrel.core.edits.point_owners import (
    CarryPoints,
    Handover,
    TakeOverPoints,
    handed_over,
    handovers,
    points_elsewhere,
)
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import protected_bytes, protected_disks
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.simulation.reference import simulate as by_the_text
from gambrel.core.simulation.simulate import simulate
from gambrel.demo import larkmoor, tiny

PLAN = read_plan(larkmoor())
JOB = PLAN.job_by_id["office-files"]
ELSEWHERE = next(
    r.id for r in PLAN.repositories
    if r.id not in (JOB.repository, *(copy.repository for copy in JOB.copies))
)  # fmt: skip
MOVED = change_job(JOB.id, repository=ELSEWHERE)
CARRIED = CarryPoints(JOB.id, JOB.repository)


def first_kinds(plan, engine=simulate, job=JOB.id):
    """The kind of the first machine-run of each machine of a job, within a day."""
    found = {}
    for run in engine(plan, FRIDAY_NOON - 4 * DAY, FRIDAY_NOON - 3 * DAY).runs:
        for machine in run.machines if run.job == job else ():
            found.setdefault(machine.machine, machine.kind)
    return found


def test_in_another_repository_a_job_begins_with_fulls_unless_its_points_are_carried():
    assert set(first_kinds(PLAN).values()) == {"incremental"}
    moved = MOVED.apply(PLAN)
    assert set(first_kinds(moved).values()) == {"full"}
    assert set(first_kinds(CARRIED.apply(moved)).values()) == {"incremental"}


def test_both_engines_go_on_from_what_was_carried():
    plan = read_plan(tiny())
    job = plan.jobs[0]
    other = {**write_plan(plan)["repositories"][0], "id": "other"}
    file = write_plan(plan)
    file["repositories"].append(other)
    plan = apply_all(
        read_plan(file),
        [change_job(job.id, repository="other"), CarryPoints(job.id, job.repository)],
    )
    span = FRIDAY_NOON - 4 * DAY, FRIDAY_NOON
    moved = [
        [
            (r.job, m.machine, m.kind, m.source_bytes)
            for r in e(plan, *span).runs
            for m in r.machines
        ]
        for e in (simulate, by_the_text)
    ]
    for one, other in zip(*moved, strict=True):
        assert one[:3] == other[:3]
        assert one[3] == pytest.approx(other[3])


def test_carried_points_take_what_their_new_place_stores():
    places = PLAN.repository_by_id
    factor = places[JOB.repository].dedupe_ratio / places[ELSEWHERE].dedupe_ratio
    was = [p for p in PLAN.state.points if (p.job, p.repository) == (JOB.id, JOB.repository)]
    after = apply_all(PLAN, [MOVED, CARRIED])
    now = [p for p in after.state.points if (p.job, p.repository) == (JOB.id, ELSEWHERE)]
    assert [p.stored_bytes for p in now] == pytest.approx([p.stored_bytes * factor for p in was])
    assert [(p.machine, p.at, p.kind) for p in now] == [(p.machine, p.at, p.kind) for p in was]
    assert f"{len(was)} points carried from {JOB.repository} to {ELSEWHERE}" in CARRIED.describe(
        MOVED.apply(PLAN)
    )


def test_what_is_offered_is_what_the_first_fulls_would_hold():
    assert points_elsewhere(PLAN, JOB) == []
    moved = MOVED.apply(PLAN)
    (offer,) = points_elsewhere(moved, moved.job_by_id[JOB.id])
    assert (offer.job, offer.repository) == (JOB.id, JOB.repository)
    members = selected_machines(PLAN, JOB)
    assert set(offer.machines) == {machine.id for machine in members}
    assert offer.full_bytes == sum(
        protected_bytes(JOB, m, disk) for m in members for disk in protected_disks(JOB, m)
    )
    carried = CARRIED.apply(moved)
    assert points_elsewhere(carried, carried.job_by_id[JOB.id]) == []


def test_points_stay_where_the_copies_of_the_job_go():
    copied = next(job for job in PLAN.jobs if job.copies)
    target = copied.copies[0].repository
    kept = {(e.job, e.repository) for e in points_elsewhere(PLAN, copied)}
    assert (copied.id, target) not in kept


def test_what_another_job_left_behind_is_offered_to_the_one_that_has_the_machine_now():
    giver = PLAN.job_by_id["office-files"]
    taker = next(j for j in PLAN.jobs if j.repository == giver.repository and j is not giver)
    name = selected_machines(PLAN, giver)[0].id
    ids = [*taker.machines.ids, name]
    chosen = {**write_plan(PLAN)["jobs"][PLAN.job_position[taker.id]]["machines"], "ids": ids}
    plan = change_job(taker.id, machines=chosen).apply(PLAN)
    # As long as both select it, the points stay with the job that made them.
    assert all(e.job != giver.id for e in points_elsewhere(plan, plan.job_by_id[taker.id]))
    plan = ExcludeMachine(giver.id, name).apply(plan)
    offers = points_elsewhere(plan, plan.job_by_id[taker.id])
    (offer,) = [e for e in offers if (e.job, e.repository) == (giver.id, giver.repository)]
    assert offer.machines == (name,)
    after = TakeOverPoints(taker.id, giver.id).apply(plan)
    assert points_elsewhere(after, after.job_by_id[taker.id]) == [
        e for e in offers if e.job != giver.id
    ]
    assert first_kinds(plan, job=taker.id).get(name, "full") == "full"


@pytest.mark.parametrize(
    ("operation", "reason"),
    [
        (CarryPoints(JOB.id, "ghost"), "is not the id of a repository"),
        (CarryPoints(JOB.id, JOB.repository), "choose another one for it first"),
        (CarryPoints("ghost", JOB.repository), "is not the id of a job"),
        (CarryPoints(JOB.id, ELSEWHERE), "holds no point"),
    ],
)
def test_what_cannot_be_carried_is_refused_with_the_reason(operation, reason):
    with pytest.raises(OperationError, match=reason):
        operation.apply(PLAN)


def test_carrying_is_an_operation_like_any_other():
    assert operation_from(operation_to_dict(CARRIED)) == CARRIED
    assert points_move([MOVED, CARRIED])
    assert not points_move([MOVED])
    locked = change_job(JOB.id, locked=True).apply(MOVED.apply(PLAN))
    with pytest.raises(OperationError, match="is locked"):
        CARRIED.apply(locked)


@st.composite
def edits(draw):
    """Edits of which some move points, one behind the other."""
    made = []
    names = [machine.id for machine in selected_machines(PLAN, JOB)]
    if draw(st.booleans()):
        parts = draw(st.lists(st.sampled_from(names), min_size=1, max_size=3, unique=True))
        made.append(SplitJob(JOB.id, ({"id": "part", "machines": parts},)))
    if draw(st.booleans()):
        made += [MOVED, CARRIED]
    return made


@given(edits())
def test_what_became_of_points_is_told_from_before_and_after(operations):
    after = apply_all(PLAN, operations)
    found = handovers(PLAN.state.points, after.state.points)
    assert bool(found) == points_move(operations)
    assert handed_over(after, PLAN.state.points, found) == after.state.points


def test_a_copy_and_its_original_keep_their_owners():
    point = PLAN.state.points[0]
    copy = replace(point, repository=ELSEWHERE, exists_from=point.exists_from + 60)
    assert handovers([point, copy], [copy, point]) == ()
    assert handovers([point, copy], [point]) == ()
    other = replace(point, job="other")
    assert handovers([point, copy], [other, copy]) == (
        Handover(point.job, point.repository, "other", point.repository, (point.machine,)),
    )
