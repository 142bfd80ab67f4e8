"""The stand-in's world: seeded, apart from the plan, and told without gaps."""

from datetime import date

import pytest
from plans import DAY, FRIDAY_NOON, small_plan
from runs_told import as_planned

from gambrel.core.ledger.events import event_from
from gambrel.core.ledger.ordering import Order
from gambrel.core.simulation.simulate import simulate
from gambrel.demo import tiny
from gambrel.standins.history import History
from gambrel.standins.performance import Performance
from gambrel.standins.true_world import TrueWorld

PLAN = small_plan()
NIGHT = date(2026, 11, 6)


def without_progress(events):
    return {e["id"]: e for e in events if not (e["what"] == "disk" and not e["moved"])}


def test_time_may_go_by_in_any_steps():
    whole = without_progress(as_planned(PLAN, FRIDAY_NOON).advance(FRIDAY_NOON + DAY))
    step_by_step, performance = [], as_planned(PLAN, FRIDAY_NOON)
    while performance.clock < FRIDAY_NOON + DAY:
        to = min(FRIDAY_NOON + DAY, performance.clock + 1234.5)
        step_by_step += [*performance.advance(to), *performance.progress()]
    assert without_progress(step_by_step) == whole
    assert len(whole) > 20


def test_a_world_as_planned_does_what_the_plan_says():
    forecast = simulate(PLAN, FRIDAY_NOON, FRIDAY_NOON + DAY)
    events = as_planned(PLAN, FRIDAY_NOON).advance(FRIDAY_NOON + DAY)
    ends = sorted(event_from(e).at for e in events if e["what"] == "machine ended")
    assert ends == pytest.approx(
        sorted(m.ended for run in forecast.runs for m in run.machines), abs=1e-3
    )


def test_every_event_can_be_taken():
    told = {NIGHT: ("host restarts:h1:9.1:0.2", "proxy dies:p1:8.05:0.5")}
    for raw in as_planned(PLAN, FRIDAY_NOON, told).advance(FRIDAY_NOON + 2 * DAY):
        event_from(raw)


def test_a_host_that_restarts_fails_its_machines_and_leaves_them_locked():
    told = {NIGHT: ("host restarts:h1:9.05:0.1",)}
    performance = as_planned(PLAN, FRIDAY_NOON, told)
    events = performance.advance(FRIDAY_NOON + DAY)
    failed = [e for e in events if e["what"] == "machine ended" and e["outcome"] == "failed"]
    assert {e["machine"] for e in failed} == {"gate", "fares"}
    assert all("restarted" in e["reason"] for e in failed)
    assert {(e["machine"], e["left"]) for e in events if e["what"] == "left behind"} == {
        (machine, left) for machine in ("gate", "fares") for left in ("locked", "snapshot")
    }
    # They stay locked in the next night, until a retry unlocks them.
    later = performance.advance(FRIDAY_NOON + 2 * DAY)
    assert all("locked" in e["reason"] for e in later if e["what"] == "machine ended")
    retried = performance.order(7, Order("retry", "nightly", ("gate",)))
    assert {e["what"] for e in retried} >= {"order taken", "run began", "cleaned up", "order ended"}
    done = performance.advance(FRIDAY_NOON + 2 * DAY + 3 * 3600)
    assert [e["outcome"] for e in done if e["what"] == "machine ended"] == ["done"]


def test_a_proxy_that_dies_has_its_disks_start_over_elsewhere():
    file_plan = small_plan()
    told = {NIGHT: ("proxy dies:p1:9.05:20",)}
    performance = as_planned(file_plan, FRIDAY_NOON, told)
    events = performance.advance(FRIDAY_NOON + DAY)
    friday = [e for e in events if e["what"] == "machine ended" and "T21:" in e["occurrence"]]
    # There is no other proxy: what had begun waits, and the window's end misses or cuts it off.
    assert all(e["outcome"] != "done" for e in friday)


def test_what_cannot_be_ordered_is_told_with_the_reason():
    performance = as_planned(PLAN, FRIDAY_NOON)
    events = performance.order(3, Order("stop", "nightly"))
    assert events[-1]["outcome"] == "failed"
    assert "not running" in events[-1]["reason"]


def test_another_plan_is_taken_up_in_the_middle():
    performance = as_planned(PLAN, FRIDAY_NOON)
    performance.advance(FRIDAY_NOON + 9.05 * 3600)
    performance.adopt(small_plan({"priority": 1}))
    events = performance.advance(FRIDAY_NOON + DAY)
    assert {e["outcome"] for e in events if e["what"] == "machine ended"} == {"done"}


def test_the_true_world_is_the_same_each_time_and_not_the_plan():
    def told(seed):
        world = TrueWorld(seed, NIGHT)
        made = Performance(PLAN, FRIDAY_NOON, (), world, {NIGHT: ("link down:lan:23:0.1",)})
        return [
            (e["machine"], e["source_bytes"])
            for e in made.advance(FRIDAY_NOON + DAY)
            if e["what"] == "machine ended"
        ]

    assert told(1) == told(1)
    assert told(1) != told(2)


def test_the_history_has_every_night_with_its_prediction():
    history = History(tiny(), date(2026, 11, 2), nights=4)
    nights = list(history)
    assert [past.night.date.day for past in nights[:4]] == [29, 30, 31, 1]
    runs = [run for past in nights for run in past.runs]
    assert runs and all(run.predicted for run in runs if run.began is not None)
    assert all(m.outcome for past in nights[:4] for r in past.runs for m in r.machines.values())
    assert history.points
