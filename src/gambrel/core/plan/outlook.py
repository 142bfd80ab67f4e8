"""What is expected of the months ahead: changes of the estate that have not happened yet."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Annotated, Literal

from gambrel.core.plan.conditions import MachineCondition
from gambrel.core.plan.kinds import Amount, Count, Growth, Ident
from gambrel.core.plan.places import Wrong
from gambrel.core.plan.shapes import Key, Rows

AssumptionKind = Literal["joins", "leaves", "grows"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Assumption:
    """A change of the estate to come. It counts in looks months ahead only (section 16).

    Attributes:
        id: its name.
        kind: "joins": machines like those that the rules name come; "leaves": those go; "grows":
            those grow by another share a year.
        rules: as of a job: a machine is meant when all conditions of any rule hold.
        on: the local date, in the first site's zone, from whose midnight on it holds. Growth is
            another one all the time: what is measured in a year has no date.
        count: of "joins": how many come; None: as many as the rules name.
        growth_per_year: of "grows".
        points_kept_days: of "leaves": how long the points stay; None: nobody deletes them.
        active: whether it counts.
    """

    id: Annotated[Ident, Key("Name")]
    kind: Annotated[AssumptionKind, Key("What happens")] = "joins"
    rules: Annotated[
        tuple[Annotated[tuple[MachineCondition, ...], Rows(least=1)], ...],
        Rows(least=1),
        Key("Machines", form=False),
    ]
    on: Annotated[date | None, Key("On", form=False)] = None
    count: Annotated[Count | None, Key("How many", null="as many as are named")] = None
    growth_per_year: Annotated[Growth | None, Key("Growth a year", percent=True, null="none")] = (
        None
    )
    points_kept_days: Annotated[Amount | None, Key("Points stay", null="nobody deletes them")] = (
        None
    )
    active: Annotated[bool, Key("Counts")] = True

    def problems(self) -> Wrong:
        """Keys that its kind does not have, or that it needs."""
        if self.kind == "grows":
            if self.growth_per_year is None:
                yield "growth_per_year", None, "is required where machines grow"
            if self.on is not None:
                yield "on", self.on.isoformat(), "is for machines that join or leave"
        elif self.on is None:
            yield "on", None, "is required where machines join or leave"
        if self.kind != "grows" and self.growth_per_year is not None:
            yield "growth_per_year", self.growth_per_year, "is for machines that grow"
        if self.kind != "joins" and self.count is not None:
            yield "count", self.count, "is for machines that join"
        if self.kind != "leaves" and self.points_kept_days is not None:
            yield "points_kept_days", self.points_kept_days, "is for machines that leave"
