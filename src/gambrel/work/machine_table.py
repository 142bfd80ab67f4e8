"""The table of machines and the effects of changes, kept with the plan that they are of."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from typing import Any
from weakref import WeakKeyDictionary

from gambrel.core.estate.coverage import STATES, Coverage, coverage
from gambrel.core.estate.effect import JobEffect, job_effects
from gambrel.core.nights.nights import night_outcome, week_of
from gambrel.core.plan.objects import Machine, Plan
from gambrel.work.forecaster import Forecaster

GROUPS = ("none", "coverage", "folder", "host", "cluster", "site", "tag", "role", "owner", "source",
          "kind")  # fmt: skip
"""What machines can be grouped by; `tag`: by their first one."""


@dataclass(frozen=True, slots=True)
class MachineEntry:
    """A machine with what the table shows of it and sorts by."""

    machine: Machine
    site: str
    cluster: str
    coverage: Coverage
    used_gib: float
    provisioned_gib: float
    swap_gib: float
    search: str

    def group(self, by: str) -> str:
        """The group to which it belongs."""
        machine = self.machine
        found = machine.facts.found
        return {
            "none": "",
            "coverage": self.coverage.state,
            "folder": machine.folder,
            "host": machine.host or "physical",
            "cluster": self.cluster or ("physical" if machine.kind == "server" else "standalone"),
            "site": self.site,
            "tag": machine.tags[0] if machine.tags else "",
            "role": machine.facts.role,
            "owner": machine.facts.owner,
            "source": "" if found is None else found.source,
            "kind": machine.kind,
        }[by]


_tables: WeakKeyDictionary[Forecaster, list[MachineEntry]] = WeakKeyDictionary()


def machine_table(shown: Forecaster) -> list[MachineEntry]:
    """All machines of a plan in its order, as of its first night; made once."""
    if shown not in _tables:
        plan = shown.plan
        covered = coverage(plan, shown.origin.start)
        _tables[shown] = [_entry(plan, machine, covered[machine.id]) for machine in plan.machines]
    return _tables[shown]


def _entry(plan: Plan, machine: Machine, covered: Coverage) -> MachineEntry:
    host = None if machine.host is None else plan.host_by_id[machine.host]
    facts = machine.facts
    words = [
        machine.id, machine.folder, machine.host or "", facts.role, facts.owner, *machine.tags
    ]  # fmt: skip
    return MachineEntry(
        machine,
        plan.site_of(machine),
        (host.cluster or "") if host else "",
        covered,
        sum(disk.used_gib for disk in machine.disks),
        sum(disk.provisioned_gib for disk in machine.disks),
        sum(disk.swap_gib for disk in machine.disks),
        " ".join(words).casefold(),
    )


_SORTS: dict[str, Any] = {
    "name": lambda e: e.machine.id,
    "coverage": lambda e: (
        STATES.index(e.coverage.state), e.coverage.since or date.max, -e.used_gib
    ),
    "used": lambda e: e.used_gib,
    "provisioned": lambda e: e.provisioned_gib,
    "change": lambda e: e.machine.daily_change * e.used_gib,
    "host": lambda e: (e.site, e.machine.host or ""),
    "folder": lambda e: e.machine.folder,
    "newest": lambda e: e.coverage.newest or 0.0,
    "growth": lambda e: e.machine.facts.growth_per_year,
    "jobs": lambda e: len(e.coverage.jobs),
    "hazards": lambda e: len(e.coverage.hazards),
}  # fmt: skip
SORTS = tuple(_SORTS)


@dataclass(frozen=True, slots=True)
class Filter:
    """Which machines are shown, and how: see `chosen`."""

    search: str = ""
    coverage: tuple[str, ...] = ()
    where: tuple[tuple[str, str], ...] = ()
    hazards: bool = False
    group: str = "none"
    sort: str = "coverage"
    descending: bool = False


@dataclass(frozen=True, slots=True)
class GroupSum:
    """A group of the table with what its machines come to."""

    name: str
    machines: int
    used_gib: float
    not_protected: int


def chosen(
    entries: Iterable[MachineEntry], how: Filter
) -> tuple[list[MachineEntry], list[GroupSum]]:
    """The machines that a filter lets through, by group and sorted, and their groups."""
    words = how.search.casefold().split()
    kept = [
        entry
        for entry in entries
        if all(word in entry.search for word in words)
        and (not how.coverage or entry.coverage.state in how.coverage)
        and all(entry.group(by) == value for by, value in how.where)
        and (not how.hazards or entry.coverage.hazards)
    ]
    kept.sort(key=lambda entry: entry.machine.id)
    kept.sort(key=_SORTS[how.sort], reverse=how.descending)
    if how.group == "none":
        return kept, []
    if how.group == "coverage":
        kept.sort(key=lambda entry: STATES.index(entry.coverage.state))
    else:
        kept.sort(key=lambda entry: entry.group(how.group))
    groups: dict[str, list[MachineEntry]] = {}
    for entry in kept:
        groups.setdefault(entry.group(how.group), []).append(entry)
    return kept, [
        GroupSum(
            name,
            len(members),
            sum(entry.used_gib for entry in members),
            sum(entry.coverage.state == "not protected" for entry in members),
        )
        for name, members in groups.items()
    ]


# --- effects ----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class NightEffect:
    """What a change does to one night; ends in UTC seconds."""

    date: date
    verdict_before: str
    verdict_after: str
    end_before: float | None
    end_after: float | None
    over_s_before: float
    over_s_after: float


@dataclass(frozen=True, slots=True)
class Effect:
    """What a change of the estate does to jobs and to the nights of a week that it touches."""

    jobs: list[JobEffect]
    nights: list[NightEffect]


def effect(shown: Forecaster, changed: Plan, day: date) -> Effect:
    """The effect of another plan on the week that holds a day."""
    forecaster = Forecaster(changed, shown.origin, shown)
    nights = []
    for night in week_of(day, shown.origin.zone):
        if not shown.covers(night):
            continue
        was, now = (night_outcome(each.night(night), night) for each in (shown, forecaster))
        if (was.last_end, was.verdict, was.over_s) != (now.last_end, now.verdict, now.over_s):
            nights.append(
                NightEffect(
                    night.date, was.verdict, now.verdict, was.last_end, now.last_end, was.over_s,
                    now.over_s,
                )
            )  # fmt: skip
    return Effect(job_effects(shown.plan, changed), nights)
