"""Rules of the house: what no proposal may do, whatever it would gain.

A plan may break a rule already. A proposal never breaks one where the plan does not.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import time
from typing import Any, Protocol
from zoneinfo import ZoneInfo

from gambrel.core.edits.item_edits import OperationError, check_jobs, read_as
from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import Night
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.schedules.calendars import local_of
from gambrel.core.schedules.spread_fulls import Due, full_groups, job_dues, kind_in_turn
from gambrel.core.schedules.words import listed

_DAY_MIN = 24 * 60
_NOON_MIN = 12 * 60


@dataclass(frozen=True)
class Breach:
    """A night in which a rule is broken, by number, and ids of the jobs that break it."""

    night: int
    jobs: tuple[str, ...]


class Weeks(Protocol):
    """The nights in which rules must hold."""

    @property
    def zone(self) -> str:
        """Of the nights."""
        ...

    def dues_of(self, job: Job) -> Mapping[int, Sequence[Due]]:
        """The runs of a job that are due, by the number of the night."""
        ...


class HouseRule(Protocol):
    """Something that must hold in every night."""

    def check(self, plan: Plan) -> None:
        """Raises OperationError where it is about something that the plan does not have."""
        ...

    @property
    def tied(self) -> tuple[str, ...] | None:
        """Ids of jobs that it looks at together; None for all of the plan."""
        ...

    @property
    def names(self) -> tuple[str, ...]:
        """Ids of the jobs that it names: what it binds no more where a job is split."""
        ...

    def breaches(self, plan: Plan, weeks: Weeks) -> Iterator[Breach]:
        """Where a plan breaks it."""
        ...

    def describe(self, plan: Plan) -> str:
        """The rule as a sentence without its full stop."""
        ...


@dataclass(frozen=True)
class NotBefore:
    """No run is due earlier in its night, counted from noon to noon.

    Attributes:
        time: in the zone of the nights.
        jobs: ids of the jobs it binds.
        tag: it also binds jobs that select a machine with this tag; empty for none.
    """

    time: time
    jobs: tuple[str, ...] = ()
    tag: str = ""

    def check(self, plan: Plan) -> None:
        """See HouseRule."""
        if not self.jobs and not self.tag:
            raise OperationError("jobs", [], "names no job, and there is no tag")
        check_jobs(plan, self.jobs)
        if self.tag and not any(self.tag in machine.tags for machine in plan.machines):
            raise OperationError("tag", self.tag, "is a tag of no machine")

    @property
    def tied(self) -> tuple[str, ...] | None:
        """See HouseRule."""
        return ()

    @property
    def names(self) -> tuple[str, ...]:
        """See HouseRule."""
        return self.jobs

    def breaches(self, plan: Plan, weeks: Weeks) -> Iterator[Breach]:
        """See HouseRule."""
        local = ZoneInfo(weeks.zone)
        earliest = _after_noon(self.time)
        for job in plan.jobs:
            if not self._binds(plan, job):
                continue
            for night, dues in weeks.dues_of(job).items():
                if _after_noon(local_of(min(due[0] for due in dues), local).time()) < earliest:
                    yield Breach(night, (job.id,))

    def _binds(self, plan: Plan, job: Job) -> bool:
        if job.id in self.jobs:
            return True
        return bool(self.tag) and any(self.tag in m.tags for m in selected_machines(plan, job))

    def describe(self, plan: Plan) -> str:
        """See HouseRule."""
        bound = [plan.job_by_id[job].name for job in self.jobs]
        if self.tag:
            bound.append(f"what is tagged {self.tag}")
        words = listed(bound)
        return f"{words[:1].upper()}{words[1:]}: never before {self.time:%H:%M}"


@dataclass(frozen=True)
class Apart:
    """Fulls of two or more jobs are never due in one night."""

    jobs: tuple[str, ...]

    def check(self, plan: Plan) -> None:
        """See HouseRule."""
        check_jobs(plan, self.jobs)
        if len(set(self.jobs)) < 2:
            raise OperationError("jobs", list(self.jobs), "are fewer than two jobs")

    @property
    def tied(self) -> tuple[str, ...] | None:
        """See HouseRule."""
        return self.jobs

    @property
    def names(self) -> tuple[str, ...]:
        """See HouseRule."""
        return self.jobs

    def breaches(self, plan: Plan, weeks: Weeks) -> Iterator[Breach]:
        """See HouseRule."""
        fulls: dict[int, list[str]] = {}
        for name in dict.fromkeys(self.jobs):
            job = plan.job_by_id.get(name)
            if job is None:
                continue
            groups = set(full_groups(job, selected_machines(plan, job)))
            for night, dues in weeks.dues_of(job).items():
                if any(kind_in_turn(d[1], g, d[3]) == "full" for d in dues for g in groups):
                    fulls.setdefault(night, []).append(name)
        for night, names in fulls.items():
            for i, one in enumerate(names):
                for other in names[i + 1 :]:
                    yield Breach(night, (one, other))

    def describe(self, plan: Plan) -> str:
        """See HouseRule."""
        names = listed([plan.job_by_id[job].name for job in self.jobs])
        return f"Fulls of {names}: never in one night"


@dataclass(frozen=True)
class Last:
    """In every night in which a job is due, no other job is due after it."""

    job: str

    def check(self, plan: Plan) -> None:
        """See HouseRule."""
        check_jobs(plan, (self.job,))

    @property
    def tied(self) -> tuple[str, ...] | None:
        """See HouseRule."""
        return None

    @property
    def names(self) -> tuple[str, ...]:
        """See HouseRule."""
        return (self.job,)

    def breaches(self, plan: Plan, weeks: Weeks) -> Iterator[Breach]:
        """See HouseRule."""
        last = plan.job_by_id.get(self.job)
        if last is None:
            return
        first = {night: min(due[0] for due in dues) for night, dues in weeks.dues_of(last).items()}
        for job in plan.jobs:
            if job.id == self.job:
                continue
            for night, dues in weeks.dues_of(job).items():
                if night in first and max(due[0] for due in dues) > first[night]:
                    yield Breach(night, (job.id,))

    def describe(self, plan: Plan) -> str:
        """See HouseRule."""
        return f"{plan.job_by_id[self.job].name}: the last to begin"


def _after_noon(at: time) -> int:
    """The minutes from noon to a time of the night."""
    return (at.hour * 60 + at.minute - _NOON_MIN) % _DAY_MIN


class Breaches:
    """Where plans that come from one break some rules; what a job keeps is computed once."""

    def __init__(
        self, plan: Plan, rules: Sequence[HouseRule], nights: Sequence[Night], zone: str
    ) -> None:
        self._rules = tuple(rules)
        self.zone = zone
        self._starts = [night.start for night in nights]
        self._to = nights[-1].end
        self._plan = plan
        self._kept: dict[str, tuple[Job, Mapping[int, Sequence[Due]]]] = {}
        if rules:
            self._kept = {job.id: (job, self._dues(job)) for job in plan.jobs}
        self.at_first = self.of(plan)

    def of(self, plan: Plan) -> frozenset[tuple[int, Breach]]:
        """The number of the rule and where it is broken, each."""
        return frozenset(
            (i, breach)
            for i, rule in enumerate(self._rules)
            for breach in rule.breaches(plan, self)
        )

    def dues_of(self, job: Job) -> Mapping[int, Sequence[Due]]:
        """See Weeks."""
        known = self._kept.get(job.id)
        return known[1] if known and known[0] is job else self._dues(job)

    def adds_none(self, plan: Plan) -> bool:
        """Whether a plan breaks no rule where the first plan did not."""
        return not self._rules or self.of(plan) <= self.at_first

    def _dues(self, job: Job) -> Mapping[int, Sequence[Due]]:
        found: dict[int, list[Due]] = {}
        for due in job_dues(job, self._plan.calendar_by_id, self._starts[0], self._to):
            found.setdefault(bisect_right(self._starts, due[0]) - 1, []).append(due)
        return found


_KINDS: Mapping[str, type] = {"not before": NotBefore, "apart": Apart, "last": Last}


def house_rule_from(value: Mapping[str, Any]) -> HouseRule:
    """What a mapping with the key `rule` and what that rule needs describes.

    Raises:
        OperationError: for an unknown rule, and for a missing, unknown or ill-typed key.
    """
    name = value.get("rule")
    if not isinstance(name, str) or name not in _KINDS:
        raise OperationError("rule", name, "is none of " + ", ".join(_KINDS))
    said = {key: item for key, item in value.items() if key != "rule"}
    rule: HouseRule = read_as(_KINDS[name], said)
    return rule
