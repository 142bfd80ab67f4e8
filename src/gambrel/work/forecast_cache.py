"""The forecasts that are kept from one request to the next, all under one limit of bytes."""

from __future__ import annotations

from collections.abc import Hashable
from itertools import count
from threading import Lock
from weakref import ref

from gambrel.core.caches import MIB, ByteCache, CacheState
from gambrel.core.simulation.forecast import Forecast

USUAL_MIB = 64
WARM_BYTES = 64 * MIB
"""What was made of forecasts to be looked at is kept of those used last, up to so many bytes.

Of the one that was used last it is kept however much it is.
"""
OF_THE_LARGEST = 2.5
"""The limit is never less than so many times the largest forecast: two weeks, such as those of a
plan and of a preview, and some nights alone."""


class ForecastCache:
    """Forecasts by their owner and what they hold; safe to use from several threads."""

    def __init__(self, most_bytes: int = USUAL_MIB * MIB) -> None:
        self._kept: ByteCache[Forecast] = ByteCache(
            "forecasts", most_bytes, Forecast.nbytes, grows=True
        )
        self._owners = count()
        self._lock = Lock()
        self._warm: list[tuple[Hashable, ref[Forecast]]] = []

    def hold(self, most_bytes: int) -> None:
        """Set the limit of bytes."""
        self._kept.most_bytes = most_bytes

    def new_owner(self) -> int:
        """A number under which somebody keeps forecasts."""
        return next(self._owners)

    def get(self, owner: int, span: tuple[float, float]) -> Forecast | None:
        """A forecast of a span; None where it is not kept any more."""
        found = self._kept.get((owner, span))
        if found is not None:
            self._use((owner, span), found)
        return found

    def put(self, owner: int, span: tuple[float, float], forecast: Forecast) -> None:
        """Keep a forecast of a span."""
        least = int(OF_THE_LARGEST * forecast.nbytes())
        self._kept.most_bytes = max(self._kept.most_bytes, least)
        self._kept.put((owner, span), forecast)
        self._use((owner, span), forecast)

    def state(self) -> CacheState:
        """What it holds now."""
        return self._kept.state()

    def drop(self, owner: int, spans: list[tuple[float, float]]) -> None:
        """Keep nothing of an owner any more."""
        for span in spans:
            self._kept.drop((owner, span))

    def _use(self, key: Hashable, forecast: Forecast) -> None:
        """Note that a forecast is in use; what was made of those used long ago is given back."""
        cold = []
        with self._lock:
            warm = [entry for entry in self._warm if entry[0] != key]
            held = 0
            # Not the forecasts themselves: what nobody keeps any more must not live on here.
            self._warm = [(key, ref(forecast))]
            for other, seen in reversed(warm):
                each = seen()
                if each is None:
                    continue
                held += each.loads.nbytes()
                if held <= WARM_BYTES:
                    self._warm.insert(0, (other, seen))
                else:
                    cold.append((other, each))
        for other, each in cold:
            each.forget()
            self._kept.measure(other)
