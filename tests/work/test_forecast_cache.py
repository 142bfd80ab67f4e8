"""Forecasts are kept under one limit of bytes and are the same when they are made again."""

import gc
import weakref
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from random import Random

from busy_plans import busy_plan
from test_forecaster import WEEK

from gambrel.core.edits.operations import MoveStart
from gambrel.core.loads.load_series import load_names, load_table
from gambrel.core.nights.nights import night_of, night_outcome, planner_zone
from gambrel.work.forecast_cache import ForecastCache
from gambrel.work.forecaster import Forecaster

PLAN = busy_plan(3)
ORIGIN = night_of(WEEK[0].date, planner_zone(PLAN))


def loads(forecast, night):
    names = load_names(forecast.plan)
    return [
        (s.name, s.mean(night.start, night.end), s.peak)
        for s in load_table(forecast, names, night.start, night.end)
    ]


def test_what_was_given_up_is_made_again_the_same():
    roomy, tight = (Forecaster(PLAN, ORIGIN, kept=ForecastCache(n)) for n in (1 << 30, 1))
    for night in (*WEEK, *WEEK):
        one, other = roomy.night(night), tight.night(night)
        assert night_outcome(one, night) == night_outcome(other, night)
        assert loads(one, night) == loads(other, night)


def test_what_was_made_to_be_looked_at_can_be_given_back():
    forecaster = Forecaster(PLAN, ORIGIN)
    forecast = forecaster.night(WEEK[1])
    before = loads(forecast, WEEK[1])
    machines = [tuple(run.machines) for run in forecast.runs]
    assert forecast.loads.nbytes() > 0
    forecast.forget()
    assert forecast.loads.nbytes() == 0
    assert loads(forecast, WEEK[1]) == before
    assert [tuple(run.machines) for run in forecast.runs] == machines


def test_forecasts_go_with_their_forecaster():
    kept = ForecastCache(1 << 30)
    base = Forecaster(PLAN, ORIGIN, kept=kept)
    base.week(WEEK[0].date)
    held = kept.state().entries
    for minute in range(5):
        try:
            changed = MoveStart(PLAN.jobs[0].id, 0, f"22:0{minute}").apply(PLAN)
        except ValueError:
            continue
        Forecaster(changed, ORIGIN, base).week(WEEK[0].date)
    gc.collect()
    assert kept.state().entries == held


def test_bytes_stay_below_the_limit_however_much_is_asked():
    most = 3 * Forecaster(PLAN, ORIGIN).week(WEEK[0].date).forecast.nbytes()
    kept = ForecastCache(most)
    base = Forecaster(PLAN, ORIGIN, kept=kept)
    shown = []
    for i in range(12):
        changed = MoveStart(PLAN.jobs[0].id, 0, f"2{i // 6}:{i % 6}0").apply(PLAN)
        shown.append(Forecaster(changed, ORIGIN, base))
        shown[-1].week(WEEK[0].date)
        assert kept.state().bytes <= kept.state().most_bytes


def test_what_was_made_of_a_forecast_counts_as_its_own():
    kept = ForecastCache(1 << 30)
    forecaster = Forecaster(PLAN, ORIGIN, kept=kept)
    nights = [night_of(ORIGIN.date + timedelta(weeks=weeks), ORIGIN.zone) for weeks in range(3)]
    for night in nights:
        loads(forecaster.night(night), night)
    forecaster.night(nights[-1])
    forecaster.night(nights[0])
    whole = [forecaster.night(night).nbytes() for night in nights]
    assert kept.state().bytes >= sum(whole)


def test_threads_and_plans_share_one_small_cache():
    kept = ForecastCache(1)
    plans = [busy_plan(seed) for seed in (3, 4)]
    shown = [Forecaster(plan, ORIGIN, kept=kept) for plan in plans]
    alone = [Forecaster(plan, ORIGIN) for plan in plans]
    expected = {
        (i, night): night_outcome(each.night(night), night)
        for i, each in enumerate(alone)
        for night in WEEK
    }
    asked = [(i, night) for i in range(2) for night in WEEK] * 4
    Random(1).shuffle(asked)

    def ask(what):
        i, night = what
        forecast = shown[i].night(night)
        loads(forecast, night)
        return what, night_outcome(forecast, night)

    with ThreadPoolExecutor(6) as threads:
        for what, outcome in threads.map(ask, asked):
            assert outcome == expected[what]


def test_a_forecast_that_was_given_up_is_gone():
    cache = ForecastCache(1)
    forecaster = Forecaster(PLAN, ORIGIN, kept=cache)
    seen = []
    for weeks in range(6):
        night = night_of(ORIGIN.date + timedelta(weeks=weeks), ORIGIN.zone)
        forecast = forecaster.night(night)
        loads(forecast, night)
        seen.append((weakref.ref(forecast), cache.state().entries))
        del forecast
    alive = sum(each() is not None for each, _ in seen)
    assert alive == cache.state().entries < len(seen)
