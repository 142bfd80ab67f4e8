"""Lower bounds: no simulated plan is better."""

from dataclasses import replace

import pytest
from balances import (
    ALL_KINDS,
    crowded,
    crowded_file,
    larkmoor_problem,
    problem_of,
    random_candidates,
)
from generated import plans
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import small_file

from gambrel import demo
from gambrel.core.balance.bound import MOST_TOLD, PRESSES, Relaxation, bound
from gambrel.core.balance.explaining import bound_words
from gambrel.core.balance.linear_program import Program
from gambrel.core.balance.moves import Candidate, moves_of, plan_of
from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import USUAL_KINDS
from gambrel.core.loads.load_series import load_table
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate

SLACK = 1e-6
SETS_OF_KINDS = [
    USUAL_KINDS, USUAL_KINDS | {"copies", "verify"}, ALL_KINDS, ALL_KINDS - {"window_end"},
]  # fmt: skip


def held(problem, candidates):
    """That no candidate of a problem is better than its bound."""
    limits = bound(problem)
    evaluator = Evaluator(problem)
    for candidate in candidates:
        score = evaluator.score(plan_of(problem, candidate))
        assert limits.lost <= score.lost + SLACK, candidate
        assert limits.rpo_missed <= score.rpo_missed + SLACK, candidate
        if score.lost <= limits.lost + SLACK and score.skipped == 0:
            assert limits.over_s <= score.over_s * (1 + SLACK) + 1.0, candidate
        if score.lost == 0 and score.skipped == 0 and score.over_s == 0:
            peaks_hold(problem, candidate, limits)
    return limits


def peaks_hold(problem, candidate, limits):
    plan = plan_of(problem, candidate)
    begins, points = problem.beginning(plan)
    forecast = simulate(plan, begins, problem.to, points=points)
    names = [need.resource for need in limits.peaks]
    for need, series in zip(
        limits.peaks, load_table(forecast, names, problem.from_, problem.to + 86_400), strict=True
    ):
        capacity = max(value for _, value in series.capacity)
        assert need.part <= series.peak / capacity * (1 + 1e-4) + 1e-6, (need, candidate)


@settings(max_examples=60, deadline=None)
@given(plans(), st.integers(0, 999), st.sampled_from(SETS_OF_KINDS))
def test_no_generated_plan_is_better(plan, seed, kinds):
    problem = problem_of(plan, kinds=kinds)
    held(problem, random_candidates(problem, 4, seed))


@pytest.mark.parametrize("kind", ["finish", "stop", "run_on"])
@pytest.mark.parametrize("gib", [300, 900, 2500])
def test_no_crowded_plan_is_better(kind, gib):
    problem = crowded(3, gib, kind)
    held(problem, random_candidates(problem, 12, seed=7))


def with_two_repositories(gib, kind="finish"):
    """Crowded, and either of two slow repositories may be written to."""
    file = crowded_file(3, gib, kind)
    file["repositories"][0]["ingest_mib_per_s"] = 25
    file["repositories"].append({**file["repositories"][0], "id": "cellar"})
    return read_plan(file)


@pytest.mark.parametrize("kinds", [("repository",), ("synthetic",), ("chain",), tuple(ALL_KINDS)])
@pytest.mark.parametrize("gib", [300, 900, 2500])
def test_no_plan_that_writes_elsewhere_or_reads_no_fulls_is_better(kinds, gib):
    kinds = frozenset(kinds) - {"window_end"}
    problem = problem_of(with_two_repositories(gib), kinds=kinds)
    limits = held(problem, random_candidates(problem, 12, seed=5))
    if kinds == {"repository"} and gib == 2500:
        assert limits.over_s > 0, "two slow repositories are not enough either"
    assert limits.worst > 0 or limits.over_s > 0, "something is known"


def test_a_server_that_may_write_elsewhere_goes_the_way_to_there():
    """Its own repository takes too little in; the other has no limit."""
    file = crowded_file(3, 900)
    file["repositories"].append({**file["repositories"][0], "id": "cellar"})
    file["repositories"][0]["ingest_mib_per_s"] = 2
    for machine in file["machines"]:
        del machine["host"]
        machine.update(kind="server", site="quay", disks=[
            {key: disk[key] for key in ("id", "used_gib", "provisioned_gib")}
            for disk in machine["disks"]
        ])  # fmt: skip
    problem = problem_of(read_plan(file), kinds=frozenset(["repository"]))
    moved = Candidate()
    for job in problem.movable:
        for move in moves_of(problem, job):
            moved = moved.with_choice(*move)
    assert len(moved) == 3
    limits = held(problem, [Candidate(), moved])
    assert limits.over_s == 0 and limits.lost == 0
    assert bound(replace(problem, kinds=frozenset())).over_s > 0


def test_a_second_repository_halves_what_one_needs():
    plan = with_two_repositories(300)
    one, either = (
        bound(problem_of(plan, kinds=frozenset(kinds))).worst
        for kinds in (["night"], ["night", "repository"])
    )
    assert either == pytest.approx(one / 2, rel=0.35)
    assert either < one


def test_no_plan_of_the_sample_is_better():
    held(larkmoor_problem(), random_candidates(larkmoor_problem(), 10, seed=11))


def test_what_cannot_fit_is_known_to():
    limits = bound(crowded(3, 2500, "finish"))
    assert limits.over_s > 0
    assert limits.lost > 0 or limits.over_s > 0
    assert bound(crowded(3, 2500, "stop")).lost > 0
    assert "gets everything done" in bound_words(
        crowded(3, 2500, "stop"), bound(crowded(3, 2500, "stop"))
    )


def test_what_fits_is_told_how_full_it_must_be():
    problem = crowded(3, 900)
    limits = bound(problem)
    assert limits.lost <= 0 and limits.over_s <= 0
    proxy = next(need for need in limits.peaks if need.resource == "proxy:p1")
    assert 0.05 < proxy.part < 1
    assert "proxy p1 below" in bound_words(problem, limits)


def test_a_machine_that_alone_takes_too_long_is_named():
    file = small_file()
    file["machines"][0]["disks"][0].update(used_gib=20_000, provisioned_gib=20_000)
    problem = problem_of(read_plan(file))
    limits = bound(problem)
    assert limits.longest == "nightly"
    assert "Nightly alone" in bound_words(problem, limits)


def test_fewer_moves_bound_more():
    """What may not be moved can only make the bound higher."""
    free = crowded(3, 1400)
    fixed = replace(free, jobs=frozenset())
    assert bound(fixed).over_s >= bound(free).over_s - SLACK
    assert bound(fixed).over_s > 0


def test_without_enough_runs_an_rpo_is_missed_whatever_is_moved():
    file = small_file()
    file["machines"][0]["rpo_hours"] = 4
    # Nothing is known before the first point exists.
    assert bound(problem_of(read_plan(file))).rpo_missed == 0.0
    point = {
        "job": "nightly", "machine": "gate", "repository": "vault", "kind": "full",
        "at": "2026-11-01T20:00:00Z", "exists_from": "2026-11-01T21:00:00Z", "stored_bytes": 1e9,
    }  # fmt: skip
    file["state"] = {"points": [point]}
    problem = problem_of(read_plan(file))
    assert bound(problem).rpo_missed == 4.0
    assert night_outcome(
        simulate(problem.plan, problem.from_, problem.to), problem.nights[2]
    ).verdict == "tight"  # fmt: skip


def needs_one_by_one(problem):
    """What each resource needs, with a program for each of them."""
    relaxed = Relaxation(problem)
    program = Program(relaxed, peak=True)
    others = max(1.0, program.solve().value)
    needs = {
        relaxed.topology.resource_names[r]: program.solve_for(r, others).value
        for r in program.resources
        if r in relaxed.told
    }
    return sorted((need for need in needs.values() if need > PRESSES), reverse=True)


@settings(max_examples=40, deadline=None)
@given(plans(), st.sampled_from(SETS_OF_KINDS))
def test_the_needs_that_are_told_are_the_largest_there_are(plan, kinds):
    problem = problem_of(plan, kinds=kinds)
    told = [need.part for need in bound(problem).peaks]
    assert told == pytest.approx(needs_one_by_one(problem)[:MOST_TOLD], abs=1e-4)


def test_of_many_proxies_none_is_told_that_another_can_stand_in_for():
    plan = demo.large(400, 4)
    for repository in plan["repositories"]:
        repository["ingest_mib_per_s"] /= 20
    problem = problem_of(read_plan(plan))
    told = bound(problem).peaks
    assert [need.part for need in told] == pytest.approx(
        needs_one_by_one(problem)[:MOST_TOLD], abs=1e-4
    )
    assert told
    assert not any(need.resource.startswith("proxy:") for need in told)
