"""Changes as transactions that are tried again, and what the store gives up."""

import threading

import pytest
from plans import small_plan
from sqlalchemy import func, select, text
from sqlalchemy.exc import OperationalError

from gambrel.core.edits.operations import MoveStart
from gambrel.store import plans as store
from gambrel.store.computations import begin, end
from gambrel.store.database import in_transaction
from gambrel.store.housekeeping import Keep, drop_old_results, empty_old_versions
from gambrel.store.models import (
    ComputationRow,
    JobTemplateRow,
    MachineRow,
    SignInLinkRow,
)
from gambrel.store.people import add_person
from gambrel.store.plan_tables import NotStorable, Unreadable, save_plan
from gambrel.store.sign_in import (
    begin_session,
    end_session,
    identity,
    new_link,
    signed_in,
    use_link,
)


@pytest.fixture
def head(maker, request):
    name = request.node.name[:100]
    return in_transaction(maker, lambda db: store.store_plan(db, name, small_plan(), actor="test"))


def named(maker, plan_id):
    with maker() as session:
        query = select(JobTemplateRow.name).where(JobTemplateRow.plan_id == plan_id)
        return set(session.scalars(query))


def test_two_that_lock_each_other_out_both_write(maker, head):
    other = in_transaction(
        maker, lambda db: store.store_plan(db, "the other", small_plan(), actor="test")
    )
    meet, tries, failed = threading.Barrier(2), [], []

    def write(first, second, name):
        def work(session):
            tries.append(name)
            lock = "SELECT id FROM plans WHERE id = :id FOR UPDATE"
            session.execute(text(lock), {"id": first})
            if len(tries) <= 2:
                meet.wait(20)
            session.execute(text(lock), {"id": second})
            session.add(JobTemplateRow(plan_id=head.id, name=name, value={}, actor="test"))

        try:
            in_transaction(maker, work)
        except Exception as error:
            failed.append(error)

    threads = [
        threading.Thread(target=write, args=(head.id, other.id, "one")),
        threading.Thread(target=write, args=(other.id, head.id, "two")),
    ]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert failed == []
    assert len(tries) == 3  # one of them was ended by the database and began anew
    assert named(maker, head.id) == {"one", "two"}


def test_what_fails_for_another_reason_is_not_tried_again_and_leaves_nothing(maker, head):
    tries = []

    def work(session):
        tries.append(1)
        session.add(JobTemplateRow(plan_id=head.id, name="lost", value={}, actor="test"))
        session.flush()
        session.execute(text("SELECT * FROM no_such_table"))

    with pytest.raises(Exception, match="no_such_table"):
        in_transaction(maker, work)
    assert len(tries) == 1
    assert named(maker, head.id) == set()


def test_a_lock_that_is_never_given_is_an_error_after_some_tries(maker, monkeypatch):
    monkeypatch.setattr("gambrel.store.database.time.sleep", lambda _s: None)
    tries = []

    def work(_session):
        tries.append(1)
        raise OperationalError("SELECT", {}, Exception(1205, "Lock wait timeout exceeded"))

    with pytest.raises(OperationalError):
        in_transaction(maker, work)
    assert len(tries) == 6


# --- what is given up -------------------------------------------------------------------------


def adopted(maker, head, minute):
    """Adopt a move; the version that comes of it."""
    move = MoveStart("nightly", 0, f"21:{minute:02}")
    draft = in_transaction(maker, lambda db: store.start_draft(db, head.id, "m", actor="ann"))
    draft = in_transaction(
        maker, lambda db: store.add_operations(db, draft.id, 1, [move], actor="ann")
    )
    return in_transaction(
        maker, lambda db: store.adopt(db, draft.id, draft.revision, actor="ann", note="")
    ).adopted_version


def held(maker, version):
    with maker() as session:
        query = select(func.count()).where(MachineRow.version_id == version)
        return session.scalar(query)


def test_old_versions_go_but_for_those_that_somebody_needs(maker, head):
    first = head.adopted_version
    kept_by_a_draft = adopted(maker, head, 1)
    in_transaction(maker, lambda db: store.start_draft(db, head.id, "long", actor="ann"))
    gone = adopted(maker, head, 2)
    before, last = adopted(maker, head, 3), adopted(maker, head, 4)
    keep = Keep(versions=1, adoptions=1)
    while in_transaction(maker, lambda db: empty_old_versions(db, keep)):
        pass
    alive = {v: held(maker, v) > 0 for v in (first, kept_by_a_draft, gone, before, last)}
    assert alive == {first: False, kept_by_a_draft: True, gone: False, before: True, last: True}
    with maker() as session:
        assert store.version_plan(session, before).jobs[0].schedules
        with pytest.raises(store.NotFound, match="is not kept"):
            store.version_plan(session, gone)
        told = store.adoptions(session, head.id)
    assert [a.kept for a in told] == [True, False, False, False]


def test_old_computations_links_and_sessions_go(maker, head):
    def fill(session):
        made = [begin(session, head.id, "balance", {}, actor="ann") for _ in range(4)]
        for ident in made[:3]:
            end(session, ident, "done")
        token = new_link(session, "ann")
        session.flush()
        use_link(session, token)
        new_link(session, "bo")
        return made

    made = in_transaction(maker, fill)
    in_transaction(maker, lambda db: drop_old_results(db, Keep(computations=1)))
    with maker() as session:
        query = select(ComputationRow.id).where(ComputationRow.plan_id == head.id)
        assert sorted(session.scalars(query)) == made[2:]
        assert list(session.scalars(select(SignInLinkRow.name))) == ["bo"]


def test_a_session_ends_wherever_its_key_is(maker):
    ann = in_transaction(maker, lambda db: add_person(db, "ann of a session", "plan", actor="test"))
    key = in_transaction(maker, lambda db: begin_session(db, ann.id))
    with maker() as session:
        assert signed_in(session, key).name == "ann of a session"
        assert signed_in(session, key + "x") is None
    in_transaction(maker, lambda db: end_session(db, key))
    with maker() as session:
        assert signed_in(session, key) is None


def test_a_database_is_told_from_any_other(maker):
    with maker() as session:
        assert len(identity(session)) == 36


# --- plans that cannot be read ----------------------------------------------------------------


def spoilt(maker, version):
    facts = '{"found": {"source": "s"}, "snapshots": [{"name": "a", "gib": -5}]}'
    with maker.begin() as session:
        session.execute(
            text("UPDATE machines SET facts = :facts WHERE version_id = :v AND position = 0"),
            {"facts": facts, "v": version},
        )


def test_entries_that_cannot_be_read_are_named_and_the_last_good_version_is_found(maker, head):
    good = adopted(maker, head, 5)
    bad = adopted(maker, head, 6)
    spoilt(maker, bad)
    with maker() as session:
        with pytest.raises(Unreadable) as caught:
            store.version_plan(session, bad)
        assert store.last_readable(session, head.id)[0] == good
    [problem] = caught.value.problems
    machine = small_plan().machines[0].id
    assert problem.path == f"machines: {machine}"
    assert "gib" in problem.reason
    in_transaction(maker, lambda db: store.restore_version(db, head.id, good, actor="ann"))
    with maker() as session:
        assert store.plan_head(session, head.id).adopted_version == good


def test_what_would_be_read_otherwise_is_not_written(maker, head, monkeypatch):
    whole = store.load_plan

    def forgetful(session, version_id):
        plan = whole(session, version_id)
        return type(plan)(**{**plan.__dict__, "jobs": plan.jobs[:-1]})

    monkeypatch.setattr("gambrel.store.plan_tables.load_plan", forgetful)
    with pytest.raises(NotStorable, match=r"jobs\[\d+\].*read otherwise"):
        in_transaction(maker, lambda db: save_plan(db, head.id, small_plan()))
    with maker() as session:
        assert store.plan_head(session, head.id).adopted_version == head.adopted_version
