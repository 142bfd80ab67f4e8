"""Times of steps learned from nights whose truth is known."""

import math
from dataclasses import replace

import numpy as np
import pytest
from estates import larkmoor_plan

from gambrel.core.edits.operations import change_job
from gambrel.core.ledger.learned_plan import as_learned
from gambrel.core.ledger.learned_times import LEAST_NIGHTS, learned_times, night_times
from gambrel.core.ledger.records import MachineRecord, RunRecord

PLAN = larkmoor_plan()
QUIESCED = PLAN.job_by_id["finance-databases"]
BOOTED = PLAN.job_by_id["directory"]


def machine(name="m", *, preparing=80.0, releasing=15.0, checking=360.0, kind="verifying", **more):
    """A machine that was predicted to prepare for 65 s, release for 12 s and verify for 360 s."""
    parts = [["preparing", 65.0, ""], ["moving", 600.0, ""], ["releasing", 12.0, ""]]
    marks = np.cumsum([1000.0, preparing, 600.0, releasing, checking]).tolist()
    fields = dict(zip(("start", "prepared", "moved", "released", "ended"), marks, strict=True))
    return MachineRecord(
        name,
        **{"outcome": "done", "queued": 900.0, **fields, **more},
        predicted={"parts": [*parts, [kind, 360.0, ""]]},
    )


def night(*machines, job=QUIESCED.id, plan=PLAN):
    run = RunRecord(job, 1000.0, machines={str(i): each for i, each in enumerate(machines)})
    return night_times(plan, [run])


def by_step(nights, plan=PLAN):
    return {each.step: each for each in learned_times(plan, nights)}


def test_nights_tell_how_much_longer_each_step_takes():
    random = np.random.default_rng(3)
    nights = [
        night(*(machine(preparing=65.0 + 20.0 + off + random.normal(0, 1)) for _ in range(5)))
        for off in random.normal(0.0, 3.0, 60)
    ]
    found = by_step(nights)
    assert found["preparing"].more_s == pytest.approx(20.0, abs=1.5)
    assert found["preparing"].predicted_s == 65.0
    assert found["preparing"].error_s == pytest.approx(3.0 / math.sqrt(60), rel=0.4)
    assert found["preparing"].differs and not found["verifying"].differs
    assert (found["preparing"].nights, found["preparing"].runs) == (60, 300)
    # What the plan states is how long it quiesces; how long it releases follows from the model.
    assert found["preparing"].key == "quiesce_s"
    assert found["preparing"].value == pytest.approx(QUIESCED.quiesce_s + 20.0, abs=1.5)
    assert found["releasing"].key is None and found["releasing"].value is None


def test_what_was_taken_over_is_not_taken_over_again():
    nights = [night(machine())] * 9
    value = by_step(nights)["preparing"].value
    taken = change_job(QUIESCED.id, quiesce_s=value).apply(PLAN)
    assert "preparing" not in by_step(nights, taken)
    learned = as_learned(PLAN, {}, (), learned_times(PLAN, nights))
    assert learned.job_by_id[QUIESCED.id] == taken.job_by_id[QUIESCED.id]
    after = [night(machine(), plan=taken)] * 9
    assert by_step([*nights, *after], taken)["preparing"].nights == 9


def test_nights_from_before_a_time_was_taken_over_still_show_it():
    nights = [night(machine())] * 9
    found = by_step(nights)["preparing"]
    mark = {"key": "quiesce_s", "value": found.value, "stated": QUIESCED.quiesce_s}
    taken = change_job(QUIESCED.id, quiesce_s=found.value, learned=[mark]).apply(PLAN)
    again = by_step(nights, taken)["preparing"]
    # The same seconds come out, of which the plan knows all by now.
    assert again.predicted_s + again.more_s == found.predicted_s + found.more_s
    assert (again.more_s, again.nights) == (pytest.approx(0.0), 9)
    assert not again.differs and again.value == pytest.approx(found.value)


def test_booting_tells_minutes_and_a_full_made_in_the_repository_tells_nothing():
    nights = [night(machine(checking=540.0), job=BOOTED.id)] * 6
    found = by_step(nights)["verifying"]
    assert (found.key, found.value) == ("boot_min", BOOTED.boot_min + 3.0)
    made = [night(machine(checking=540.0, kind="transforming"), job=BOOTED.id)] * 6
    assert "verifying" not in by_step(made)


def test_few_nights_and_what_cannot_be_tell_nothing():
    assert by_step([night(machine())] * (LEAST_NIGHTS - 1)) == {}
    odd = [
        machine(outcome="failed"), machine(prepared=None), machine(prepared=500.0, start=9e9),
        replace(machine(), predicted=None),
    ]  # fmt: skip
    assert "preparing" not in by_step([night(*odd[:2], *odd[3:])] * 9)
    assert learned_times(PLAN, [{"preparing:nobody": (1.0, 1.0, 3, 0.0)}] * 9) == []
    assert learned_times(PLAN, [{f"dancing:{QUIESCED.id}": (1.0, 1.0, 3, 0.0)}] * 9) == []
    bad = [{f"preparing:{QUIESCED.id}": (math.nan, 1.0, 3, QUIESCED.quiesce_s)}] * 9
    assert learned_times(PLAN, bad) == []
    # A clock that jumps back makes a step of no time, and of none below that.
    back = by_step([night(odd[2])] * 9)["preparing"]
    assert back.value is not None and back.value >= 0.0


def test_less_than_nothing_is_not_stated():
    found = by_step([night(machine(preparing=0.0))] * 6)["preparing"]
    assert found.value == 0.0 and found.more_s == -65.0
