"""The next purchase: what is needed by when so that space and nights hold over a horizon."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date
from math import ceil

from gambrel.core.edits.item_edits import AddItem, ChangeItem, OperationError
from gambrel.core.edits.operations import Operation, apply_all
from gambrel.core.nights.nights import Night, Reason, night_outcome
from gambrel.core.plan.objects import Plan
from gambrel.core.questions.sizing import NEARLY_ALL, Remedy, pressed, remedies
from gambrel.core.runway.nights_ahead import MonthAhead, Stage, look_at
from gambrel.core.runway.projection import Projection
from gambrel.core.runway.telling import day_in_words
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import DAY, GIB, HOUR, TIB
from gambrel.core.words import count

MOST_A_MONTH = 4
"""How many things are bought at most for the nights of one month."""
NIGHTS_LOOKED_AT = 3
"""Of a month, for so many of the worst nights remedies are looked for."""
PURCHASES = ("slots at", "proxy like", "mbit_per_s", "ingest_mib_per_s", "read_mib_per_s",
             "stream_slots", "task_slots")  # fmt: skip
"""The remedies of sizing that are bought; the others are edits of jobs."""


@dataclass(frozen=True, slots=True)
class Item:
    """Something to buy.

    Attributes:
        what: "space", "slots", "proxy", "link", "rate" or "streams".
        subject: the id of what grows.
        amount: by how much, in `unit`.
        needed_by: when it must be there, in UTC seconds; `order_by`: less the time of delivery.
        price: of it all; None where nobody stated one.
        monthly: whether the price is for a month.
        why: what happens without it.
        operations: those that put it into the plan.
    """

    what: str
    subject: str
    amount: float
    unit: str
    words: str
    needed_by: float
    order_by: float
    lead_days: float | None
    price: float | None
    monthly: bool
    why: str
    operations: tuple[Operation, ...]


@dataclass(frozen=True, slots=True)
class Unmet:
    """A night that nothing that can be bought makes fit."""

    month: str
    night: date
    window: str
    reason: Reason | None


@dataclass(frozen=True, slots=True)
class NightPurchase:
    """What the nights of a horizon need, in the order in which it is needed."""

    items: tuple[Item, ...]
    unmet: tuple[Unmet, ...]
    months: tuple[MonthAhead, ...]


def space_to_buy(projection: Projection, reserve: float) -> tuple[Item, ...]:
    """More space for each repository that would pass its reserve, in whole TiB.

    The space is such that the most that is ever held up to the end of the projection leaves the
    reserve free.

    Args:
        reserve: the part of the space that stays free, from 0 up to below 1.
    """
    found = []
    for i, repository in enumerate(projection.plan.repositories):
        gib = repository.space_gib
        if gib is None:
            continue
        space = projection.space(i).until(projection.to)
        limit = gib * GIB * (1.0 - reserve)
        by = space.first_above(limit)
        if by is None:
            continue
        wanted = float(space.bytes.max()) / (1.0 - reserve)
        tib = max(1, ceil((wanted - gib * GIB) / TIB - 1e-9))
        price = repository.purchase_price_per_tib
        full = projection.full_at(i)
        found.append(
            Item(
                what="space",
                subject=repository.id,
                amount=tib,
                unit="TiB",
                words=f"{tib:,} TiB more space in {repository.id}",
                needed_by=by,
                order_by=by - (repository.lead_days or 0.0) * DAY,
                lead_days=repository.lead_days,
                price=None if price is None else price * tib,
                monthly=False,
                why=_why_space(projection, reserve, full),
                operations=_more_space(projection.plan, repository.id, tib),
            )
        )
    return tuple(found)


def _why_space(projection: Projection, reserve: float, full: float | None) -> str:
    zone = projection.plan.sites[0].time_zone
    if full is None:
        return f"less than {round(reserve * 100)} % of it would stay free"
    if full <= projection.from_ + DAY:
        return "it is full already"
    return f"it would be full on {day_in_words(full, zone)}"


def _more_space(plan: Plan, ident: str, tib: int) -> tuple[Operation, ...]:
    repository = plan.repository_by_id[ident]
    if not repository.volumes:
        more = (repository.capacity_gib or 0.0) + tib * 1024
        return (ChangeItem("repositories", ident, {"capacity_gib": more}),)
    each = [{"id": v.id, "capacity_gib": v.capacity_gib} for v in repository.volumes]
    taken = {volume.id for volume in repository.volumes}
    name = next(f"more-{n}" for n in range(1, 1000) if f"more-{n}" not in taken)
    volumes = [*each, {"id": name, "capacity_gib": tib * 1024.0}]
    return (ChangeItem("repositories", ident, {"volumes": volumes}),)


# --- nights -------------------------------------------------------------------------------------


def nights_to_buy(stages: Iterable[Stage], before: Sequence[Item] = ()) -> NightPurchase:
    """The smallest additions with which every night of every month holds, in order of time.

    Month by month, each with what was bought before: where a night is over, every remedy that can
    be bought is simulated in growing amounts on all nights of the month, and the cheapest that
    makes them hold is taken; of those without a price, the first. Where none is enough alone, the
    one that brings most is taken, and the next is looked for beside it.

    Args:
        before: what was bought for the months before these; it is not among what is returned.
    """
    bought: list[Item] = []
    unmet: list[Unmet] = []
    months: list[MonthAhead] = []
    for stage in stages:
        month, found, missing = _month(stage, [*before, *bought])
        bought += found
        unmet += missing
        months.append(month)
    return NightPurchase(tuple(bought), tuple(unmet), tuple(months))


def _month(stage: Stage, bought: Sequence[Item]) -> tuple[MonthAhead, list[Item], list[Unmet]]:
    so_far = tuple(operation for item in bought for operation in item.operations)
    plan = _with(stage.plan, so_far)
    forecast = stage.play(plan)
    month = look_at(replace(stage, plan=plan), forecast)
    found: list[Item] = []
    while month.verdict == "over" and len(found) < MOST_A_MONTH:
        best = _best(stage, plan, forecast)
        if best is None:
            break
        remedy, operations, words, made, better = best
        night = next(n for n in stage.nights if night_outcome(forecast, n).verdict == "over")
        found.append(item_of(plan, remedy, operations, words, night, forecast))
        plan, forecast = made, better
        month = look_at(replace(stage, plan=plan), forecast)
    missing = []
    if month.verdict == "over":
        for window in month.windows:
            if window.verdict == "over" and window.first_over is not None:
                missing.append(
                    Unmet(month.month.name, window.first_over, window.window, window.reason)
                )
    return month, found, missing


def _with(plan: Plan, operations: Sequence[Operation]) -> Plan:
    """A plan with purchases; of what it lacks by then nothing can be bought more."""
    for operation in operations:
        try:
            plan = apply_all(plan, (operation,))
        except OperationError:
            continue
    return plan


def _trouble(stage: Stage, forecast: Forecast) -> tuple[float, Night | None]:
    """One number for the trouble of a month, and its worst night."""
    total, worst, most = 0.0, None, 0.0
    for night in stage.nights:
        outcome = night_outcome(forecast, night)
        weight = outcome.over_s + outcome.missed * HOUR
        total += weight
        if weight > most:
            worst, most = night, weight
    return total, worst


Best = tuple[Remedy, tuple[Operation, ...], str, Plan, Forecast]


def for_sale(stage: Stage, plan: Plan, forecast: Forecast) -> list[Remedy]:
    """What can be bought against the worst night of a forecast; nothing is tried yet."""
    _, night = _trouble(stage, forecast)
    if night is None:
        return []
    reasons = night_outcome(forecast, night).reasons
    found = remedies(plan, pressed(forecast, night), reasons)
    return [remedy for remedy in found if remedy.key.startswith(PURCHASES)]


def _best(stage: Stage, plan: Plan, forecast: Forecast) -> Best | None:
    """The cheapest purchase that makes a month hold; else the one that brings most."""
    before, _ = _trouble(stage, forecast)
    enough: list[tuple[float, int, Best]] = []
    brings: list[tuple[float, int, Best]] = []
    for order, remedy in enumerate(for_sale(stage, plan, forecast)):
        found = _least(stage, plan, remedy, before)
        if found is None:
            continue
        left, best = found
        cost, _ = _price(plan, best[1])
        (enough if left <= 0 else brings).append(
            ((1e12 if cost is None else cost) if left <= 0 else left, order, best)
        )
    ranked = sorted(enough or brings, key=lambda each: each[:2])
    return ranked[0][2] if ranked else None


def _least(stage: Stage, plan: Plan, remedy: Remedy, before: float) -> tuple[float, Best] | None:
    """A remedy in the smallest amount that is enough, searched by halving; else in its largest."""
    known: dict[int, tuple[float, Plan, Forecast]] = {}

    def tried(i: int) -> tuple[float, Plan, Forecast]:
        if i not in known:
            made = apply_all(plan, remedy.amounts[i][0])
            forecast = stage.play(made)
            known[i] = _trouble(stage, forecast)[0], made, forecast
        return known[i]

    last = len(remedy.amounts) - 1
    try:
        left = tried(last)[0]
    except OperationError:
        return None
    if left >= 0.95 * before:
        return None
    wanted = 0.0 if left <= 0 else before - NEARLY_ALL * (before - left)
    high = bisect_left(range(last), True, key=lambda i: tried(i)[0] <= wanted)
    rest, made, forecast = tried(high)
    operations, words = remedy.amounts[high]
    return rest, (remedy, operations, words, made, forecast)


def _price(plan: Plan, operations: Sequence[Operation]) -> tuple[float | None, bool]:
    """What it costs, None where a price is not known; and whether that is for a month."""
    total, monthly = 0.0, False
    for operation in operations:
        if isinstance(operation, AddItem) and operation.list == "proxies":
            per = operation.value.get("purchase_price_per_slot")
            amount = float(operation.value.get("slots", 1))
        elif isinstance(operation, ChangeItem) and operation.list == "proxies":
            proxy = next(p for p in plan.proxies if p.id == operation.id)
            per = proxy.purchase_price_per_slot
            amount = float(operation.changes.get("slots", proxy.slots)) - proxy.slots
        elif isinstance(operation, ChangeItem) and operation.list == "links":
            link = next(x for x in plan.links if x.id == operation.id)
            per, monthly = link.purchase_price_per_mbit, True
            amount = float(operation.changes.get("mbit_per_s", link.mbit_per_s)) - link.mbit_per_s
        elif isinstance(operation, ChangeItem | AddItem):
            per, amount = None, 0.0
        else:
            continue
        if per is None:
            return None, False
        total += per * amount
    return total, monthly


_WHAT = (("slots at", "slots"), ("proxy like", "proxy"), ("mbit", "link"),
         ("stream_slots", "streams"), ("task_slots", "streams"))  # fmt: skip


def item_of(
    plan: Plan, remedy: Remedy, operations: tuple[Operation, ...], words: str, night: Night,
    forecast: Forecast,
) -> Item:  # fmt: skip
    """A remedy as something to buy; needed when the first night begins that is over without it."""
    price, monthly = _price(plan, operations)
    what = next((name for begin, name in _WHAT if remedy.key.startswith(begin)), "rate")
    subject, amount, unit, lead = _amount(plan, operations)
    outcome = night_outcome(forecast, night)
    over = f"{night.date:%a} {night.date.day} {night.date:%B %Y}"
    why = f"the night of {over} would be over"
    if outcome.missed:
        why += f", {count(outcome.missed, 'machine')} not done"
    return Item(
        what=what,
        subject=subject,
        amount=amount,
        unit=unit,
        words=words,
        needed_by=night.start,
        order_by=night.start - (lead or 0.0) * DAY,
        lead_days=lead,
        price=price,
        monthly=monthly,
        why=why,
        operations=operations,
    )


def _amount(plan: Plan, operations: Sequence[Operation]) -> tuple[str, float, str, float | None]:
    """The subject, the amount with its unit, and how long delivery takes."""
    first = operations[0]
    if isinstance(first, AddItem):
        return str(first.value["id"]), 1.0, "proxy", first.value.get("lead_days")
    assert isinstance(first, ChangeItem)
    units = {"slots": "slots", "mbit_per_s": "Mbit/s", "stream_slots": "streams",
             "task_slots": "tasks"}  # fmt: skip
    amount, unit = 0.0, ""
    lead: float | None = None
    for operation in operations:
        if not isinstance(operation, ChangeItem):
            continue
        item = next(x for x in getattr(plan, operation.list) if x.id == operation.id)
        for key, value in operation.changes.items():
            if isinstance(value, int | float):
                amount += value - (getattr(item, key) or 0)
                unit = units.get(key, "MiB/s")
        lead = max((d for d in (lead, getattr(item, "lead_days", None)) if d is not None),
                   default=None)  # fmt: skip
    return first.id, amount, unit, lead
