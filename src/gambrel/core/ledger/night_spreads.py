"""How much nights vary of themselves: what is not known of one before it has shown anything.

All are standard deviations of the logarithm of a factor. `learned_spreads` finds them in the
ledger; what it is silent of varies as is usual.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from gambrel.core.units import HOUR

STREAM, RATE, CHANGE = 0.10, 0.10, 0.20
"""As is usual: of the streams of a transport, of a shared rate, of the change of a folder."""
OWN_CHANGE = 0.25
"""As is usual: how much the change of one machine differs from that of its folder."""
STREAM_NOISE, RATE_NOISE, CHANGE_NOISE = 0.15, 0.30, 0.45
"""As is usual: how far what one machine-run, or machine, tells is from what its night has of it."""
FADES_S = 6 * HOUR
"""As is usual: after so long e to the -1 is left of what sets the rates of a night apart."""


@dataclass(frozen=True, slots=True)
class NightSpreads:
    """How much a night varies.

    Attributes:
        known: by "stream:hot_add", the name of a resource as "proxy:quay-p2", or "change:" and a
            folder: what the ledger tells of one.
        stream, rate, change: of the others of each kind.
        own: by machine how much its change differs from that of its folder; `own_change`: of the
            others.
        noise: by name as in `known`, how far what one machine-run, or machine, tells is from what
            its night has of it; `stream_noise`, `rate_noise`, `change_noise`: of the others.
        fades_s: after how long e to the -1 is left of what a night shows of a rate.
    """

    known: Mapping[str, float] = field(default_factory=dict)
    stream: float = STREAM
    rate: float = RATE
    change: float = CHANGE
    own: Mapping[str, float] = field(default_factory=dict)
    own_change: float = OWN_CHANGE
    noise: Mapping[str, float] = field(default_factory=dict)
    stream_noise: float = STREAM_NOISE
    rate_noise: float = RATE_NOISE
    change_noise: float = CHANGE_NOISE
    fades_s: float = FADES_S

    def of(self, what: str) -> float:
        """How much one thing varies from night to night."""
        return self.known.get(what) or _by_kind(what, self.stream, self.rate, self.change)

    def noise_of(self, what: str) -> float:
        """How far what one machine-run tells of a thing is from what its night has of it."""
        usual = (self.stream_noise, self.rate_noise, self.change_noise)
        return self.noise.get(what) or _by_kind(what, *usual)

    def of_machine(self, machine: str) -> float:
        """How much the change of a machine differs from that of its folder."""
        return self.own.get(machine, self.own_change)


def kind_of(what: str) -> str:
    """What something that varies is: "stream", "change" or "rate"."""
    kind = what.partition(":")[0]
    return kind if kind in ("stream", "change") else "rate"


def _by_kind(what: str, stream: float, rate: float, change: float) -> float:
    return {"stream": stream, "rate": rate, "change": change}[kind_of(what)]


USUAL_NIGHTS = NightSpreads()
"""For want of a ledger."""
