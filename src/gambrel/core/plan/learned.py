"""Values that were taken over from the ledger, and what was stated before."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from gambrel.core.plan.kinds import Amount, Ident


@dataclass(frozen=True, slots=True)
class Learned:
    """A value of an entry that somebody took over from the ledger.

    Attributes:
        key: of the entry.
        value: as it was taken. Where the entry has another by now, that one has been stated since.
        stated: what was stated before, to go back to.
    """

    key: Ident
    value: Amount
    stated: Amount


def stated_before(item: Any, key: str) -> float | None:
    """What was stated of an entry's value before it was taken from the ledger.

    None where the value is one that somebody stated.
    """
    for mark in item.learned:
        if mark.key == key and mark.value == getattr(item, key):
            return float(mark.stated)
    return None
