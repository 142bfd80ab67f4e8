"""What findings are made of: the finding, its settings, and the look at a forecast behind it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

from gambrel.core.model.restore_points import PointRecord
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import protected_disks
from gambrel.core.nights.nights import planner_zone
from gambrel.core.plan.objects import Disk, Job, Machine, Plan
from gambrel.core.simulation.exposure import exposures
from gambrel.core.simulation.forecast import Exposure, Forecast, Run

Gravity = Literal["breaks", "risks", "wastes"]
"""Something does not get done; something may not be there when it is needed; something is lost."""
GRAVITIES: tuple[Gravity, ...] = ("breaks", "risks", "wastes")

SubjectKind = Literal[
    "job", "machine", "disk", "proxy", "repository", "link", "resource", "pool", "night"
]


@dataclass(frozen=True, slots=True)
class Thresholds:
    """From when on something is worth a finding. The defaults suit one site's estate.

    Attributes:
        clump_share: part of a week's full bytes on one night.
        clump_jobs: jobs with fulls on that night, at least.
        squeeze_hours: hours in which somebody waits for a full pool or resource.
        idle_share: load of a peer, as part of what it could do, up to which it idles.
        held_share: part of a chain's points that only others hold.
        slots_per_core: slots that a core of a proxy serves.
        backup_disk_words: what the id of a disk that holds backups contains.
        copies, media: how many there should be of everything, the original included in copies.
    """

    clump_share: float = 0.5
    clump_jobs: int = 3
    squeeze_hours: float = 2.0
    idle_share: float = 0.5
    held_share: float = 0.5
    slots_per_core: float = 2.0
    backup_disk_words: tuple[str, ...] = ("backup",)
    copies: int = 3
    media: int = 2


@dataclass(frozen=True, slots=True)
class Subject:
    """What a finding is about."""

    kind: SubjectKind
    id: str


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that a planner should know.

    Attributes:
        kind: its class, in words: "over the window".
        subjects: what it is about; the first `known_by` of them tell it from others of its class.
        what: first line, what and where.
        why: second line, why, and how much.
        figures: the numbers behind it; the unit is part of the name.
        weight: how much of it there is, in the unit of its class; smaller is better.
        at: when it happens first, where it has a time.
    """

    kind: str
    gravity: Gravity
    subjects: tuple[Subject, ...]
    what: str
    why: str
    weight: float
    figures: Mapping[str, float] = field(default_factory=dict)
    at: float | None = None
    known_by: int = 1

    @property
    def key(self) -> str:
        """The same for the same thing in another forecast, however much of it there is."""
        return " ".join([self.kind, *(f"{s.kind}:{s.id}" for s in self.subjects[: self.known_by])])


class Look:
    """A forecast, a span of time, and what several rules need of them."""

    def __init__(
        self, forecast: Forecast, start: float, end: float, thresholds: Thresholds
    ) -> None:
        self.forecast = forecast
        self.plan: Plan = forecast.plan
        self.start = start
        self.end = end
        self.thresholds = thresholds

    @cached_property
    def runs(self) -> list[Run]:
        """The runs of the span."""
        return [r for r in self.forecast.runs if self.start <= r.occurrence < self.end]

    @cached_property
    def exposure(self) -> tuple[Exposure, ...]:
        """The worst exposure of each machine in the span."""
        return exposures(self.forecast, self.start, self.end)

    @cached_property
    def points_at_the_end(self) -> dict[str, list[PointRecord]]:
        """The points of each machine that exist as the span ends."""
        found: dict[str, list[PointRecord]] = defaultdict(list)
        for record in self.forecast.history.at(self.end):
            found[record.machine].append(record)
        return found

    @cached_property
    def runs_of(self) -> dict[str, list[Run]]:
        """The runs of each job, in order."""
        found: dict[str, list[Run]] = defaultdict(list)
        for run in self.runs:
            found[run.job].append(run)
        return found

    @cached_property
    def machines_of(self) -> dict[str, list[Machine]]:
        """The machines of each job."""
        return {job.id: selected_machines(self.plan, job) for job in self.plan.jobs}

    @cached_property
    def jobs_of(self) -> dict[str, list[Job]]:
        """The jobs of each machine."""
        found: dict[str, list[Job]] = {machine.id: [] for machine in self.plan.machines}
        for job in self.plan.jobs:
            for machine in self.machines_of[job.id]:
                found[machine.id].append(job)
        return found

    def disks(self, job: Job, machine: Machine) -> list[Disk]:
        """The disks of a machine that a job protects."""
        return protected_disks(job, machine)

    def zone_of(self, job: str) -> str:
        """The zone in which a job's times are told."""
        schedules = self.plan.job_by_id[job].schedules
        return schedules[0].time_zone if schedules else planner_zone(self.plan)

    def name(self, job: str) -> str:
        return self.plan.job_by_id[job].name
