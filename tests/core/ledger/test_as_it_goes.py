"""How a night under way will end: what it has shown, the expected course, draws, what helps."""

import math
from dataclasses import replace
from datetime import date

import numpy as np
import pytest
from busy_plans import busy_plan
from estates import larkmoor_plan
from runs_told import as_planned

from gambrel.core.ledger import night_spreads
from gambrel.core.ledger.as_it_goes import Outlook, outlook, rest_of, tally
from gambrel.core.ledger.events import event_from
from gambrel.core.ledger.night_spreads import NightSpreads
from gambrel.core.ledger.ordering import (
    Order,
    OrderRefused,
    lasting,
    order_in_words,
    ordered,
    while_they_hold,
)
from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.ledger.records import DiskRecord, MachineRecord, RunRecord
from gambrel.core.ledger.shown_tonight import (
    Shown,
    changes_told,
    corrected,
    fading,
    shown_by,
    taught,
)
from gambrel.core.ledger.under_way import state_from
from gambrel.core.ledger.what_would_help import what_would_help
from gambrel.core.nights.nights import night_of, planner_zone
from gambrel.core.simulation.simulate import simulate, state_at
from gambrel.core.units import HOUR, MINUTE
from gambrel.standins.history import note_event

FRIDAY = date(2026, 11, 6)


def in_the_middle(plan, night, at):
    """(the plan as it is under way at an instant, the runs of the night as predicted)."""
    whole = simulate(plan, night.start, night.end)
    under_way = replace(plan, state=state_at(plan, night.start, night.end, at))
    return under_way, predicted_runs(whole, night)


@pytest.fixture(scope="module")
def friday():
    """Larkmoor's bad Friday at 01:20."""
    plan = larkmoor_plan()
    night = night_of(FRIDAY, planner_zone(plan))
    at = night.start + 13 * HOUR + 20 * 60
    return (*in_the_middle(plan, night, at), night, at)


def in_the_middle_of(plan, night, at):
    """What `rest_of` takes."""
    under_way, predicted = in_the_middle(plan, night, at)
    return under_way, night, predicted


def ends_of(forecast):
    return {
        (run.job, round(run.occurrence * 1e6)): run.ended
        for run in forecast.runs
        if run.outcome != "skipped"
    }


# --- draws equal plain simulations --------------------------------------------------------------


@pytest.mark.parametrize("seed", range(12))
def test_without_spread_every_draw_is_the_plain_simulation(seed):
    plan = busy_plan(seed)
    night = night_of(FRIDAY, planner_zone(plan))
    at = night.start + (9 + seed) * HOUR
    under_way, predicted = in_the_middle(plan, night, at)
    rest = rest_of(under_way, night, predicted)
    # Nothing has been reported: the expected course is the plan's own.
    plain = simulate(under_way, at, max(night.end, at + HOUR))
    assert ends_of(rest.expected) == ends_of(plain)
    still = replace(rest, spreads=NightSpreads(stream=0.0, rate=0.0, change=0.0, own_change=0.0))
    found = tally(still.draws_of(rest.plan).walk(3))
    told = ends_of(plain)
    assert {key: end for key, end in found.ends.items() if math.isfinite(end)} == pytest.approx(
        {key: end for key, end in told.items() if end is not None}, abs=1e-3
    )
    lost = {
        ((run.job, round(run.occurrence * 1e6)), machine.machine)
        for run in plain.runs
        for machine in run.machines
        if run.outcome != "skipped" and machine.outcome != "done" and machine.ended > at
    }
    assert {(key, m) for key, each in found.undone.items() for m in each} == lost


def test_draws_are_those_of_varied_plans():
    """A draw is a simulation of the plan with its factors; here of change, which a plan can say."""
    plan = larkmoor_plan()
    night = night_of(FRIDAY, planner_zone(plan))
    # Nothing moves yet: of what moves, the totals are another draw's.
    at = night.start + 35 * MINUTE
    rest = rest_of(*in_the_middle_of(plan, night, at))
    drawn = rest.draws_of(rest.plan)
    drawn._rates = np.zeros_like(drawn._rates)
    drawn._streams = np.zeros_like(drawn._streams)
    walk = drawn.walk(5)
    factors = walk.layout.member["change"] / drawn.layout.member["change"]
    machines = dict(zip(walk.layout.member["machine"].tolist(), factors.tolist(), strict=True))
    assert min(factors) < 0.8
    assert max(factors) > 1.25
    varied = replace(
        rest.plan,
        machines=tuple(
            replace(machine, daily_change=machine.daily_change * machines.get(i, 1.0))
            for i, machine in enumerate(rest.plan.machines)
        ),
    )
    told = ends_of(simulate(varied, at, rest.until))
    assert told != ends_of(rest.expected)
    assert told == pytest.approx(tally(walk).ends, abs=1e-3)


def test_an_outlook_has_an_edge_around_what_is_expected(friday):
    under_way, predicted, night, _ = friday
    rest = rest_of(under_way, night, predicted)
    found = outlook(rest, draws=60)
    assert isinstance(found, Outlook)
    assert found == outlook(rest, draws=60), "the same each time"
    assert found.verdict == "over" and found.fits == 0.0
    known = [run for run in found.runs if run.middle is not None]
    assert all(run.early <= run.middle <= run.late for run in known)
    office = next(run for run in known if run.job == "office-files")
    assert office.early < office.expected_end < office.late
    assert office.late - office.early > 20 * 60
    assert office.late_share > 0.9
    lab = next(run for run in found.runs if run.job == "lab-builds")
    assert len(lab.likely_missed) == 16
    assert found.early_end < found.last_end < found.late_end


# --- what the night has shown -------------------------------------------------------------------


def told_runs(plan, night, until, world_of):
    """The ledger's records of a night that goes as a plan in another world says."""
    runs = {
        (run.job, run.occurrence): run
        for run in predicted_runs(simulate(plan, night.start, night.end), night)
    }
    performance = as_planned(world_of(plan), night.start)
    for told in performance.advance(until) + performance.progress():
        event = event_from(told)
        if event.occurrence is not None:
            note_event(plan, runs, event)
    return list(runs.values()), performance


def slower(plan, factor):
    told = plan.transports
    return replace(
        plan,
        transports=replace(
            told,
            **{
                f"{kind}_mib_per_s": getattr(told, f"{kind}_mib_per_s") * factor
                for kind in ("direct", "hot_add", "network", "agent")
            },
        ),
        proxies=tuple(
            proxy if proxy.mib_per_s is None else replace(proxy, mib_per_s=proxy.mib_per_s * factor)
            for proxy in plan.proxies
        ),
    )


def machine_run(machine, ratio, transport="hot_add", limited="transport", kind="incremental"):
    """A machine-run predicted at 100 MiB/s for 100 s, that went at another rate."""
    parts = [["moving", 100.0, limited]]
    source = 100.0 * 100 * 2**20
    record = MachineRecord(
        machine, outcome="done", kind=kind, queued=0.0, start=0.0, prepared=10.0,
        moved=10.0 + 100.0 / ratio, released=300.0, ended=400.0, source_bytes=source,
        predicted={"parts": parts, "source_bytes": source, "kind": kind},
    )  # fmt: skip
    record.disks = {"d": DiskRecord("d", source, source, "quay-p1", transport, moved=True)}
    return record


def run_of(*records):
    run = RunRecord("nightly-vms", 0.0)
    run.machines = {record.machine: record for record in records}
    return run


def test_few_runs_tell_little_and_many_tell_all():
    plan = larkmoor_plan()
    names = [m.id for m in plan.machines if m.kind == "vm"]
    one = shown_by(plan, [run_of(machine_run(names[0], 0.5))], 1e4)["stream:hot_add"]
    many = shown_by(plan, [run_of(*(machine_run(n, 0.5) for n in names[:60]))], 1e4)[
        "stream:hot_add"
    ]
    assert 0.5 < many.factor < 0.52 and many.runs == 60
    assert 0.75 < one.factor < 0.85, "drawn to the plan"
    assert many.error < 0.02 < one.error < night_spreads.STREAM
    # m = median · n / (n + s²/s0²), of section "What a night has shown".
    weight = (night_spreads.STREAM_NOISE / night_spreads.STREAM) ** 2
    assert one.log_factor == pytest.approx(math.log(0.5) / (1 + weight))


def test_a_run_that_is_far_off_moves_little():
    plan = larkmoor_plan()
    names = [m.id for m in plan.machines if m.kind == "vm"]
    usual = [machine_run(n, 0.9) for n in names[:9]]
    alone = shown_by(plan, [run_of(*usual)], 1e4)["stream:hot_add"]
    odd = shown_by(plan, [run_of(*usual, machine_run(names[9], 0.001))], 1e4)["stream:hot_add"]
    assert odd.factor == pytest.approx(alone.factor, abs=0.02)


def test_a_rate_is_that_of_what_limited_it():
    plan = larkmoor_plan()
    names = [m.id for m in plan.machines if m.kind == "vm"]
    runs = [run_of(*(machine_run(n, 0.7, limited="proxy:quay-p2") for n in names[:20]))]
    found = shown_by(plan, runs, 1e4)
    assert [what for what in found if not what.startswith("change:")] == ["proxy:quay-p2"]
    better = corrected(plan, found, 1.0)
    was = {p.id: p.mib_per_s for p in plan.proxies}
    now = {p.id: p.mib_per_s for p in better.proxies}
    assert now["quay-p2"] == pytest.approx(was["quay-p2"] * found["proxy:quay-p2"].factor)
    assert {k: v for k, v in now.items() if k != "quay-p2"} == {
        k: v for k, v in was.items() if k != "quay-p2"
    }
    assert better.transports == plan.transports


def test_a_correction_fades():
    weights = [fading(hours * HOUR, 6 * HOUR) for hours in (0, 1, 6, 24)]
    assert weights[0] == 1.0
    assert weights == sorted(weights, reverse=True) and weights[-1] > 0.0
    assert weights[2] == pytest.approx(1.0 - math.exp(-1.0))
    plan = larkmoor_plan()
    shown = {"stream:hot_add": Shown("stream:hot_add", math.log(0.5), 0.01, 50)}
    soon, late = (
        corrected(plan, shown, weight).transports.hot_add_mib_per_s
        for weight in (weights[0], weights[-1])
    )
    assert soon == pytest.approx(plan.transports.hot_add_mib_per_s / 2)
    assert soon < late < plan.transports.hot_add_mib_per_s


def test_a_slow_night_is_seen_to_end_later():
    """At 01:20 of a night in which all streams are slower, the end is told better than planned."""
    plan = larkmoor_plan()
    night = night_of(FRIDAY, planner_zone(plan))
    at = night.start + 13 * HOUR + 20 * 60

    def world(told):
        return slower(told, 0.8)

    runs, performance = told_runs(plan, night, at, world)
    under_way = replace(plan, state=performance.state())
    rest = rest_of(under_way, night, runs)
    true_plan = replace(world(plan), state=performance.state())
    true = ends_of(simulate(true_plan, at, rest.until))
    as_planned_ends = ends_of(simulate(under_way, at, rest.until))
    told = ends_of(rest.expected)
    off = [abs(told[k] - e) for k, e in true.items() if e is not None and told.get(k)]
    was_off = [
        abs(as_planned_ends[k] - e)
        for k, e in true.items()
        if e is not None and as_planned_ends.get(k)
    ]
    assert sum(off) < 0.7 * sum(was_off)
    streams = [each for what, each in rest.shown.items() if what.startswith("stream:")]
    assert streams and all(each.factor < 1.0 for each in streams if each.runs >= 3)


def told_and_true(plan, hours):
    """When the runs of Friday end, by what was told by some hours after noon and by what moved."""
    night = night_of(FRIDAY, planner_zone(plan))
    at = night.start + hours * HOUR
    runs, performance = told_runs(plan, night, at, lambda told: told)
    told = replace(plan, state=state_from(plan, performance.state().points, runs, at))
    true = ends_of(simulate(replace(plan, state=performance.state()), at, night.end))
    found = ends_of(simulate(told, at, night.end))
    assert found.keys() == true.keys() and len(true) > 20
    return [(found[key], end) for key, end in true.items() if end is not None]


@pytest.mark.parametrize("hours", [9, 10, 11, 13, 15])
def test_the_rest_that_was_told_is_the_rest_that_comes(hours):
    """A machine whose small disks are through, and whose large one moves, reads only that one."""
    plan = larkmoor_plan()
    plan = replace(plan, jobs=tuple(replace(job, copies=()) for job in plan.jobs))
    for found, true in told_and_true(plan, hours):
        assert found == pytest.approx(true, abs=30.0)


def test_copies_that_wait_are_made_in_the_rest_of_the_night():
    plan = larkmoor_plan()
    ends = told_and_true(plan, 10)
    assert [found for found, _ in ends] == pytest.approx([true for _, true in ends], abs=90.0)
    # How much of a copy has moved by now nobody tells: it counts as not begun.
    assert all(found > true - 90.0 for found, true in told_and_true(plan, 13))


def test_where_changes_are_not_tracked_a_machine_reads_as_much_whatever_changed():
    plan = larkmoor_plan()
    job = plan.job_by_id["office-desks"]
    assert not job.tracking
    night = night_of(date(2026, 11, 4), planner_zone(plan))
    at = night.start + 10 * HOUR
    runs, performance = told_runs(plan, night, at, lambda told: told)
    rest = rest_of(replace(plan, state=performance.state()), night, runs)
    only_change = NightSpreads(stream=0.0, rate=0.0, change=0.3, own_change=0.3)
    draws = replace(rest, spreads=only_change, shown={}).draws_of(rest.plan)
    jobs = draws._under_way.runs["job"][draws._under_way.tasks["run"]]
    moving = {plan.jobs[i].tracking for i in jobs[draws._under_way.disks["task"]]}
    assert moving == {True, False}
    work = draws._under_way.disks["work"]
    varied = draws.walk(1).world.transfer["work"][: len(work)]
    tracked = np.array([plan.jobs[i].tracking for i in jobs[draws._under_way.disks["task"]]])
    assert varied[~tracked] == pytest.approx(work[~tracked])


def test_what_was_stored_tells_of_change_where_all_is_read():
    plan = larkmoor_plan()
    job = plan.job_by_id["office-desks"]
    machine = plan.machine_by_id["office-desk-01"]
    record = machine_run(machine.id, 1.0)
    record.stored_bytes, record.predicted["stored_bytes"] = 3e9, 1e9
    run = RunRecord(job.id, 0.0)
    run.machines = {machine.id: record}
    ((what, told),) = changes_told(plan, [run]).items()
    assert (what, told) == ("change:office", [pytest.approx(math.log(3.0))])
    # Of many runs a machine still tells one thing only.
    assert len(changes_told(plan, [run] * 9)[what]) == 1


@pytest.mark.parametrize("bad", ["no span", "no bytes", "gone", "backwards"])
def test_a_ledger_that_is_off_tells_nothing(bad):
    plan = larkmoor_plan()
    record = machine_run(plan.machines[0].id, 1.0)
    if bad == "no span":
        record.moved = record.prepared
    elif bad == "no bytes":
        record.source_bytes, record.disks = 0.0, {}
    elif bad == "gone":
        record.machine = "nobody"
    else:
        record.moved = record.prepared - 100.0
    run = RunRecord("nightly-vms", 0.0)
    run.machines = {record.machine: record}
    found = shown_by(plan, [run], 1e4)
    assert not any(what.startswith("stream") for what in found)
    assert all(math.isfinite(each.log_factor) for each in found.values())


def test_the_morning_is_told_what_the_night_showed():
    plan = larkmoor_plan()
    names = [m.id for m in plan.machines if m.kind == "vm"][:30]
    slow = run_of(*(machine_run(name, 0.7, limited="proxy:quay-p2") for name in names))
    (line,) = taught(plan, [slow], 1e4)
    factor = shown_by(plan, [slow], 1e4)["proxy:quay-p2"].factor
    assert line == f"Proxy quay-p2: {factor:.2f} times the planned rate, from 30 machines"
    assert taught(plan, [run_of(*(machine_run(name, 1.02) for name in names))], 1e4) == []


# --- orders that hold tonight -------------------------------------------------------------------


def test_what_holds_tonight_changes_the_plan_and_nothing_else():
    plan = larkmoor_plan()
    job = "lab-builds"
    held = lasting(plan, Order("hold tonight", job))
    assert held.job_by_id[job].on_hold
    passing = lasting(plan, Order("let pass", job))
    first = passing.job_by_id[job].priority
    assert all(j.priority < first for j in passing.jobs if j.id != job)
    more = lasting(plan, Order("more slots", "", proxy="quay-p2", slots=3))
    slots = {p.id: p.slots for p in plan.proxies}
    assert {p.id: p.slots - slots[p.id] for p in more.proxies if p.slots != slots[p.id]} == {
        "quay-p2": 3
    }
    for changed in (held, passing, more):
        assert replace(changed, jobs=plan.jobs, proxies=plan.proxies) == plan
    with pytest.raises(OrderRefused, match="on hold already"):
        lasting(held, Order("hold tonight", job))
    with pytest.raises(OrderRefused, match="no proxy"):
        lasting(plan, Order("more slots", "", proxy="nobody", slots=1))
    orders = [Order("hold tonight", job), Order("hold tonight", job), Order("hold", "gone")]
    assert while_they_hold(plan, orders) == held


def test_a_night_under_orders_is_the_night_of_the_plan_that_they_make(friday):
    under_way, _, night, at = friday
    for order in (Order("let pass", "lab-builds"), Order("no verify", "database-servers")):
        by_order = simulate(ordered(under_way, order), at, night.end)
        by_hand = simulate(while_they_hold(under_way, [order]), at, night.end)
        assert ends_of(by_order) == ends_of(by_hand)
        assert order_in_words(under_way, order).endswith("tonight")


# --- what would help ----------------------------------------------------------------------------


@pytest.fixture(scope="module")
def helps(friday):
    under_way, predicted, night, _ = friday
    return what_would_help(rest_of(under_way, night, predicted), (), draws=20)


def test_what_would_help_saves_more_than_it_costs(helps):
    assert helps, "Friday can be helped"
    for help_ in helps:
        assert help_.after.is_less_than(help_.before)
        assert help_.brings
        assert help_.words == order_in_words(larkmoor_plan(), help_.order)
    assert [h.after.rank for h in helps] == sorted(h.after.rank for h in helps)


def test_the_first_order_saves_the_machines_that_it_said(friday, helps):
    """Given to the stand-in at 01:20, it brings what was told; without it they are lost."""
    plan = larkmoor_plan()
    _, _, night, at = friday
    first = helps[0]
    assert len(first.saved) == 16

    def lost(order):
        performance = as_planned(plan, night.start)
        performance.advance(at)
        if order is not None:
            events = performance.order(1, order)
            assert events[-1]["outcome"] == "done"
        told = performance.advance(night.end)
        return {
            (event["job"], event["machine"])
            for event in told
            if event["what"] == "machine ended" and event["outcome"] != "done"
        }

    assert set(first.saved) <= lost(None)
    assert not set(first.saved) & lost(first.order)


def test_a_quiet_night_needs_no_help():
    plan = larkmoor_plan()
    night = night_of(date(2026, 11, 3), planner_zone(plan))
    under_way, predicted = in_the_middle(plan, night, night.start + 10 * HOUR)
    assert what_would_help(rest_of(under_way, night, predicted), (), draws=5) == []


def test_a_run_that_is_skipped_in_some_draws_only_stops_nothing():
    plan = larkmoor_plan()
    night = night_of(FRIDAY, planner_zone(plan))
    at = night.start + 9 * HOUR
    rest = rest_of(*in_the_middle_of(plan, night, at))
    drawn = rest.draws_of(rest.plan)
    kept = [frozenset(tally(drawn.walk(number)).ends) for number in range(40)]
    assert len(set(kept)) > 1, "the case that is meant"
    for found in what_would_help(rest, ()):
        assert found.after.rank <= found.before.rank and found.brings
