"""Runners and their tokens, and the orders that they are given."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from gambrel.core.ledger.ordering import TONIGHT_ONLY
from gambrel.store.audit import audit
from gambrel.store.ledger_models import OrderRow, RunnerRow
from gambrel.store.models import now_utc
from gambrel.store.plans import NotFound, SecondPersonNeeded, locked_plan
from gambrel.store.sign_in import hashed

RUNNER_KINDS = ("runner", "script", "stand-in")
"""A runner carries a plan out, one for each plan; a script only reports its own runs; the stand-in
is a runner whose clock can be set."""
IN_CHARGE_FOR = timedelta(minutes=15)
"""How long after its last word a runner keeps others from carrying the same plan out."""


class OtherRunner(RuntimeError):
    """Another runner carries this plan out."""


class OrderGone(RuntimeError):
    """An order that the runner has taken or that has ended cannot be taken back."""


@dataclass(frozen=True, slots=True)
class Runner:
    """A runner. `clock` is what it said last, in UTC seconds; `speed` that of a stand-in."""

    id: int
    plan_id: int
    name: str
    kind: str
    created_at: datetime
    revoked_at: datetime | None
    last_seen_at: datetime | None
    clock: float | None
    offset_s: float
    speed: float | None


@dataclass(frozen=True, slots=True)
class Order:
    id: int
    plan_id: int
    kind: str
    job: str | None
    machines: tuple[str, ...]
    detail: dict[str, Any]
    state: str
    words: str
    effect: str
    reason: str
    actor: str
    created_at: datetime
    at: float
    taken_at: float | None
    ended_at: float | None
    seconded_by: str | None = None


def _runner(row: RunnerRow) -> Runner:
    return Runner(
        row.id, row.plan_id, row.name, row.kind, row.created_at, row.revoked_at,
        row.last_seen_at, row.clock, row.offset_s, row.speed,
    )  # fmt: skip


def _order(row: OrderRow) -> Order:
    return Order(
        row.id, row.plan_id, row.kind, row.job, tuple(row.machines), row.detail, row.state,
        row.words, row.effect, row.reason, row.actor, row.created_at, row.at, row.taken_at,
        row.ended_at, row.seconded_by,
    )  # fmt: skip


# --- runners ------------------------------------------------------------------------------------


def new_runner(session: Session, plan_id: int, name: str, kind: str, *, actor: str) -> str:
    """A new runner of a plan; returns its token, which is not kept. Raises NotFound."""
    locked_plan(session, plan_id)
    token = "gr_" + secrets.token_urlsafe(30)
    session.add(RunnerRow(plan_id=plan_id, name=name, kind=kind, token_hash=hashed(token)))
    audit(session, actor, "add runner", f"plan {plan_id}", name=name, kind=kind)
    session.flush()
    return token


def renewed_token(session: Session, plan_id: int, name: str, kind: str, *, actor: str) -> str:
    """A new token for the runner of this name and kind, which is made where it is not there."""
    row = session.scalar(
        select(RunnerRow).where(
            RunnerRow.plan_id == plan_id,
            RunnerRow.name == name,
            RunnerRow.kind == kind,
            RunnerRow.revoked_at.is_(None),
        )
    )
    if row is None:
        return new_runner(session, plan_id, name, kind, actor=actor)
    token = "gr_" + secrets.token_urlsafe(30)
    row.token_hash = hashed(token)
    session.flush()
    return token


def runners(session: Session, plan_id: int) -> list[Runner]:
    """All runners of a plan that have not been revoked, oldest first."""
    query = select(RunnerRow).where(RunnerRow.plan_id == plan_id, RunnerRow.revoked_at.is_(None))
    return [_runner(row) for row in session.scalars(query.order_by(RunnerRow.id))]


def runner_of_token(session: Session, token: str) -> Runner | None:
    """Whose token it is; None for a wrong or revoked one."""
    row = session.scalar(
        select(RunnerRow).where(
            RunnerRow.token_hash == hashed(token), RunnerRow.revoked_at.is_(None)
        )
    )
    return None if row is None else _runner(row)


def revoke_runner(session: Session, plan_id: int, runner_id: int, *, actor: str) -> None:
    """Have a runner's token work no more. Raises NotFound."""
    row = session.get(RunnerRow, runner_id)
    if row is None or row.plan_id != plan_id or row.revoked_at is not None:
        raise NotFound(f"there is no runner {runner_id} of plan {plan_id}")
    row.revoked_at = now_utc()
    audit(session, actor, "revoke runner", f"plan {plan_id}", name=row.name)


def note_word(
    session: Session,
    runner_id: int,
    *,
    clock: float | None = None,
    offset_s: float = 0.0,
    speed: float | None = None,
) -> Runner:
    """Note that a runner was heard of.

    Raises:
        OtherRunner: where another runner carries the plan out.
    """
    row = session.get_one(RunnerRow, runner_id, with_for_update=True)
    if row.kind != "script":
        other = session.scalar(
            select(RunnerRow).where(
                RunnerRow.plan_id == row.plan_id,
                RunnerRow.id != row.id,
                RunnerRow.kind != "script",
                RunnerRow.revoked_at.is_(None),
                RunnerRow.last_seen_at > now_utc() - IN_CHARGE_FOR,
            )
        )
        if other is not None:
            raise OtherRunner(other.name)
    row.last_seen_at = now_utc()
    if clock is not None:
        row.clock = max(clock, row.clock or clock)
        row.offset_s = offset_s
    if speed is not None:
        row.speed = speed
    session.flush()
    return _runner(row)


def runner_in_charge(session: Session, plan_id: int) -> Runner | None:
    """The runner that carries a plan out: of those that are not scripts, the one heard of last."""
    row = session.scalar(
        select(RunnerRow)
        .where(
            RunnerRow.plan_id == plan_id,
            RunnerRow.kind != "script",
            RunnerRow.revoked_at.is_(None),
        )
        .order_by(RunnerRow.last_seen_at.is_(None), RunnerRow.last_seen_at.desc(), RunnerRow.id)
        .limit(1)
    )
    return None if row is None else _runner(row)


# --- orders -------------------------------------------------------------------------------------

OPEN_STATES = ("open", "taken")
WAITS = "to be confirmed"
"""The state of an order that waits for a second person; runners do not see it before."""


def add_order(
    session: Session,
    plan_id: int,
    kind: str,
    *,
    job: str | None,
    machines: Sequence[str],
    detail: dict[str, Any],
    words: str,
    effect: str,
    at: float,
    actor: str,
    second_person: bool = False,
) -> Order:
    """Give an order to the runner of a plan. Raises NotFound.

    Args:
        second_person: whether it waits until somebody else confirms it.
    """
    locked_plan(session, plan_id)
    row = OrderRow(
        plan_id=plan_id, kind=kind, job=job, machines=list(machines), detail=detail, words=words,
        effect=effect, at=at, actor=actor, state=WAITS if second_person else "open",
    )  # fmt: skip
    session.add(row)
    if kind != "clock":
        audit(session, actor, "order", f"plan {plan_id}", kind=kind, job=job, words=words)
    session.flush()
    return _order(row)


def orders_after(session: Session, plan_id: int, after: int) -> list[Order]:
    """Open orders with a higher number, in order: what a runner has not been told."""
    open_ = OrderRow.state == "open"
    if after == 0:
        # Who begins anew has forgotten the tests that it took.
        open_ = open_ | ((OrderRow.state == "taken") & (OrderRow.kind == "test"))
    query = select(OrderRow).where(OrderRow.plan_id == plan_id, OrderRow.id > after, open_)
    return [_order(row) for row in session.scalars(query.order_by(OrderRow.id).limit(200))]


def lasting_orders(session: Session, plan_id: int, since: float) -> list[Order]:
    """The orders that hold now, oldest first: holds, and those of the night that began `since`."""
    query = select(OrderRow).where(
        OrderRow.plan_id == plan_id,
        OrderRow.state == "done",
        OrderRow.kind.in_(("hold", "release"))
        | (
            OrderRow.kind.in_(TONIGHT_ONLY)
            & (func.coalesce(OrderRow.ended_at, OrderRow.at) >= since)
        ),
    )
    return [_order(row) for row in session.scalars(query.order_by(OrderRow.id))]


def recent_orders(session: Session, plan_id: int, most: int = 30) -> list[Order]:
    """The newest orders of a plan but for those about a clock, newest first."""
    query = select(OrderRow).where(OrderRow.plan_id == plan_id, OrderRow.kind != "clock")
    return [_order(row) for row in session.scalars(query.order_by(OrderRow.id.desc()).limit(most))]


def _order_row(session: Session, plan_id: int, order_id: int, *, locked: bool = False) -> OrderRow:
    row = session.get(OrderRow, order_id, with_for_update=locked)
    if row is None or row.plan_id != plan_id:
        raise NotFound(f"there is no order {order_id} of plan {plan_id}")
    return row


def order_of(session: Session, plan_id: int, order_id: int) -> Order:
    """An order by its number. Raises NotFound."""
    return _order(_order_row(session, plan_id, order_id))


def confirm_order(
    session: Session, plan_id: int, order_id: int, *, effect: str, at: float, actor: str
) -> Order:
    """Confirm as a second person an order that waits for one; the runner is told of it now.

    It takes a new number: a runner asks for the orders after the last that it was told of.

    Args:
        effect: what it would do to the night as it is now.
        at: the instant of the runner's clock.

    Raises:
        NotFound, OrderGone
        SecondPersonNeeded: where it is who gave it that would confirm it.
    """
    row = _order_row(session, plan_id, order_id, locked=True)
    if row.state != WAITS:
        raise OrderGone(row.state)
    if row.actor == actor:
        raise SecondPersonNeeded(actor)
    confirmed = OrderRow(
        plan_id=plan_id, kind=row.kind, job=row.job, machines=row.machines, detail=row.detail,
        words=row.words, effect=effect, at=at, actor=row.actor, seconded_by=actor, state="open",
    )  # fmt: skip
    session.add(confirmed)
    session.delete(row)
    session.flush()
    audit(session, actor, "confirm order", f"plan {plan_id}", order=confirmed.id,
          words=confirmed.words, ordered_by=confirmed.actor)  # fmt: skip
    session.flush()
    return _order(confirmed)


def take_back(session: Session, plan_id: int, order_id: int, *, actor: str) -> Order:
    """Take an order back that no runner has taken. Raises NotFound, OrderGone."""
    row = _order_row(session, plan_id, order_id, locked=True)
    if row.state not in ("open", WAITS):
        raise OrderGone(row.state)
    row.state = "taken back"
    audit(session, actor, "take back order", f"plan {plan_id}", order=order_id, words=row.words)
    session.flush()
    return _order(row)


def note_order(
    session: Session, plan_id: int, order_id: int, what: str, at: float, reason: str, *, ok: bool
) -> str | None:
    """What a runner says of an order; returns why that cannot be, or None.

    Said twice it changes nothing; what was taken back cannot be taken.
    """
    row = session.get(OrderRow, order_id, with_for_update=True)
    if row is None or row.plan_id != plan_id:
        return "there is no such order"
    if row.state == "taken back":
        return "this order was taken back"
    if row.state == WAITS:
        return "this order has not been confirmed"
    if what == "order taken":
        if row.state == "open":
            row.state, row.taken_at = "taken", at
        return None
    if row.state in OPEN_STATES:
        row.state = "done" if ok else "refused"
        row.ended_at, row.reason = at, reason
        row.taken_at = row.taken_at or at
    return None
