"""Templates of jobs: what a new job may start from."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from gambrel.store.audit import audit
from gambrel.store.models import ID_LENGTH, JobTemplateRow
from gambrel.store.plans import NotFound, plan_head

NOT_IN_A_TEMPLATE = ("id", "name", "machines", "exclude_disks", "exclude_paths", "locked")
"""What belongs to one job alone."""


class NameTaken(ValueError):
    """Another template has the name, or it is none."""


@dataclass(frozen=True, slots=True)
class JobTemplate:
    id: int
    name: str
    value: Mapping[str, Any]


def templates(session: Session, plan_id: int) -> list[JobTemplate]:
    """The templates of a plan, by name."""
    query = (
        select(JobTemplateRow)
        .where(JobTemplateRow.plan_id == plan_id)
        .order_by(JobTemplateRow.name)
    )
    return [JobTemplate(row.id, row.name, row.value) for row in session.scalars(query)]


def save_template(
    session: Session, plan_id: int, name: str, value: Mapping[str, Any], *, actor: str
) -> JobTemplate:
    """Keep a job's settings under a name. Raises NotFound, NameTaken."""
    plan_head(session, plan_id)
    said = name.strip()
    if not said or len(said) > ID_LENGTH:
        raise NameTaken("a template needs a name that is not too long")
    if any(known.name.casefold() == said.casefold() for known in templates(session, plan_id)):
        raise NameTaken(f"there is a template {said} already")
    kept = {key: item for key, item in value.items() if key not in NOT_IN_A_TEMPLATE}
    row = JobTemplateRow(plan_id=plan_id, name=said, value=kept, actor=actor)
    session.add(row)
    session.flush()
    audit(session, actor, "save template", f"plan {plan_id}", name=said)
    return JobTemplate(row.id, row.name, row.value)


def remove_template(session: Session, plan_id: int, template_id: int, *, actor: str) -> None:
    """Forget a template. Raises NotFound."""
    row = session.get(JobTemplateRow, template_id)
    if row is None or row.plan_id != plan_id:
        raise NotFound(f"there is no template {template_id} of plan {plan_id}")
    audit(session, actor, "remove template", f"plan {plan_id}", name=row.name)
    session.delete(row)
