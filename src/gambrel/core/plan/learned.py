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


def is_still(item: Any, key: str, stated: float, within: float) -> bool:
    """Whether what was stated once, give or take a little, is stated now or what was taken over.

    Else somebody has stated another value since: the thing may be another one.
    """
    known = (getattr(item, key), stated_before(item, key))
    return any(value is not None and abs(value - stated) <= within for value in known)


def source_in_words(was: Any, now: Any) -> str:
    """What became of where the values of an entry come from."""
    return "as the nights show it" if set(now.learned) - set(was.learned) else "as stated before"
