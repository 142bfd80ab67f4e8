"""Drafts: saved operations, undo and redo, lost races, adoption, audit."""

import pytest
from plans import small_plan
from sqlalchemy import select

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import MoveFull, MoveStart
from gambrel.core.schedules.words import schedule_in_words
from gambrel.store import plans as store
from gambrel.store.models import AuditRow, SignInLinkRow, now_utc
from gambrel.store.people import people
from gambrel.store.sign_in import new_link, use_link

LATER = MoveStart("nightly", 0, "22:30")
SATURDAY = MoveFull("nightly", 0, 1)


@pytest.fixture
def head(maker):
    with maker.begin() as session:
        return store.store_plan(session, "small", small_plan(), actor="test")


@pytest.fixture
def draft(maker, head):
    with maker.begin() as session:
        return store.start_draft(session, head.id, "spring", actor="ann")


def added(maker, draft, *operations):
    with maker.begin() as session:
        return store.add_operations(session, draft.id, draft.revision, operations, actor="ann")


def test_operations_are_kept_in_order_with_their_words(maker, draft):
    one = added(maker, draft, LATER)
    two = added(maker, one, SATURDAY)
    assert two.revision == draft.revision + 2
    assert [change.words for change in two.changes] == [
        "Nightly: full starts Fri 22:30 (was Fri 21:00)",
        "Nightly: full starts Sat 22:30 (was Fri 22:30)",
    ]
    with maker() as session:
        assert store.draft(session, draft.id) == two


def test_who_saves_on_an_old_revision_is_told_and_changes_nothing(maker, draft):
    now = added(maker, draft, LATER)
    with pytest.raises(store.Changed) as caught:
        added(maker, draft, SATURDAY)
    assert caught.value.now == now
    with maker() as session:
        assert store.draft(session, draft.id) == now


def test_an_operation_that_cannot_be_applied_saves_none_of_its_list(maker, draft):
    with pytest.raises(OperationError):
        added(maker, draft, LATER, MoveStart("ghost", 0, "20:00"))
    with maker() as session:
        assert store.draft(session, draft.id) == draft


def test_undo_and_redo_go_back_and_forth(maker, draft):
    saved = added(maker, added(maker, draft, LATER), SATURDAY)
    with maker.begin() as session:
        back = store.undo(session, saved.id, saved.revision, actor="ann")
        further = store.undo(session, saved.id, back.revision, actor="ann")
        nothing = store.undo(session, saved.id, further.revision, actor="ann")
        again = store.redo(session, saved.id, nothing.revision, actor="ann")
    assert [len(d.changes) for d in (back, further, nothing, again)] == [1, 0, 0, 1]
    assert nothing.revision == further.revision
    assert again.operations == (LATER,)
    assert again.can_redo


def test_what_one_act_saved_goes_and_comes_back_together(maker, draft):
    first = added(maker, draft, LATER)
    both = added(maker, first, SATURDAY, MoveStart("nightly", 1, "23:00"))
    with maker.begin() as session:
        back = store.undo(session, both.id, both.revision, actor="ann")
        assert back.operations == (LATER,)
        copied = store.duplicate(session, both.id, "copy", actor="ann")
        again = store.redo(session, both.id, back.revision, actor="ann")
        assert again.operations == both.operations and not again.can_redo
        none = store.undo(session, copied.id, copied.revision, actor="ann")
        assert none.operations == ()


def test_several_acts_may_be_saved_at_once(maker, draft):
    moves = (LATER, SATURDAY, MoveStart("nightly", 1, "23:00"))
    with maker.begin() as session:
        saved = store.add_operations(
            session, draft.id, draft.revision, moves, actor="ann", acts=[1, 2]
        )
        back = store.undo(session, saved.id, saved.revision, actor="ann")
        assert back.operations == (LATER,)


def test_a_new_operation_forgets_what_was_undone(maker, draft):
    saved = added(maker, draft, LATER)
    with maker.begin() as session:
        back = store.undo(session, saved.id, saved.revision, actor="ann")
    after = added(maker, back, SATURDAY)
    assert (after.operations, after.can_redo) == ((SATURDAY,), False)


def test_adopting_makes_a_new_version_and_closes_the_draft(maker, head, draft):
    saved = added(maker, draft, LATER)
    with maker.begin() as session:
        adopted = store.adopt(session, saved.id, saved.revision, actor="ann", note="agreed")
    assert adopted.adopted_version > head.adopted_version
    with maker() as session:
        plan = store.version_plan(session, adopted.adopted_version)
        assert schedule_in_words(plan.jobs[0].schedules[0]) == "full on Friday at 22:30"
        old = store.version_plan(session, head.adopted_version)
        assert old == small_plan()
        assert saved.id not in [d.id for d in store.drafts(session, head.id)]
        with pytest.raises(store.NotFound):
            store.draft(session, saved.id)


def test_a_draft_of_a_version_that_is_adopted_no_more_is_not_adopted(maker, head, draft):
    saved = added(maker, draft, LATER)
    with maker.begin() as session:
        store.store_plan(session, "small", small_plan(), actor="test")
    with pytest.raises(store.Changed) as caught, maker.begin() as session:
        store.adopt(session, saved.id, saved.revision, actor="ann", note="")
    assert caught.value.base_left
    with maker.begin() as session:
        store.discard_drafts(session, head.id, actor="ann")
    with maker() as session:
        assert store.drafts(session, head.id) == []


def test_every_write_leaves_its_trace(maker, draft):
    added(maker, draft, LATER)
    with maker() as session:
        rows = session.scalars(select(AuditRow).where(AuditRow.subject == f"draft {draft.id}"))
        assert [(row.actor, row.action) for row in rows] == [
            ("ann", "start draft"),
            ("ann", "MoveStart"),
        ]


def test_a_link_signs_in_once(maker):
    with maker.begin() as session:
        token = new_link(session, "ann")
    with maker.begin() as session:
        person = use_link(session, token)
        assert [p.name for p in people(session) if p.id == person] == ["ann"]
        assert use_link(session, token) is None
        assert use_link(session, "guess") is None
        stored = [row.token_hash for row in session.scalars(select(SignInLinkRow))]
    assert token not in stored


def test_an_old_link_signs_nobody_in(maker):
    with maker.begin() as session:
        token = new_link(session, "ann")
        session.flush()
        for row in session.scalars(select(SignInLinkRow).where(SignInLinkRow.used_at.is_(None))):
            row.expires_at = now_utc()
    with maker.begin() as session:
        assert use_link(session, token) is None
