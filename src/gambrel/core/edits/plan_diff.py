"""Two plans side by side: what of the one is otherwise in the other, in words."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from gambrel.core.edits.item_edits import WORDS, item_changes
from gambrel.core.plan.objects import Plan, Transports
from gambrel.core.plan.reading import ITEMS
from gambrel.core.plan.shapes import shape_of
from gambrel.core.words import count, job_changes, sentence

ChangeKind = Literal["new", "gone", "changed"]


@dataclass(frozen=True, slots=True)
class PlanChange:
    """Something that two plans have otherwise.

    Attributes:
        subject: what it is: "job", "proxy", ... or "estate".
        id: of the entry; "" for the estate.
        lines: for what is new or gone what it is, else one line for each change.
    """

    kind: ChangeKind
    subject: str
    id: str
    name: str
    lines: tuple[str, ...]


def _jobs(one: Plan, other: Plan) -> Iterator[PlanChange]:
    for job in other.jobs:
        was = one.job_by_id.get(job.id)
        if was is None:
            yield PlanChange("new", "job", job.id, job.name, (sentence(other, job),))
            continue
        told = job_changes(one, was, other, job)
        if told:
            yield PlanChange("changed", "job", job.id, job.name, tuple(told))
    for job in one.jobs:
        if job.id not in other.job_by_id:
            yield PlanChange("gone", "job", job.id, job.name, (sentence(one, job),))


def _items(one: Plan, other: Plan, kind: str) -> Iterator[PlanChange]:
    before = {item.id: item for item in getattr(one, kind)}
    after = {item.id: item for item in getattr(other, kind)}
    word = WORDS[kind]
    for ident, item in after.items():
        if ident not in before:
            yield PlanChange("new", word, ident, ident, ())
        elif item != before[ident]:
            keys = [key for key in ITEMS[kind].keys if hasattr(item, key)]
            told = item_changes(before[ident], item, keys) or ["other details"]
            yield PlanChange("changed", word, ident, ident, tuple(told))
    for ident in before:
        if ident not in after:
            yield PlanChange("gone", word, ident, ident, ())


def _estate(one: Plan, other: Plan) -> Iterator[PlanChange]:
    before, after = one.machine_by_id, other.machine_by_id
    told = []
    for number, what in (
        (len(after.keys() - before.keys()), "new"),
        (len(before.keys() - after.keys()), "gone"),
        (sum(before[m] != after[m] for m in before.keys() & after.keys()), "changed"),
    ):
        if number:
            told.append(f"{count(number, 'machine')} {what}")
    if told:
        yield PlanChange("changed", "estate", "", "the estate", tuple(told))


def compare(one: Plan, other: Plan) -> list[PlanChange]:
    """What differs in the other plan: jobs first, then paths and windows, then the estate."""
    found = list(_jobs(one, other))
    for kind in ITEMS:
        if kind != "jobs" and getattr(one, kind) != getattr(other, kind):
            found += _items(one, other, kind)
    if one.transports != other.transports:
        keys = shape_of(Transports).keys
        told = item_changes(one.transports, other.transports, keys)
        found.append(PlanChange("changed", "ceilings of one stream", "", "", tuple(told)))
    return [*found, *_estate(one, other)]
