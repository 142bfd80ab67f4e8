"""The ladder of plans, and plans that hold: each number is that of a plain simulation."""

from dataclasses import replace
from datetime import date
from functools import cache, partial

import pytest
from balances import crowded, crowded_file, larkmoor_problem, problem_of, random_candidates
from busy_plans import busy_plan

from gambrel.core.balance.bound import bound
from gambrel.core.balance.explaining import EXPLAINED_AT_ONCE, explained, tell
from gambrel.core.balance.ladder import SIZES, chosen, fits, ladder, reaches
from gambrel.core.balance.moves import Candidate, is_sound, moves_of, plan_of
from gambrel.core.balance.objective import Evaluator
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.split_jobs import points_after
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.nights.nights import night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.what_if import LinkAt, LoseHost, LoseProxy, single_losses
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.simulation.engine.walk import settled_walk
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.varying import drawn

PARTS = ("lost", "rpo_missed", "rpo_s", "over_s", "skipped", "margin_s")


@cache
def larkmoor_ladder():
    problem = larkmoor_problem()
    outcome = balance(problem, MostEvaluations(150), seed=1)
    before, rungs = ladder(
        problem, chosen(problem, outcome), partial(told_all, problem), bound(problem)
    )
    return problem, outcome, before, rungs


def told_all(problem, candidates):
    return [tell(problem, candidate) for candidate in candidates]


# --- rungs --------------------------------------------------------------------------------------


def test_each_rung_is_better_than_the_one_below_and_takes_more_moves():
    _, outcome, before, rungs = larkmoor_ladder()
    grades = [told.score.grades for told in (before, *(rung.told for rung in rungs))]
    assert grades == sorted(grades, reverse=True) and len(set(grades)) == len(grades)
    sizes = [len(rung.candidate) for rung in rungs]
    assert sizes == sorted(set(sizes)) and sizes[0] == 1
    assert len(rungs[-1].candidate) == len(outcome.candidate)
    assert not rungs[0].told.score.fits and rungs[-1].told.score.fits
    # The first plan that fits has a rung, whatever its number.
    first = min(len(c) for c in (*outcome.fewer, outcome.candidate) if score(c).fits)
    assert outcome.first_fit == first and first in sizes


def score(candidate):
    problem = larkmoor_problem()
    return Evaluator(problem).score(plan_of(problem, candidate))


def test_a_rung_reaches_what_a_plain_simulation_of_it_reaches():
    problem, _, _, rungs = larkmoor_ladder()
    for rung in rungs:
        moves = sorted(rung.proposal.moves, key=lambda move: move.turn)
        plan = problem.plan
        for move in moves:
            plan = move.operation.apply(plan)
        forecast = simulate(plan, problem.from_, problem.to)
        verdicts = [night_outcome(forecast, night).verdict for night in problem.nights]
        assert [night.verdict for night in rung.told.nights] == verdicts
        assert fits(rung.told) == ("over" not in verdicts)
        assert (rung.reaches == "fits") == (set(verdicts) == {"fits"})


def test_what_a_rung_buys_is_said_night_by_night():
    *_, rungs = larkmoor_ladder()
    assert all(rung.buys for rung in rungs)
    assert any(line.startswith("Friday") for line in rungs[0].buys)


def test_what_moves_bring_is_worked_out_until_it_is_enough():
    problem, _, _, rungs = larkmoor_ladder()
    rung = max(rungs, key=lambda each: len(each.candidate))
    assert all(move.without is None and not move.brings for move in rung.proposal.moves)
    asked: list[int] = []

    def told(candidates):
        asked.append(len(candidates))
        return told_all(problem, candidates)

    whole = explained(problem, rung.candidate, rung.proposal, told)
    assert sum(asked) == len(whole.moves) == len(rung.candidate)
    for move in whole.moves:
        aspect, operation = rung.candidate.choices[move.turn]
        assert move.operation == operation
        alone = tell(problem, rung.candidate.with_choice(aspect, None))
        assert move.without == alone.score
    part = explained(
        problem, rung.candidate, rung.proposal, told, lambda: sum(asked) > len(whole.moves)
    )
    known = [move for move in part.moves if move.without is not None]
    assert len(known) == EXPLAINED_AT_ONCE < len(part.moves)
    assert list(part.moves[: len(known)]) == known
    assert [move.turn for move in part.moves[len(known) :]] == list(
        range(EXPLAINED_AT_ONCE, len(part.moves))
    )


def test_one_move_is_the_best_of_all_single_moves_on_a_small_plan():
    problem = crowded(3)
    outcome = balance(problem, MostEvaluations(500), seed=2)
    _, rungs = ladder(problem, chosen(problem, outcome), partial(told_all, problem), bound(problem))
    evaluator = Evaluator(problem)
    singles = [
        Candidate.of({aspect: operation})
        for job in problem.movable
        for aspect, operation in moves_of(problem, job)
    ]
    sound = [single for single in singles if is_sound(problem, single) is not None]
    best = min(evaluator.score(plan_of(problem, single)).grades for single in sound)
    if len(rungs[0].candidate) == 1:
        assert rungs[0].told.score.grades == best
    else:
        assert best >= evaluator.score(problem.plan).grades


def test_what_does_not_get_better_has_no_rung():
    problem = larkmoor_problem()
    candidates = sorted(random_candidates(problem, 6, seed=3), key=len)
    before, rungs = ladder(problem, candidates, partial(told_all, problem), bound(problem))
    best = before.score.grades
    for candidate in candidates:
        now = tell(problem, candidate).score.grades
        assert (candidate in [rung.candidate for rung in rungs]) == (now < best)
        best = min(best, now)


def test_sizes_grow_and_the_worst_is_told_in_a_few_words():
    assert list(SIZES) == sorted(set(SIZES))
    _, _, before, rungs = larkmoor_ladder()
    assert reaches(before) == "Friday: 16 machines not done"
    assert reaches(rungs[-1].told) in ("fits", *(f"{n} tight" for n in ("Monday", "Friday")))


def test_of_several_weeks_the_worst_night_is_told_with_its_date():
    problem = problem_of(busy_plan(3), weeks=3)
    for candidate in (Candidate(), *random_candidates(problem, 2, seed=1)):
        told = tell(problem, candidate)
        worst = min(
            told.nights, key=lambda n: (("over", "tight", "fits").index(n.verdict), -n.lost)
        )
        said = reaches(told)
        day = date.fromisoformat(worst.date)
        assert said == "fits" or said.startswith(f"{day:%A} {day.day} ")


def test_monthly_fulls_are_dealt_over_the_weeks_of_the_month():
    file = crowded_file(4, 900.0)
    for job in file["jobs"]:
        full = next(s for s in job["schedules"] if s["kind"] == "full")
        full["rrule"] = "FREQ=MONTHLY;BYDAY=1FR"
    problem = replace(problem_of(read_plan(file), weeks=4), kinds=frozenset({"night"}))
    before = tell(problem, Candidate())
    assert {night.date for night in before.nights if len(night.fulls) > 1} == {"2026-11-06"}
    outcome = balance(problem, MostEvaluations(120), seed=1)
    after = tell(problem, outcome.candidate)
    assert max(len(night.fulls) for night in after.nights) == 1
    # None has left the month, and none was lost on the way.
    assert sum(len(night.fulls) for night in after.nights) == 4
    assert after.score.grades < before.score.grades


def test_holidays_and_closed_nights_in_between_are_met_as_they_fall():
    file = crowded_file(4, 900.0)
    file["calendars"] = [{"id": "holidays", "dates": ["2026-11-13"]}]
    file["windows"][0]["exceptions"] = [{"date": "2026-11-21", "open": []}]
    for number, job in enumerate(file["jobs"]):
        skipped = "next_day" if number % 2 else "drop"
        full, *others = job["schedules"]
        job["schedules"] = [{**full, "skip": ["holidays"], "when_skipped": skipped}, *others]
    problem = replace(
        problem_of(read_plan(file), weeks=3), kinds=frozenset({"night", "start", "spread"})
    )
    before = tell(problem, Candidate())
    fulls = {night.date: len(night.fulls) for night in before.nights}
    assert [fulls[f"2026-11-{day:02d}"] for day in (6, 13, 14, 20)] == [4, 0, 2, 4]
    outcome = balance(problem, MostEvaluations(150), seed=2)
    after = tell(problem, outcome.candidate)
    assert after.score.grades < before.score.grades
    # A full that would fall on the holiday or away from it is neither lost nor won by moving it.
    assert sum(len(n.fulls) for n in after.nights) == sum(fulls.values())
    plan = plan_of(problem, outcome.candidate)
    forecast = simulate(plan, problem.from_, problem.to)
    told = {night.date: night.verdict for night in after.nights}
    for night in problem.nights:
        assert told[night.date.isoformat()] == night_outcome(forecast, night).verdict
    # Who waits before closed doors is late, whatever the search says of it.
    closed = next(night for night in problem.nights if night.date == date(2026, 11, 21))
    begun = [run for run in forecast.runs if closed.start <= run.occurrence < closed.end]
    starts = [machine.start for run in begun for machine in run.machines]
    opens = closed.end - 6 * 3600
    assert all(start is None or start >= opens for start in starts)


# --- plans that hold ------------------------------------------------------------------------------


def plain_score(problem, plan, layout=None, points=None):
    """The parts of the objective of one simulation, without any cache."""
    alone = replace(problem, losses=(), draws=0, first=None)
    walk = settled_walk(
        layout or layout_of(plan),
        plan,
        problem.begins or problem.from_,
        problem.to,
        points_after(problem.plan, plan, points or problem.points),
    )
    return Evaluator(alone).score_of(walk)


@pytest.mark.parametrize("seed", range(8))
def test_a_plan_that_shall_hold_is_scored_as_the_sum_of_plain_simulations(seed):
    plan = busy_plan(seed)
    problem = problem_of(plan)
    losses = (*single_losses(plan, ("proxies", "links"), 4), *single_losses(plan, ("hosts",), 2))
    asked = replace(problem, losses=losses, draws=3, drawn_by=seed)
    evaluator = Evaluator(asked)
    # One evaluator for all, in both orders: what it keeps of one must not tell of another.
    candidates = [Candidate(), *random_candidates(problem, 3, seed)]
    for candidate in (*candidates, *reversed(candidates)):
        moved = plan_of(problem, candidate)
        expected = [plain_score(problem, moved)]
        for loss in losses:
            after = problem.with_loss(loss)
            expected.append(plain_score(after, loss.apply(moved), points=after.points))
        for number in range(3):
            layout, varied = drawn(layout_of(moved), moved, asked.spread, seed, number)
            expected.append(plain_score(problem, varied, layout))
        weights = [1.0] * (1 + len(losses)) + [1 / 3] * 3
        found = evaluator.score(moved)
        for part in PARTS:
            total = sum(w * getattr(s, part) for w, s in zip(weights, expected, strict=True))
            assert getattr(found, part) == pytest.approx(total, abs=1e-6), part
        assert found.strain_s == expected[0].strain_s
        assert evaluator.trace(moved)[0] == found


def test_single_losses_are_each_proxy_the_slowest_link_and_the_hosts_that_run_most():
    plan = larkmoor_problem().plan
    proxies = single_losses(plan, ("proxies",), 40)
    assert proxies == tuple(LoseProxy(proxy.id) for proxy in plan.proxies)
    (link,) = single_losses(plan, ("links",), 40)
    slowest = min(each.mbit_per_s for each in plan.links)
    assert isinstance(link, LinkAt) and link.part == 0.5
    assert next(each for each in plan.links if each.id == link.link).mbit_per_s == slowest
    hosts = single_losses(plan, ("hosts",), 3)
    assert len(hosts) == 3 and all(isinstance(each, LoseHost) for each in hosts)
    runs = [sum(m.host == each.host for m in plan.machines) for each in hosts]
    others = {h.id for h in plan.hosts} - {each.host for each in hosts}
    assert min(runs) >= max(sum(m.host == h for m in plan.machines) for h in others)
    assert single_losses(plan, (), 40) == ()


@pytest.mark.long
def test_a_search_for_a_plan_that_stands_a_loss_finds_one_that_does():
    problem = crowded(3, kind="stop")
    lost = problem.plan.proxies[0].id
    asked = replace(problem, losses=(LoseProxy(lost),))
    outcome = balance(asked, MostEvaluations(500), seed=1)
    whole = Evaluator(asked).score(plan_of(problem, outcome.candidate))
    assert whole == outcome.score
    assert whole.grades <= Evaluator(asked).score(problem.plan).grades


@pytest.mark.parametrize(("change", "field"), [({"draws": 65}, "draws"), ({"draws": -1}, "draws")])
def test_what_cannot_be_asked_to_hold_is_refused_by_name(change, field):
    with pytest.raises(OperationError) as refused:
        replace(larkmoor_problem(), **change)
    assert refused.value.field == field
