"""What a night lacks to fit, what it could do without, and what no more proxies can change.

Each remedy is tried in growing amounts, every one simulated, and the smallest that is enough is
given. The bound is arithmetic: bytes that must pass against what may pass until the window ends.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import ceil

import numpy as np

from gambrel.core.edits.item_edits import (
    AddItem,
    ChangeItem,
    OperationError,
    RemoveItem,
    item_of,
    item_value,
)
from gambrel.core.edits.operations import Operation, SetProxies, apply_all
from gambrel.core.edits.twin_proxy import proxy_like
from gambrel.core.findings.help import CLEARLY_LESS, Play, Trouble, trouble
from gambrel.core.loads.load_series import LoadSeries, load_names, load_table
from gambrel.core.loads.night_loads import SpanLoad, loads_in_spans, tightest
from gambrel.core.nights.nights import Night, Reason, Verdict, night_outcome, runs_of, week_of
from gambrel.core.plan.objects import Plan, Proxy
from gambrel.core.simulation.forecast import PURPOSES, Forecast
from gambrel.core.units import HOUR, MBIT, MIB, MINUTE
from gambrel.core.words import count, load_label

MOST_SLOTS = 16
"""Slots by which a pool is enlarged at most."""
FACTORS = (1.25, 1.5, 2.0, 3.0, 4.0)
"""How much wider a link, a repository or a datastore is tried."""
NEARLY_ALL = 0.9
"""Where nothing is enough: the smallest amount with this part of the largest one's gain."""
MOST_LOADS = 6
MOST_REASONS = 6
LATER_S = 15 * MINUTE
"""A night may end this much later where something is deleted that is hardly used."""
IDLE_SHARE = 0.25
"""A proxy that holds this part of its busiest peer's slot hours, at most, may be idle."""


# --- what presses -----------------------------------------------------------------------------


def pressed(forecast: Forecast, night: Night) -> list[SpanLoad]:
    """Loads that are full in a night while somebody waits, the longest first."""
    names, spans = load_names(forecast.plan), [(night.start, night.end)]
    (loads,) = loads_in_spans(forecast, names, spans, 1)
    return [load for load in tightest(loads) if load.full_s > 0 and load.waiters.any()]


# --- remedies ---------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Remedy:
    """Something that may help, in one or more amounts, the smallest first.

    Attributes:
        key: the same for the same remedy of the same plan and night.
        words: what would be done, without an amount.
        amounts: operations with their words.
    """

    key: str
    words: str
    amounts: tuple[tuple[tuple[Operation, ...], str], ...]


def _more_slots(proxies: Sequence[Proxy], n: int) -> tuple[Operation, ...]:
    """n slots dealt one by one to the proxies, the one with the fewest first."""
    slots = {proxy.id: proxy.slots for proxy in proxies}
    for _ in range(n):
        fewest = min(slots, key=lambda ident: slots[ident])
        slots[fewest] += 1
    return tuple(
        ChangeItem("proxies", proxy.id, {"slots": slots[proxy.id]})
        for proxy in proxies
        if slots[proxy.id] != proxy.slots
    )


def _slot_remedies(plan: Plan, ident: str) -> Iterator[Remedy]:
    proxy: Proxy = item_of(plan, "proxies", ident)
    more = range(1, MOST_SLOTS + 1)
    yield Remedy(
        f"slots at {ident}",
        f"more slots at {ident}",
        tuple((_more_slots([proxy], n), f"{count(n, 'more slot')} at {ident}") for n in more),
    )
    peers = [other for other in plan.proxies if other.site == proxy.site]
    if len(peers) > 1:
        site = plan.site_by_id[proxy.site].name
        yield Remedy(
            f"slots at site {proxy.site}",
            f"more slots at {site}, dealt to its proxies",
            tuple((_more_slots(peers, n), f"{count(n, 'more slot')} at {site}") for n in more),
        )


def _another_proxy(plan: Plan, ident: str) -> Remedy:
    """One more proxy of the same kind, free to every job that is pinned to the first."""
    twin = proxy_like(plan, ident)
    name, reads, value = twin.id, twin.direct_datastores, item_value(twin, "proxies")
    pins: list[Operation] = [
        SetProxies(job.id, (*(job.proxies or ()), name))
        for job in plan.jobs
        if job.proxies is not None and ident in job.proxies and not job.locked
    ]
    how = f" with direct access to {', '.join(reads)}" if reads else ""
    also = f", for {count(len(pins), 'job')} pinned to {ident} too" if pins else ""
    words = f"1 more proxy like {ident}{how}{also}"
    return Remedy(f"proxy like {ident}", words, (((AddItem("proxies", value), *pins), words),))


def _unpinned(plan: Plan, ident: str) -> Iterator[Remedy]:
    pinned = [
        job for job in plan.jobs
        if job.proxies is not None and ident in job.proxies and not job.locked
    ]  # fmt: skip
    if pinned:
        words = f"{count(len(pinned), 'job')} pinned to {ident} read by any proxy"
        operations = tuple(SetProxies(job.id, None) for job in pinned)
        yield Remedy(f"unpin {ident}", words, ((operations, words),))


_RATES = {
    "link": ("links", "mbit_per_s", "Mbit/s"),
    "repository": ("repositories", "ingest_mib_per_s", "MiB/s"),
    "repository_read": ("repositories", "read_mib_per_s", "MiB/s"),
    "datastore": ("datastores", "read_mib_per_s", "MiB/s"),
}
"""The list, the key and the unit of the rate of a resource, by its kind."""
_POOLS = {
    "repository": ("repositories", "stream_slots", "stream"),
    "datastore": ("datastores", "task_slots", "task"),
}
"""The list, the key and the noun of a pool of slots, by its kind."""


def _wider(plan: Plan, kind: str, ident: str) -> Iterator[Remedy]:
    if kind not in _RATES:
        return
    items, key, unit = _RATES[kind]
    now = getattr(item_of(plan, items, ident), key)
    if now is None:
        return
    label = load_label(plan, f"{kind}:{ident}")
    amounts = []
    for factor in FACTORS:
        value = ceil(now * factor / 10) * 10
        operation = ChangeItem(items, ident, {key: value})
        amounts.append(((operation,), f"{label} with {value:g} {unit} in place of {now:g}"))
    yield Remedy(f"{key} of {ident}", f"{label}: more {unit}", tuple(amounts))


def _more_streams(plan: Plan, kind: str, ident: str) -> Iterator[Remedy]:
    if kind not in _POOLS:
        return
    items, key, noun = _POOLS[kind]
    now = getattr(item_of(plan, items, ident), key)
    if now is not None:
        yield Remedy(
            f"{key} of {ident}",
            f"more {noun}s at {ident}",
            tuple(
                (
                    (ChangeItem(items, ident, {key: now + n}),),
                    f"{count(n, f'more {noun}')} at {ident}",
                )
                for n in range(1, MOST_SLOTS + 1)
            ),
        )


def _for_reason(plan: Plan, reason: Reason) -> Iterator[Remedy]:
    """What may help a run that does not fit, whatever waits elsewhere."""
    job = plan.job_by_id[reason.job or ""]
    if job.verify == "checksum" and reason.finishing_s > reason.moving_s / 2:
        for home in job.repositories:
            yield from _wider(plan, "repository_read", home)
    kind, _, ident = (reason.squeeze or "").partition(":")
    if kind != "repository_read":
        yield from _wider(plan, kind, ident)


def remedies(
    plan: Plan, loads: Sequence[SpanLoad], reasons: Iterable[Reason] = ()
) -> Sequence[Remedy]:
    """What may help a night; nothing is tried yet.

    Args:
        loads: that are full while somebody waits, the longest first.
        reasons: why the night does not fit, the gravest first.
    """
    found: dict[str, Remedy] = {}

    def add(some: Iterator[Remedy]) -> None:
        for remedy in some:
            found.setdefault(remedy.key, remedy)

    for load in loads[:MOST_LOADS]:
        slots = load.name.startswith("slots:")
        kind, _, ident = load.name.removeprefix("slots:").partition(":")
        if kind == "proxy":
            add(_unpinned(plan, ident))
            if slots:
                add(_slot_remedies(plan, ident))
            add(iter((_another_proxy(plan, ident),)))
        else:
            add((_more_streams if slots else _wider)(plan, kind, ident))
    for reason in list(reasons)[:MOST_REASONS]:
        if reason.job is not None and reason.kind in ("over the window", "missed", "cut off"):
            add(_for_reason(plan, reason))
    return tuple(found.values())


# --- trying -----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class State:
    """How a night stands: over windows and machine-runs not done; and the trouble of its week."""

    verdict: Verdict
    over_s: float
    lost: int
    last_end: float | None
    week: Trouble

    @property
    def weight(self) -> float:
        """One number for the night's trouble: a machine not done counts like an hour over."""
        return self.over_s + self.lost * HOUR


def state_of(forecast: Forecast, night: Night) -> State:
    """How a night of a forecast that holds its whole week stands."""
    outcome = night_outcome(forecast, night)
    mine = trouble(forecast, night.start, night.end)
    nights = week_of(night.date, night.zone)
    week = trouble(forecast, max(nights[0].start, forecast.from_), nights[-1].end)
    return State(outcome.verdict, mine.over_s, mine.lost, outcome.last_end, week)


@dataclass(frozen=True, slots=True)
class Advice:
    """A remedy in the smallest amount that is enough, or that brings nearly all it can.

    Attributes:
        fits: whether the night is not over any more.
        tried: amounts that were simulated.
    """

    remedy: Remedy
    operations: tuple[Operation, ...]
    words: str
    before: State
    after: State
    fits: bool
    tried: int


def try_remedy(
    remedy: Remedy, plan: Plan, before: State, night: Night, play: Play
) -> Advice | None:
    """The remedy in the amount that is worth it; None where it does not help.

    It helps where the night has clearly less trouble and the week has no more of it. More of the
    same is taken to never hurt, so the amounts are searched by halving; what is given was
    simulated itself.
    """
    known: dict[int, State] = {}

    def state(i: int) -> State:
        if i not in known:
            known[i] = state_of(play(apply_all(plan, remedy.amounts[i][0])), night)
        return known[i]

    last = len(remedy.amounts) - 1
    try:
        best = state(last)
    except OperationError:
        return None
    if best.weight > CLEARLY_LESS * before.weight or before.weight <= 0:
        return None
    wanted = 0.0 if best.weight <= 0 else before.weight - NEARLY_ALL * (before.weight - best.weight)
    high = bisect_left(range(last), True, key=lambda i: state(i).weight <= wanted)
    after = state(high)
    if after.week.is_worse_than(before.week):
        return None
    operations, words = remedy.amounts[high]
    fits = after.verdict != "over"
    return Advice(remedy, operations, words, before, after, fits, len(known))


# --- the bound --------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Need:
    """What must pass a resource in a night against what may pass it until its deadline.

    Attributes:
        bytes: what the night's runs read and send over it, as they run now; copies and work inside
            repositories mind no window and are not part of it.
        from_: when the first of these runs is due.
        by: the latest window end of these runs, in UTC seconds.
        earliest: when all of it can have passed at the earliest, whatever else is added elsewhere.
        share: bytes needed over bytes possible until `by`; above 1 it cannot be done.
    """

    name: str
    bytes: float
    from_: float
    by: float
    earliest: float
    share: float
    jobs: tuple[str, ...]


def _passed(series: LoadSeries, unit: float, start: float, end: float) -> float:
    """Bytes that may pass between two instants."""
    steps = [*(series.capacity or ()), (float("inf"), 0.0)]
    return sum(
        value * unit * (min(end, until) - max(start, at))
        for (at, value), (until, _) in pairwise(steps)
        if at < end and until > start
    )


def _earliest(series: LoadSeries, unit: float, start: float, wanted: float) -> float:
    steps = [*(series.capacity or ()), (float("inf"), 0.0)]
    left = wanted
    for (at, value), (until, _) in pairwise(steps):
        if until <= start:
            continue
        begins = max(at, start)
        if value > 0 and left <= value * unit * (until - begins):
            return begins + left / (value * unit)
        left -= value * unit * (until - begins) if until < float("inf") else 0.0
    return float("inf")


def needs(forecast: Forecast, night: Night) -> Sequence[Need]:
    """For links, repositories and datastores: what the night needs of each, the tightest first.

    It follows from sizes and capacities alone: no more slots and no other order changes it, only
    other routes, other nights or less data do.
    """
    plan = forecast.plan
    until: dict[int, tuple[float, float, float]] = {}
    for position, job in enumerate(plan.jobs):
        mine = [r for r in runs_of(forecast, night) if r.job == job.id and r.outcome != "skipped"]
        ends = [run.window_end for run in mine if run.window_end is not None]
        if not mine or not ends:
            continue
        over = max(run.ended or 0.0 for run in mine)
        until[position] = (mine[0].occurrence, over, max(ends))
    found = []
    for name in load_names(plan):
        if name.startswith(("slots:", "proxy:")):
            continue
        end = night.end + 4 * (night.end - night.start)
        series = load_table(forecast, [name], night.start, end)[0]
        if series.capacity is None:
            continue
        unit = MBIT if series.unit == "Mbit/s" else MIB
        rows = forecast.loads.uses_of(forecast.topology.resource(name))
        total, jobs, starts, deadlines = 0.0, [], [], []
        for position in np.unique(rows["job"]).tolist():
            if position not in until:
                continue
            first, over, deadline = until[position]
            # Copies, transforms and merges mind no window.
            mine_rows = rows[
                (rows["job"] == position)
                & (rows["purpose"] == PURPOSES.index("read"))
                & (rows["start"] >= first)
                & (rows["start"] < over)
            ]
            amount = float((mine_rows["rate"] * (mine_rows["end"] - mine_rows["start"])).sum())
            if amount > 0:
                total += amount
                jobs.append(plan.jobs[position].id)
                starts.append(first)
                deadlines.append(deadline)
        if not jobs:
            continue
        start, by = min(starts), max(deadlines)
        possible = _passed(series, unit, start, by)
        share = total / possible if possible > 0 else float("inf")
        earliest = _earliest(series, unit, start, total)
        found.append(Need(name, total, start, by, earliest, share, tuple(jobs)))
    return tuple(sorted(found, key=lambda need: -need.share))


# --- what could go ----------------------------------------------------------------------------


def _slot_hours(
    forecast: Forecast, plan: Plan, start: float, end: float
) -> dict[str, tuple[float, int]]:
    """(slot seconds held, most slots at once) of each proxy."""
    found = {}
    for proxy in plan.proxies:
        series = load_table(forecast, [f"slots:proxy:{proxy.id}"], start, end)[0]
        rows = forecast.loads.holds_of(forecast.topology.pool(f"proxy:{proxy.id}"))
        rows = rows[(rows["start"] < end) & (rows["end"] > start)]
        held = float((np.minimum(rows["end"], end) - np.maximum(rows["start"], start)).sum())
        found[proxy.id] = (held, int(series.peak))
    return found


def offered(
    forecast: Forecast, night: Night, state: State, loads: Sequence[SpanLoad]
) -> list[tuple[Remedy, bool]]:
    """What can be tried for a night, each with whether it takes something away.

    Args:
        state: of the night, and `loads` that are full in it, from `state_of` and `pressed`.
    """
    found = []
    if state.weight > 0:
        reasons = night_outcome(forecast, night).reasons
        found = [(remedy, False) for remedy in remedies(forecast.plan, loads, reasons)]
    return found + [(remedy, True) for remedy in spare(forecast, night)]


def spare(forecast: Forecast, night: Night) -> Sequence[Remedy]:
    """What the week that holds a night hardly uses: slots and whole proxies; nothing tried yet."""
    plan = forecast.plan
    week = week_of(night.date, night.zone)
    start, end = week[0].start, week[-1].end
    held = _slot_hours(forecast, plan, start, end)
    most = max((hours for hours, _ in held.values()), default=0.0)
    found = []
    for proxy in plan.proxies:
        hours, peak = held[proxy.id]
        if hours <= IDLE_SHARE * most:
            pins: list[Operation] = []
            for job in plan.jobs:
                if job.proxies is not None and proxy.id in job.proxies:
                    left = tuple(p for p in job.proxies if p != proxy.id)
                    pins.append(SetProxies(job.id, left or None))
            words = f"proxy {proxy.id} could go"
            operations = (*pins, RemoveItem("proxies", proxy.id))
            found.append(Remedy(f"without {proxy.id}", words, ((operations, words),)))
        if 0 < peak < proxy.slots:
            words = f"{count(proxy.slots - peak, 'slot')} of {proxy.id} could go"
            change = ChangeItem("proxies", proxy.id, {"slots": peak})
            found.append(Remedy(f"fewer slots at {proxy.id}", words, (((change,), words),)))
    return tuple(found)


def try_without(remedy: Remedy, forecast: Forecast, night: Night, play: Play) -> Advice | None:
    """Something taken away: given where the week has no more trouble and no night ends later.

    "Later" is more than 15 minutes.
    """
    plan = forecast.plan
    operations, words = remedy.amounts[0]
    try:
        result = play(apply_all(plan, operations))
    except OperationError:
        return None
    before, after = state_of(forecast, night), state_of(result, night)
    if after.week.is_worse_than(before.week):
        return None
    for each in week_of(night.date, night.zone):
        was, now = night_outcome(forecast, each), night_outcome(result, each)
        if (now.last_end or 0.0) > (was.last_end or 0.0) + LATER_S:
            return None
    return Advice(remedy, operations, words, before, after, after.verdict != "over", 1)
