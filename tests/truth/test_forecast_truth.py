"""What forecasts by week and night say is what one simulation says that nothing interrupts."""

from __future__ import annotations

from datetime import timedelta
from random import Random

import pytest
from busy_plans import FIRST, busy_plan
from truths import seeds

from gambrel.core.edits.item_edits import ChangeItem, OperationError, RemoveItem
from gambrel.core.edits.operations import MoveFull, MoveStart, Operation, SetProxies
from gambrel.core.edits.point_owners import CarryPoints
from gambrel.core.edits.splitting import SplitJob
from gambrel.core.loads.load_series import load_names, load_table
from gambrel.core.nights.nights import Night, night_of, night_outcome, planner_zone, runs_of
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.simulation.forecast import Forecast, Run
from gambrel.core.simulation.simulate import simulate
from gambrel.work.forecaster import Forecaster

WEEKS = 8
BEYOND_S = 40 * 86_400.0


def nights_of(plan: Plan, weeks: int = WEEKS) -> list[Night]:
    return [night_of(FIRST + timedelta(days=i), planner_zone(plan)) for i in range(7 * weeks)]


def uninterrupted(plan: Plan, weeks: int = WEEKS) -> Forecast:
    nights = nights_of(plan, weeks)
    return simulate(plan, nights[0].start, nights[-1].end + BEYOND_S)


def plain(run: Run) -> tuple[object, ...]:
    """A run as far as a screen tells of it."""
    machines = tuple(
        (m.machine, m.outcome, m.kind, m.queued, m.start, m.moved, m.ended, m.source_bytes,
         m.stored_bytes, tuple(sorted(m.squeeze_s.items())))
        for m in run.machines
    )  # fmt: skip
    return (run.job, run.occurrence, run.kind, run.outcome, run.ended, run.window_end, machines)


def same_night(told: Forecast, whole: Forecast, night: Night) -> None:
    __tracebackhide__ = True
    assert night_outcome(told, night) == night_outcome(whole, night)
    mine, theirs = runs_of(told, night), runs_of(whole, night)
    assert [plain(run) for run in mine] == [plain(run) for run in theirs]
    copies = [
        sorted(c for c in forecast.copies if night.holds(c.occurrence) and c.ended is not None)
        for forecast in (told, whole)
    ]
    assert copies[0] == copies[1]


def same_loads(told: Forecast, whole: Forecast, night: Night) -> None:
    __tracebackhide__ = True
    names = load_names(told.plan)
    for mine, theirs in zip(
        load_table(told, names, night.start, night.end),
        load_table(whole, names, night.start, night.end),
        strict=True,
    ):
        assert mine.mean(night.start, night.end) == pytest.approx(
            theirs.mean(night.start, night.end), rel=1e-9, abs=1e-9
        )
        assert mine.pressed_s == pytest.approx(theirs.pressed_s, abs=1e-3)


def _edit_of_points(plan: Plan, job: Job, random: Random) -> Operation:
    """An edit after which points are another job's, elsewhere, or gone."""
    other = next(r.id for r in plan.repositories if r.id != job.repository)
    match random.randrange(5):
        case 0:
            return RemoveItem("jobs", job.id)
        case 1:
            return ChangeItem(
                "jobs", job.id, {"repository": other, "copies": [], "destinations": []}
            )
        case 2:
            return CarryPoints(job.id, other)
        case 3:
            rule = [{"field": "name", "op": "is", "value": (*job.machines.ids, "none")[0]}]
            apart = [{"repository": other, "rules": [rule]}]
            return ChangeItem("jobs", job.id, {"copies": [], "destinations": apart})
        case _:
            parts = ({"id": f"part-{len(plan.jobs)}", "machines": job.machines.ids[:1]},)
            return SplitJob(job.id, parts)


def some_edits(plan: Plan, random: Random) -> list[Operation]:
    """Operations that apply to a plan, as a planner would string them together."""
    found: list[Operation] = []
    for _ in range(40):
        job = random.choice(plan.jobs)
        made: Operation
        match random.randrange(7):
            case 0 | 1:
                at = f"{random.randrange(24):02d}:{random.choice((0, 30)):02d}"
                made = MoveStart(job.id, random.randrange(2), at)
            case 2 | 3:
                made = MoveFull(job.id, 0, random.choice((-3, -1, 1, 2)))
            case 4:
                made = SetProxies(job.id, random.choice((None, ("p1",), ("p0", "p1"))))
            case 5:
                made = _edit_of_points(plan, job, random)
            case _:
                value = random.choice(({"priority": 5}, {"max_streams": 1}, {"window": None}))
                made = ChangeItem("jobs", job.id, value)
        try:
            plan = made.apply(plan)
        except OperationError:
            continue
        found.append(made)
        if len(found) == 2:
            break
    return found


def test_weeks_and_nights_are_those_of_one_long_simulation(request):
    for seed in seeds(request, 12):
        plan = busy_plan(seed, slow=seed % 2 == 0)
        whole, nights = uninterrupted(plan), nights_of(plan)
        by_week = Forecaster(plan, nights[0])
        by_night = Forecaster(plan, nights[0])
        order = list(range(len(nights)))
        Random(seed).shuffle(order)
        for i in order:
            same_night(by_week.week(nights[i].date).forecast, whole, nights[i])
        for i in order[:12]:
            told = by_night.night(nights[i], alone=bool(i % 2))
            same_night(told, whole, nights[i])
            same_loads(told, whole, nights[i])


def test_drafts_and_previews_are_those_of_one_long_simulation(request):
    for seed in seeds(request, 12):
        random = Random(seed)
        plan = busy_plan(seed, slow=seed % 2 == 0)
        nights = nights_of(plan, 4)
        base = Forecaster(plan, nights[0])
        shown, draft = base, plan
        # A draft of the plan, a preview of the draft, another on top.
        for operation in some_edits(plan, random):
            draft = operation.apply(draft)
            shown = Forecaster(draft, nights[0], shown)
            whole = uninterrupted(draft, 4)
            chosen = [nights[0], *random.sample(nights[1:], 4)]
            for night in chosen:
                same_night(shown.night(night, alone=random.random() < 0.5), whole, night)
                same_night(shown.week(night.date).forecast, whole, night)
            same_loads(shown.night(chosen[0]), whole, chosen[0])
