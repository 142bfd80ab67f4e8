"""Splitting a job as a move: half of its machines, with their full on another night."""

from dataclasses import replace
from datetime import time

import numpy as np
import pytest
from balances import ALL_KINDS, crowded_file, larkmoor_problem, problem_of, random_candidates
from busy_plans import busy_plan
from plans import FRIDAY_NOON

from gambrel.core.balance.bound import bound
from gambrel.core.balance.explaining import explain, tell
from gambrel.core.balance.house_rules import Apart, Last, NotBefore
from gambrel.core.balance.moves import (
    Candidate,
    candidate_of,
    is_sound,
    moves_of,
    plan_of,
    shift_minutes,
)
from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.split_jobs import jobs_from, origins, points_after
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import (
    MoveFull,
    apply_all,
    operation_from,
    operation_to_dict,
)
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.simulate import simulate

SPLITS = frozenset(["split"])


def splits_of(problem, job):
    splitting = replace(problem, kinds=SPLITS)
    return list(moves_of(splitting, problem.plan.job_by_id[job]))


def split_once(problem, job="office-files", days=1):
    """The problem's plan with a job split so, and the candidate that does it."""
    aspect, operation = next(
        (aspect, each) for aspect, each in splits_of(problem, job)
        if each.parts[0]["full_days"] == days
    )  # fmt: skip
    candidate = Candidate.of({aspect: operation})
    return plan_of(problem, candidate), candidate


def of_one_job(gib=900.0):
    """Three machines of one job, too much for one night of a narrow proxy."""
    file = crowded_file(3, gib)
    first, *others = file["jobs"]
    ids = [name for job in file["jobs"] for name in job["machines"]["ids"]]
    file["jobs"] = [{**first, "machines": {"ids": ids}}]
    assert others
    return file


# --- the split ----------------------------------------------------------------------------------


def test_half_of_the_machines_go_and_their_full_is_on_another_night():
    problem = larkmoor_problem()
    plan, _ = split_once(problem)
    whole = problem.plan.job_by_id["office-files"]
    stays, goes = jobs_from(problem.plan, plan, whole.id)
    assert stays.id == whole.id and goes.name == "Office file servers, group 2"
    machines = [{m.id for m in selected_machines(plan, job)} for job in (stays, goes)]
    assert machines[0] | machines[1] == {m.id for m in selected_machines(problem.plan, whole)}
    assert not machines[0] & machines[1] and all(machines)
    full = next(i for i, s in enumerate(whole.schedules) if s.kind == "full")
    assert stays.schedules == whole.schedules
    moved = MoveFull(whole.id, full, 1).apply(problem.plan).job_by_id[whole.id]
    assert goes.schedules == moved.schedules


def test_every_split_runs_and_is_told_in_words_that_name_the_nights():
    problem = larkmoor_problem()
    plan, candidate = split_once(problem, days=-2)
    (operation,) = candidate.operations
    assert operation.describe(problem.plan) == (
        "Office file servers: split, new job Office file servers, group 2 "
        f"({len(plan.job_by_id['office-file-servers-group-2'].machines.ids)} machines, "
        "fulls 2 days earlier)"
    )
    assert shift_minutes(problem.plan, candidate) == 2 * 1440
    assert candidate_of(problem, [operation_from(operation_to_dict(operation))]) == candidate


def test_what_else_is_moved_of_a_job_is_moved_of_both_halves():
    problem = larkmoor_problem()
    _, candidate = split_once(problem)
    job = problem.plan.job_by_id["office-files"]
    full = next(i for i, s in enumerate(job.schedules) if s.kind == "full")
    both = candidate.with_choice((job.id, "night", full), MoveFull(job.id, full, 1))
    stays, goes = jobs_from(problem.plan, plan_of(problem, both), job.id)
    assert "BYDAY=SA" in stays.schedules[full].rrule
    assert "BYDAY=SU" in goes.schedules[full].rrule


@pytest.mark.parametrize(
    ("part", "field"),
    [
        ({"full_days": "1"}, "parts[0].full_days"),
        ({"full_days": True}, "parts[0].full_days"),
        ({"full_days": 9}, "parts[0].full_days"),
        ({"days": 1}, "parts[0].days"),
    ],
)
def test_a_part_whose_fulls_cannot_move_so_is_refused_by_its_field(part, field):
    plan = larkmoor_problem().plan
    machine = selected_machines(plan, plan.job_by_id["office-files"])[0].id
    said = SplitJob("office-files", ({"id": "new", "machines": [machine], **part},))
    with pytest.raises(OperationError) as refused:
        said.apply(plan)
    assert refused.value.field == field


def test_fulls_of_a_job_without_weekly_ones_do_not_move():
    plan = read_plan(of_one_job())
    job = plan.jobs[0]
    daily = tuple(s for s in job.schedules if s.kind != "full")
    plan = replace(plan, jobs=(replace(job, schedules=daily),))
    with pytest.raises(OperationError, match="no weekly full"):
        SplitJob(job.id, ({"id": "new", "machines": ["m1"], "full_days": 1},)).apply(plan)
    still = SplitJob(job.id, ({"id": "new", "machines": ["m1"], "full_days": 0},)).apply(plan)
    assert still.job_by_id["new"].schedules == daily


# --- which jobs ---------------------------------------------------------------------------------


def test_a_job_that_others_follow_or_a_rule_names_is_not_split():
    problem = larkmoor_problem()
    assert len(splits_of(problem, "office-files")) == 12
    for rule in (
        Apart(("office-files", "mail")), Last("office-files"),
        NotBefore(time(20, 0), ("office-files",)),
    ):  # fmt: skip
        assert splits_of(replace(problem, rules=(rule,)), "office-files") == []
    follower = replace(problem.plan.jobs[0], id="next", after="office-files", schedules=())
    followed = replace(problem.plan, jobs=(*problem.plan.jobs, follower))
    assert splits_of(replace(problem, plan=followed), "office-files") == []


def test_a_rule_about_a_tag_binds_the_new_job_too():
    problem = larkmoor_problem()
    tagged = next(
        job for job in problem.plan.jobs
        if splits_of(problem, job.id) and selected_machines(problem.plan, job)[0].tags
    )  # fmt: skip
    tag = selected_machines(problem.plan, tagged)[0].tags[0]
    bound_by = replace(problem, rules=(NotBefore(time(23, 59), tag=tag),))
    for aspect, operation in splits_of(bound_by, tagged.id):
        plan = plan_of(bound_by, Candidate.of({aspect: operation}))
        told = set(bound_by.breaches.of(plan))
        new = {breach for _, breach in told if operation.parts[0]["id"] in breach.jobs}
        tags = {
            t for m in operation.parts[0]["machines"] for t in problem.plan.machine_by_id[m].tags
        }
        assert bool(new) == (tag in tags)


def test_a_job_of_one_machine_or_with_one_full_for_ever_is_not_split():
    file = of_one_job()
    whole = problem_of(read_plan(file))
    assert len(splits_of(whole, "j0")) == 12
    ever = replace(whole.plan.jobs[0], chain="forever")
    assert splits_of(replace(whole, plan=replace(whole.plan, jobs=(ever,))), "j0") == []
    file["jobs"][0]["machines"] = {"ids": ["m0"]}
    assert splits_of(problem_of(read_plan(file)), "j0") == []


def test_a_part_of_a_problem_gives_no_id_that_the_rest_has():
    problem = larkmoor_problem()
    taken = replace(problem.plan.job_by_id["mail"], id="office-file-servers-group-2")
    plan = replace(problem.plan, jobs=(*problem.plan.jobs, taken))
    part = replace(problem, plan=plan).restricted(["office-files"])
    made = [operation.parts[0]["id"] for _, operation in splits_of(part, "office-files")]
    assert set(made) == {"office-file-servers-group-2-2"}
    assert is_sound(
        replace(problem, plan=plan), Candidate.of(dict(splits_of(part, "office-files")))
    )


# --- its score is that of the plan --------------------------------------------------------------


def rows_of(snapshot):
    """Points with their bases, in any order."""
    rows = snapshot.points
    plain = [tuple(row[name] for name in rows.dtype.names if name != "base") for row in rows]
    return sorted(
        (plain[i], plain[row["base"]] if row["base"] >= 0 else ()) for i, row in enumerate(rows)
    )


@pytest.mark.parametrize("job", ["office-files", "directory", "office-desks"])
def test_points_go_along_as_they_do_in_a_draft(job):
    problem = larkmoor_problem()
    plan, _ = split_once(problem, job)
    after = points_after(problem.plan, plan, problem.points)
    assert rows_of(after) == rows_of(snapshot_of_state(plan))
    assert not np.array_equal(after.points["job"], problem.points.points["job"])


def test_two_splits_at_once_keep_apart_whose_points_are_whose():
    problem = larkmoor_problem()
    _, one = split_once(problem, "office-files")
    _, other = split_once(problem, "office-desks", -1)
    plan = plan_of(problem, Candidate((*one.choices, *other.choices)))
    assert rows_of(points_after(problem.plan, plan, problem.points)) == rows_of(
        snapshot_of_state(plan)
    )
    first = [problem.plan.jobs[i].id for i in origins(problem.plan, plan)]
    made = {job.id: was for job, was in zip(plan.jobs, first, strict=True) if job.id != was}
    assert sorted(made.values()) == ["office-desks", "office-files"]


@pytest.mark.parametrize("seed", range(6))
def test_nights_told_are_those_of_a_plain_simulation_of_the_draft(seed):
    problem = problem_of(busy_plan(seed), kinds=ALL_KINDS)
    splitting = [
        Candidate.of({aspect: operation})
        for job in problem.movable
        for aspect, operation in splits_of(problem, job.id)[5:7]
    ]
    drawn = [
        c for c in random_candidates(problem, 6, seed) if any(a[1] == "split" for a, _ in c.choices)
    ]
    for candidate in (*splitting, *drawn):
        if is_sound(problem, candidate) is None:
            continue
        plan = plan_of(problem, candidate)
        forecast = simulate(plan, problem.from_, problem.to)
        told = tell(problem, candidate)
        for night, seen in zip(problem.nights, told.nights, strict=True):
            plain = night_outcome(forecast, night)
            assert (seen.verdict, seen.lost, seen.last_end) == (
                plain.verdict, plain.missed, pytest.approx(plain.last_end),
            )  # fmt: skip
        inside = [run for run in forecast.runs if problem.from_ <= run.occurrence < problem.to]
        lost = sum(
            2.0 ** (plan.job_by_id[run.job].priority - 1)
            for run in inside
            for machine in run.machines
            if machine.outcome != "done"
        )
        assert told.score.lost == pytest.approx(lost)


def test_a_trace_counts_both_halves_for_the_job_that_was_split():
    problem = larkmoor_problem()
    plan, _ = split_once(problem)
    score, trace = Evaluator(problem).trace(plan)
    position = problem.plan.job_position["office-files"]
    nights = {night for job, night in trace.fulls if job == position}
    assert nights == {4, 5}, "Friday and Saturday"
    assert max(job for job, *_ in trace.work) < len(problem.plan.jobs)
    assert score == Evaluator(problem).score(plan)


# --- searched for -------------------------------------------------------------------------------


def test_what_is_too_much_for_one_night_is_split_where_only_that_is_allowed():
    problem = problem_of(read_plan(of_one_job()), kinds=SPLITS)
    before = Evaluator(problem).score(problem.plan)
    found = balance(problem, MostEvaluations(40), seed=1)
    assert before.over_s > found.score.over_s
    ((aspect, operation),) = found.candidate.choices
    assert aspect == ("j0", "split", 0)
    told = explain(
        problem, found.candidate, lambda many: [tell(problem, each) for each in many],
        bound(problem), tell(problem, Candidate()), tell(problem, found.candidate),
    )  # fmt: skip
    (move,) = told.moves
    assert "one more job" in move.cost
    night = ("Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday", "Monday")[
        3 + operation.parts[0]["full_days"]
    ]
    assert move.reason.endswith(f"half of this one can be made on {night}.")
    assert apply_all(problem.plan, [move.operation]) == plan_of(problem, found.candidate)


def test_splits_are_off_unless_somebody_asks():
    problem = problem_of(read_plan(of_one_job()))
    assert "split" not in {kind for (_, kind, _), _ in moves_of(problem, problem.plan.jobs[0])}


# --- the bound ----------------------------------------------------------------------------------


def _on_the_other_host(machine):
    machine["host"] = "h9"
    machine["disks"][0]["datastore"] = "store9"


def of_two_ways(gib):
    """One job of two machines, each on a host of its own and read by the proxy there alone."""
    file = of_one_job(gib)
    host = file["hosts"][0]
    file["hosts"] = [host, {**host, "id": "h9"}]
    file["machines"] = file["machines"][:2]
    file["datastores"].append({"id": "store9", "hosts": ["h9"]})
    file["machines"][1]["disks"] = [{**file["machines"][0]["disks"][0]}]
    _on_the_other_host(file["machines"][1])
    file["jobs"][0].update(machines={"ids": ["m0", "m1"]}, transport="hot_add")
    proxy = {**file["proxies"][0], "mib_per_s": 60}
    file["proxies"] = [proxy, {**proxy, "id": "p9", "on_host": "h9"}]
    return file


def one_night_free_each(file):
    """Others that fill one way in all nights but Friday, the other in all but Saturday."""
    machine, job = file["machines"][0], file["jobs"][0]
    for i, (host, free) in enumerate((("h1", "FR"), ("h9", "SA"))):
        name = f"fill{i}"
        days = ",".join(d for d in ("MO", "TU", "WE", "TH", "FR", "SA", "SU") if d != free)
        full = {**job["schedules"][0], "kind": "full", "rrule": f"FREQ=WEEKLY;BYDAY={days}"}
        file["machines"].append({**machine, "id": name, "disks": [{**machine["disks"][0]}]})
        if host == "h9":
            _on_the_other_host(file["machines"][-1])
        file["jobs"].append({
            **job, "id": name, "name": name, "machines": {"ids": [name]}, "schedules": [full],
            "chain": "full_only",
        })  # fmt: skip
    at = "2026-10-30T20:00:00Z"
    file["state"] = {"points": [
        {
            "job": job["id"], "machine": name, "repository": job["repository"], "kind": "full",
            "at": at, "exists_from": at, "stored_bytes": 1.0,
        }
        for name in ("m0", "m1")
    ]}  # fmt: skip
    return file


@pytest.mark.parametrize("kinds", [SPLITS, frozenset(["spread"]), ALL_KINDS - {"window_end"}])
def test_the_bound_holds_where_machines_that_go_different_ways_have_their_fulls_apart(kinds):
    file = one_night_free_each(of_two_ways(1_850))
    problem = problem_of(read_plan(file), kinds=kinds, jobs=frozenset(["j0"]))
    limits = bound(problem)
    evaluator = Evaluator(problem)
    single = [Candidate.of({a: o}) for a, o in moves_of(problem, problem.plan.jobs[0])]
    sound = [c for c in (Candidate(), *single) if is_sound(problem, c) is not None]
    scores = [evaluator.score(plan_of(problem, candidate)) for candidate in sound]
    assert len(scores) > 1
    for score in scores:
        assert limits.lost <= score.lost + 1e-6
        if score.lost <= limits.lost and score.skipped == 0:
            assert limits.over_s <= score.over_s + 1.0
    if "split" in kinds:
        assert min(score.over_s for score in scores) == 0, "one of them on each free night"


def test_friday_is_where_the_whole_job_had_its_full():
    """What the tests above take for granted of the small plan."""
    problem = problem_of(read_plan(of_one_job()))
    assert problem.nights[4].start == FRIDAY_NOON
