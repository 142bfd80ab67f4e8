"""Sizing advice: everything given was simulated, the smallest amount, and the bound holds."""

from datetime import date

import pytest
from generated import plans
from hypothesis import given, settings
from plans import DAY, FRIDAY_NOON, small_file, weekly, window

from gambrel.core.edits.operations import apply_all
from gambrel.core.loads.night_loads import loads_in_spans
from gambrel.core.nights.nights import night_of, night_outcome
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions import sizing
from gambrel.core.simulation.simulate import simulate
from gambrel.demo import larkmoor

FRIDAY = night_of(date(2026, 11, 6), "Europe/Dublin")
FROM, TO = FRIDAY_NOON - 4 * DAY, FRIDAY_NOON + 3 * DAY


@pytest.fixture(scope="module")
def friday():
    return simulate(read_plan(larkmoor()), FROM, TO)


def play(plan):
    return simulate(plan, FROM, TO)


def tried(forecast):
    before = sizing.state_of(forecast, FRIDAY)
    loads = sizing.pressed(forecast, FRIDAY)
    reasons = night_outcome(forecast, FRIDAY).reasons
    for remedy in sizing.remedies(forecast.plan, loads, reasons):
        yield remedy, sizing.try_remedy(remedy, forecast.plan, before, FRIDAY, play)


def test_the_demo_friday_lacks_reading_and_the_advice_says_which(friday):
    helped = {remedy.key: advice for remedy, advice in tried(friday) if advice is not None}
    assert {"unpin quay-p2", "proxy like quay-p2"} <= set(helped)
    for advice in helped.values():
        again = sizing.state_of(play(apply_all(friday.plan, advice.operations)), FRIDAY)
        assert again == advice.after
        assert again.weight <= sizing.CLEARLY_LESS * advice.before.weight
        assert not again.week.is_worse_than(advice.before.week)


def test_remedies_together_make_it_fit_with_the_smallest_amount(friday):
    unpin = next(advice for remedy, advice in tried(friday) if remedy.key == "unpin quay-p2")
    freed = play(apply_all(friday.plan, unpin.operations))
    found = {remedy.key: (remedy, advice) for remedy, advice in tried(freed) if advice}
    remedy, advice = found["read_mib_per_s of quay-dedupe"]
    assert advice.fits
    chosen = [operations for operations, _ in remedy.amounts].index(advice.operations)
    if chosen:
        less = play(apply_all(freed.plan, remedy.amounts[chosen - 1][0]))
        assert sizing.state_of(less, FRIDAY).weight > 0


def test_what_could_go_leaves_the_week_as_it_is(friday):
    given_up = {
        remedy.key: sizing.try_without(remedy, friday, FRIDAY, play)
        for remedy in sizing.spare(friday, FRIDAY)
    }
    assert given_up["without quay-p3"] is not None
    # Without this one three more runs would be skipped.
    assert given_up["without quay-p1"] is None
    assert given_up["without quay-p4"] is None
    for advice in given_up.values():
        if advice is not None:
            without = play(apply_all(friday.plan, advice.operations))
            after = sizing.state_of(without, FRIDAY)
            assert not after.week.is_worse_than(advice.before.week)


def test_a_night_that_fits_needs_nothing(friday):
    monday = night_of(date(2026, 11, 2), "Europe/Dublin")
    assert sizing.state_of(friday, monday).weight == 0


def test_what_must_pass_is_told_by_its_share(friday):
    needs = sizing.needs(friday, FRIDAY)
    shares = [need.share for need in needs]
    assert shares == sorted(shares, reverse=True)
    link = next(need for need in needs if need.name == "link:quay-hill")
    assert link.from_ < link.earliest < link.by
    assert "mail" in link.jobs or link.bytes > 0


@settings(max_examples=40, deadline=None)
@given(plans())
def test_nothing_ends_before_the_bound_says_it_can(plan):
    """The last byte over a resource never passes before the earliest instant that is computed."""
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
    for need in sizing.needs(forecast, FRIDAY):
        rows = forecast.loads.uses_of(forecast.topology.resource(need.name))
        of_jobs = [plan.job_position[job] for job in need.jobs]
        ends = [row["end"] for row in rows if row["job"] in of_jobs and row["end"] > need.from_]
        assert need.earliest <= max(ends) + 1e-3


# --- small nights, counted by hand --------------------------------------------------------------


def slow_link(mbit_per_s, closes="06:00", **link):
    """Two machines of 40 GiB, all of it read, compressed 1.6 to 1, over a link to a second site."""
    file = small_file(
        sites=[{"id": s, "time_zone": "Europe/Dublin"} for s in ("quay", "hill")],
        links=[{"id": "wan", "between": ["quay", "hill"], "mbit_per_s": mbit_per_s, **link}],
        repositories=[{"id": "vault", "site": "hill", "read_mib_per_s": 200}],
        windows=[window("20:00", closes)],
    )
    file["jobs"][0]["schedules"] = [weekly("full", "FR", "20:00")]
    return read_plan(file)


def night_of_small(plan):
    return simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)


WIRE_BYTES = 2 * 40 * 2**30 / 1.6


@pytest.mark.parametrize("rate", [20, 100, 400])
def test_the_need_of_a_link_is_bytes_over_what_it_carries_until_the_window_ends(rate):
    need = sizing.needs(night_of_small(slow_link(rate)), FRIDAY)[0]
    assert need.name == "link:wan"
    assert need.bytes == pytest.approx(WIRE_BYTES)
    assert need.share == pytest.approx(WIRE_BYTES / (rate * 125_000 * 10 * 3600))
    assert need.earliest - need.from_ == pytest.approx(WIRE_BYTES / (rate * 125_000))


def test_a_limit_by_hour_counts_in_the_bound_and_so_does_encryption():
    closed = {"days": ["fri"], "from": "21:00", "to": "23:00", "mbit_per_s": 0}
    need = sizing.needs(night_of_small(slow_link(100, limits=[closed])), FRIDAY)[0]
    assert need.share == pytest.approx(WIRE_BYTES / (100 * 125_000 * 8 * 3600))
    assert need.earliest - need.from_ == pytest.approx(WIRE_BYTES / (100 * 125_000) + 2 * 3600)
    cost = {"encrypted": True, "encryption_factor": 0.5}
    secret = sizing.needs(night_of_small(slow_link(100, **cost)), FRIDAY)[0]
    assert secret.share == pytest.approx(2 * WIRE_BYTES / (100 * 125_000 * 10 * 3600))


def test_an_encrypted_link_makes_a_run_take_as_much_longer():
    plain = night_of_small(slow_link(100)).runs[0]
    cost = {"encrypted": True, "encryption_factor": 0.5}
    secret = night_of_small(slow_link(100, **cost)).runs[0]
    moving = [
        max(m.moved for m in run.machines) - min(m.start for m in run.machines)
        for run in (plain, secret)
    ]
    assert moving[1] == pytest.approx(2 * moving[0], rel=0.02)


def test_a_link_that_cannot_carry_a_night_is_advised_as_wide_as_it_must_be():
    plan = slow_link(100, closes="21:00")
    forecast = night_of_small(plan)
    assert sizing.needs(forecast, FRIDAY)[0].share > 1
    before = sizing.state_of(forecast, FRIDAY)
    assert before.verdict == "over"
    found = sizing.remedies(
        plan, sizing.pressed(forecast, FRIDAY), night_outcome(forecast, FRIDAY).reasons
    )
    wider = next(remedy for remedy in found if remedy.key == "mbit_per_s of wan")
    advice = sizing.try_remedy(wider, plan, before, FRIDAY, night_of_small)
    assert advice.fits
    assert "in place of 100" in advice.words
    smaller = [ops for ops, _ in wider.amounts].index(advice.operations)
    for operations, _ in wider.amounts[:smaller]:
        less = sizing.state_of(night_of_small(apply_all(plan, operations)), FRIDAY)
        assert less.weight > 0
    assert not any(remedy.key.startswith("slots at") for remedy in found)


def test_more_slots_go_to_the_proxies_with_the_fewest():
    plan = read_plan(
        small_file(
            proxies=[
                {"id": "p1", "site": "quay", "slots": 1, "on_host": "h1"},
                {"id": "p2", "site": "quay", "slots": 3, "on_host": "h1"},
            ]
        )
    )
    forecast = night_of_small(plan)
    ((load,),) = loads_in_spans(forecast, ["slots:proxy:p1"], [(FRIDAY.start, FRIDAY.end)], 1)
    found = {remedy.key: remedy for remedy in sizing.remedies(plan, [load])}
    amounts = found["slots at site quay"].amounts
    dealt = [{p.id: p.slots for p in apply_all(plan, ops).proxies} for ops, _ in amounts[:4]]
    assert dealt == [
        {"p1": 2, "p2": 3}, {"p1": 3, "p2": 3}, {"p1": 4, "p2": 3}, {"p1": 4, "p2": 4},
    ]  # fmt: skip
    assert found["slots at p1"].amounts[0][1] == "1 more slot at p1"


def test_one_more_proxy_reads_what_the_first_reads_and_serves_those_pinned_to_it():
    file = small_file(proxies=[{"id": "p1", "site": "quay", "slots": 1, "on_host": "h1",
                                "left_out_datastores": ["store"]}])  # fmt: skip
    file["datastores"][0]["zoned_proxies"] = ["p1"]
    file["jobs"][0]["proxies"] = ["p1"]
    plan = read_plan(file)
    forecast = night_of_small(plan)
    ((load,),) = loads_in_spans(forecast, ["slots:proxy:p1"], [(FRIDAY.start, FRIDAY.end)], 1)
    found = {remedy.key: remedy for remedy in sizing.remedies(plan, [load])}
    changed = apply_all(plan, found["proxy like p1"].amounts[0][0])
    assert [proxy.id for proxy in changed.proxies] == ["p1", "p1-2"]
    assert changed.direct_by_proxy["p1-2"] == plan.direct_by_proxy["p1"] == frozenset()
    assert changed.jobs[0].proxies == ("p1", "p1-2")
    locked = read_plan({**file, "jobs": [{**file["jobs"][0], "locked": True}]})
    assert "unpin p1" not in {remedy.key for remedy in sizing.remedies(locked, [load])}
