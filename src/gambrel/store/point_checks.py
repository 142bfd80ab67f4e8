"""What was found out about restore points: verified, tested, or marked by hand.

Checks are only ever added. The newest of a point says whether it is good.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from gambrel.core.ledger.events import Event
from gambrel.core.simulation.known_points import PlaceOfPoint
from gambrel.store.audit import audit
from gambrel.store.ledger_models import PointCheckRow, in_us
from gambrel.store.plans import plan_head
from gambrel.store.point_owners import note_points_changed

Source = Literal["hand", "verify", "test"]


@dataclass(frozen=True, slots=True)
class PointCheck:
    """One check; instants in UTC seconds.

    Attributes:
        at: of the point. `checked_at`: when it was settled, by the runner's clock.
        began: of a test; None where that is not known.
        predicted_s: how long a test was to take.
    """

    job: str
    machine: str
    repository: str
    at: float
    source: Source
    good: bool
    checked_at: float
    began: float | None = None
    predicted_s: float | None = None
    note: str = ""
    actor: str = ""
    order_id: int | None = None

    @property
    def place(self) -> PlaceOfPoint:
        """What tells its point from all others."""
        return self.job, self.machine, self.repository, round(self.at * 1000)


def check_of(event: Event, predicted_s: float | None) -> PointCheck:
    """What a "point checked" event tells; `predicted_s`: how long the check was to take."""
    assert event.job is not None and event.machine is not None
    assert event.repository is not None and event.at_point is not None
    return PointCheck(
        event.job, event.machine, event.repository, event.at_point, event.check or "verify",
        event.outcome == "done", event.at, event.began, predicted_s, event.reason, "runner",
        event.order,
    )  # fmt: skip


def add_checks(session: Session, plan_id: int, checks: Iterable[PointCheck]) -> None:
    """Write checks down, in their order."""
    rows = [
        PointCheckRow(
            plan_id=plan_id, job=check.job, machine=check.machine,
            repository=check.repository, at_us=in_us(check.at), source=check.source,
            good=check.good, began=check.began, checked_at=check.checked_at,
            predicted_s=check.predicted_s, note=check.note, actor=check.actor,
            order_id=check.order_id,
        )
        for check in checks
    ]  # fmt: skip
    if not rows:
        return
    note_points_changed(session, plan_id)
    session.add_all(rows)
    session.flush()


def check_by_hand(session: Session, plan_id: int, check: PointCheck) -> None:
    """Write a check down that somebody made, with its entry in the audit trail. Raises NotFound."""
    plan_head(session, plan_id)
    add_checks(session, plan_id, [check])
    audit(
        session, check.actor, "check point", f"plan {plan_id}", machine=check.machine,
        job=check.job, repository=check.repository, good=check.good, note=check.note,
        source=check.source,
    )  # fmt: skip


def checks_of(
    session: Session, plan_id: int, *, machine: str | None = None, source: Source | None = None,
    most: int = 500,
) -> list[PointCheck]:  # fmt: skip
    """Checks of a plan's points, the newest first."""
    query = select(PointCheckRow).where(PointCheckRow.plan_id == plan_id)
    if machine is not None:
        query = query.where(PointCheckRow.machine == machine)
    if source is not None:
        query = query.where(PointCheckRow.source == source)
    return [
        _check(row) for row in session.scalars(query.order_by(PointCheckRow.id.desc()).limit(most))
    ]


def _check(row: PointCheckRow) -> PointCheck:
    return PointCheck(
        row.job, row.machine, row.repository, row.at_us / 1e6, row.source,  # type: ignore[arg-type]
        row.good, row.checked_at, row.began, row.predicted_s, row.note, row.actor, row.order_id,
    )  # fmt: skip


def bad_points(session: Session, plan_id: int) -> dict[PlaceOfPoint, float]:
    """Since when each bad point of a plan is known to be so."""
    newest = (
        select(func.max(PointCheckRow.id))
        .where(PointCheckRow.plan_id == plan_id)
        .group_by(
            PointCheckRow.job, PointCheckRow.machine, PointCheckRow.repository,
            PointCheckRow.at_us,
        )
    )  # fmt: skip
    rows = session.execute(
        select(
            PointCheckRow.job, PointCheckRow.machine, PointCheckRow.repository,
            PointCheckRow.at_us, PointCheckRow.checked_at,
        ).where(PointCheckRow.id.in_(newest), PointCheckRow.good.is_(False))
    )  # fmt: skip
    return {
        (job, machine, repository, round(at_us / 1000)): checked_at
        for job, machine, repository, at_us, checked_at in rows
    }


def last_tests(session: Session, plan_id: int) -> dict[str, float]:
    """When each machine was tested last."""
    rows = session.execute(
        select(PointCheckRow.machine, func.max(PointCheckRow.checked_at))
        .where(PointCheckRow.plan_id == plan_id, PointCheckRow.source == "test")
        .group_by(PointCheckRow.machine)
    )
    return dict(rows.all())
