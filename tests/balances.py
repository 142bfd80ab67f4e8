"""Problems of balance for tests: small ones, generated ones, the sample's."""

from __future__ import annotations

import random
from functools import cache
from typing import Any

from estates import larkmoor_plan
from plans import EVERY_DAY, FRIDAY_NOON, small_file

from gambrel.core.balance.moves import Candidate, is_sound, moves_of
from gambrel.core.balance.problem import MOVE_KINDS, Problem
from gambrel.core.nights.nights import night_at, planner_zone, week_of
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.reading import read_plan
from gambrel.core.simulation.known_points import snapshot_of_state

MONDAY_NOON = FRIDAY_NOON - 4 * 86_400


def problem_of(plan: Plan, weeks: int = 1, **more: Any) -> Problem:
    """A plan from the Monday of the sample's first week on; all jobs may be moved."""
    zone = planner_zone(plan)
    first = night_at(MONDAY_NOON + 60, zone)
    last = week_of(first.date, zone)[-1]
    return Problem(
        plan=plan,
        from_=first.start,
        to=last.end + (weeks - 1) * 7 * 86_400,
        zone=zone,
        points=snapshot_of_state(plan),
        jobs=more.pop("jobs", frozenset(job.id for job in plan.jobs)),
        **more,
    )


@cache
def larkmoor_problem() -> Problem:
    return problem_of(larkmoor_plan())


def crowded_file(jobs: int = 3, gib: float = 900.0, kind: str = "finish") -> dict[str, Any]:
    """Jobs of one machine each, all with a full on Friday at 21:00 by one narrow proxy."""
    file = small_file()
    machine, job = file["machines"][0], file["jobs"][0]
    file["proxies"] = [{"id": "p1", "site": "quay", "slots": 2, "mib_per_s": 60, "on_host": "h1"}]
    file["machines"], file["jobs"] = [], []
    for i in range(jobs):
        size = gib * (1 + 0.15 * i)
        disk = {**machine["disks"][0], "used_gib": size, "provisioned_gib": size}
        file["machines"].append({**machine, "id": f"m{i}", "disks": [disk]})
        days = ",".join(day[:2].upper() for day in EVERY_DAY if day != "fri")
        schedules = [
            job["schedules"][0],
            {**job["schedules"][1], "rrule": f"FREQ=WEEKLY;BYDAY={days}"},
        ]
        file["jobs"].append(
            {
                **job, "id": f"j{i}", "name": f"Job {i}", "machines": {"ids": [f"m{i}"]},
                "schedules": schedules, "priority": 1 + i % 5, "at_window_end": kind,
            }
        )  # fmt: skip
    return file


def crowded(jobs: int = 3, gib: float = 900.0, kind: str = "finish", **more: Any) -> Problem:
    """The problem of `crowded_file`."""
    return problem_of(read_plan(crowded_file(jobs, gib, kind)), **more)


def random_candidates(problem: Problem, count: int, seed: int) -> list[Candidate]:
    """Sound candidates, drawn by chance."""
    drawn = random.Random(seed)
    moves = [move for job in problem.movable for move in moves_of(problem, job)]
    found = [Candidate()]
    for _ in range(20 * count):
        if len(found) > count or not moves:
            break
        candidate = Candidate()
        for _ in range(drawn.randint(1, 6)):
            candidate = candidate.with_choice(*drawn.choice(moves))
        if is_sound(problem, candidate) is not None:
            found.append(candidate)
    return found


ALL_KINDS = frozenset(MOVE_KINDS)
