"""Who is busy when: the work of a span of time in lanes of machines, hosts, tiers, proxies,
repositories or links."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from gambrel.core.loads.load_series import load_names
from gambrel.core.plan.objects import Kind, Machine
from gambrel.core.simulation.forecast import PURPOSES, Forecast, Purpose, Run
from gambrel.core.simulation.load_records import Columns
from gambrel.core.units import SAME_INSTANT
from gambrel.core.words import load_label

LaneBy = Literal["job", "machine", "host", "tier", "proxy", "repository", "link"]
LANES_BY: tuple[LaneBy, ...] = get_args(LaneBy)
TIERS = ("platinum", "gold", "silver", "bronze")
"""Tags that name a tier, the best first; what has none of them is in a lane of its own."""
NO_TIER = "no tier"
MOST_BARS = 20_000
"""More are not told: nobody could tell them apart."""

BarKind = Literal["full", "incremental", "differential", "synthetic", "copy", "rewrite"]
Mark = Literal["", "past", "undone", "skipped"]
"""Ends after its window; is not done; is skipped."""


@dataclass(frozen=True, slots=True)
class Stretch:
    """Something that goes on for a while.

    Attributes:
        moved: when its data had moved; what follows is release and verify.
        machine: None where it is the work of several.
    """

    job: str
    machine: str | None
    kind: BarKind
    start: float
    moved: float
    end: float
    mark: Mark = ""


@dataclass(frozen=True, slots=True)
class Lane:
    """All that goes on at one place.

    Attributes:
        id, label: of the machine, host, ... that it is about.
        stretches: in the order of their starts.
    """

    id: str
    label: str
    stretches: tuple[Stretch, ...]


def lanes(forecast: Forecast, by: LaneBy, start: float, end: float) -> tuple[list[Lane], bool]:
    """The lanes of what goes on in [start, end), in plan order, and whether some was left out."""
    makers = {
        "job": _of_jobs,
        "machine": _of_machines,
        "host": _of_machines,
        "tier": _of_machines,
        "proxy": _of_slots,
        "repository": _of_rates,
        "link": _of_rates,
    }
    found = makers[by](forecast, by, start, end)
    kept, left = [], MOST_BARS
    for lane in found:
        kept.append(Lane(lane.id, lane.label, lane.stretches[: max(0, left)]))
        left -= len(lane.stretches)
    return [lane for lane in kept if lane.stretches], left < 0


def _in_span(runs: Iterable[Run], start: float, end: float) -> Iterator[Run]:
    for run in runs:
        if run.occurrence < end and max(run.occurrence, run.ended or run.occurrence) >= start:
            yield run


def _bar_kind(kind: Kind, synthetic: bool) -> BarKind:
    return "synthetic" if synthetic else kind


def _mark(run: Run, ended: float | None, done: bool) -> Mark:
    if run.outcome == "skipped":
        return "skipped"
    if not done:
        return "undone"
    past = run.window_end is not None and ended is not None
    return "past" if past and (ended or 0) > (run.window_end or 0) + SAME_INSTANT else ""


def _of_jobs(forecast: Forecast, _: LaneBy, start: float, end: float) -> Iterator[Lane]:
    by_job: dict[str, list[Stretch]] = {job.id: [] for job in forecast.plan.jobs}
    for run in _in_span(forecast.runs, start, end):
        totals = run.totals()
        begun = run.occurrence if totals.first_start is None else totals.first_start
        kind = _bar_kind(totals.kinds[0] if totals.kinds else run.kind, totals.synthetic)
        ended = run.ended if run.ended is not None and totals.first_start is not None else begun
        by_job[run.job].append(
            Stretch(
                run.job, None, kind, begun, totals.moved or begun, ended,
                _mark(run, run.ended, run.outcome in ("done", "empty")),
            )
        )  # fmt: skip
    for job in forecast.plan.jobs:
        yield Lane(job.id, job.name, _ordered(by_job[job.id]))


def _of_machines(forecast: Forecast, by: LaneBy, start: float, end: float) -> Iterator[Lane]:
    plan = forecast.plan
    found: dict[str, list[Stretch]] = {}
    for run in _in_span(forecast.runs, start, end):
        for each in run.machines:
            place = _place(plan.machine_by_id[each.machine], by)
            if place is None or each.ended < start:
                continue
            begun = each.start if each.start is not None else run.occurrence
            ended = each.ended if each.start is not None else begun
            kind = _bar_kind(each.kind or run.kind, each.synthetic)
            mark = _mark(run, each.ended, each.outcome == "done")
            found.setdefault(place, []).append(
                Stretch(run.job, each.machine, kind, begun, each.moved or ended, ended, mark)
            )
    order: Sequence[str]
    if by == "machine":
        order = [machine.id for machine in plan.machines]
    elif by == "host":
        order = [host.id for host in plan.hosts]
    else:
        order = (*TIERS, NO_TIER)
    for name in order:
        yield Lane(name, name, _ordered(found.get(name, [])))


def _place(machine: Machine, by: LaneBy) -> str | None:
    if by == "machine":
        return machine.id
    if by == "host":
        return machine.host
    return tier_of(machine)


def tier_of(machine: Machine) -> str:
    """The best tier that a machine's tags name, or NO_TIER."""
    tags = {tag.casefold() for tag in machine.tags}
    return next((tier for tier in TIERS if tier in tags), NO_TIER)


def _of_slots(forecast: Forecast, _: LaneBy, start: float, end: float) -> Iterator[Lane]:
    """One stretch for each slot that was held."""
    kinds = _kinds_over_time(forecast)
    for proxy in forecast.plan.proxies:
        pool = forecast.topology.pool(f"proxy:{proxy.id}")
        rows = forecast.loads.holds_of(pool)
        rows = rows[(rows["start"] < end) & (rows["end"] > start)]
        yield Lane(proxy.id, proxy.id, _ordered(_stretches(forecast, rows, kinds)))


def _of_rates(forecast: Forecast, by: LaneBy, start: float, end: float) -> Iterator[Lane]:
    """One stretch for each time in which a job uses a rate without a break."""
    kinds = _kinds_over_time(forecast)
    for name in load_names(forecast.plan):
        kind, _, ident = name.partition(":")
        if kind == by:
            rows = forecast.loads.uses_of(forecast.topology.resource(name))
            of_jobs = rows["job"] >= 0
            rows = rows[
                of_jobs & (rows["start"] < end) & (rows["end"] > start) & (rows["rate"] > 0)
            ]
            label = load_label(forecast.plan, name) if by == "link" else ident
            yield Lane(ident, label, _ordered(_stretches(forecast, _joined(rows), kinds)))


def _joined(rows: Columns) -> Columns:
    """Rows of the same job and purpose that touch or overlap made one."""
    order = np.lexsort((rows["start"], rows["purpose"], rows["job"]))
    kept: list[int] = []
    rows = rows[order].copy()
    for i in range(len(rows)):
        last = rows[kept[-1]] if kept else None
        if (
            last is not None
            and last["job"] == rows[i]["job"]
            and last["purpose"] == rows[i]["purpose"]
            and rows[i]["start"] <= last["end"] + 1.0
        ):
            rows["end"][kept[-1]] = max(last["end"], rows[i]["end"])
        else:
            kept.append(i)
    return rows[kept]


Spans = dict[str, list[tuple[float, float, BarKind]]]


def _kinds_over_time(forecast: Forecast) -> Spans:
    """Of each job when its runs went on, and of which kind they were."""
    found: Spans = {}
    for run in forecast.runs:
        if run.ended is not None:
            totals = run.totals()
            kind = _bar_kind(totals.kinds[0] if totals.kinds else run.kind, totals.synthetic)
            found.setdefault(run.job, []).append((run.occurrence, run.ended, kind))
    return found


def _stretches(forecast: Forecast, rows: Columns, kinds: Spans) -> Iterator[Stretch]:
    for job, purpose, start, end in zip(
        rows["job"].tolist(), rows["purpose"].tolist(), rows["start"].tolist(),
        rows["end"].tolist(), strict=True,
    ):  # fmt: skip
        name = forecast.plan.jobs[job].id
        yield Stretch(name, None, _kind_of(PURPOSES[purpose], kinds, name, start), start, end, end)


def _kind_of(purpose: Purpose, kinds: Spans, job: str, at: float) -> BarKind:
    if purpose == "copy" or purpose == "rewrite":
        return purpose
    return next(
        (kind for begin, end, kind in kinds.get(job, ()) if begin <= at <= end), "incremental"
    )


def _ordered(stretches: Iterable[Stretch]) -> tuple[Stretch, ...]:
    return tuple(sorted(stretches, key=lambda s: (s.start, s.end)))
