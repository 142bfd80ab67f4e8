"""The one way to keep results: by what they depend on, whole, and bounded in bytes.

A cache keeps what was used last and gives up the rest when it holds too many bytes, or when all
caches of the process together do. Its key holds everything that a value depends on. A value is made
outside the lock and published complete; where several threads ask at once, each is given the same
one.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from itertools import count
from threading import Lock, RLock
from typing import Any, Generic, TypeVar
from weakref import WeakSet

MIB = 1 << 20
USUAL_MIB = 96
"""What all caches of a process may hold together, beside the value that each used last."""
OF_THE_LARGEST = 3
"""They may always hold so many times the largest value: a plan, a draft, a preview."""

V = TypeVar("V")

_uses = count()


@dataclass(slots=True)
class _Kept(Generic[V]):
    """A value, its bytes, and its place in the order in which all that is kept was last used."""

    value: V
    size: int
    used: int


@dataclass(frozen=True, slots=True)
class CacheState:
    """What a cache holds, for whoever looks after the server."""

    name: str
    entries: int
    bytes: int
    most_bytes: int


class ByteCache(Generic[V]):
    """Values by key, the longest unused given up first.

    Args:
        name: what it is told of as.
        most_bytes: it holds no more, but for the value that was used last.
        size_of: the bytes of a value, about.
        grows: whether a value takes more once it is used, so that it is measured again when
            another is used.
    """

    def __init__(
        self, name: str, most_bytes: int, size_of: Callable[[V], int], *, grows: bool = False
    ) -> None:
        self.name = name
        self.most_bytes = most_bytes
        self._size_of = size_of
        # Giving a value up may end what it holds, and that may drop entries of this cache again.
        self._lock = RLock()
        self._kept: OrderedDict[Hashable, _Kept[V]] = OrderedDict()
        self._bytes = 0
        self._grows = grows
        self._used: Hashable = None
        _caches.add(self)

    def get(self, key: Hashable) -> V | None:
        """What is kept under a key; None where nothing is."""
        with self._lock:
            self._use(key)
            known = self._touched(key)
            return None if known is None else known.value

    def put(self, key: Hashable, value: V) -> V:
        """Keep a value, unless another was kept under its key meanwhile; the one that is kept."""
        size = self._size_of(value)
        with self._lock:
            self._use(key)
            known = self._touched(key)
            if known is not None:
                return known.value
            self._kept[key] = _Kept(value, size, next(_uses))
            self._bytes += size
            self._give_up()
        _together.give_up(size)
        return value

    def once(self, key: Hashable, make: Callable[[], V]) -> V:
        """What is kept under a key, made where nothing is."""
        known = self.get(key)
        return self.put(key, make()) if known is None else known

    def values(self) -> list[V]:
        """All that is kept, what was used last first."""
        with self._lock:
            return [known.value for known in reversed(self._kept.values())]

    def measure(self, key: Hashable) -> None:
        """Take the size of a value anew: it has grown or shrunk."""
        with self._lock:
            known = self._kept.get(key)
            if known is None:
                return
            size = self._size_of(known.value)
            self._bytes += size - known.size
            known.size = size
            self._give_up()

    def drop(self, key: Hashable) -> None:
        """Keep nothing under a key any more."""
        with self._lock:
            known = self._kept.pop(key, None)
            if known is not None:
                self._bytes -= known.size

    def clear(self) -> None:
        """Keep nothing any more."""
        with self._lock:
            self._kept.clear()
            self._bytes = 0

    def state(self) -> CacheState:
        """What it holds now."""
        with self._lock:
            return CacheState(self.name, len(self._kept), self._bytes, self.most_bytes)

    def spare(self) -> tuple[int, int]:
        """The bytes that it holds beside the value used last, and when the oldest was last used."""
        with self._lock:
            if len(self._kept) < 2:
                return 0, 0
            oldest, last = next(iter(self._kept.values())), next(reversed(self._kept.values()))
            return self._bytes - last.size, oldest.used

    def give_up_oldest(self) -> None:
        """Give the longest unused value up; the value used last stays."""
        with self._lock:
            if len(self._kept) > 1:
                _, known = self._kept.popitem(last=False)
                self._bytes -= known.size

    def _touched(self, key: Hashable) -> _Kept[V] | None:
        known = self._kept.get(key)
        if known is not None:
            self._kept.move_to_end(key)
            known.used = next(_uses)
        return known

    def _use(self, key: Hashable) -> None:
        used, self._used = self._used, key
        if self._grows and used != key:
            self.measure(used)

    def _give_up(self) -> None:
        while self._bytes > self.most_bytes and len(self._kept) > 1:
            self.give_up_oldest()


_caches: WeakSet[ByteCache[Any]] = WeakSet()


def cache_states() -> list[CacheState]:
    """All caches of this process, the largest first."""
    states = [cache.state() for cache in list(_caches)]
    return sorted(states, key=lambda state: (-state.bytes, state.name))


class _Together:
    """What all caches may hold together."""

    def __init__(self) -> None:
        self.most_bytes = USUAL_MIB * MIB
        self.largest = 0
        self.lock = Lock()

    def give_up(self, size: int) -> None:
        """Give up what was unused longest, in any cache, after a value of a size was kept.

        No lock of a cache is held meanwhile but that of the one that gives up. Where another thread
        is at it, that one sees to it.
        """
        self.largest = max(self.largest, size)
        if not self.lock.acquire(blocking=False):
            return
        try:
            while True:
                spare = [(*cache.spare(), cache) for cache in list(_caches)]
                held = sum(size for size, _, _ in spare)
                if held <= max(self.most_bytes, OF_THE_LARGEST * self.largest):
                    return
                min((s for s in spare if s[0]), key=lambda s: s[1])[2].give_up_oldest()
        finally:
            self.lock.release()


_together = _Together()


def hold_together(most_bytes: int) -> None:
    """Set what all caches of the process may hold together, beside what each used last."""
    _together.most_bytes = most_bytes
