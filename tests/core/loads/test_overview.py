"""Lanes of machines, hosts, proxies and so on."""

from functools import cache

import pytest
from balances import larkmoor_problem

from gambrel.core.loads import lanes as overview
from gambrel.core.loads.lanes import LANES_BY, lanes
from gambrel.core.simulation.simulate import simulate


@cache
def week():
    problem = larkmoor_problem()
    return simulate(problem.plan, problem.from_, problem.to)


def friday():
    return larkmoor_problem().nights[4]


@pytest.mark.parametrize("by", LANES_BY)
def test_every_lane_holds_pieces_of_the_span_in_order(by):
    night = friday()
    found, cut = lanes(week(), by, night.start, night.end)
    assert found
    assert not cut
    for lane in found:
        starts = [piece.start for piece in lane.stretches]
        assert starts == sorted(starts)
        for piece in lane.stretches:
            assert piece.start < night.end
            assert piece.end >= piece.start
            assert piece.start <= piece.moved <= piece.end or piece.mark


def test_the_slots_of_a_proxy_are_never_more_than_it_has():
    night = friday()
    found, _ = lanes(week(), "proxy", night.start, night.end)
    slots = {proxy.id: proxy.slots for proxy in week().plan.proxies}
    for lane in found:
        for piece in lane.stretches:
            at = (piece.start + piece.end) / 2
            assert sum(1 for p in lane.stretches if p.start <= at < p.end) <= slots[lane.id]


def test_machines_hosts_and_tiers_hold_the_same_work():
    night = friday()
    runs = {}
    for by in ("machine", "host", "tier"):
        found, _ = lanes(week(), by, night.start, night.end)
        runs[by] = {(s.job, s.machine, s.start) for lane in found for s in lane.stretches}
    servers = {m.id for m in week().plan.machines if m.kind == "server"}
    assert runs["machine"] == runs["tier"]
    assert runs["host"] == {run for run in runs["machine"] if run[1] not in servers}


def test_what_is_late_missed_or_skipped_is_marked():
    night = friday()
    found, _ = lanes(week(), "job", night.start, night.end)
    marks = {lane.id: {piece.mark for piece in lane.stretches} for lane in found}
    assert "past" in marks["office-files"]
    assert "undone" in marks["lab-builds"]
    assert "skipped" in marks["ticket-journal"]


def test_too_much_is_cut_and_said_so(monkeypatch):
    monkeypatch.setattr(overview, "MOST_BARS", 50)
    found, cut = lanes(week(), "machine", friday().start, friday().end)
    assert cut
    assert sum(len(lane.stretches) for lane in found) == 50
