"""Restore points of the ledger go along with the plan: to other jobs, under other names."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import asdict
from typing import Any

from sqlalchemy import ColumnElement, literal, select, update
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from gambrel.core.edits.operations import Operation, points_move
from gambrel.core.edits.point_owners import Handover, handed_over, stored_factor
from gambrel.core.plan.objects import ExistingPoint, Plan
from gambrel.core.simulation.known_points import with_points
from gambrel.store.ledger_models import (
    LedgerMachineRow,
    LedgerPointRow,
    LedgerRunRow,
    LeftOverRow,
    PointCheckRow,
)
from gambrel.store.models import AdoptionRow

MACHINES_AT_ONCE = 500
_CHANGED = "plans whose points changed"


def ledger_points(
    session: Session, plan_id: int, *conditions: ColumnElement[bool]
) -> list[ExistingPoint]:
    """Restore points of the ledger for which some conditions on their rows hold."""
    rows = session.execute(
        select(
            LedgerPointRow.job, LedgerPointRow.machine, LedgerPointRow.repository,
            LedgerPointRow.kind, LedgerPointRow.at_us, LedgerPointRow.exists_from,
            LedgerPointRow.stored_bytes,
        ).where(LedgerPointRow.plan_id == plan_id, *conditions)
    )  # fmt: skip
    return [
        ExistingPoint(
            job,
            machine,
            repository,
            kind,  # type: ignore[arg-type]
            us / 1e6,
            max(since or 0.0, us / 1e6),
            stored,
        )
        for job, machine, repository, kind, us, since, stored in rows
    ]


def with_points_for(
    session: Session, plan_id: int, plan: Plan, operations: Iterable[Operation]
) -> Plan:
    """The plan to which operations are applied: where they move points, with those of now.

    Where no runner ever reported, its own points are those of now.
    """
    if not points_move(operations):
        return plan
    found = ledger_points(session, plan_id, LedgerPointRow.gone_at.is_(None))
    return with_points(plan, found) if found else plan


def hand_over(session: Session, plan_id: int, plan: Plan, found: Iterable[Handover]) -> None:
    """Write points that exist under their new owners, with what was found out about them.

    Args:
        plan: one that has the repositories that are named.
    """
    for each in found:
        note_points_changed(session, plan_id)
        factor = stored_factor(plan, each.repository, each.to_repository)
        new = {"job": each.to_job, "repository": each.to_repository}
        for machines in _some_at_once(each.machines):
            _copy_checks(session, plan_id, each, machines)
            session.execute(
                update(LedgerPointRow)
                .where(
                    *_of_chain(LedgerPointRow, plan_id, each, machines),
                    LedgerPointRow.gone_at.is_(None),
                )
                .values(**new, stored_bytes=LedgerPointRow.stored_bytes * factor)
                # The new owner may have made the same point itself: then that one stays.
                .prefix_with("IGNORE", dialect="mysql")
                .execution_options(synchronize_session=False)
            )


def plans_whose_points_changed(session: Session) -> set[int]:
    """The plans, by number, whose points this session moved, renamed or checked."""
    return set(session.info.get(_CHANGED, ()))


def note_points_changed(session: Session, plan_id: int) -> None:
    """Have whoever keeps something about the points of a plan look again after the commit."""
    session.info.setdefault(_CHANGED, set()).add(plan_id)


def rename_machines(session: Session, plan_id: int, names: Mapping[str, str]) -> None:
    """Have points, what was found out about them and what runs left behind follow new names.

    So do runs that are under way; lines of those that are over keep the names as they were.
    """
    if not names:
        return
    note_points_changed(session, plan_id)
    # By way of names that nobody has: two machines may have changed names with each other.
    between = {old: f"~renamed {i}~" for i, old in enumerate(names)}
    steps = (between, {between[old]: new for old, new in names.items()})
    runs = select(LedgerRunRow.id).where(
        LedgerRunRow.plan_id == plan_id,
        LedgerRunRow.began.is_not(None),
        LedgerRunRow.ended.is_(None),
    )
    of_plan: tuple[tuple[Any, ColumnElement[bool]], ...] = (
        (LedgerPointRow, LedgerPointRow.plan_id == plan_id),
        (PointCheckRow, PointCheckRow.plan_id == plan_id),
        (LeftOverRow, LeftOverRow.plan_id == plan_id),
        (LedgerMachineRow, LedgerMachineRow.run_id.in_(runs)),
    )
    for step in steps:
        for model, its in of_plan:
            for old, new in step.items():
                session.execute(
                    update(model)
                    .where(its, model.machine == old)
                    .values(machine=new)
                    .prefix_with("IGNORE", dialect="mysql")
                    .execution_options(synchronize_session=False)
                )


def _some_at_once(machines: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    for first in range(0, len(machines), MACHINES_AT_ONCE):
        yield machines[first : first + MACHINES_AT_ONCE]


def _of_chain(
    model: Any, plan_id: int, each: Handover, machines: tuple[str, ...]
) -> tuple[ColumnElement[bool], ...]:
    return (
        model.plan_id == plan_id, model.job == each.job, model.repository == each.repository,
        model.machine.in_(machines),
    )  # fmt: skip


def _copy_checks(session: Session, plan_id: int, each: Handover, machines: tuple[str, ...]) -> None:
    """Checks are only ever added: they stand under both owners."""
    kept = [
        c.name for c in PointCheckRow.__table__.columns if c.name not in ("id", "job", "repository")
    ]
    session.execute(
        insert(PointCheckRow).from_select(
            ["job", "repository", *kept],
            select(
                literal(each.to_job), literal(each.to_repository),
                *(getattr(PointCheckRow, name) for name in kept),
            )
            .where(*_of_chain(PointCheckRow, plan_id, each, machines))
            .order_by(PointCheckRow.id),
        )
    )  # fmt: skip


def as_kept(found: Iterable[Handover]) -> list[dict[str, Any]] | None:
    """Handovers as an adoption keeps them; None where there are none."""
    return [asdict(each) for each in found] or None


def owned_as_in(
    session: Session,
    plan_id: int,
    version_id: int,
    plan: Plan,
    points: list[ExistingPoint],
) -> list[ExistingPoint]:
    """Points of the ledger under the owners that they have in a version of the plan.

    What was adopted later, and had them come to other jobs, is given back for it.
    """
    later = session.scalars(
        select(AdoptionRow)
        .where(
            AdoptionRow.plan_id == plan_id,
            AdoptionRow.version_id > version_id,
            AdoptionRow.handovers.is_not(None),
        )
        .order_by(AdoptionRow.id.desc())
    )
    for each in given_back(later, plan):
        points = list(handed_over(plan, points, [each]))
    return points


def given_back(adoptions: Iterable[AdoptionRow], plan: Plan) -> list[Handover]:
    """What going back behind some adoptions gives back, the last of them first.

    The points made since go along: the job that has the machines again goes on from the newest.
    What was carried to another repository stays where it lies.
    """
    found = []
    for adoption in adoptions:
        for kept in reversed(adoption.handovers or ()):
            was = Handover(**{**kept, "machines": tuple(kept["machines"])})
            if was.job != was.to_job and was.job in plan.job_by_id:
                at = was.to_repository
                found.append(Handover(was.to_job, at, was.job, at, was.machines))
    return found
