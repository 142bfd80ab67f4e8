"""Rules for kinds of difference that are accepted or dismissed as soon as they are found."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from gambrel.core.estate.differences import (
    in_order,
    takeable,
)
from gambrel.store.acceptances import PlanOf, TodayOf, accept_differences
from gambrel.store.audit import audit
from gambrel.store.inbox import dismiss, inbox, lock_plan, with_needed
from gambrel.store.models import (
    StandingRuleRow,
)

LEARNED_CHANGE = "learned change"
LEARNED_RATIO = "learned ratio"
LEARNED = (LEARNED_CHANGE, LEARNED_RATIO)
"""The rules by which what the ledger shows of machines is taken over when a night begins."""


def standing_rules(session: Session, plan_id: int) -> dict[str, str]:
    """What is done with differences as soon as they are found, by kind."""
    rows = session.scalars(select(StandingRuleRow).where(StandingRuleRow.plan_id == plan_id))
    return {row.kind: row.action for row in rows}


def set_standing_rule(
    session: Session, plan_id: int, kind: str, action: str | None, *, actor: str
) -> None:
    """Accept or dismiss a kind as soon as it is found, or ask again (None)."""
    session.execute(
        delete(StandingRuleRow).where(
            StandingRuleRow.plan_id == plan_id, StandingRuleRow.kind == kind
        )
    )
    if action is not None:
        session.add(StandingRuleRow(plan_id=plan_id, kind=kind, action=action))
    audit(session, actor, "standing rule", f"plan {plan_id}", kind=kind, now=action)
    session.flush()


def follow_standing_rules(
    session: Session, plan_id: int, ids: Sequence[int], plan_of: PlanOf, today_of: TodayOf
) -> None:
    """Accept and dismiss what standing rules say of newly found differences.

    What cannot be accepted, such as a machine on a host that was dismissed, stays in the inbox.
    """
    rules = standing_rules(session, plan_id)
    if not rules:
        return
    new = set(ids)
    mine = [entry for entry in inbox(session, plan_id) if entry.id in new]
    for action in ("dismiss", "accept"):
        chosen = [e.id for e in mine if rules.get(e.difference.kind) == action]
        if action == "accept":
            plan = plan_of(lock_plan(session, plan_id))
            taking = with_needed(inbox(session, plan_id), chosen)
            fitting = takeable(plan, in_order(entry.difference for entry in taking), today_of(plan))
            keys = {(d.source, d.key) for d in fitting}
            new = {e.id for e in mine if (e.difference.source, e.difference.key) in keys}
            chosen = [ident for ident in chosen if ident in new]
        if chosen and action == "accept":
            accept_differences(session, plan_id, chosen, plan_of, today_of, actor="standing rule")
        elif chosen:
            dismiss(session, plan_id, chosen, actor="standing rule")
