"""How close the search of a better week comes to the best there is, and how long it takes.

Small cases are generated in four shapes and solved by trying every combination of the moves that
are allowed; a case is small enough for that, and for nothing else. Compared are the parts of the
objective, in their order.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from itertools import islice, product
from random import Random
from typing import Any

from sizes import CASES_OF_A_SHAPE, EVALUATIONS, SEARCH_S, TINY, large, sample

from gambrel.core.balance.bound import bound
from gambrel.core.balance.moves import Candidate, is_sound, moves_of, plan_of
from gambrel.core.balance.objective import Evaluator, Score
from gambrel.core.balance.problem import USUAL_KINDS, MoveKind, Problem
from gambrel.core.balance.search import Searching
from gambrel.core.balance.search_driver import Evaluate, balance
from gambrel.core.balance.stopping import MostEvaluations, MostSeconds
from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import MoveFull, MoveStart
from gambrel.core.nights.nights import night_of, week_of
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.work import worker_tasks
from gambrel.work.executors import Workers
from gambrel.work.forecaster import Forecaster, origin_night

TODAY = date(2026, 11, 2)
DAYS = ("MO", "TU", "WE", "TH", "FR", "SA", "SU")
EVERY_DAY = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
SHAPES: dict[str, tuple[int, frozenset[MoveKind]]] = {
    "fulls to other nights, one proxy": (3, frozenset(["night"])),
    "other starts in a short window": (3, frozenset(["start"])),
    "other proxies": (3, frozenset(["proxies"])),
    "nights and proxies together": (2, frozenset(["night", "proxies"])),
}


# --- cases --------------------------------------------------------------------------------------


def case(shape: str, number: int, jobs: int | None = None) -> Problem:
    """A generated problem of a shape, of the usual number of jobs or another."""
    usual, kinds = SHAPES[shape]
    jobs = usual if jobs is None else jobs
    random = Random(f"{shape} {number}")
    short = "start" in kinds
    proxies = 1 if kinds == {"night"} or short else 3
    closes = "23:30" if short else "06:00"
    hours = 3.5 if short else 10.0
    rate = random.choice([60, 90, 140])
    plan: dict[str, Any] = {
        "format": "gambrel-plan/1",
        "sites": [{"id": "quay", "time_zone": "Europe/Dublin"}],
        "hosts": [{"id": "h1", "site": "quay"}],
        "datastores": [{"id": "d1", "hosts": ["h1"]}],
        "proxies": [
            {"id": f"p{i}", "site": "quay", "slots": 2, "mib_per_s": rate,
             "direct_datastores": ["d1"]}
            for i in range(proxies)
        ],
        "repositories": [
            {"id": "r1", "site": "quay", "ingest_mib_per_s": random.choice([None, 2 * rate])}
        ],
        "windows": [
            {"id": "night", "time_zone": "Europe/Dublin",
             "open": [{"days": EVERY_DAY, "from": "20:00", "to": closes}]}
        ],
        "machines": [],
        "jobs": [],
    }  # fmt: skip
    # Together the fulls take somewhat less or more than a night has.
    whole = rate * 3600 * hours / 1024 * random.uniform(0.7, 1.5)
    parts = [random.uniform(0.6, 1.6) for _ in range(2 * jobs)]
    for m, part in enumerate(parts):
        used = round(whole * part / sum(parts), 1)
        plan["machines"].append(
            {"id": f"m{m}", "kind": "vm", "host": "h1", "folder": f"f{m // 2}",
             "daily_change": round(random.uniform(0.01, 0.06), 3),
             "rpo_hours": random.choice([None, 26, 30]),
             "disks": [{"id": "0", "datastore": "d1", "used_gib": used,
                        "provisioned_gib": used}]}
        )  # fmt: skip
    others = ",".join(day for day in DAYS if day != "FR")
    for j in range(jobs):
        plan["jobs"].append(
            {"id": f"j{j}", "priority": random.randint(1, 5), "repository": "r1",
             "machines": {"rules": [[{"field": "folder", "op": "is", "value": f"f{j}"}]]},
             "window": "night", "at_window_end": random.choice(["finish", "stop"]),
             "proxies": ["p0"] if proxies > 1 and random.random() < 0.8 else None,
             "schedules": [
                 {"kind": kind, "rrule": f"FREQ=WEEKLY;BYDAY={days}",
                  "start": f"2026-01-05T{20 + (0 if short else random.randint(0, 2))}:00",
                  "time_zone": "Europe/Dublin"}
                 for kind, days in (("incremental", others), ("full", "FR"))
             ]}
        )  # fmt: skip
    if short:
        # Only fulls, so that every combination of starts can be tried.
        for job in plan["jobs"]:
            job["schedules"] = job["schedules"][1:]
    return problem_of(read_plan(plan), kinds)


def problem_of(plan: Plan, kinds: frozenset[MoveKind] | None = None, most: int = 15) -> Problem:
    """The second week of a plan, when every machine has its first full."""
    origin = origin_night(plan, TODAY)
    forecaster = Forecaster(plan, origin)
    week = week_of(origin.date + timedelta(days=7), origin.zone)
    begins, points = forecaster.start_of(week[0])
    return Problem(
        plan, week[0].start, week[-1].end, origin.zone, points,
        frozenset(job.id for job in plan.jobs), kinds=USUAL_KINDS if kinds is None else kinds,
        most_moves=most, begins=begins,
    )  # fmt: skip


# --- exact --------------------------------------------------------------------------------------


AT_ONCE = 4000
"""How many combinations are handed to the workers together."""


def each_combination(problem: Problem) -> Iterator[Candidate]:
    """Every combination of one choice or none for each aspect, one after another."""
    by_aspect: dict[Any, list[Any]] = {}
    for job in problem.movable:
        for aspect, operation in moves_of(problem, job):
            by_aspect.setdefault(aspect, [None]).append((aspect, operation))
    for combination in product(*by_aspect.values()):
        candidate = Candidate.of(dict(filter(None, combination)))
        if is_sound(problem, candidate) is not None:
            yield candidate


def best_of_all(evaluate: Evaluate, problem: Problem) -> tuple[Candidate, Score, int]:
    """The best of all combinations, its score, and how many there are."""
    judge = Searching(problem)
    every, tried = each_combination(problem), 0
    best: tuple[Any, Candidate, Score] | None = None
    while some := list(islice(every, AT_ONCE)):
        tried += len(some)
        scores = [told[0] for told in evaluate(problem, [(each, False) for each in some])]
        for candidate, score in zip(some, scores, strict=True):
            key = judge.key(candidate, score)
            if best is None or key < best[0]:
                best = key, candidate, score
    if best is None:
        raise ValueError("the problem has no combination, not even that of no moves")
    return best[1], best[2], tried


@dataclass
class Compared:
    """One case: what the search found beside the best."""

    combinations: int
    reached: bool
    to_the_letter: bool
    apart: float
    evaluations: int
    search_s: float
    exact_s: float
    bound_holds: bool
    hand: dict[str, int]


def apart(one: Score, other: Score) -> float:
    """By which part of itself the first grade that differs is larger; 0 where none is."""
    for mine, best in zip(one.grades, other.grades, strict=True):
        if mine != best:
            return (mine - best) / max(best, 1.0)
    return 0.0


def compare(workers: Workers, problem: Problem) -> Compared:
    evaluate = worker_tasks.evaluate_on(workers)
    begin = time.perf_counter()
    best, best_score, combinations = best_of_all(evaluate, problem)
    exact_s = time.perf_counter() - begin
    judge = Searching(problem)
    begin = time.perf_counter()
    found = balance(problem, MostEvaluations(EVALUATIONS))
    search_s = time.perf_counter() - begin
    limits = bound(problem)
    return Compared(
        combinations=combinations,
        reached=found.score.grades == best_score.grades,
        to_the_letter=judge.key(found.candidate, found.score) == judge.key(best, best_score),
        apart=apart(found.score, best_score),
        evaluations=found.evaluations,
        search_s=search_s,
        exact_s=exact_s,
        bound_holds=limits.lost <= best_score.lost + 1e-6,
        hand={
            name: _sign(found.score.grades, score.grades)
            for name, score in by_hand(problem).items()
        },
    )


def _sign(mine: tuple[float, ...], other: tuple[float, ...]) -> int:
    return (mine < other) - (mine > other)


# --- what a planner would do by hand ------------------------------------------------------------


HAND: dict[str, MoveKind] = {
    "everything at the window's start": "start",
    "every other full a night later": "night",
    "fulls dealt round the week by count": "night",
}
"""Usual ways, and the kind of move that each is made of."""


def by_hand(problem: Problem) -> dict[str, Score]:
    """Scores of the usual ways, as far as their kind of move is allowed."""
    evaluator = Evaluator(problem)
    plans = (
        _at_opening(problem),
        _moved(problem, lambda i: i % 2),
        _moved(problem, lambda i: i % 7),
    )
    return {
        name: evaluator.score(plan)
        for (name, kind), plan in zip(HAND.items(), plans, strict=True)
        if kind in problem.kinds
    }


def _fulls(problem: Problem) -> list[tuple[str, int]]:
    return [
        (job.id, position)
        for job in problem.movable
        for position, schedule in enumerate(job.schedules)
        if schedule.kind == "full"
    ]


def _moved(problem: Problem, days: Any) -> Plan:
    plan = problem.plan
    for i, (job, position) in enumerate(_fulls(problem)):
        by = days(i)
        by = by - 7 if by > 3 else by
        try:
            plan = MoveFull(job, position, by).apply(plan) if by else plan
        except OperationError:
            continue
    return plan


def _at_opening(problem: Problem) -> Plan:
    plan = problem.plan
    for job in problem.movable:
        window = plan.window_by_id.get(job.window or "")
        if window is None:
            continue
        opens = f"{window.open[0].from_time:%H:%M}"
        for position, schedule in enumerate(job.schedules):
            # Fulls only: two schedules of a job that start together are one.
            if schedule.kind == "full":
                try:
                    plan = MoveStart(job.id, position, opens).apply(plan)
                except OperationError:
                    continue
    return plan


# --- the sample and the large plan --------------------------------------------------------------


def crowded_large() -> dict[str, Any]:
    """`large` with all fulls on Friday at 21:00 and a third of its proxies' throughput."""
    plan = large()
    others = ",".join(day for day in DAYS if day != "FR")
    for job in plan["jobs"]:
        job["schedules"][0]["rrule"] = "FREQ=WEEKLY;BYDAY=FR"
        job["schedules"][1]["rrule"] = f"FREQ=WEEKLY;BYDAY={others}"
        for schedule in job["schedules"]:
            schedule["start"] = "2026-01-05T21:00"
    for proxy in plan["proxies"]:
        proxy["mib_per_s"] = 420
    for repository in plan["repositories"]:
        repository["ingest_mib_per_s"] /= 2.5
    return plan


def until_it_fits(workers: Workers, problem: Problem, most_s: float) -> tuple[str, float | None]:
    """Search until a time is over; a line of the table, and after how long it first fitted."""
    evaluate = worker_tasks.evaluate_on(workers)
    fitted: list[float] = []
    begin = time.perf_counter()

    def progress(now: Any, _: Candidate) -> None:
        if now.score.fits and not fitted:
            fitted.append(time.perf_counter() - begin)

    found = balance(problem, MostSeconds(most_s), evaluate=evaluate, progress=progress, seed=1)
    first = f"{fitted[0]:.1f} s" if fitted else "not in this time"
    line = f"{first} | {len(found.candidate)} | {found.evaluations}"
    assert Evaluator(problem).score(plan_of(problem, found.candidate)).grades == found.score.grades
    return line, fitted[0] if fitted else None


def sample_problem() -> Problem:
    plan = read_plan(sample())
    origin = origin_night(plan, TODAY)
    last = night_of(origin.date + timedelta(days=6), origin.zone)
    points = snapshot_of_state(plan)
    jobs = frozenset(job.id for job in plan.jobs)
    return Problem(plan, origin.start, last.end, origin.zone, points, jobs)


# --- the page -----------------------------------------------------------------------------------


def better_weeks() -> list[str]:
    """The section of the page."""
    workers = Workers()
    try:
        workers.all(worker_tasks.warm, [()] * workers.width)
        return [*_quality(workers), "", *_plans(workers)]
    finally:
        workers.stop()


def _quality(workers: Workers) -> list[str]:
    lines = [
        "| cases, solved by trying everything | cases | combinations | best value reached | "
        "with as few and short moves | most apart | simulations | time against trying all |",
        "|---|---|---|---|---|---|---|---|",
    ]
    everything: list[Compared] = []
    for shape in list(SHAPES)[-1:] if TINY else SHAPES:
        found = [compare(workers, case(shape, n)) for n in range(CASES_OF_A_SHAPE)]
        everything += found
        lines.append(_row(shape, found))
    lines.append(_row("all", everything))
    lines += [
        "",
        "| beside what is done by hand, where the moves allow it | better | the same | worse |",
        "|---|---|---|---|",
    ]
    for name in HAND:
        signs = [each.hand[name] for each in everything if name in each.hand]
        lines.append(f"| {name} | {signs.count(1)} | {signs.count(0)} | {signs.count(-1)} |")
    held = sum(each.bound_holds for each in everything)
    lines += ["", f"The bound is at or below the best value in {held} of {len(everything)} cases."]
    return lines


def _row(name: str, found: Sequence[Compared]) -> str:
    count = len(found)
    reached = sum(each.reached for each in found)
    letter = sum(each.to_the_letter for each in found)
    sizes = [each.combinations for each in found]
    worst = max(each.apart for each in found)
    simulated = sum(each.evaluations for each in found) / count
    ratio = sum(each.search_s for each in found) / sum(each.exact_s for each in found)
    return (
        f"| {name} | {count} | {min(sizes)} to {max(sizes)} | {reached} | {letter} "
        f"| {worst * 100:.1f} % | {simulated:.0f} | {ratio:.2f} |"
    )


def _plans(workers: Workers) -> list[str]:
    lines = [
        "| from over to fits, two cores | first fits after | moves at the end | weeks simulated |",
        "|---|---|---|---|",
    ]
    whole = sample_problem()
    line, _ = until_it_fits(workers, whole, SEARCH_S[0])
    lines.append(f"| `larkmoor`, at most 15 moves, 10 s | {line} |")
    hand = by_hand(whole)
    crowded = problem_of(read_plan(crowded_large()), most=100)
    line, _ = until_it_fits(workers, crowded, SEARCH_S[1])
    lines.append(
        f"| `large`, all fulls on Friday, narrower proxies, at most 100 moves, 150 s | {line} |"
    )
    begin = time.perf_counter()
    limits = bound(whole)
    took = time.perf_counter() - begin
    needed = [f"{need.resource} is in use at {need.part * 100:.0f} %" for need in limits.peaks[:1]]
    lines += [
        "",
        f"The bound of `larkmoor` takes {took:.1f} s and says that "
        f"{needed[0] if needed else 'nothing is much in use'} at least. By hand, `larkmoor` comes "
        "out so:",
        "",
        "| by hand | not done | past windows, weighted | fits |",
        "|---|---|---|---|",
    ]
    for name, score in hand.items():
        said = "yes" if score.fits else "no"
        lines.append(f"| {name} | {score.lost:.0f} | {score.over_s / 60:.0f} min | {said} |")
    return lines
