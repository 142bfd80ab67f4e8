"""What Balance says of a plan is what a plain simulation of that plan says."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from random import Random

import pytest
from balances import problem_of, random_candidates
from busy_plans import busy_plan
from truths import seeds

from gambrel.core.balance.bound import bound
from gambrel.core.balance.explaining import PlanTold, explain, tell
from gambrel.core.balance.moves import Candidate, plan_of
from gambrel.core.balance.objective import Evaluator, Score
from gambrel.core.balance.problem import (
    MOVE_KINDS,
    USUAL_KINDS,
    Problem,
    job_weight,
    machine_weights,
)
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.edits.operations import apply_all
from gambrel.core.loads.load_series import load_table
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation import reference
from gambrel.core.simulation.exposure import exposures
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR
from gambrel.work.computations import problem_of as asked_problem
from gambrel.work.forecaster import Forecaster

BEYOND_S = 40 * 86_400.0


def plain_score(problem: Problem, plan: Plan, forecast=None) -> Score:
    """The score of a plan, added up run by run from the reference (strain left out)."""
    if forecast is None:
        forecast = reference.simulate(plan, problem.from_, problem.to + 9 * 86_400.0)
    runs = [r for r in forecast.runs if problem.from_ <= r.occurrence < problem.to]
    weight = {job.id: job_weight(job) for job in plan.jobs}
    size = {run.job: len(run.machines) for run in forecast.runs if run.machines}
    lost = over = margin = skipped = 0.0
    for run in runs:
        lost += weight[run.job] * sum(n for o, n in run.outcomes.items() if o != "done")
        over += weight[run.job] * run.over_s
        if run.outcome == "skipped":
            skipped += weight[run.job] * size.get(run.job, 0)
        if run.outcome in ("done", "incomplete") and run.window_end is not None:
            late = run.ended - (run.window_end - problem.margin_s)
            margin += weight[run.job] * min(max(late, 0.0), problem.margin_s)
    counted = machine_weights(plan)
    rpo_missed = rpo_s = 0.0
    for machine, exposure in zip(
        plan.machines, exposures(forecast, problem.from_, problem.to), strict=True
    ):
        if machine.rpo_hours is None or machine.id not in counted:
            continue
        never = problem.to - problem.from_ + HOUR
        worst = never if exposure.worst_s is None else exposure.worst_s
        past = worst - machine.rpo_hours * HOUR
        if past > 1e-6:
            rpo_missed += counted[machine.id]
            rpo_s += counted[machine.id] * past
    return Score(lost, rpo_missed, rpo_s, over, skipped, margin, 0.0)


def same_score(one: Score, other: Score) -> None:
    __tracebackhide__ = True
    for name in ("lost", "rpo_missed", "rpo_s", "over_s", "skipped", "margin_s"):
        mine, theirs = getattr(one, name), getattr(other, name)
        assert mine == pytest.approx(theirs, rel=1e-6, abs=0.01), name


def some_problem(seed: int, **more) -> Problem:
    random = Random(seed)
    kinds = random.choice((USUAL_KINDS, frozenset(MOVE_KINDS), frozenset({"start", "night"})))
    return problem_of(busy_plan(seed, slow=seed % 3 == 0), kinds=kinds, **more)


def test_the_score_of_a_candidate_is_that_of_its_plan(request):
    for seed in seeds(request, 9):
        problem = some_problem(seed)
        evaluator = Evaluator(problem)
        for candidate in random_candidates(problem, 2, seed):
            plan = plan_of(problem, candidate)
            same_score(evaluator.score(plan), plain_score(problem, plan))


def test_the_bound_is_below_every_plan(request):
    for seed in seeds(request, 12):
        problem = some_problem(seed)
        limits, evaluator = bound(problem), Evaluator(problem)
        for candidate in random_candidates(problem, 6, seed):
            plan = plan_of(problem, candidate)
            score = evaluator.score(plan)
            assert score.rpo_missed >= limits.rpo_missed - 1e-6, (seed, candidate)
            if score.skipped:
                continue
            assert score.lost >= limits.lost - 1e-6, (seed, candidate)
            if score.lost > limits.lost + 1e-6:
                continue
            assert score.over_s >= limits.over_s - 1.0, (seed, candidate)
            if score.lost or score.over_s:
                continue
            forecast = simulate(plan, problem.from_, problem.to + BEYOND_S)
            for need in limits.peaks:
                series = load_table(forecast, [need.resource], problem.from_, problem.to)[0]
                if series.capacity is not None:
                    most = max(value for _, value in series.capacity)
                    assert series.peak >= need.part * most * 0.999, (seed, need)


def test_a_search_proposes_what_it_scored(request):
    for seed in seeds(request, 7):
        most = Random(seed).choice((1, 2, 4, 15))
        problem = some_problem(seed, most_moves=most)
        outcome = balance(problem, MostEvaluations(80), seed=seed, shakes=2)
        assert len(outcome.candidate) <= most
        plan = plan_of(problem, outcome.candidate)
        evaluator = Evaluator(problem)
        same_score(outcome.score, evaluator.score(plan))
        same_score(outcome.score, plain_score(problem, plan))
        assert outcome.score.grades <= evaluator.score(problem.plan).grades
        for candidate in outcome.fewer:
            assert len(candidate) < max(1, len(outcome.candidate))


def _told_all(problem: Problem, candidates: Sequence[Candidate]) -> list[PlanTold]:
    return [tell(problem, candidate) for candidate in candidates]


def _told_all(problem: Problem, candidates: Sequence[Candidate]) -> list[PlanTold]:
    return [tell(problem, candidate) for candidate in candidates]


def test_what_goes_into_a_draft_is_what_was_told(request):
    for seed in seeds(request, 6):
        random = Random(seed)
        base_plan = busy_plan(seed, slow=seed % 2 == 0)
        first = problem_of(base_plan).nights[0]
        base = Forecaster(base_plan, first)
        week = random.choice((0, 1, 2))
        day = first.date.toordinal() + 7 * week
        asked = {"day": first.date.fromordinal(day).isoformat(), "kinds": None}
        problem = asked_problem(base, asked)
        candidate = random.choice(random_candidates(problem, 4, seed))
        told_all = partial(_told_all, problem)
        as_told = told_all([Candidate(), candidate])
        proposal = explain(problem, candidate, told_all, bound(problem), *as_told)
        moves = sorted(proposal.moves, key=lambda move: move.turn)
        drafted = apply_all(base_plan, [move.operation for move in moves])
        shown = Forecaster(drafted, first, base)
        whole = simulate(drafted, first.start, problem.to + BEYOND_S)
        same_score(proposal.after.score, plain_score(problem, drafted, whole))
        for told, night in zip(proposal.after.nights, problem.nights, strict=True):
            outcome = night_outcome(shown.night(night), night)
            assert outcome == night_outcome(whole, night)
            assert (told.verdict, told.last_end, told.over_s, told.lost) == (
                outcome.verdict, outcome.last_end, outcome.over_s, outcome.missed,
            )  # fmt: skip
        # What a move alone brings is told of the proposal without it.
        for move in moves[:2]:
            rest = Candidate.of({a: o for a, o in candidate.choices if o is not move.operation})
            plan = plan_of(problem, rest)
            plain = simulate(plan, first.start, problem.to + BEYOND_S)
            same_score(move.without, plain_score(problem, plan, plain))
