"""Long computations in the store: a page that is loaded again finds them."""

import pytest
from plans import small_plan
from sqlalchemy import select

from gambrel.store import computations as store
from gambrel.store.models import AuditRow
from gambrel.store.plans import NotFound, store_plan


@pytest.fixture
def plan_id(maker):
    with maker.begin() as session:
        return store_plan(session, "small", small_plan(), actor="test").id


def begun(maker, plan_id, kind="balance", **more):
    with maker.begin() as session:
        return store.begin(session, plan_id, kind, {"day": "2026-11-02"}, actor="ann", **more)


def found(maker, ident):
    with maker() as session:
        return store.computation(session, ident)


def test_what_begins_runs_and_stands_in_the_audit_trail(maker, plan_id):
    ident = begun(maker, plan_id)
    now = found(maker, ident)
    assert (now.state, now.result, now.actor, now.ended_at) == ("running", None, "ann", None)
    assert now.asked == {"day": "2026-11-02"}
    with maker() as session:
        assert "balance" in session.scalars(select(AuditRow.action)).all()


def test_progress_is_kept_while_it_runs_and_not_after(maker, plan_id):
    ident = begun(maker, plan_id)
    with maker.begin() as session:
        store.note_progress(session, ident, {"evaluations": 12})
    assert found(maker, ident).progress == {"evaluations": 12}
    with maker.begin() as session:
        store.end(session, ident, "done", result={"moves": []})
        store.note_progress(session, ident, {"evaluations": 99})
        store.end(session, ident, "failed", message="too late")
    now = found(maker, ident)
    assert (now.state, now.result, now.progress) == ("done", {"moves": []}, {"evaluations": 12})
    assert now.ended_at is not None


def test_what_ran_when_the_application_ended_is_interrupted(maker, plan_id):
    running, ended = begun(maker, plan_id), begun(maker, plan_id)
    with maker.begin() as session:
        store.end(session, ended, "cancelled")
        store.interrupt(session)
    assert found(maker, running).state == "interrupted"
    assert "go on" in found(maker, running).message
    assert found(maker, ended).state == "cancelled"


def test_the_newest_of_a_kind_come_first(maker, plan_id):
    one, sure, two = (begun(maker, plan_id, kind) for kind in ("balance", "confidence", "balance"))
    with maker() as session:
        assert [c.id for c in store.computations(session, plan_id, "balance")][:2] == [two, one]
        assert [c.id for c in store.computations(session, plan_id, None)][:3] == [two, sure, one]
        assert store.computations(session, plan_id + 1, None) == []


def test_one_that_is_not_there_is_said_so(maker):
    with maker() as session, pytest.raises(NotFound):
        store.computation(session, 10**6)
