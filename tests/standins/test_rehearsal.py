"""A rehearsal: a night played apart."""

from dataclasses import replace
from datetime import date

from plans import FRIDAY_NOON, small_plan

from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.objects import State
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.standins.rehearsal import rehearse
from gambrel.work.forecaster import Forecaster
from gambrel.work.rehearsing import Rehearsals

PLAN = small_plan()
NIGHT = night_of(date(2026, 11, 6), "UTC")


def predicted(plan=PLAN):
    return predicted_runs(simulate(plan, NIGHT.start, NIGHT.end), NIGHT)


def played(seed=1, told=(), plan=PLAN):
    return rehearse(plan, State(), predicted(plan), NIGHT, seed, told)


def test_every_run_of_the_night_is_played_to_its_end_beside_its_prediction():
    assert NIGHT.start == FRIDAY_NOON
    found = played()
    assert found.runs
    for run in found.runs:
        assert run.ended is not None
        assert run.predicted is not None
        assert all(machine.ended is not None for machine in run.machines.values())
    assert found.events
    assert all(NIGHT.start <= event.occurrence < NIGHT.end for event in found.events)
    assert found.nbytes() > 0


def test_the_same_world_is_the_same_and_another_is_another():
    def ends(found):
        return [m.ended for run in found.runs for m in run.machines.values()]

    assert ends(played(1)) == ends(played(1))
    assert ends(played(1)) != ends(played(2))


def test_what_is_told_goes_wrong_and_nothing_else():
    assert played(told=()).troubles == ()
    found = played(told=("access:gate:0:24",))
    assert [(t.kind, t.subject) for t in found.troubles] == [("access", "gate")]
    outcomes = {
        name: machine.outcome for run in found.runs for name, machine in run.machines.items()
    }
    assert outcomes.pop("gate") == "failed"
    assert set(outcomes.values()) == {"done"}


def test_a_thing_whose_name_has_a_colon_can_have_a_trouble():
    more = replace(PLAN.machines[0], id="gate:1")
    plan = replace(PLAN, machines=(*PLAN.machines, more))
    found = played(told=("quiesce:gate:1:0:24",), plan=plan)
    assert [t.subject for t in found.troubles] == ["gate:1"]


def test_a_later_night_begins_with_what_is_under_way_then():
    later = night_of(date(2026, 11, 9), "UTC")
    forecaster = Forecaster(PLAN, NIGHT)
    found = Rehearsals().of(forecaster, "key", later, 1, ())
    state = state_at(PLAN, NIGHT.start, later.end, later.start)
    its = predicted_runs(forecaster.night(later), later)
    apart = rehearse(PLAN, state, its, later, 1, ())
    assert [(r.job, r.ended) for r in found.runs] == [(r.job, r.ended) for r in apart.runs]
    assert {m.kind for r in found.runs for m in r.machines.values()} == {
        m.predicted["kind"] for r in found.runs for m in r.machines.values()
    }


def test_the_same_question_is_played_once():
    rehearsals, forecaster = Rehearsals(), Forecaster(PLAN, NIGHT)
    first = rehearsals.of(forecaster, "key", NIGHT, 1, ())
    assert rehearsals.of(forecaster, "key", NIGHT, 1, ()) is first
    assert rehearsals.of(forecaster, "other plan", NIGHT, 1, ()) is not first
