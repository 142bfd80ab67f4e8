"""What screens say beside the nights, by the shortest way there is: the whole plan simulated."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from functools import partial
from random import Random

import pytest
from busy_plans import busy_plan
from test_forecast_truth import nights_of, some_edits, uninterrupted
from truths import Watched, seeds

from gambrel.core.edits.operations import apply_all
from gambrel.core.findings import find
from gambrel.core.findings.help import suggestions, trouble
from gambrel.core.model.restore import newest_restore
from gambrel.core.nights.nights import night_outcome, runs_of
from gambrel.core.plan.objects import Plan, State
from gambrel.core.questions import sizing
from gambrel.core.questions.isolated_job import alone, schedules_of
from gambrel.core.questions.points_ahead import points_ahead
from gambrel.core.questions.start_search import room, run_at
from gambrel.core.questions.ways_to_keep import WEEK_S, WEEKS, kept_as, tradeoffs
from gambrel.core.questions.what_if import CloseNight, happen_all
from gambrel.core.simulation import reference
from gambrel.core.simulation.exposure import exposures
from gambrel.core.simulation.simulate import simulate, simulate_span
from gambrel.core.units import DAY, GIB
from gambrel.work.forecaster import Forecaster, Week
from gambrel.work.machine_table import effect

BEYOND_S = 40 * DAY


def draft_of(seed: int, weeks: int = 3):
    """A plan, a draft of it with its forecaster, and the draft simulated without a break."""
    random = Random(seed)
    plan = busy_plan(seed, slow=seed % 3 == 0)
    first = nights_of(plan)[0]
    base = Forecaster(plan, first)
    draft = apply_all(plan, some_edits(plan, random))
    shown = Forecaster(draft, first, base)
    return random, base, draft, shown, uninterrupted(draft, weeks)


def whole_week(shown: Forecaster, plan: Plan, day) -> Week:
    """A week of a plan, cut out of one long simulation."""
    nights = shown.nights_of_week(day)
    return Week(simulate(plan, shown.origin.start, nights[-1].end + BEYOND_S), nights)


def same_findings(one, other) -> None:
    __tracebackhide__ = True
    assert [f.key for f in one] == [f.key for f in other]
    for mine, theirs in zip(one, other, strict=True):
        assert (mine.what, mine.gravity) == (theirs.what, theirs.gravity)
        assert mine.weight == pytest.approx(theirs.weight, rel=1e-6, abs=1e-6)


def test_findings_and_exposures_of_a_draft_are_those_of_its_whole_week(request):
    for seed in seeds(request, 12):
        random, _, draft, shown, whole = draft_of(seed)
        day = nights_of(draft)[random.randrange(21)].date
        week = shown.week(day)
        found = find(week.forecast, week.start, week.end)
        same_findings(found, find(whole, week.start, week.end))
        worst = [e.worst_s for e in exposures(week.forecast, week.start, week.end)]
        plain = [e.worst_s for e in exposures(whole, week.start, week.end)]
        assert worst == pytest.approx(plain, nan_ok=True)
        keys = [f.key for f in found]
        assert len(set(keys)) == len(keys)


def test_what_a_finding_weighs_is_what_the_reference_says(request):
    for seed in seeds(request, 4):
        _, _, draft, shown, _ = draft_of(seed, 1)
        week = shown.week(shown.origin.date)
        plain = reference.simulate(draft, shown.origin.start, week.end + 9 * DAY)
        runs = [r for r in plain.runs if week.start <= r.occurrence < week.end]
        for finding in find(week.forecast, week.start, week.end):
            mine = [r for r in runs if r.job == finding.subjects[0].id]
            if finding.kind == "over the window":
                assert finding.weight == pytest.approx(sum(r.over_s for r in mine), abs=0.01)
            elif finding.kind in ("missed", "cut off", "no path"):
                assert finding.weight == sum(r.outcomes[finding.kind] for r in mine)
            elif finding.kind in ("skipped", "verify runs into the next run"):
                assert finding.weight == sum(r.outcome == "skipped" for r in mine)
            elif finding.kind == "RPO missed":
                machine = draft.machine_by_id[finding.subjects[0].id]
                place = draft.machines.index(machine)
                worst = exposures(plain, week.start, week.end)[place].worst_s
                assert finding.figures["worst_s"] == pytest.approx(worst, abs=0.01)


def test_what_is_said_to_help_helps_as_much_as_is_said(request):
    for seed in seeds(request, 5):
        random, _, draft, shown, _ = draft_of(seed)
        week = shown.week(nights_of(draft)[random.randrange(14)].date)
        found = find(week.forecast, week.start, week.end)
        random.shuffle(found)

        def play(changed: Plan, week=week, shown=shown):
            return Forecaster(changed, shown.origin, shown).week(week.nights[0].date).forecast

        for finding in found[:2]:
            offered = suggestions(finding, week.forecast, week.start, week.end, play)
            for one in offered.found:
                changed = apply_all(draft, one.operations)
                plain = whole_week(shown, changed, week.nights[0].date).forecast
                after = trouble(plain, week.start, week.end)
                assert one.trouble_after == pytest.approx(after)
                left = [f for f in find(plain, week.start, week.end) if f.key == finding.key]
                assert sum(f.weight for f in left) <= one.after * (1 + 1e-9) + 1e-6
                assert not after.is_worse_than(trouble(week.forecast, week.start, week.end))


def test_effects_of_another_estate_are_those_of_two_whole_plans(request):
    for seed in seeds(request, 7):
        random, base, draft, shown, whole = draft_of(seed)
        grown = tuple(
            replace(m, daily_change=m.daily_change * 2, powered_on=False) for m in draft.machines
        )
        changed = replace(draft, machines=grown if seed % 2 else draft.machines)
        nights = shown.nights_of_week(nights_of(draft)[random.randrange(21)].date)
        told = {n.date: n for n in effect(shown, changed, nights[0].date).nights}
        after = simulate(changed, base.origin.start, nights[-1].end + BEYOND_S)
        for night in nights:
            was, now = night_outcome(whole, night), night_outcome(after, night)
            if night.date in told:
                one = told[night.date]
                assert (one.verdict_before, one.end_before) == (was.verdict, was.last_end)
                assert (one.verdict_after, one.end_after) == (now.verdict, now.last_end)
            else:
                assert (was.verdict, was.last_end) == (now.verdict, now.last_end)


def test_room_is_what_the_plan_with_that_run_does(request):
    for seed in seeds(request, 6):
        random, _, draft, shown, _ = draft_of(seed)
        job = random.choice([job for job in draft.jobs if job.schedules])
        night = nights_of(draft)[random.randrange(21)]
        kind = random.choice(("full", "incremental"))
        week = shown.week(night.date)
        from_, points = shown.start_of(week.nights[0] if kind == "full" else night)
        play = partial(simulate_span, from_=from_, to=night.end, points=points)
        for start in room(draft, job, kind, night, play, from_=from_, step_min=480):
            plan = run_at(draft, job, kind, night, start.at, from_=shown.origin.start)
            plain = simulate(plan, shown.origin.start, night.end + BEYOND_S)
            mine = next(r for r in plain.runs if r.job == job.id and r.occurrence == start.at)
            assert start.end == mine.ended
            kinds = {m.kind for m in mine.machines}
            tried = play(run_at(draft, job, kind, night, start.at, from_=from_))
            same = next(r for r in tried.runs if r.job == job.id and r.occurrence == start.at)
            assert {m.kind for m in same.machines} == kinds


def test_sizing_tells_of_the_whole_week(request):
    for seed in seeds(request, 5):
        random, _, draft, shown, whole = draft_of(seed)
        night = nights_of(draft)[random.randrange(21)]
        forecast = shown.week(night.date).forecast
        state = sizing.state_of(forecast, night)
        week = shown.week(night.date)
        assert state.week == pytest.approx(trouble(whole, week.start, week.end))
        reasons = night_outcome(whole, night).reasons
        assert reasons == night_outcome(forecast, night).reasons
        if state.weight <= 0:
            continue

        def play(changed: Plan, night=night, shown=shown):
            return Forecaster(changed, shown.origin, shown).week(night.date).forecast

        loads = sizing.pressed(forecast, night)
        for remedy in sizing.remedies(draft, loads, reasons)[:2]:
            advice = sizing.try_remedy(remedy, draft, state, night, play)
            if advice is None:
                continue
            changed = apply_all(draft, advice.operations)
            plain = whole_week(shown, changed, night.date).forecast
            again = sizing.state_of(replace(plain, from_=shown.origin.start), night)
            assert advice.after.weight == pytest.approx(again.weight, abs=0.01)
            assert advice.after.last_end == again.last_end
        for need in sizing.needs(forecast, night):
            read = sum(
                m.source_bytes for r in runs_of(whole, night) for m in r.machines
                if r.window_end is not None
            )  # fmt: skip
            assert need.bytes <= 2 * read * (1 + 1e-6) + 1.0


def test_points_ahead_are_those_of_the_reference_on_that_day(request):
    for seed in seeds(request, 7):
        random = Random(seed)
        plan = busy_plan(seed, slow=seed % 3 == 0)
        job = random.choice(plan.jobs)
        first = nights_of(plan)[0]
        day = first.start + random.randint(3, 25) * DAY
        found = points_ahead(plan, job, first.start, day)
        assert found is not None
        one = alone(plan, job)
        watched = Watched(one, first.start, day + 35 * DAY, [day, *(a for a in _days(found))])
        watched.run()
        expected = [p for p in watched.points_at[day] if p[1] == found.machine]
        assert sorted((p.repository, round(p.at, 2), p.kind) for p in found.points) == sorted(
            (repository, round(at, 2), kind) for repository, _, kind, at, _ in expected
        )
        for repository, steps in (found.space or {}).items():
            for at, used in steps:
                plain = sum(p[4] for p in watched.points_at[at] if p[0] == repository)
                assert used == pytest.approx(plain, rel=1e-6, abs=1.0)


def _days(found) -> set[float]:
    return {at for steps in (found.space or {}).values() for at, _ in steps}


def test_trade_offs_are_those_of_the_reference(request):
    for seed in seeds(request, 2):
        random = Random(seed)
        plan = busy_plan(seed)
        job = random.choice(plan.jobs)
        from_ = nights_of(plan)[0].start
        to = from_ + WEEKS * WEEK_S
        for way in tradeoffs(plan, job, from_):
            small = alone(plan, kept_as(schedules_of(plan, job), way.name))
            small = replace(small, state=State(sizes_as_of=plan.state.sizes_as_of))
            watched = Watched(small, from_, to + 9 * DAY, [to])
            watched.run()
            plain = reference.simulate(small, from_, to + 9 * DAY)
            runs = [r for r in plain.runs if to - WEEK_S <= r.occurrence < to and r.ended]
            assert way.runs == len(runs)
            moved = sum(m.wire_bytes for r in runs for m in r.machines)
            assert way.moved_bytes == pytest.approx(moved, rel=1e-6, abs=1.0)
            assert way.longest_s == pytest.approx(
                max((r.ended - r.occurrence for r in runs), default=0.0), abs=0.01
            )
            stored = sum(p[4] for p in watched.points_at[to])
            assert way.space_bytes == pytest.approx(stored, rel=1e-6, abs=1.0)


def test_no_window_is_open_in_a_closed_night(request):
    for seed in seeds(request, 9):
        plan = busy_plan(seed)
        night = nights_of(plan)[Random(seed).randrange(30)]
        closed = happen_all(plan, [CloseNight(night.date.isoformat())])
        before, after = (
            simulate(p, night.start - 9 * DAY, night.end + DAY) for p in (plan, closed)
        )
        for run in after.runs:
            windowed = closed.job_by_id[run.job].window is not None
            if not windowed or closed.job_by_id[run.job].at_window_end == "run_on":
                continue
            for machine in run.machines:
                assert machine.start is None or not night.start <= machine.start < night.end
        # What had begun and ended before that night stays as it was.
        ends = [r.window_end or 0.0 for r in before.runs]
        for one, other, end in zip(before.runs, after.runs, ends, strict=False):
            if end <= night.start and (one.ended or night.end) < night.start:
                assert (one.job, one.occurrence, one.ended) == (
                    other.job, other.occurrence, other.ended,
                )  # fmt: skip


def test_threads_that_ask_at_once_are_told_the_same(request):
    for seed in seeds(request, 2):
        shown = []
        for number in (seed, seed + 1):
            plan = busy_plan(number, slow=True)
            first = nights_of(plan)[0]
            base = Forecaster(plan, first)
            draft = apply_all(plan, some_edits(plan, Random(number)))
            shown.append((Forecaster(draft, first, base), draft))

        def ask(i: int, shown=shown):
            forecaster, plan = shown[i % 2]
            night = nights_of(plan, 2)[(i * 5) % 14]
            week = forecaster.week(night.date)
            found = find(week.forecast, week.start, week.end)
            outcome = night_outcome(forecaster.night(night), night)
            return i % 2, night, outcome, [(f.key, f.weight) for f in found]

        with ThreadPoolExecutor(8) as threads:
            answers = list(threads.map(ask, range(24)))
        whole = [uninterrupted(plan, 2) for _, plan in shown]
        for place, night, outcome, found in answers:
            assert outcome == night_outcome(whole[place], night)
            nights = shown[place][0].nights_of_week(night.date)
            plain = find(whole[place], nights[0].start, nights[-1].end)
            assert [key for key, _ in found] == [f.key for f in plain]
            assert [w for _, w in found] == pytest.approx([f.weight for f in plain])


def test_the_newest_restore_is_the_shortest_of_the_newest(request):
    for seed in seeds(request, 12):
        plan = busy_plan(seed)
        first = nights_of(plan)[0]
        day = first.start + 9 * DAY
        points = simulate_span(plan, first.start, day).history.at(day)
        for machine in plan.machines:
            mine = [p for p in points if p.machine == machine.id and p.usable]
            singles = [
                (p.at, r)
                for p in mine
                if (r := newest_restore(plan, machine, [p], day)) is not None
            ]
            found = newest_restore(plan, machine, points, day)
            if not singles:
                assert found is None
                continue
            newest = max(at for at, _ in singles)
            best = min(r.full_s for at, r in singles if at >= newest - 1e-6)
            assert found.full_s == pytest.approx(best)
            assert found.read_bytes <= sum(p.stored_bytes for p in mine) * 2 + GIB
