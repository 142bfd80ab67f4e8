"""Who is at a plan: for moments, and never too many."""

from __future__ import annotations

from gambrel.work.presence import GONE_AFTER_S, MOST_PRESENT, Presence, Present


def at(name, view="board", editing=""):
    return Present(name, view, None, editing)


def test_who_is_not_heard_of_is_gone():
    now = [0.0]
    presence = Presence(lambda: now[0])
    presence.note(1, "a", at("Ada"))
    now[0] = GONE_AFTER_S
    assert [o.name for o in presence.note(1, "b", at("Bo"))] == ["Ada"]
    now[0] += 0.1
    assert presence.note(1, "b", at("Bo")) == []


def test_each_plan_is_apart_and_the_last_word_counts():
    presence = Presence(lambda: 0.0)
    presence.note(1, "a", at("Ada", "board"))
    presence.note(2, "c", at("Cy"))
    presence.note(1, "a", at("Ada", "runs"))
    assert presence.note(1, "b", at("Bo")) == [at("Ada", "runs")]
    presence.leave(1, "a")
    presence.leave(1, "a")
    assert presence.note(1, "b", at("Bo")) == []


def test_it_does_not_grow_without_end():
    presence = Presence(lambda: 0.0)
    for number in range(3 * MOST_PRESENT):
        presence.note(1, str(number), at(f"person {number}"))
    others = presence.note(1, "last", at("last"))
    assert len(others) == MOST_PRESENT - 1
    assert at("person 0") not in others
