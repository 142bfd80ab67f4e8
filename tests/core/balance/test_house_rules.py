"""Rules of the house: what no proposal does, whatever it would gain."""

from dataclasses import replace
from datetime import time
from random import Random
from zoneinfo import ZoneInfo

import pytest
from balances import crowded_file, problem_of
from generated import plans
from hypothesis import given, settings
from hypothesis import strategies as st

from gambrel.core.balance.house_rules import Apart, Last, NotBefore, house_rule_from
from gambrel.core.balance.moves import Candidate, is_sound, moves_of, plan_of
from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import MoveFull, MoveStart
from gambrel.core.plan.reading import read_plan
from gambrel.core.schedules.calendars import job_occurrences, local_of

CROWD = read_plan(crowded_file(3, 300))


def asked(*rules, plan=CROWD, **more):
    return problem_of(plan, rules=rules, **more)


def choice(operation, kind="start"):
    return Candidate(((("j0", kind, operation.schedule), operation),))


def test_a_start_before_the_hour_is_no_proposal():
    early, late = MoveStart("j0", 0, "20:30", 0), MoveStart("j0", 0, "02:00", 1)
    assert is_sound(asked(), choice(early)) is not None
    for rule in (
        NotBefore(time(21), ("j0",)),
        NotBefore(time(21), tag="books"),
    ):
        tagged = replace(
            CROWD,
            machines=(replace(CROWD.machines[0], tags=("books",)), *CROWD.machines[1:]),
        )
        problem = asked(rule, plan=tagged)
        assert is_sound(problem, choice(early)) is None
        # After midnight is later in the night, not earlier in the day.
        assert is_sound(problem, choice(late)) is not None
        assert is_sound(problem, Candidate(((("j1", "start", 0), replace(early, job="j1")),)))


def test_fulls_that_shall_be_apart_are_not_put_into_one_night():
    moved = read_plan(crowded_file(3))
    apart = plan_of(problem_of(moved), choice(MoveFull("j0", 0, 1), "night"))
    rule = Apart(("j0", "j1"))
    problem = asked(rule, plan=apart)
    back = choice(MoveFull("j0", 0, -1), "night")
    assert is_sound(asked(plan=apart), back) is not None
    assert is_sound(problem, back) is None
    # Where they are in one night already, that night is told and another is no better.
    together = asked(rule)
    assert {b.jobs for _, b in together.breaches.at_first} == {("j0", "j1")}
    assert is_sound(together, Candidate()) is not None


def test_nothing_is_due_after_the_job_that_is_last():
    last = plan_of(problem_of(CROWD), choice(MoveStart("j0", 0, "23:00", 0)))
    last = plan_of(problem_of(last), choice(MoveStart("j0", 1, "23:00", 0)))
    problem = asked(Last("j0"), plan=last)
    assert problem.breaches.at_first == frozenset()
    for at, sound in (("22:30", True), ("23:30", False)):
        later = Candidate(((("j1", "start", 1), MoveStart("j1", 1, at, 0)),))
        assert (is_sound(problem, later) is not None) == sound


def holds(plan, problem, rule):
    """The rules once more, night by night, from nothing but the occurrences of the jobs."""
    broken = set()
    for number, night in enumerate(problem.nights):
        due = {
            job.id: job_occurrences(job, plan.calendar_by_id, night.start, night.end)
            for job in plan.jobs
        }
        if isinstance(rule, NotBefore):
            for job in rule.jobs:
                for at, _, _ in due[job]:
                    local = local_of(at, ZoneInfo(problem.zone)).time()
                    if "12:00" <= f"{local:%H:%M}" < f"{rule.time:%H:%M}":
                        broken.add((number, job))
        elif isinstance(rule, Apart):
            full = [j for j in rule.jobs if any(kind == "full" for _, kind, _ in due[j])]
            broken |= {(number, a, b) for a in full for b in full if a < b}
        else:
            mine = [at for at, _, _ in due[rule.job]]
            for job in plan.jobs:
                if mine and job.id != rule.job and any(at > min(mine) for at, _, _ in due[job.id]):
                    broken.add((number, job.id))
    return broken


@settings(max_examples=20)
@given(plans(), st.integers(0, 10_000))
def test_no_move_of_a_generated_plan_breaks_a_rule_anew(plan, number):
    chance = Random(number)
    plan = replace(plan, jobs=tuple(replace(job, spread_fulls=1) for job in plan.jobs))
    names = [job.id for job in plan.jobs]
    rules = [NotBefore(time(chance.randrange(13, 24)), (chance.choice(names),))]
    rules.append(Last(chance.choice(names)))
    if len(names) > 1:
        rules.append(Apart(tuple(chance.sample(names, 2))))
    kinds = frozenset({"start", "night", "streams"})
    free = problem_of(plan, kinds=kinds)
    moves = [move for job in free.movable for move in moves_of(free, job)]
    for rule in rules:
        bound = problem_of(plan, kinds=kinds, rules=(rule,))
        before = holds(plan, bound, rule)
        for aspect, operation in chance.sample(moves, min(25, len(moves))):
            candidate = Candidate(((aspect, operation),))
            after = is_sound(free, candidate)
            if after is None:
                continue
            assert (is_sound(bound, candidate) is not None) == (
                holds(after, bound, rule) <= before
            ), (rule, operation)


def test_a_search_keeps_the_rules_and_says_less_is_gained():
    free = balance(asked(), MostEvaluations(400))
    assert free.score.fits
    rules = (
        Apart(("j0", "j1")),
        *(NotBefore(time(21), (job.id,)) for job in CROWD.jobs),
    )
    bound = balance(asked(*rules), MostEvaluations(400))
    plan = plan_of(asked(), bound.candidate)
    for rule in rules:
        assert holds(plan, asked(), rule) <= holds(CROWD, asked(), rule)
    assert free.score.grades <= bound.score.grades


@pytest.mark.parametrize(
    ("value", "field"),
    [
        ({"rule": "never"}, "rule"),
        ({"rule": "not before", "jobs": ["j0"]}, "time"),
        ({"rule": "not before", "jobs": ["j0"], "time": "25:00"}, "time"),
        ({"rule": "apart", "jobs": "j0"}, "jobs"),
        ({"rule": "last", "job": "j0", "when": 1}, "when"),
    ],
)
def test_a_rule_that_cannot_be_is_refused_by_field(value, field):
    with pytest.raises(OperationError) as refused:
        house_rule_from(value)
    assert refused.value.field == field


@pytest.mark.parametrize(
    ("rule", "field"),
    [
        (NotBefore(time(20)), "jobs"),
        (NotBefore(time(20), tag="ghost"), "tag"),
        (Apart(("j0", "j0")), "jobs"),
        (Last("ghost"), "jobs"),
    ],
)
def test_a_rule_about_what_is_not_there_is_refused(rule, field):
    with pytest.raises(OperationError) as refused:
        rule.check(CROWD)
    assert refused.value.field == field


def test_rules_are_told_in_words():
    names = [job.name for job in CROWD.jobs]
    assert NotBefore(time(20), ("j0",), "books").describe(CROWD) == (
        f"{names[0]} and what is tagged books: never before 20:00"
    )
    assert Apart(("j0", "j1")).describe(CROWD) == (
        f"Fulls of {names[0]} and {names[1]}: never in one night"
    )
    assert Last("j2").describe(CROWD) == f"{names[2]}: the last to begin"
