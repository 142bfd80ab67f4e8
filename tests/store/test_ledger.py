"""The ledger in the database: batches, repetition, late events, points, pages, orders."""

from dataclasses import replace
from datetime import date, timedelta

import pytest
from plans import DAY, FRIDAY_NOON, small_plan
from runs_told import as_planned

from gambrel.core.estate.differences import renamed
from gambrel.core.ledger.events import event_from
from gambrel.core.ledger.predicting import predicted_runs
from gambrel.core.ledger.records import RunRecord
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.objects import Found
from gambrel.core.simulation.simulate import simulate
from gambrel.store import ledger, runners
from gambrel.store.acceptances import replace_estate
from gambrel.store.housekeeping import Keep, drop_old_results
from gambrel.store.ledger_models import LedgerEventRow, LedgerPointRow, in_us
from gambrel.store.models import now_utc
from gambrel.store.plans import NotFound, locked_plan, store_plan
from gambrel.store.point_checks import PointCheck, check_by_hand
from gambrel.store.point_owners import plans_whose_points_changed

PLAN = small_plan()
ZONE = "Europe/Dublin"
NIGHT = night_of(date(2026, 11, 6), ZONE)


@pytest.fixture(scope="module")
def told():
    performance = as_planned(PLAN, NIGHT.start)
    events = [event_from(raw) for raw in performance.advance(NIGHT.end)]
    return events, performance.state().points


@pytest.fixture
def plan_id(maker, request):
    with maker.begin() as db:
        return store_plan(db, request.node.name[:80], PLAN, actor="test").id


def take(maker, plan_id, events, **more):
    with maker.begin() as db:
        locked_plan(db, plan_id)
        return ledger.take_events(db, plan_id, 1, events, ZONE, {}, origin="runner", **more)


def of_night(maker, plan_id):
    with maker() as db:
        return ledger.runs_of_night(db, plan_id, NIGHT.date)


def test_a_batch_twice_is_written_once(maker, plan_id, told):
    events, _ = told
    first = take(maker, plan_id, events)
    again = take(maker, plan_id, events)
    assert (first.new, first.known) == (len(events), 0)
    assert (again.new, again.known) == (0, len(events))
    assert [run.outcome for run in of_night(maker, plan_id)] == ["done", "done"]


def test_batches_in_any_order_come_to_the_same(maker, plan_id, told):
    events, _ = told
    for first in range(len(events), -1, -7):
        take(maker, plan_id, events[max(0, first - 7) : first])
    with maker.begin() as db:
        other = store_plan(db, "the other order", PLAN, actor="test").id
    take(maker, other, events)
    assert of_night(maker, plan_id) == of_night(maker, other)


def test_what_contradicts_is_refused_and_kept_with_the_reason(maker, plan_id, told):
    events, _ = told
    take(maker, plan_id, events)
    start = next(e for e in events if e.what == "machine started")
    late = replace(start, id="late", at=start.at + 5 * 3600)
    taken = take(maker, plan_id, [late])
    assert [(ident, key) for ident, key, _ in taken.refused] == [("late", "at")]
    with maker() as db:
        kept = ledger.events_of_run(db, plan_id, start.job, start.occurrence)
    assert [refused for *_, refused in kept if refused] == ["at: is after the machine was prepared"]


def test_points_come_and_go(maker, plan_id, told):
    events, points = told
    take(maker, plan_id, events)
    with maker() as db:
        found = ledger.points_at(db, plan_id, NIGHT.end)
        newest = ledger.newest_points(db, plan_id, NIGHT.end)
        assert not ledger.points_at(db, plan_id, NIGHT.start)
    key = lambda p: (p.job, p.machine, p.kind, round(p.at, 2))  # noqa: E731
    assert sorted(map(key, found)) == sorted(map(key, points))
    assert newest == {
        m: pytest.approx(max(p.at for p in points if p.machine == m), abs=1e-3)
        for m in ("gate", "fares")
    }
    made = next(e for e in events if e.what == "point made")
    gone = replace(made, id="gone", what="point gone", at=NIGHT.end, stored_bytes=None)
    take(maker, plan_id, [gone])
    with maker() as db:
        assert len(ledger.points_at(db, plan_id, NIGHT.end + 1)) == len(points) - 1


def test_a_prediction_stands_beside_what_came_and_begun_runs_keep_theirs(maker, plan_id, told):
    events, _ = told
    forecast = simulate(PLAN, NIGHT.start, NIGHT.end)
    predicted = predicted_runs(forecast, NIGHT)

    def predict(runs, version):
        with maker.begin() as db:
            ledger.predict_night(db, plan_id, NIGHT.date, version, runs, ZONE, NIGHT.start)

    predict(predicted, 1)
    assert [run.began for run in of_night(maker, plan_id)] == [None, None]
    first = min(e.occurrence for e in events if e.occurrence)
    take(maker, plan_id, [e for e in events if e.occurrence == first])
    # A plan adopted meanwhile moves the run that has not begun.
    moved = RunRecord("nightly", first + 7200, "full", predicted={"ended": 1.0})
    predict([moved], 2)
    runs = of_night(maker, plan_id)
    assert [run.occurrence for run in runs] == [first, first + 7200]
    assert runs[0].predicted == predicted[0].predicted
    assert runs[0].machines["gate"].predicted["parts"]


def test_a_follower_takes_over_its_prediction(maker, plan_id, told):
    events, _ = told
    first = min(e.occurrence for e in events if e.occurrence)
    said = RunRecord("nightly", first - 600, "full", predicted={"ended": first + 60.0})
    with maker.begin() as db:
        ledger.predict_night(db, plan_id, NIGHT.date, 1, [said], ZONE, NIGHT.start)
    take(maker, plan_id, [e for e in events if e.occurrence == first], followers={"nightly"})
    runs = of_night(maker, plan_id)
    assert [(run.occurrence, run.predicted) for run in runs] == [(first, said.predicted)]


def test_what_is_left_is_open_until_it_is_cleaned_up(maker, plan_id):
    def told_at(ident, what, at):
        return event_from(
            {"id": ident, "what": what, "at": at, "machine": "gate", "left": "locked"}
        )

    take(maker, plan_id, [told_at("1", "left behind", "2026-11-06T22:00:00Z")])
    with maker() as db:
        assert [x.machine for x in ledger.left_overs(db, plan_id)] == ["gate"]
    take(maker, plan_id, [told_at("2", "cleaned up", "2026-11-07T08:00:00Z")])
    # What comes late changes nothing any more.
    take(maker, plan_id, [told_at("3", "left behind", "2026-11-06T23:00:00Z")])
    with maker() as db:
        assert not ledger.left_overs(db, plan_id)


def test_pages_go_through_everything_once(maker, plan_id, told):
    events, _ = told
    take(maker, plan_id, events)
    seen, before = [], None
    with maker() as db:
        while True:
            page = ledger.page(db, plan_id, ledger.Filter(), before=before, most=3)
            seen += [(e.job, e.occurrence, e.record.machine) for e in page]
            if len(page) < 3:
                break
            before = (in_us(page[-1].occurrence), page[-1].id)
        only = ledger.page(db, plan_id, ledger.Filter(machine="gate"), before=None, most=50)
        none = ledger.page(db, plan_id, ledger.Filter(outcome="failed"), before=None, most=50)
    assert len(seen) == len(set(seen)) == 4
    assert [o for _, o, _ in seen] == sorted((o for _, o, _ in seen), reverse=True)
    assert {e.record.machine for e in only} == {"gate"} and not none


# --- runners and orders -------------------------------------------------------------------------


def test_a_token_is_known_until_it_is_revoked(maker, plan_id):
    with maker.begin() as db:
        token = runners.new_runner(db, plan_id, "night runner", "runner", actor="ann")
    with maker.begin() as db:
        found = runners.runner_of_token(db, token)
        assert (found.plan_id, found.name) == (plan_id, "night runner")
        assert runners.runner_of_token(db, token + "x") is None
        runners.revoke_runner(db, plan_id, found.id, actor="ann")
    with maker() as db:
        assert runners.runner_of_token(db, token) is None
        with pytest.raises(NotFound):
            runners.revoke_runner(db, plan_id, 10**6, actor="ann")


def test_one_runner_carries_a_plan_out_and_scripts_do_not_count(maker, plan_id):
    with maker.begin() as db:
        for name, kind in (("one", "runner"), ("two", "runner"), ("cron", "script")):
            runners.new_runner(db, plan_id, name, kind, actor="ann")
        one, two, cron = runners.runners(db, plan_id)
        runners.note_word(db, cron.id)
        runners.note_word(db, one.id, clock=FRIDAY_NOON)
    with maker.begin() as db, pytest.raises(runners.OtherRunner, match="one"):
        runners.note_word(db, two.id)
    with maker() as db:
        assert runners.runner_in_charge(db, plan_id).name == "one"


def test_an_order_can_be_taken_back_until_it_is_taken(maker, plan_id):
    def order():
        with maker.begin() as db:
            return runners.add_order(
                db, plan_id, "run", job="nightly", machines=(), detail={}, words="Run it",
                effect="", at=FRIDAY_NOON, actor="ann",
            ).id  # fmt: skip

    def tell(number, what, **more):
        raw = {"id": f"{what} {number}", "what": what, "at": "2026-11-06T12:00:01Z"}
        return take(maker, plan_id, [event_from({**raw, "order": number, **more})])

    one, two = order(), order()
    with maker.begin() as db:
        assert [o.id for o in runners.orders_after(db, plan_id, 0)] == [one, two]
        assert runners.take_back(db, plan_id, one, actor="ann").state == "taken back"
    assert [r[2] for r in tell(one, "order taken").refused] == ["this order was taken back"]
    assert not tell(two, "order taken").refused
    with maker.begin() as db, pytest.raises(runners.OrderGone):
        runners.take_back(db, plan_id, two, actor="ann")
    tell(two, "order ended", outcome="failed", reason="no room")
    with maker() as db:
        states = {o.id: (o.state, o.reason) for o in runners.recent_orders(db, plan_id)}
    assert states == {one: ("taken back", ""), two: ("refused", "no room")}
    assert [r[1] for r in tell(10**6, "order taken").refused] == ["order"]


def test_days_apart_are_nights_apart(maker, plan_id):
    performance = as_planned(PLAN, NIGHT.start)
    events = [event_from(raw) for raw in performance.advance(NIGHT.start + 3 * DAY)]
    take(maker, plan_id, events)
    with maker() as db:
        nights = [
            len(ledger.runs_of_night(db, plan_id, date(2026, 11, day))) for day in (6, 7, 8, 9)
        ]
        assert ledger.first_night(db, plan_id) == NIGHT.date
    assert nights == [2, 1, 1, 0]


def test_what_was_reported_long_ago_goes_and_runs_stay(maker, plan_id, told):
    events, points = told
    take(maker, plan_id, events)
    made = next(e for e in events if e.what == "point made")
    old = replace(made, id="old", at=made.at - 200 * DAY, at_point=made.at - 200 * DAY)
    take(maker, plan_id, [
        old,
        replace(old, id="old gone", what="point gone", at=made.at - 150 * DAY),
        replace(made, id="new gone", what="point gone", at=NIGHT.end),
    ])  # fmt: skip
    with maker.begin() as db:
        db.query(LedgerEventRow).filter(LedgerEventRow.plan_id == plan_id).update(
            {"received_at": now_utc() - timedelta(days=100)}
        )
        drop_old_results(db, Keep())
    with maker() as db:
        assert not db.query(LedgerEventRow).filter(LedgerEventRow.plan_id == plan_id).count()
        kept = db.query(LedgerPointRow).filter(LedgerPointRow.plan_id == plan_id).count()
    assert kept == len(points)
    assert [run.outcome for run in of_night(maker, plan_id)] == ["done", "done"]


# --- names of machines --------------------------------------------------------------------------


def _found(plan):
    """The plan as if a source had named its machines."""
    machines = tuple(
        replace(m, facts=replace(m.facts, found=Found("source", f"uid-{m.id}")))
        for m in plan.machines
    )
    return replace(plan, machines=machines)


def _called(plan, names):
    """The plan with other names for machines, as their source names them now."""
    between = {old: f"{old} for now" for old in names}
    for old, name in between.items():
        plan = renamed(plan, old, name)
    for old, new in names.items():
        plan = renamed(plan, between[old], new)
    return plan


@pytest.mark.parametrize(
    "names",
    [{"gate": "turnstile"}, {"gate": "fares", "fares": "gate"}],
    ids=["one", "two that change names"],
)
def test_points_of_a_machine_follow_its_new_name(maker, told, names, request):
    events, _ = told
    plan = _found(PLAN)
    with maker.begin() as db:
        head = store_plan(db, request.node.name[:80], plan, actor="test")
    take(maker, head.id, events)
    with maker.begin() as db:
        was = ledger.points_at(db, head.id, NIGHT.end)
        bad = next(p for p in was if p.machine == "gate")
        check = PointCheck(
            bad.job, "gate", bad.repository, bad.at, "hand", False, NIGHT.end, note="", actor="me"
        )
        check_by_hand(db, head.id, check)
    with maker.begin() as db:
        now = _called(plan, names)
        replace_estate(
            db, head.id, now, ["other names"], [], lambda _: plan, head.adopted_version, actor="me"
        )
        assert plans_whose_points_changed(db) == {head.id}
    with maker() as db:
        found = ledger.points_at(db, head.id, NIGHT.end)
        places = {(p.machine, p.at, p.kind) for p in found}
        assert places == {(names.get(p.machine, p.machine), p.at, p.kind) for p in was}
        assert {p.machine for p in found if p.bad_since} == {names["gate"]}


def test_a_run_under_way_has_the_new_name(maker):
    plan = _found(PLAN)
    with maker.begin() as db:
        head = store_plan(db, "renamed in the night", plan, actor="test")
    at = NIGHT.start + 9.02 * 3600
    take(maker, head.id, [event_from(e) for e in as_planned(plan, NIGHT.start).advance(at)])
    now = _called(plan, {"gate": "turnstile"})
    with maker.begin() as db:
        (before,) = ledger.runs_under_way(db, head.id)
        replace_estate(
            db, head.id, now, ["other names"], [], lambda _: plan, head.adopted_version, actor="me"
        )
        (after,) = ledger.runs_under_way(db, head.id)
    assert set(before.machines) == {"gate", "fares"}
    assert after.machines["turnstile"] == replace(before.machines["gate"], machine="turnstile")


def test_a_runner_goes_on_under_the_new_name():
    plan = _found(PLAN)
    performance = as_planned(plan, NIGHT.start)
    performance.advance(NIGHT.start + 9.02 * 3600)  # In the middle of the first machine.
    performance.adopt(_called(plan, {"gate": "turnstile"}))
    events = performance.advance(NIGHT.end)
    ended = {e["machine"]: e["outcome"] for e in events if e["what"] == "machine ended"}
    assert ended["turnstile"] == "done"
    assert "gate" not in ended
    later = performance.advance(NIGHT.end + DAY)
    kinds = {e["machine"]: e["kind"] for e in later if e["what"] == "machine started"}
    assert kinds["turnstile"] == "incremental"
