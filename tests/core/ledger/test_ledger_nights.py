"""Nights beside their prediction, the rest of a night, orders, and the report."""

from dataclasses import replace
from datetime import date

import pytest
from plans import DAY, FRIDAY_NOON, small_plan
from runs_told import as_planned

from gambrel.core.ledger.comparing import summarize
from gambrel.core.ledger.events import event_from
from gambrel.core.ledger.ordering import (
    Order,
    OrderRefused,
    effect_in_words,
    order_in_words,
    ordered,
)
from gambrel.core.ledger.predicting import actual_parts, predicted_parts, predicted_runs
from gambrel.core.ledger.records import RunRecord, apply_event, claim_prediction
from gambrel.core.ledger.report import LeftOver, headline, make_report
from gambrel.core.ledger.under_way import state_from
from gambrel.core.nights.nights import night_of, night_outcome
from gambrel.core.simulation.simulate import simulate, state_at

PLAN = small_plan()
NIGHT = night_of(date(2026, 11, 6), "Europe/Dublin")
DUE = FRIDAY_NOON + 9 * 3600


def records(events, predicted=()):
    found = {(run.job, run.occurrence): run for run in predicted}
    for raw in events:
        event = event_from(raw)
        if event.job is None or event.occurrence is None:
            continue
        key = (event.job, event.occurrence)
        apply_event(found.setdefault(key, RunRecord(*key)), event)
    return list(found.values())


@pytest.fixture
def forecast():
    return simulate(PLAN, NIGHT.start, NIGHT.end)


def test_a_night_as_planned_differs_nowhere(forecast):
    predicted = predicted_runs(forecast, NIGHT)
    runs = records(as_planned(PLAN, NIGHT.start).advance(NIGHT.end), predicted)
    summary = summarize(NIGHT, runs, NIGHT.end)
    assert summary.done == summary.total == 4
    assert not summary.troubles and not summary.differences
    assert summary.last_end == pytest.approx(summary.predicted_end, abs=0.01)
    assert summary.verdict == summary.predicted_verdict
    for run in runs:
        for machine in run.machines.values():
            took, said = actual_parts(machine), predicted_parts(machine.predicted["parts"])
            for part, seconds in took.items():
                assert seconds == pytest.approx(said[part], abs=0.15), part


def test_a_machine_that_fails_is_named_with_its_reason(forecast):
    told = {NIGHT.date: ("quiesce:gate:0:24",)}
    runs = records(
        as_planned(PLAN, NIGHT.start, told).advance(NIGHT.end), predicted_runs(forecast, NIGHT)
    )
    summary = summarize(NIGHT, runs, NIGHT.end)
    assert {t.machine for t in summary.troubles} == {"gate"}
    assert all("quiesced" in t.reason and t.outcome == "failed" for t in summary.troubles)
    assert summary.verdict == "over"
    report = make_report(
        PLAN, summary, runs, {"fares": DUE}, [LeftOver("gate", "snapshot", DUE)],
        night_outcome(forecast, NIGHT), NIGHT.end,
    )  # fmt: skip
    assert report.needs_hand[0].machine == "gate"
    assert report.needs_hand[0].exposure_s is None
    assert [line.outcome for line in report.jobs] == ["incomplete", "incomplete"]
    assert "2 of 4 machines done, 2 not" in headline(report.summary)


def test_a_later_run_makes_a_failure_good(forecast):
    told = {NIGHT.date: ("quiesce:gate:0:8.6",)}
    runs = records(
        as_planned(PLAN, NIGHT.start, told).advance(NIGHT.end), predicted_runs(forecast, NIGHT)
    )
    summary = summarize(NIGHT, runs, NIGHT.end)
    assert [t.made_good for t in summary.troubles] == [True]
    assert not make_report(PLAN, summary, runs, {}, (), None, NIGHT.end).needs_hand


def test_what_was_predicted_and_nobody_reports_is_told_after_an_hour(forecast):
    runs = predicted_runs(forecast, NIGHT)
    assert not summarize(NIGHT, runs, DUE - 3 * 3600).troubles
    troubles = summarize(NIGHT, runs, NIGHT.end).troubles
    assert {t.outcome for t in troubles} == {"not reported"}


def test_the_most_exposed_machine_comes_first_and_the_same_reason_once(forecast):
    plan = replace(
        PLAN,
        machines=tuple(
            replace(m, rpo_hours=24.0 if m.id == "fares" else None) for m in PLAN.machines
        ),
    )
    told = {NIGHT.date: ("quiesce:gate:0:24", "quiesce:fares:0:24")}
    runs = records(as_planned(plan, NIGHT.start, told).advance(NIGHT.end))
    summary = summarize(NIGHT, runs, NIGHT.end)
    points = {"gate": NIGHT.start - DAY, "fares": NIGHT.start - DAY}
    report = make_report(plan, summary, runs, points, (), None, NIGHT.end)
    assert [n.machine for n in report.needs_hand] == ["fares", "gate"]
    assert report.needs_hand[0].breaks_rpo
    relaxed = make_report(PLAN, summary, runs, points, (), None, NIGHT.end)
    assert [(n.machine, n.also) for n in relaxed.needs_hand] == [("gate", ("fares",))]


def test_a_follower_takes_the_prediction_of_its_turn(forecast):
    predicted = predicted_runs(forecast, NIGHT)[0]
    run = RunRecord(predicted.job, predicted.occurrence + 300)
    claim_prediction(run, predicted)
    assert run.predicted == predicted.predicted
    assert run.machines["gate"].predicted == predicted.machines["gate"].predicted


# --- the rest of a night, from what was told ---------------------------------------------------


@pytest.mark.parametrize("hours", [8.2, 9.05, 9.2, 9.5, 10.0])
def test_from_what_was_told_the_rest_of_the_night_is_the_same(forecast, hours):
    at = NIGHT.start + hours * 3600
    performance = as_planned(PLAN, NIGHT.start)
    events = [*performance.advance(at), *performance.progress()]
    runs = records(events)
    state = state_from(PLAN, performance.state().points, runs, at)
    rest = simulate(replace(PLAN, state=state), at, NIGHT.end)
    expected = {
        (run.job, run.occurrence, m.machine): m
        for run in forecast.runs
        for m in run.machines
        if run.ended > at
    }
    found = {(run.job, run.occurrence, m.machine): m for run in rest.runs for m in run.machines}
    assert found.keys() == expected.keys()
    for key, machine in found.items():
        assert machine.ended == pytest.approx(expected[key].ended, abs=1.0), key
        assert machine.outcome == expected[key].outcome


# --- orders ------------------------------------------------------------------------------------


def under_way(hours):
    at = NIGHT.start + hours * 3600
    return replace(PLAN, state=state_at(PLAN, NIGHT.start, NIGHT.end, at)), at


def effect(order, hours):
    now, at = under_way(hours)
    after = ordered(now, order)
    before, then = (simulate(plan, at, at + DAY) for plan in (now, after))
    return then, effect_in_words(PLAN, order, before, then, at)


def test_a_run_that_is_ordered_minds_no_window_and_touches_its_machines_only():
    then, said = effect(Order("retry", "nightly", ("gate",)), 2.0)
    own = next(run for run in then.runs if run.occurrence == NIGHT.start + 2 * 3600)
    assert own.window_end is None
    assert {m.machine: m.start is None for m in own.machines} == {"gate": False, "fares": True}
    assert said[0].startswith("Ends Fri 14:")
    assert "Delays no other job." in said


@pytest.mark.parametrize(("begins", "told"), [("08:00", True), ("02:00", False)])
def test_hours_in_which_a_link_carries_less_are_told(begins, told):
    days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
    ends = "19:00" if told else "04:00"
    limit = {"days": days, "from": begins, "to": ends, "mbit_per_s": 250}
    link = {"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000, "limits": [limit]}
    plan, at = small_plan(links=[link]), NIGHT.start + 2 * 3600
    now = replace(plan, state=state_at(plan, NIGHT.start, NIGHT.end, at))
    order = Order("run", "nightly")
    before, after = (simulate(p, at, at + DAY) for p in (now, ordered(now, order)))
    said = effect_in_words(plan, order, before, after, at)
    assert any("carries only 250 Mbit/s meanwhile, until Fri 19:00" in s for s in said) == told


def test_an_ordered_full_is_a_full():
    then, _ = effect(Order("run in full", "nightly"), 2.0)
    own = next(run for run in then.runs if run.occurrence == NIGHT.start + 2 * 3600)
    assert {m.kind for m in own.machines} == {"full"}


def test_what_is_running_cannot_be_run_and_what_is_not_cannot_be_stopped():
    now, _ = under_way(9.03)
    with pytest.raises(OrderRefused, match="is running"):
        ordered(now, Order("run", "nightly"))
    quiet, _ = under_way(2.0)
    with pytest.raises(OrderRefused, match="is not running"):
        ordered(quiet, Order("stop", "nightly"))
    with pytest.raises(OrderRefused, match="not a machine of"):
        ordered(quiet, Order("run", "nightly", ("ghost",)))


def test_a_stopped_run_ends_at_once_and_a_held_job_does_not_begin():
    now, at = under_way(9.03)
    stopped = simulate(ordered(now, Order("stop", "nightly")), at, NIGHT.end)
    assert stopped.runs[0].ended == pytest.approx(at)
    quiet, noon = under_way(2.0)
    held = simulate(ordered(quiet, Order("hold", "nightly")), noon, NIGHT.end)
    assert not held.runs
    with pytest.raises(OrderRefused):
        ordered(quiet, Order("release", "nightly"))


def test_orders_are_sentences():
    said = [order_in_words(PLAN, Order(kind, "nightly")) for kind in ("run", "stop", "hold")]
    assert said == ["Run Nightly now", "Stop Nightly", "Hold Nightly"]
    assert (
        order_in_words(PLAN, Order("retry", "nightly", ("gate",))) == "Retry 1 machine of Nightly"
    )
