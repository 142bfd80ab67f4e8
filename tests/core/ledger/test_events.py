"""Events: what is taken, what is refused, and that order and repetition do not matter."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON, small_plan
from runs_told import as_planned, event

from gambrel.core.ledger.events import EventRefused, check_event, event_from, event_to_dict
from gambrel.core.ledger.records import RunRecord, apply_event

DUE = FRIDAY_NOON + 9 * 3600
PLAN = small_plan()


def of_run(ident, what, at, **more):
    return event(ident, what, at, job="nightly", occurrence=DUE, **more)


def of_machine(ident, what, at, **more):
    return of_run(ident, what, at, machine="gate", **more)


def folded(events):
    run = RunRecord("nightly", DUE)
    for each in events:
        apply_event(run, event_from(each))
    return run


@pytest.mark.parametrize(
    ("raw", "key"),
    [
        ({}, "id"),
        ([], ""),
        (event("a", "flew", DUE), "what"),
        (event("a", "run began", DUE), "job"),
        (of_machine("a", "machine ended", DUE), "outcome"),
        (of_machine("a", "disk", DUE, disk="0", source_bytes=-1), "source_bytes"),
        (of_machine("a", "disk", DUE, disk="0", source_bytes="much"), "source_bytes"),
        ({**of_machine("a", "machine moved", DUE), "at": "soon"}, "at"),
        (of_machine("a" * 100, "machine moved", DUE), "id"),
        (of_machine("a", "machine moved", DUE, wings=2), "wings"),
    ],
)
def test_what_cannot_be_read_names_the_key(raw, key):
    with pytest.raises(EventRefused) as caught:
        event_from(raw)
    assert caught.value.key == key


@pytest.mark.parametrize(
    ("raw", "key"),
    [
        (event("a", "machine moved", DUE, job="other", occurrence=DUE, machine="gate"), "job"),
        (of_run("a", "machine moved", DUE, machine="ghost"), "machine"),
        (of_machine("a", "disk", DUE, disk="0", source_bytes=1, proxy="p9"), "proxy"),
        (of_machine("a", "machine moved", DUE + 3 * 3600), "at"),
        (of_machine("a", "machine moved", DUE - 500 * DAY), "at"),
        (of_machine("a", "machine moved", DUE - 3600), "occurrence"),
    ],
)
def test_what_is_not_of_the_plan_or_the_time_is_refused(raw, key):
    with pytest.raises(EventRefused) as caught:
        check_event(PLAN, event_from(raw), DUE + 3600)
    assert caught.value.key == key


def test_an_event_is_written_as_it_was_read():
    raw = of_machine("a", "disk", DUE + 60, disk="0", source_bytes=5, proxy="p1", moved=True)
    assert event_from(event_to_dict(event_from(raw))) == event_from(raw)


def test_an_end_before_the_start_is_refused_whichever_comes_first():
    start = of_machine("s", "machine started", DUE + 60, kind="full")
    end = of_machine("e", "machine ended", DUE + 30, outcome="done")
    for pair in ((start, end), (end, start)):
        with pytest.raises(EventRefused, match=r"before|after"):
            folded(pair)
    with pytest.raises(EventRefused, match="before the run began"):
        folded([of_run("b", "run began", DUE, kind="full"), of_run("r", "run ended", DUE - 5)])


def test_more_bytes_than_there_can_be_are_refused():
    for much in (2.0**62, 1e300):
        with pytest.raises(EventRefused, match=r"more than|above|greater"):
            folded([of_machine("e", "machine ended", DUE, outcome="done", source_bytes=much)])


def test_a_disk_that_starts_over_counts_from_there():
    run = folded(
        [
            of_machine("1", "disk", DUE + 10, disk="0", source_bytes=500, proxy="p1"),
            of_machine("2", "disk", DUE + 20, disk="0", source_bytes=40, proxy="p1"),
        ]
    )
    assert run.machines["gate"].moving_bytes() == 40


def told(night_events):
    """What a list of events comes to, whatever their order."""
    run = folded(night_events)
    return run.began, run.ended, run.outcome, {
        name: (m.outcome, m.queued, m.start, m.prepared, m.moved, m.released, m.ended,
               m.source_bytes, m.stored_bytes, sorted((d.disk, d.source_bytes, d.moved)
                                                      for d in m.disks.values()))
        for name, m in run.machines.items()
    }  # fmt: skip


NIGHT = [
    each
    for each in as_planned(PLAN, FRIDAY_NOON).advance(FRIDAY_NOON + DAY)
    if each.get("job") == "nightly"
    and not each["what"].startswith("point")
    and each["occurrence"].startswith("2026-11-06T21")
]


@settings(max_examples=60)
@given(st.permutations(NIGHT), st.lists(st.sampled_from(NIGHT), max_size=8))
def test_late_and_repeated_events_change_nothing(shuffled, again):
    assert told([*shuffled, *again]) == told(NIGHT)


def test_a_whole_night_is_folded_into_what_was_simulated():
    run = folded(NIGHT)
    assert run.outcome == "done"
    assert {m.outcome for m in run.machines.values()} == {"done"}
    assert all(m.step == "ended" and m.source_bytes > 0 for m in run.machines.values())
