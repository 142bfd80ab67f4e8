"""The day of the loss: what is gone, where it goes, when it is back, what is proposed."""

from dataclasses import replace
from datetime import date
from math import inf

import pytest
from estates import larkmoor_plan
from generated import plans
from hypothesis import assume, given, settings
from hypothesis import strategies as st
from plans import DAY, FRIDAY_NOON

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.nights.nights import night_of
from gambrel.core.recovery.coming_back import Way, recover
from gambrel.core.recovery.loss import Loss, loss_in_words, lost_with
from gambrel.core.recovery.proposing import proposals
from gambrel.core.simulation import reference
from gambrel.core.simulation.simulate import simulate
from gambrel.core.units import HOUR

NIGHT = night_of(date(2026, 11, 6), "Europe/Dublin")
AT = NIGHT.start + 14 * HOUR


@pytest.fixture(scope="module")
def estate():
    """The sample with the points that it has on Saturday at 02:00."""
    plan = larkmoor_plan()
    forecast = simulate(plan, night_of(date(2026, 11, 2), "Europe/Dublin").start, NIGHT.end)
    return plan, list(forecast.history.at(AT))


def lose(estate, way=None, **what):
    plan, points = estate
    return recover(plan, points, Loss(AT, **what), way or Way(at_once=4))


def test_a_cluster_takes_its_machines_and_proxies_with_it():
    plan = larkmoor_plan()
    loss = Loss(AT, clusters=("quay-a",))
    lost = lost_with(plan, loss)
    assert lost.hosts == {h.id for h in plan.hosts if h.cluster == "quay-a"}
    assert {m.id for m in lost.machines} == {m.id for m in plan.machines if m.host in lost.hosts}
    assert loss_in_words(plan, loss, lost) == f"cluster quay-a: {len(lost.machines)} machines"
    whole = lost_with(plan, Loss(AT, sites=("quay",)))
    assert whole.repositories == {r.id for r in plan.repositories if r.site == "quay"}
    assert whole.proxies == {p.id for p in plan.proxies if p.site == "quay"}
    assert {m.kind for m in whole.machines} == {"vm", "server"}


@pytest.mark.parametrize(
    ("what", "field"),
    [
        ({}, "loss"),
        ({"hosts": ("ghost",)}, "loss.hosts[0]"),
        ({"machines": ("mail-01", "ghost")}, "loss.machines[1]"),
        ({"clusters": ("",)}, "loss.clusters[0]"),
    ],
)
def test_what_a_plan_does_not_have_cannot_be_lost(estate, what, field):
    with pytest.raises(OperationError) as told:
        lose(estate, **what)
    assert told.value.field == field


@pytest.mark.parametrize(
    ("way", "field"),
    [
        (Way(to_site="nowhere"), "to_site"),
        (Way(to_site="quay"), "to_site"),
        (Way(at_once=0), "at_once"),
        (Way(begins=AT - HOUR), "begins"),
        (Way(begins=AT + 8 * DAY), "begins"),
        (Way(targets={"mail-01": "ghost"}), "targets.mail-01"),
        (Way(targets={"mail-01": "qa-h1"}), "targets.mail-01"),
    ],
)
def test_a_way_that_cannot_be_says_which_part_of_it(estate, way, field):
    with pytest.raises(OperationError) as told:
        lose(estate, way, sites=("quay",))
    assert told.value.field == field


def test_machines_of_a_lost_cluster_go_to_the_rest_of_their_site_and_come_back_by_promise(estate):
    plan, _ = estate
    found = lose(estate, clusters=("quay-a",))
    assert all(row.outcome == "done" for row in found.rows)
    assert {plan.host_by_id[row.target].site for row in found.rows} == {"quay"}
    assert not {row.target for row in found.rows} & found.lost.hosts
    promised = [plan.machine_by_id[row.machine].rto_hours for row in found.rows]
    assert promised == sorted(promised)
    # No more of them are under way at one time than was asked for.
    changes = sorted([(r.whole, -1) for r in found.rows] + [(r.start, 1) for r in found.rows])
    under_way = 0
    for _, change in changes:
        under_way += change
        assert under_way <= 4


def test_machines_of_a_lost_site_go_where_their_points_are_and_the_others_have_none(estate):
    plan, points = estate
    found = lose(estate, sites=("quay",))
    elsewhere = {p.machine for p in points if plan.repository_by_id[p.repository].site != "quay"}
    for row in found.rows:
        assert (row.outcome == "done") == (row.machine in elsewhere)
        if row.outcome == "done":
            assert row.point.repository not in found.lost.repositories
            near = plan.repository_by_id[row.point.repository].site
            assert plan.host_by_id[row.target].site == near
        else:
            assert (row.outcome, row.late_s(AT)) == ("no point", inf)


def test_a_server_of_a_lost_site_becomes_a_vm_and_one_at_its_own_site_stays_what_it_is(estate):
    found = lose(estate, sites=("quay",))
    servers = [row for row in found.rows if found.plan.machine_by_id[row.machine].host == row.target
               and row.as_vm]  # fmt: skip
    assert servers
    alone = lose(estate, machines=("mail-01",))
    assert [(row.as_vm, row.target) for row in alone.rows] == [(False, None)]
    sent = lose(estate, Way(targets={"mail-01": "ha-h1"}), machines=("mail-01",))
    assert [(row.as_vm, row.target) for row in sent.rows] == [(True, "ha-h1")]


def test_an_order_instant_starts_and_a_later_beginning_are_kept_to(estate):
    before = lose(estate, clusters=("quay-a",))
    last = before.rows[-1].machine
    way = Way(begins=AT + HOUR, order=(last,), at_once=4, instant=frozenset({last}))
    found = lose(estate, way, clusters=("quay-a",))
    first = found.rows[0]
    assert (first.machine, first.method, first.start) == (last, "instant", AT + HOUR)
    assert first.back == pytest.approx(first.start + found.set_up_s(first))
    assert first.whole > first.back


def test_other_backups_may_go_on_and_what_is_lost_is_not_backed_up(estate):
    still = lose(estate, clusters=("quay-a",))
    assert not still.forecast.runs
    found = lose(estate, Way(at_once=4, goes_on=True), clusters=("quay-a",))
    lost = {machine.id for machine in found.lost.machines}
    ran = {m.machine for run in found.forecast.runs for m in run.machines}
    assert ran and not ran & lost


def test_no_order_is_better_than_the_bound(estate):
    for what in ({"clusters": ("quay-a",)}, {"sites": ("quay",)}):
        for at_once in (None, 2, 16):
            found = lose(estate, Way(at_once=at_once), **what)
            for tier, bound in found.bounds.items():
                last = max(row.back for row in found.rows if row.tier == tier and row.back)
                assert bound.at <= last + 0.01, tier


def test_what_is_proposed_is_better_and_comes_out_as_it_says(estate):
    plan, points = estate
    loss = Loss(AT, clusters=("quay-a",))
    now = recover(plan, points, loss, Way(at_once=2))
    assert now.late
    found = proposals(plan, now, lambda way: recover(plan, points, loss, way), within_s=20)
    assert found
    scores = [each.recovery.score for each in found]
    assert scores == sorted(scores) and scores[0] < now.score
    assert not found[0].recovery.late
    again = recover(plan, points, loss, found[0].recovery.way)
    assert again.score == found[0].recovery.score


def test_nothing_is_proposed_where_nothing_helps(estate):
    plan, points = estate
    loss = Loss(AT, machines=("gate-01",))
    now = recover(plan, points, loss, Way())
    assert proposals(plan, now, lambda way: recover(plan, points, loss, way)) == []


@settings(max_examples=40, deadline=None)
@given(plans(), st.integers(0, 3), st.sampled_from([None, 1, 2]), st.booleans())
def test_a_recovery_is_a_plain_simulation_of_its_plan(plan, host, at_once, goes_on):
    assume(plan.hosts and plan.machines)
    lost = plan.hosts[host % len(plan.hosts)].id
    before = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
    at = FRIDAY_NOON + 14 * HOUR
    loss = Loss(at, hosts=(lost,))
    found = recover(plan, list(before.history.at(at)), loss, Way(at_once=at_once, goes_on=goes_on))
    assert {row.machine for row in found.rows} == {m.id for m in plan.machines if m.host == lost}
    if found.forecast is None:
        assert all(row.outcome == "no target" for row in found.rows)
        return
    plain = reference.simulate(found.plan, at, found.forecast.to)
    for run in plain.restores:
        row = next(row for row in found.rows if row.machine == run.machine)
        assert row.outcome == run.outcome
        for name in ("start", "back"):
            said, came = getattr(row, name), getattr(run, name)
            assert said == (came if came is None else pytest.approx(came, abs=0.01))
        assert row.point == run.point


def test_a_loss_is_looked_at_with_the_growth_of_the_plan(estate):
    plan, points = estate
    grown = replace(plan, state=replace(plan.state, sizes_as_of=AT - 400 * DAY))
    name = "mail-01"
    machines = tuple(
        replace(m, facts=replace(m.facts, growth_per_year=0.5)) if m.id == name else m
        for m in grown.machines
    )
    was = lose((plan, points), machines=(name,)).rows[0]
    loss = Loss(AT, machines=(name,))
    now = recover(replace(grown, machines=machines), points, loss, Way()).rows[0]
    assert now.written_bytes > 1.3 * was.written_bytes > 0


def with_memory(estate, gib):
    plan, points = estate
    hosts = tuple(
        replace(h, memory_gib=gib) if h.cluster == "quay-b" else replace(h, memory_gib=0.5)
        for h in plan.hosts
    )
    return replace(plan, hosts=hosts), points


def test_a_host_takes_no_more_than_its_memory_holds(estate):
    plan, points = with_memory(estate, 200.0)
    found = recover(plan, points, Loss(AT, clusters=("quay-a",)), Way(at_once=4))
    on = {h.id: [m for m in plan.machines if m.host == h.id and m.powered_on] for h in plan.hosts}
    needs = {m.id: m.memory_gib for m in plan.machines}
    sent: dict[str, float] = {}
    for row in found.rows:
        if row.target is not None:
            sent[row.target] = sent.get(row.target, 0.0) + needs[row.machine]
    assert sent and {plan.host_by_id[h].cluster for h in sent} == {"quay-b"}
    for host, gib in sent.items():
        assert gib + sum(m.memory_gib for m in on[host]) <= 200.0
    left = [row for row in found.rows if row.outcome == "no target"]
    assert left and all(row.target is None and row.back is None for row in left)
    for row in left:
        # Nobody who was dealt a place later left it room.
        free = [200.0 - sent.get(h, 0.0) - sum(m.memory_gib for m in on[h]) for h in sent]
        assert needs[row.machine] > max(free)


def test_a_target_without_room_is_refused_by_name(estate):
    plan, points = with_memory(estate, 1.0)
    with pytest.raises(OperationError) as told:
        way = Way(targets={"finance-db-01": "qb-h1"})
        recover(plan, points, Loss(AT, machines=("finance-db-01",)), way)
    assert told.value.field == "targets.finance-db-01"
    assert "memory left" in told.value.reason


def test_bad_points_are_left_out_of_a_recovery(estate):
    plan, points = estate
    good = recover(plan, points, Loss(AT, machines=("mail-01",)), Way())
    used = good.rows[0].point
    marked = [
        p._replace(usable=False) if (p.machine, p.at) == ("mail-01", used.at) else p for p in points
    ]
    found = recover(plan, marked, Loss(AT, machines=("mail-01",)), Way()).rows[0]
    assert found.outcome == "done" and found.point.at < used.at
