"""What is there when a simulation begins (planning model, sections 8, 14 and 15)."""

from __future__ import annotations

from dataclasses import dataclass

from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.kinds import Amount, Instant, JobId, Kind, MachineId, RepositoryId
from gambrel.core.plan.places import Wrong


@dataclass(frozen=True, slots=True)
class ExistingPoint:
    """A restore point from before the horizon."""

    job: JobId
    machine: MachineId
    repository: RepositoryId
    kind: Kind
    at: Instant
    exists_from: Instant
    stored_bytes: Amount

    def problems(self) -> Wrong:
        """A point that exists before its run began."""
        if self.exists_from < self.at:
            yield "exists_from", format_instant(self.exists_from), "is before the point's `at`"


@dataclass(frozen=True, slots=True)
class State:
    points: tuple[ExistingPoint, ...] = ()
