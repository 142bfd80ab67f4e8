"""Restore points in the engine: chains, what is kept and deleted, merges, space (section 8).

The points of a chain are linked in the order of their start instants, the later made after the
earlier where two are alike.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import f8, i8, njit, void

from gambrel.core.simulation.engine.tables import (
    DIFFERENTIAL,
    EPOCH,
    F_NOW,
    F_SIZES_AS_OF,
    FULL,
    N_NEWEST,
    N_POINT,
    N_SPACE,
    Table,
    World,
)
from gambrel.core.simulation.engine.world import WORLD
from gambrel.core.units import DAY, SAME_INSTANT
from gambrel.core.units import YEAR as YEAR_S

WEEK, MONTH, YEAR = range(3)


@njit(f8(WORLD, f8, f8), cache=True)
def growth_at(w: World, growth: float, instant: float) -> float:
    """By what disks have grown at an instant that grow by a factor in a year.

    As `volume.growth_factor` says.
    """
    seconds = instant - w.f[F_SIZES_AS_OF]
    if growth == 1.0 or not seconds > 0.0:
        return 1.0
    factor: float = growth ** (seconds / YEAR_S)
    return factor


@njit(i8(WORLD, i8, i8, f8, f8, i8), cache=True)
def new_point(w: World, chain: int, kind: int, at: float, stored: float, base: int) -> int:
    """Write a point down; it exists from now on once it is stored."""
    p = w.n[N_POINT]
    w.n[N_POINT] += 1
    point = w.point[p]
    point.chain = chain
    point.kind = kind
    point.at = at
    point.exists_from = w.f[F_NOW]
    point.stored = stored
    point.since = w.f[F_NOW]
    point.gone = np.inf
    point.needs = base
    point.made_on = base
    point.replaced = -1
    point.usable = 1 if kind == FULL or (base >= 0 and w.point[base].usable) else 0
    point.bad = 1 if kind != FULL and base >= 0 and w.point[base].bad else 0
    return p


@njit(void(WORLD, i8), cache=True)
def store_point(w: World, p: int) -> None:
    """Let a point exist."""
    point = w.point[p]
    chain = w.chain[point.chain]
    after = chain.last
    while after >= 0 and w.point[after].at > point.at:
        after = w.point[after].previous
    point.previous = after
    if after >= 0:
        point.next = w.point[after].next
        w.point[after].next = p
    else:
        point.next = chain.first
        chain.first = p
    if point.next >= 0:
        w.point[point.next].previous = p
    else:
        chain.last = p
    chain.count += 1
    chain.changes += 1
    point.alive = 1
    w.used_bytes[chain.repository] += point.stored
    w.n[N_SPACE] = 1
    if point.usable:
        newest = w.newest[w.n[N_NEWEST]]
        w.n[N_NEWEST] += 1
        newest.machine = chain.machine
        newest.exists_from = w.f[F_NOW]
        newest.at = point.at


@njit(void(WORLD, i8), cache=True)
def remove_point(w: World, p: int) -> None:
    """Delete a point now."""
    point = w.point[p]
    chain = w.chain[point.chain]
    if point.previous >= 0:
        w.point[point.previous].next = point.next
    else:
        chain.first = point.next
    if point.next >= 0:
        w.point[point.next].previous = point.previous
    else:
        chain.last = point.previous
    chain.count -= 1
    chain.changes += 1
    point.alive = 0
    point.gone = w.f[F_NOW]
    w.used_bytes[chain.repository] -= point.stored


@njit(i8(WORLD, i8), cache=True)
def newest_usable(w: World, chain: int) -> int:
    """The newest usable point of a chain, or -1."""
    p = w.chain[chain].last
    while p >= 0 and not w.point[p].usable:
        p = w.point[p].previous
    return p


@njit(i8(WORLD, i8), cache=True)
def newest_full(w: World, chain: int) -> int:
    """The newest usable full of a chain, or -1."""
    p = w.chain[chain].last
    while p >= 0 and not (w.point[p].kind == FULL and w.point[p].usable):
        p = w.point[p].previous
    return p


@njit(i8(WORLD, i8, i8), cache=True)
def base_for(w: World, chain: int, kind: int) -> int:
    """What a new point of a kind would need, or -1."""
    if kind == FULL:
        return -1
    return newest_full(w, chain) if kind == DIFFERENTIAL else newest_usable(w, chain)


# --- what is kept -----------------------------------------------------------------------------


@njit(cache=True)
def _younger(w: World, point: Any, days: float) -> bool:
    """Whether a point is younger than some days; a span below 0 stands for none."""
    return days >= 0.0 and w.f[F_NOW] - point.at < days * DAY - SAME_INSTANT


@njit(i8(WORLD, f8, i8), cache=True)
def _local_day(w: World, at: float, repository: int) -> int:
    """The local date of an instant at a repository, in days since 1970-01-01."""
    low = w.repository[repository].zone_from
    high = low + w.repository[repository].zone_n
    while high - low > 1:
        middle = (low + high) // 2
        if w.zone[middle].since <= at:
            low = middle
        else:
            high = middle
    local = at + EPOCH + w.zone[low].offset
    return int(np.floor(local / DAY))


@njit(i8(i8, i8), cache=True)
def _period(day: int, unit: int) -> int:
    """A number for the ISO week, month or year that a date is in.

    The civil calendar as in H. Hinnant, "chrono-compatible low-level date algorithms" (2021).
    """
    if unit == WEEK:
        return (day + 3) // 7
    shifted = day + 719468
    era = shifted // 146097
    of_era = shifted - era * 146097
    year_of_era = (of_era - of_era // 1460 + of_era // 36524 - of_era // 146096) // 365
    of_year = of_era - (365 * year_of_era + year_of_era // 4 - year_of_era // 100)
    month_from_march = (5 * of_year + 2) // 153
    month = month_from_march + 3 if month_from_march < 10 else month_from_march - 9
    year = year_of_era + era * 400 + (1 if month <= 2 else 0)
    return year if unit == YEAR else year * 12 + month


@njit(void(WORLD, i8, i8, i8), cache=True)
def _mark_first_of_periods(w: World, chain: int, count: int, unit: int) -> None:
    """Want the first full of each of the newest `count` periods that have one."""
    repository = w.chain[chain].repository
    p = w.chain[chain].last
    found, current, first = 0, 0, -1
    while p >= 0:
        if w.point[p].kind == FULL:
            period = _period(_local_day(w, w.point[p].at, repository), unit)
            if first >= 0 and period != current:
                w.point[first].mark = 1
                if found == count:
                    return
                found += 1
            elif first < 0:
                found = 1
            current, first = period, p
        p = w.point[p].previous
    if first >= 0:
        w.point[first].mark = 1


@njit(cache=True)
def keeps_all(w: World, chain: int, rule: Any) -> bool:
    """Whether a rule keeps everything of a chain now."""
    return rule.keeps_all or _is_before_the_end(w, chain, rule)


@njit(cache=True)
def _is_before_the_end(w: World, chain: int, rule: Any) -> bool:
    """Whether the last date on which a rule keeps everything is not over at the repository."""
    if rule.keep_until < 0.0:
        return False
    day = _local_day(w, w.f[F_NOW] + SAME_INSTANT, w.chain[chain].repository)
    return day <= rule.keep_until


@njit(cache=True)
def mark_wanted(w: World, chain: int, rule: Any, immutable: float) -> None:
    """Mark the points of a chain that a rule wants, or that are younger than so many days."""
    kept = 0
    p = w.chain[chain].last
    while p >= 0:
        point = w.point[p]
        own = rule.full_days if point.kind == FULL else rule.incremental_days
        wanted = (
            kept < rule.keep_points
            or _younger(w, point, rule.keep_days)
            or _younger(w, point, own)
            or _younger(w, point, immutable)
        )
        point.mark = 1 if wanted else 0
        kept += 1
        p = point.previous
    if rule.weekly > 0:
        _mark_first_of_periods(w, chain, rule.weekly, WEEK)
    if rule.monthly > 0:
        _mark_first_of_periods(w, chain, rule.monthly, MONTH)
    if rule.yearly > 0:
        _mark_first_of_periods(w, chain, rule.yearly, YEAR)
    usable = newest_usable(w, chain)
    if usable >= 0:
        w.point[usable].mark = 1


@njit(cache=True)
def apply_retention(w: World, chain: int, rule: Any) -> None:
    """Delete what no rule wants and no wanted point needs."""
    if keeps_all(w, chain, rule):
        return
    mark_wanted(w, chain, rule, w.repository[w.chain[chain].repository].immutable_days)
    # A base is never younger than what needs it, so one pass from the newest reaches all of them.
    p = w.chain[chain].last
    while p >= 0:
        if w.point[p].mark and w.point[p].needs >= 0:
            w.point[w.point[p].needs].mark = 1
        p = w.point[p].previous
    p = w.chain[chain].first
    while p >= 0:
        following = w.point[p].next
        if not w.point[p].mark:
            remove_point(w, p)
        p = following


@njit(cache=True)
def _remove_bad(w: World, chain: int) -> None:
    p = w.chain[chain].first
    while p >= 0:
        following = w.point[p].next
        if w.point[p].bad:
            remove_point(w, p)
        p = following


@njit(cache=True)
def merge_oldest(w: World, chain: int, rule: Any) -> float:
    """Merge the oldest point of a "forever" chain into its full, if a rule asks for it.

    Returns the stored bytes of the point merged, or -1 where the chain is short enough.
    """
    if _is_before_the_end(w, chain, rule):
        return -1.0
    if newest_full(w, chain) >= 0:
        # Nothing bad is merged into what is good.
        _remove_bad(w, chain)
    full, oldest = -1, -1
    p = w.chain[chain].first
    while p >= 0:
        if w.point[p].kind == FULL:
            full = p
        elif full >= 0:
            oldest = p
            break
        p = w.point[p].next
    if oldest < 0:
        return -1.0
    too_many = rule.keep_points >= 0 and w.chain[chain].count > rule.keep_points
    too_old = rule.keep_days >= 0.0 and not _younger(w, w.point[oldest], rule.keep_days)
    if not (too_many or too_old):
        return -1.0
    stored = w.point[oldest].stored
    merged = _merged_full(w, full, oldest)
    remove_point(w, oldest)
    w.point[oldest].replaced = merged
    p = w.chain[chain].first
    while p >= 0:
        if w.point[p].needs == oldest or w.point[p].needs == full:
            w.point[p].needs = merged
        p = w.point[p].next
    return stored


@njit(cache=True)
def _merged_full(w: World, full: int, oldest: int) -> int:
    """The full after a merge, in a row of its own: the old one keeps what was before."""
    p = w.n[N_POINT]
    w.n[N_POINT] += 1
    was, point = w.point[full], w.point[p]
    chain = w.chain[was.chain]
    point.chain, point.kind, point.needs, point.usable = was.chain, FULL, -1, was.usable
    point.bad = was.bad
    point.alive = 1
    point.at, point.exists_from = w.point[oldest].at, w.point[oldest].exists_from
    point.stored = was.stored
    point.since, point.gone = w.f[F_NOW], np.inf
    point.previous, point.next = was.previous, was.next
    if was.previous >= 0:
        w.point[was.previous].next = p
    else:
        chain.first = p
    if was.next >= 0:
        w.point[was.next].previous = p
    else:
        chain.last = p
    point.made_on, point.replaced = -1, -1
    chain.changes += 1
    was.alive = 0
    was.gone = w.f[F_NOW]
    was.replaced = p
    return p


@njit(cache=True)
def save_points(chain: Table, point: Table, saved: Table) -> int:
    """Write the points that exist down, chain by chain in the order of their start instants.

    Returns how many they are; `saved` has room for all, in rows of SAVED_POINT.
    """
    place = np.full(len(point), -1)
    k = 0
    for i in range(len(chain)):
        p = chain[i].first
        while p >= 0:
            place[p] = k
            row = saved[k]
            row.repository, row.job, row.machine = (
                chain[i].repository,
                chain[i].job,
                chain[i].machine,
            )
            row.kind, row.usable, row.bad = point[p].kind, point[p].usable, point[p].bad
            row.base = place[point[p].needs] if point[p].needs >= 0 else -1
            row.at, row.exists_from = point[p].at, point[p].exists_from
            row.stored_bytes = point[p].stored
            k += 1
            p = point[p].next
    return k
