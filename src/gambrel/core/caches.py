"""The one way to keep results: by what they depend on, whole, and bounded in bytes.

A cache keeps what was used last and gives up the rest when it holds too many bytes. Its key holds
everything that a value depends on. A value is made outside the lock and published complete; where
several threads ask at once, each is given the same one.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass
from threading import RLock
from typing import Any, Generic, TypeVar
from weakref import WeakSet

MIB = 1 << 20

V = TypeVar("V")


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
        self._kept: OrderedDict[Hashable, tuple[V, int]] = OrderedDict()
        self._bytes = 0
        self._grows = grows
        self._used: Hashable = None
        _caches.add(self)

    def get(self, key: Hashable) -> V | None:
        """What is kept under a key; None where nothing is."""
        with self._lock:
            self._use(key)
            known = self._kept.get(key)
            if known is None:
                return None
            self._kept.move_to_end(key)
            return known[0]

    def put(self, key: Hashable, value: V) -> V:
        """Keep a value, unless another was kept under its key meanwhile; the one that is kept."""
        size = self._size_of(value)
        with self._lock:
            self._use(key)
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]
            self._kept[key] = (value, size)
            self._bytes += size
            self._give_up()
            return value

    def once(self, key: Hashable, make: Callable[[], V]) -> V:
        """What is kept under a key, made where nothing is."""
        known = self.get(key)
        return self.put(key, make()) if known is None else known

    def values(self) -> list[V]:
        """All that is kept, what was used last first."""
        with self._lock:
            return [value for value, _ in reversed(self._kept.values())]

    def measure(self, key: Hashable) -> None:
        """Take the size of a value anew: it has grown or shrunk."""
        with self._lock:
            known = self._kept.get(key)
            if known is None:
                return
            size = self._size_of(known[0])
            self._bytes += size - known[1]
            self._kept[key] = (known[0], size)
            self._give_up()

    def drop(self, key: Hashable) -> None:
        """Keep nothing under a key any more."""
        with self._lock:
            known = self._kept.pop(key, None)
            if known is not None:
                self._bytes -= known[1]

    def clear(self) -> None:
        """Keep nothing any more."""
        with self._lock:
            self._kept.clear()
            self._bytes = 0

    def state(self) -> CacheState:
        """What it holds now."""
        with self._lock:
            return CacheState(self.name, len(self._kept), self._bytes, self.most_bytes)

    def _use(self, key: Hashable) -> None:
        used, self._used = self._used, key
        if self._grows and used != key:
            self.measure(used)

    def _give_up(self) -> None:
        while self._bytes > self.most_bytes and len(self._kept) > 1:
            _, (_, size) = self._kept.popitem(last=False)
            self._bytes -= size


_caches: WeakSet[ByteCache[Any]] = WeakSet()


def cache_states() -> list[CacheState]:
    """All caches of this process, the largest first."""
    states = [cache.state() for cache in list(_caches)]
    return sorted(states, key=lambda state: (-state.bytes, state.name))
