"""What is kept is bounded in bytes, whole, and of nobody else."""

from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest
from plans import small_file, small_plan

from gambrel.core import caches
from gambrel.core.caches import ByteCache, cache_states
from gambrel.core.model.selection import _matching
from gambrel.core.plan.objects import Condition
from gambrel.core.plan.reading import read_plan


def test_what_was_used_longest_ago_goes_first():
    cache = ByteCache("test", 100, len)
    cache.put("a", b"x" * 40)
    cache.put("b", b"x" * 40)
    assert cache.get("a") is not None
    cache.put("c", b"x" * 40)
    assert cache.get("b") is None
    assert cache.get("a") is not None
    state = cache.state()
    assert (state.entries, state.bytes, state.most_bytes) == (2, 80, 100)


def test_one_value_may_be_larger_than_the_limit_and_goes_with_the_next():
    cache = ByteCache("test", 100, len)
    cache.put("large", b"x" * 500)
    assert cache.get("large") is not None
    cache.put("small", b"x")
    assert cache.get("large") is None
    assert cache.state().bytes == 1


def test_what_grows_is_measured_anew():
    cache = ByteCache("test", 100, len)
    grown = bytearray(b"x")
    cache.put("grows", grown)
    cache.put("other", b"x" * 50)
    grown.extend(b"x" * 80)
    cache.get("other")
    cache.measure("grows")
    assert cache.get("grows") is None
    cache.drop("other")
    assert cache.state().bytes == 0


@pytest.fixture
def nothing_kept(monkeypatch):
    """No cache holds anything, and all together may hold nothing of their own accord."""
    for cache in list(caches._caches):
        cache.clear()
    monkeypatch.setattr(caches, "_together", caches._Together())
    caches.hold_together(0)


@pytest.mark.usefixtures("nothing_kept")
def test_all_caches_together_are_bounded():
    caches.hold_together(caches.MIB)
    piece = b"x" * (caches.MIB // 4)
    one, other = ByteCache("one", 9 * caches.MIB, len), ByteCache("other", 9 * caches.MIB, len)
    one.put("a", piece)
    other.put("a", piece)
    for key in "bc":
        one.put(key, piece)
    assert one.get("a") is not None
    for key in "bcdef":
        other.put(key, piece)
    # The longest unused went first, whichever cache it was in; "a" of the one was used again.
    kept = ["".join(key for key in "abcdef" if cache.get(key)) for cache in (one, other)]
    assert kept == ["a", "bcdef"]
    spare = sum(held for held, _ in (cache.spare() for cache in (one, other)))
    assert spare <= caches.MIB


@pytest.mark.usefixtures("nothing_kept")
def test_three_of_the_largest_value_stay_beside_what_each_cache_used_last():
    cache, other = ByteCache("one", 1000, len), ByteCache("other", 1000, len)
    other.put("small", b"x")
    for key in "abcde":
        cache.put(key, b"x" * 100)
    assert [key for key in "abcde" if cache.get(key)] == ["b", "c", "d", "e"]
    assert other.get("small") is not None


def test_all_who_ask_at_once_are_given_the_same():
    cache: ByteCache[list[int]] = ByteCache("test", 1000, len)
    together = Barrier(8)

    def ask(_):
        together.wait()
        return cache.once("key", lambda: list(range(100)))

    with ThreadPoolExecutor(8) as threads:
        found = list(threads.map(ask, range(8)))
    assert all(value is found[0] for value in found)
    assert len(found[0]) == 100


def test_a_value_may_drop_others_when_it_goes():
    cache: ByteCache[object] = ByteCache("test", 10, lambda _: 6)

    class Owner:
        def __del__(self):
            cache.drop("owned")

    cache.put("owner", Owner())
    cache.put("owned", "x")
    assert cache.state().bytes <= 10
    cache.clear()
    assert cache.state().entries == 0


def test_caches_are_told_of_by_name():
    cache = ByteCache("told of", 1000, len)
    cache.put("key", b"x" * 10)
    assert any(state.name == "told of" and state.bytes == 10 for state in cache_states())


def test_conditions_are_answered_for_their_own_plan():
    """Plans come and go; another that happens to stand where one was must not get its answer."""
    condition = Condition("name", "contains", "gate")
    for turn in range(200):
        plan = small_plan()
        assert _matching(plan, condition) == {0}
        if turn % 2:
            machine = {"id": f"other-{turn}", "kind": "server", "site": "quay", "disks": []}
            file = {**small_file(machines=[machine]), "jobs": []}
            assert _matching(read_plan(file), condition) == frozenset()
