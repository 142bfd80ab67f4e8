"""Balance: objective, moves, search, and what is told of a proposal."""

from dataclasses import replace
from functools import cache
from itertools import pairwise, product

import pytest
from balances import (
    ALL_KINDS,
    crowded,
    crowded_file,
    larkmoor_problem,
    problem_of,
    random_candidates,
)
from plans import small_file

from gambrel.core.balance import search as search_module
from gambrel.core.balance.bound import bound
from gambrel.core.balance.explaining import explain, tell
from gambrel.core.balance.house_rules import Apart
from gambrel.core.balance.move_costs import cost_of
from gambrel.core.balance.moves import (
    Candidate,
    candidate_of,
    is_sound,
    moves_of,
    plan_of,
    shift_minutes,
    unround,
)
from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.problem import COSTLY_KINDS, MOVE_KINDS, Problem, job_weight
from gambrel.core.balance.search import Searching
from gambrel.core.balance.search_driver import balance, evaluated_here, joined_score, parts
from gambrel.core.balance.split_jobs import jobs_from
from gambrel.core.balance.stopping import AnyOf, Asked, MostEvaluations, MostSeconds
from gambrel.core.edits.item_edits import ChangeItem, OperationError
from gambrel.core.edits.operations import MoveFull, MoveStart, SetProxies
from gambrel.core.loads.load_series import load_names, load_table
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.simulate import simulate


def searched(problem, most=400, **more):
    return balance(problem, MostEvaluations(most), **more)


# --- the objective ------------------------------------------------------------------------------


def test_a_score_says_what_the_forecast_says():
    problem = larkmoor_problem()
    score = Evaluator(problem).score(problem.plan)
    forecast = simulate(problem.plan, problem.from_, problem.to)
    weight = {job.id: job_weight(job) for job in problem.plan.jobs}
    undone = ("missed", "cut off", "no path")
    lost = sum(weight[r.job] * r.outcomes[o] for r in forecast.runs for o in undone)
    assert score.lost == lost
    assert score.over_s == pytest.approx(sum(weight[r.job] * r.over_s for r in forecast.runs))
    assert score.skipped == sum(weight[r.job] for r in forecast.runs if r.outcome == "skipped")
    assert score.lost == 16
    assert not score.fits


def test_strain_is_the_load_above_what_is_comfortable():
    problem = larkmoor_problem()
    forecast = simulate(problem.plan, problem.from_, problem.to)
    worst = 0.0
    for series in load_table(
        forecast, load_names(problem.plan), problem.from_, problem.to + 86_400
    ):
        if series.capacity is None or len(series.capacity) > 1:
            continue
        limit = series.capacity[0][1]
        steps = [*series.total, (problem.to + 86_400, 0.0)]
        worst = max(
            worst,
            sum(
                max(0.0, min(1.0, value / limit) - problem.comfort) * (until - at)
                for (at, value), (until, _) in pairwise(steps)
            ),
        )
    assert Evaluator(problem).score(problem.plan).strain_s == pytest.approx(worst, rel=1e-6)


def test_what_is_worse_has_a_higher_grade_whatever_comes_after():
    better = Evaluator(larkmoor_problem()).score(larkmoor_problem().plan)
    assert replace(better, lost=better.lost + 1, over_s=0, strain_s=0).grades > better.grades
    assert replace(better, strain_s=better.strain_s + 30 * 60).grades > better.grades
    assert replace(better, strain_s=better.strain_s + 1e-9).grades == better.grades


def test_a_plan_without_runs_has_nothing_wrong():
    file = small_file()
    file["jobs"][0]["schedules"] = []
    problem = problem_of(read_plan(file))
    assert Evaluator(problem).score(problem.plan).fits
    assert searched(problem).candidate == Candidate()


# --- moves --------------------------------------------------------------------------------------


def test_every_move_gives_a_plan_that_runs_as_often():
    problem = replace(larkmoor_problem(), kinds=ALL_KINDS)
    fulls = {}
    for run in simulate(problem.plan, problem.from_, problem.to).runs:
        fulls[run.job] = fulls.get(run.job, 0) + (run.kind == "full")
    for candidate in random_candidates(problem, 12, seed=3):
        plan = plan_of(problem, candidate)
        runs = simulate(plan, problem.from_, problem.to).runs
        for job in problem.plan.jobs:
            # Where a job is split, each half runs as often as the whole.
            for own in jobs_from(problem.plan, plan, job.id):
                found = sum(run.kind == "full" for run in runs if run.job == own.id)
                assert found == fulls.get(job.id, 0)


def test_a_start_onto_another_of_the_same_job_is_not_proposed():
    problem = larkmoor_problem()
    # The daily increment of this job starts at 20:30, as its full would.
    onto = MoveStart("mail", 1, "20:00")
    assert is_sound(problem, Candidate.of({("mail", "start", 1): onto})) is None
    apart = MoveStart("mail", 1, "22:00")
    assert is_sound(problem, Candidate.of({("mail", "start", 1): apart})) is not None


def test_locked_jobs_and_jobs_out_of_scope_have_no_moves():
    plan = larkmoor_problem().plan
    jobs = tuple(replace(j, locked=True) if j.id == "office-desks" else j for j in plan.jobs)
    problem = problem_of(replace(plan, jobs=jobs), jobs=frozenset(["office-desks", "mail"]))
    assert [job.id for job in problem.movable] == ["mail"]
    found = searched(problem, 60)
    assert {aspect[0] for aspect, _ in found.candidate.choices} <= {"mail"}


def test_only_the_kinds_that_are_asked_for_are_moved():
    problem = replace(larkmoor_problem(), kinds=frozenset(["proxies"]), most_moves=3)
    found = searched(problem, 30)
    assert {aspect[1] for aspect, _ in found.candidate.choices} <= {"proxies"}
    assert len(found.candidate) <= 3


def test_what_costs_protection_says_so():
    problem = replace(larkmoor_problem(), kinds=ALL_KINDS)
    told = {kind: set() for kind in MOVE_KINDS}
    for job in problem.plan.jobs:
        for aspect, operation in moves_of(problem, job):
            told[aspect[1]].add(cost_of(problem.plan, aspect, operation))
    for kind, costs in told.items():
        if kind in COSTLY_KINDS:
            assert costs and all(cost.endswith(".") for cost in costs), kind
        else:
            assert costs <= {""}, kind
    assert "Each point is 2 h longer without its copy in hill-disk." in told["copies"]
    assert not COSTLY_KINDS & Problem.kinds


@pytest.mark.parametrize(
    ("change", "kind", "to"),
    [
        ({"retention": {"points": 10}}, "chain", "forever"),
        ({"verify": "boot", "boot_min": 600}, "verify", "checksum"),
        ({"at_window_end": "stop"}, "window_end", "finish"),
    ],
)
def test_a_week_that_only_less_protection_makes_better(change, kind, to):
    """One machine, whose full takes longer than its window or is verified for longer."""
    file = crowded_file(1, 300 if kind == "verify" else 2500)
    file["jobs"][0] |= change
    asked = problem_of(read_plan(file), kinds=frozenset([kind]))
    found = searched(asked, 20)
    assert [aspect for aspect, _ in found.candidate.choices] == [("j0", kind, 0)]
    assert found.score == Evaluator(asked).score(plan_of(asked, found.candidate))
    assert found.score.grades < Evaluator(asked).score(asked.plan).grades
    told = explain(
        asked, found.candidate, lambda all_: [tell(asked, c) for c in all_], bound(asked),
        tell(asked, Candidate()), tell(asked, found.candidate),
    )  # fmt: skip
    (move,) = told.moves
    assert to in next(iter(move.operation.changes.values()))
    assert move.cost and move.brings


def test_fulls_alone_need_not_be_verified():
    for change, costs in (
        ({"verify": "checksum"}, ["Its fulls are not verified any more", "no longer verified"]),
        ({"verify": "checksum", "verify_fulls": False}, ["no longer verified"]),
        ({"verify": "checksum", "chain": "full_only"}, ["no longer verified"]),
        ({"verify": "none"}, []),
    ):
        file = crowded_file(1)
        file["jobs"][0] |= change
        problem = problem_of(read_plan(file), kinds=frozenset(["verify"]))
        moves = list(moves_of(problem, problem.plan.jobs[0]))
        told = [cost_of(problem.plan, *move) for move in moves]
        assert [part in cost for part, cost in zip(costs, told, strict=True)] == [True] * len(costs)
        for aspect, operation in moves:
            assert is_sound(problem, Candidate.of({aspect: operation}))


def test_copies_only_become_later():
    file = crowded_file(1)
    file["repositories"].append({"id": "r2", "site": "quay"})
    for delay, expected in ((0, [120, 240, 480]), (240, [480]), (500, [])):
        file["jobs"][0]["copies"] = [{"repository": "r2", "delay_min": delay}]
        problem = problem_of(read_plan(file), kinds=frozenset(["copies"]))
        moves = [operation for _, operation in moves_of(problem, problem.plan.jobs[0])]
        plans = [operation.apply(problem.plan) for operation in moves]
        assert [plan.jobs[0].copies[0].delay_min for plan in plans] == expected


def test_candidates_are_known_by_their_choices():
    change = ChangeItem("jobs", "mail", {"max_streams": 2})
    one = Candidate().with_choice(("mail", "streams", 0), change)
    other = candidate_of(larkmoor_problem(), [ChangeItem("jobs", "mail", {"max_streams": 2})])
    assert one == other
    assert hash(one) == hash(other)
    assert one.with_choice(("mail", "streams", 0), None) == Candidate()


def test_shifts_and_odd_times_are_counted():
    plan = larkmoor_problem().plan
    moved = Candidate.of(
        {
            ("mail", "start", 1): MoveStart("mail", 1, "22:15"),
            ("mail", "night", 1): MoveFull("mail", 1, -2),
            ("mail", "proxies", 0): SetProxies("mail", None),
        }
    )
    assert shift_minutes(plan, moved) == 75 + 2 * 1440
    assert unround(moved) == 2


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"jobs": frozenset(["nobody"])}, "jobs"),
        ({"kinds": frozenset(["magic"])}, "kinds"),
        ({"most_moves": 0}, "most_moves"),
        ({"comfort": 0.0}, "comfort"),
        ({"to": 0.0}, "to"),
    ],
)
def test_questions_that_cannot_be_are_refused_by_name(change, field):
    with pytest.raises(OperationError) as refused:
        replace(larkmoor_problem(), **change)
    assert refused.value.field == field


# --- the search ---------------------------------------------------------------------------------


@cache
def fitting():
    """The first proposal for the sample that fits."""
    fits = []
    stop = AnyOf((Asked(lambda: bool(fits)), MostEvaluations(400)))
    return balance(
        larkmoor_problem(), stop, progress=lambda now, _: fits.extend([1] * now.score.fits)
    )


def test_the_sample_is_made_to_fit():
    problem = larkmoor_problem()
    found = fitting()
    assert found.score.fits
    assert 0 < len(found.candidate) <= 15
    forecast = simulate(plan_of(problem, found.candidate), problem.from_, problem.to)
    assert {night_outcome(forecast, night).verdict for night in problem.nights} == {"fits"}


def test_the_same_seed_gives_the_same_result():
    problem = crowded(4)
    one, other = searched(problem, 150, seed=5), searched(problem, 150, seed=5)
    assert (one.candidate, one.score, one.history) == (other.candidate, other.score, other.history)


def test_the_best_only_becomes_better():
    history = [score.grades for _, score in fitting().history]
    assert history == sorted(history, reverse=True)


@pytest.mark.parametrize("kind", ["finish", "stop"])
def test_a_small_case_is_solved_as_by_trying_everything(kind):
    problem = crowded(3, gib=800, kind=kind, kinds=frozenset(["night"]))
    evaluator = Evaluator(problem)
    choices = [
        [None, *(m for m in moves_of(problem, job) if m[0][1] == "night")]
        for job in problem.movable
    ]
    best = None
    search = Searching(problem)
    for combination in product(*choices):
        candidate = Candidate.of(dict(filter(None, combination)))
        plan = is_sound(problem, candidate)
        if plan is not None:
            key = search.key(candidate, evaluator.score(plan))
            best = key if best is None else min(best, key)
    found = searched(problem, 2000)
    assert search.key(found.candidate, found.score) == best


def test_two_moves_at_once_find_what_no_single_one_does(monkeypatch):
    """Two fulls that change places pass through a week that is worse."""
    problem = crowded(4, gib=1100, kinds=frozenset(["night"]))
    both = searched(problem, 2000, shakes=0)
    monkeypatch.setattr(search_module, "PAIRS_TO_PATIENCE", 0)
    singly = searched(problem, 2000, shakes=0)
    assert both.score.lost < singly.score.lost
    assert len(both.candidate) >= 2


def test_shaken_plans_lie_farther_away_the_longer_nothing_is_found():
    search = Searching(crowded(6, kinds=frozenset(["night"])))

    def moved(wider):
        return [len(search._shake(Candidate(), wider)) for _ in range(60)]

    assert sum(moved(3)) > sum(moved(0)) + 60


def test_it_ends_when_it_is_told_to():
    asked = iter([False, False, True])
    found = balance(larkmoor_problem(), AnyOf((Asked(lambda: next(asked)), MostEvaluations(10**6))))
    assert found.ended == "stopped"
    now = [0.0]
    clock = MostSeconds(5, clock=lambda: now[0])
    assert not clock.reached(10)
    now[0] = 5.0
    assert clock.reached(10)


def test_it_goes_on_from_where_another_ended():
    problem = larkmoor_problem()
    first = fitting()
    again = searched(problem, 4, start=first.candidate)
    assert again.score.grades <= first.score.grades


def twice(file):
    """The plan beside itself: two halves that share nothing."""
    double = {key: list(value) if isinstance(value, list) else value for key, value in file.items()}

    def renamed(value):
        if isinstance(value, dict):
            return {k: renamed(v) for k, v in value.items()}
        if isinstance(value, list):
            return [renamed(v) for v in value]
        return f"{value}-b" if value in names else value

    lists = [key for key, value in file.items() if isinstance(value, list)]
    names = {item["id"] for key in lists for item in file[key]}
    for key in lists:
        double[key] = [*file[key], *renamed(file[key])]
    return double


def test_parts_that_share_nothing_are_searched_apart():
    plan = read_plan(twice(crowded_file(3)))
    problem = problem_of(plan)
    assert [len(jobs) for jobs in parts(plan)] == [3, 3]
    whole = Evaluator(problem).score(plan)
    alone = [problem.restricted(jobs) for jobs in parts(plan)]
    assert joined_score(Evaluator(p).score(p.plan) for p in alone) == whole
    found = searched(problem, 300)
    assert Evaluator(problem).score(plan_of(problem, found.candidate)) == found.score
    assert {aspect[0][-2:] == "-b" for aspect, _ in found.candidate.choices} == {True, False}


def test_parts_that_a_rule_ties_are_searched_together():
    plan = read_plan(twice(crowded_file(3)))
    assert [len(jobs) for jobs in parts(plan, [("j0", "j0-b")])] == [6]
    rules = (Apart(("j1", "j1-b")), Apart(("j2", "j2-b")))
    problem = problem_of(plan, rules=rules)
    free, bound = searched(problem_of(plan), 300), searched(problem, 300)
    assert problem.breaches.adds_none(plan_of(problem, bound.candidate))
    assert free.score.grades <= bound.score.grades


def test_the_sample_is_one_part_and_its_restriction_keeps_its_points():
    problem = larkmoor_problem()
    assert len(parts(problem.plan)) == 1
    some = problem.restricted(["mail", "gates"])
    held = [problem.plan.jobs[j].id for j in problem.points.points["job"].tolist()]
    assert len(some.points.points) == held.count("mail") + held.count("gates") > 0
    assert isinstance(some, Problem)


# --- what is told -------------------------------------------------------------------------------


def test_each_move_is_told_with_its_reason_and_what_it_alone_brings():
    problem = larkmoor_problem()
    found = fitting()
    told = explain(
        problem, found.candidate, lambda all_: [tell(problem, c) for c in all_], bound(problem),
        tell(problem, Candidate()), tell(problem, found.candidate),
    )  # fmt: skip
    assert told.after.score == found.score
    assert len(told.moves) == len(found.candidate)
    for move in told.moves:
        assert move.reason.endswith(".")
        assert move.without.grades >= told.after.score.grades
    gains = [move.without.grades for move in told.moves]
    assert gains == sorted(gains, reverse=True)
    assert any("Friday" in line for move in told.moves for line in move.brings)
    assert [night.verdict for night in told.before.nights][4] == "over"


def test_here_and_elsewhere_score_alike():
    problem = crowded(3)
    asked = [(c, True) for c in random_candidates(problem, 4, seed=1)]
    assert [score for score, _ in evaluated_here()(problem, asked)] == [
        Evaluator(problem).score(plan_of(problem, c)) for c, _ in asked
    ]
