"""The points of every machine over months, one chain after the other (section 16), compiled.

Nothing waits in a projection, so no chain knows of another, but for the copies that follow their
originals. Each machine is walked through by itself, with the rules of the engine for what a point
takes, which one is kept and which are merged; its points are forgotten before the next one comes.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numba import njit

from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.machine_runs import (
    built_on,
    changed_part,
    effective_kind,
    kind_in_turn,
)
from gambrel.core.simulation.engine.points import (
    apply_retention,
    base_for,
    growth_at,
    keeps_all,
    mark_wanted,
    merge_oldest,
    new_point,
    newest_full,
    remove_point,
    store_point,
)
from gambrel.core.simulation.engine.tables import (
    CHAIN_FOREVER,
    F_NOW,
    FULL,
    N_NEWEST,
    N_POINT,
    World,
)
from gambrel.core.simulation.engine.world import Handle, view_of
from gambrel.core.units import SAME_INSTANT

LIFE = np.dtype(
    [(name, np.int32) for name in ("chain", "kind", "usable", "bad", "made_on", "replaced")]
    + [(name, np.float64) for name in ("at", "exists_from", "stored_bytes", "since", "gone")]
)
"""A point that was written down: as HISTORY, with its chain by number, instants from EPOCH."""


class Course(NamedTuple):
    """What a walk is told beside the arrays of the plan, and what it fills in.

    A *place* is one of a job's repositories: first its homes, to which its members go, then those
    of its copies. The rows of a member stand for the places of its job in the same order.

    Attributes:
        due_from: where the occurrences of each job begin, and an end.
        due_at, due_kind, due_turn: the occurrences, job by job.
        place_from: the first place of each job. change_from: the first change of each place; it has
            one for each occurrence of its job.
        row_from: the first row of each member.
        homes_n: how many homes the job of each member has. home_of: which of them it goes to.
        active_from, active_to, points_go: of each machine: when runs take it, and when its points
            are thrown away.
        most: bytes beyond which each disk does not grow.
        saved_from, saved: the points that exist at the beginning, chain by chain.
        samples: instants at which members are looked at.
        told: whether all points of a member are written down; `life` has room for them.
        change: the bytes that come or go with each occurrence, summed over members.
        begins: the bytes of each place at the beginning.
        odd_at, odd_place, odd_bytes: changes at other instants; odd_n of them.
        stored: of each row at each sample. read: source bytes of each member up to each sample.
        chained, immutable: of each place at each sample, bytes that only a chain, or an immutable
            span, holds.
        counts: 0: how many odd changes, 1: how many rows of `life`.
    """

    due_from: t.Ints
    due_at: t.Floats
    due_kind: t.Ints
    due_turn: t.Ints
    place_from: t.Ints
    change_from: t.Ints
    row_from: t.Ints
    homes_n: t.Ints
    home_of: t.Ints
    active_from: t.Floats
    active_to: t.Floats
    points_go: t.Floats
    most: t.Floats
    saved_from: t.Ints
    saved: t.Table
    samples: t.Floats
    told: t.Ints
    change: t.Floats
    begins: t.Floats
    odd_at: t.Floats
    odd_place: t.Ints
    odd_bytes: t.Floats
    stored: t.Floats
    read: t.Floats
    chained: t.Floats
    immutable: t.Floats
    life: t.Table
    counts: t.Ints


@njit(cache=True)
def _take_saved(w: World, c: Course, chain: int, later: t.Ints) -> int:
    """Write the points down that a chain begins with; says how many come only later."""
    first, end = c.saved_from[chain], c.saved_from[chain + 1]
    shift = w.n[N_POINT] - first
    waiting = 0
    w.chain[chain].first = w.chain[chain].last = -1
    w.chain[chain].count = 0
    for k in range(first, end):
        row = c.saved[k]
        base = -1 if row.base < 0 else row.base + shift
        p = new_point(w, chain, row.kind, row.at, row.stored_bytes, base)
        point = w.point[p]
        point.usable, point.bad = row.usable, row.bad
        point.exists_from = point.since = row.exists_from
        point.alive = 0
        if row.exists_from <= w.f[F_NOW] + SAME_INSTANT:
            store_point(w, p)
        else:
            later[waiting] = p
            waiting += 1
    # By the instant from which on they exist; there are few.
    for i in range(1, waiting):
        k = i
        while k > 0 and w.point[later[k]].since < w.point[later[k - 1]].since:
            later[k], later[k - 1] = later[k - 1], later[k]
            k -= 1
    return waiting


@njit(cache=True)
def _note_odd(c: Course, at: float, place: int, bytes_: float) -> None:
    n = c.counts[0]
    if n < len(c.odd_at):
        c.odd_at[n], c.odd_place[n], c.odd_bytes[n] = at, place, bytes_
    c.counts[0] = n + 1


@njit(cache=True)
def _keep_to_the_rule(w: World, chain: int, forever: bool, rule: Any) -> None:
    if forever:
        while merge_oldest(w, chain, rule) >= 0.0:
            pass
    else:
        apply_retention(w, chain, rule)


@njit(cache=True)
def _what_is_only_held(w: World, chain: int, forever: bool, rule: Any) -> tuple[float, float]:
    """Bytes that only a chain holds, and those that only an immutable span does."""
    if forever or keeps_all(w, chain, rule):
        return 0.0, 0.0
    mark_wanted(w, chain, rule, -1.0)
    chained, immutable = 0.0, 0.0
    p = w.chain[chain].last
    while p >= 0:
        point = w.point[p]
        if point.mark > 0 and point.needs >= 0 and w.point[point.needs].mark == 0:
            w.point[point.needs].mark = 2
        if point.mark == 2:
            chained += point.stored
        elif point.mark == 0:
            immutable += point.stored
        p = point.previous
    return chained, immutable


@njit(cache=True)
def _look(
    w: World, c: Course, row: int, place: int, chain: int, forever: bool, rule: Any,
    s: int, until: float,
) -> int:  # fmt: skip
    """Fill in the samples before an instant; returns the first that is not."""
    if s >= len(c.samples) or c.samples[s] >= until - SAME_INSTANT:
        return s
    chained, immutable = _what_is_only_held(w, chain, forever, rule)
    stored = 0.0
    p = w.chain[chain].last
    while p >= 0:
        stored += w.point[p].stored
        p = w.point[p].previous
    while s < len(c.samples) and c.samples[s] < until - SAME_INSTANT:
        c.stored[row, s] = stored
        c.chained[place, s] += chained
        c.immutable[place, s] += immutable
        s += 1
    return s


@njit(cache=True)
def _let_come(
    w: World, c: Course, row: int, place: int, chain: int, forever: bool, rule: Any,
    later: t.Ints, n: int, i: int, s: int, until: float,
) -> tuple[int, int]:  # fmt: skip
    """Go on to an instant, with the points that exist only later and the samples before it.

    Returns how many of the points have come, and the first sample that is still to be filled in.
    """
    repository = w.chain[chain].repository
    while i < n and w.point[later[i]].since <= until + SAME_INSTANT:
        s = _look(w, c, row, place, chain, forever, rule, s, w.point[later[i]].since)
        before = w.used_bytes[repository]
        w.f[F_NOW] = w.point[later[i]].since
        store_point(w, later[i])
        _note_odd(c, w.f[F_NOW], place, w.used_bytes[repository] - before)
        i += 1
    return i, _look(w, c, row, place, chain, forever, rule, s, until)


@njit(cache=True)
def _throw_away(
    w: World, c: Course, place: int, repository: int, chain: int, at: float, to_come: t.Ints
) -> None:
    """Delete all points of a chain; those that were still to come never do."""
    for waiting in to_come:
        w.point[waiting].gone = w.point[waiting].since
    before = w.used_bytes[repository]
    w.f[F_NOW] = at
    p = w.chain[chain].first
    while p >= 0:
        following = w.point[p].next
        remove_point(w, p)
        p = following
    _note_odd(c, at, place, w.used_bytes[repository] - before)


@njit(cache=True)
def _whole(w: World, c: Course, m: int, at: float) -> tuple[float, float]:
    """The used bytes of a member's disks at an instant, and those that reading all takes."""
    member = w.member[m]
    factor = growth_at(w, member.growth, at)
    used, source = 0.0, 0.0
    for d in range(member.disks_from, member.disks_from + member.disks_n):
        disk = w.disk[d]
        used += max(0.0, min(disk.used * factor, c.most[d]) - disk.left_out)
        source += max(0.0, min(disk.whole * factor, max(c.most[d], disk.whole)) - disk.left_out)
    return used, source


@njit(cache=True)
def _walk_home(
    w: World, c: Course, j: int, m: int, from_: float, later: t.Ints,
    made: t.Floats, made_kind: t.Ints,
) -> None:  # fmt: skip
    """The points of a member in its own repository.

    `made` is filled with the stored bytes of each point, or -1; `made_kind` with its kind.
    """
    job, member = w.job[j], w.member[m]
    home = c.home_of[m]
    chain, place, row = member.chain, c.place_from[j] + home, c.row_from[m] + home
    repository = member.repository
    forever = job.chain == CHAIN_FOREVER
    machine = member.machine
    runs = member.path == 1 and member.refuses == 0 and member.disks_n > 0
    go = c.points_go[machine]
    w.f[F_NOW] = from_
    w.used_bytes[repository] = 0.0
    waiting = _take_saved(w, c, chain, later)
    c.begins[place] += w.used_bytes[repository]
    came, s, total = 0, 0, 0.0
    first, end = c.due_from[j], c.due_from[j + 1]
    change = c.change_from[place] - first
    for i in range(first, end):
        at = c.due_at[i]
        made[i - first] = -1.0
        if not runs or at < c.active_from[machine] or at >= c.active_to[machine]:
            continue
        seen = s
        came, s = _let_come(w, c, row, place, chain, forever, job, later, waiting, came, s, at)
        c.read[m, seen:s] = total
        w.f[F_NOW] = at
        before = w.used_bytes[repository]
        full = newest_full(w, chain)
        kind = effective_kind(
            job.chain, kind_in_turn(c.due_kind[i], member.group, c.due_turn[i]), full >= 0
        )
        synthetic = kind == FULL and member.synthetic == 1 and full >= 0
        base = built_on(w, chain, kind, synthetic, full)
        used, source = _whole(w, c, m, at)
        payload = used
        if base >= 0:
            payload = used * changed_part(w, m, base)
            if job.tracking:
                source = payload
        total += source
        if kind == FULL:
            payload, base = used, -1
        stored = payload / member.kappa / w.repository[repository].dedupe
        store_point(w, new_point(w, chain, kind, at, stored, base))
        _keep_to_the_rule(w, chain, forever, job)
        made[i - first], made_kind[i - first] = stored, kind
        c.change[change + i] += w.used_bytes[repository] - before
    came, _ = _let_come(w, c, row, place, chain, forever, job, later, waiting, came, s, go)
    c.read[m, s:] = total
    if go < np.inf:
        _throw_away(w, c, place, repository, chain, go, later[came:waiting])


@njit(cache=True)
def _walk_copy(
    w: World, c: Course, j: int, m: int, k: int, from_: float, later: t.Ints,
    made: t.Floats, made_kind: t.Ints,
) -> None:  # fmt: skip
    """The points of a member in the repository of one of its job's copies."""
    job, member = w.job[j], w.member[m]
    copy = w.copy[member.copies_from + k]
    chain = w.copy_chain[member.copy_chains + k]
    homes, repository = c.homes_n[m], copy.repository
    place, row = c.place_from[j] + homes + k, c.row_from[m] + homes + k
    forever = job.chain == CHAIN_FOREVER
    dedupe, home = w.repository[repository].dedupe, w.repository[member.repository].dedupe
    go = c.points_go[member.machine]
    w.f[F_NOW] = from_
    w.used_bytes[repository] = 0.0
    waiting = _take_saved(w, c, chain, later)
    c.begins[place] += w.used_bytes[repository]
    came, s = 0, 0
    first, end = c.due_from[j], c.due_from[j + 1]
    change = c.change_from[place] - first
    for i in range(first, end):
        due = c.due_at[i] + copy.delay
        if made[i - first] < 0.0 or copy.routed == 0 or due >= go:
            continue
        came, s = _let_come(w, c, row, place, chain, forever, copy, later, waiting, came, s, due)
        w.f[F_NOW] = due
        before = w.used_bytes[repository]
        kind, wire = made_kind[i - first], made[i - first] * home
        if newest_full(w, chain) < 0:
            # What a copy carries where there is no full is the whole machine (section 7).
            kind, wire = FULL, _whole(w, c, m, c.due_at[i])[0] / member.kappa
        base = base_for(w, chain, kind)
        store_point(w, new_point(w, chain, kind, c.due_at[i], wire / dedupe, base))
        _keep_to_the_rule(w, chain, forever, copy)
        c.change[change + i] += w.used_bytes[repository] - before
    came, _ = _let_come(w, c, row, place, chain, forever, copy, later, waiting, came, s, go)
    if go < np.inf:
        _throw_away(w, c, place, repository, chain, go, later[came:waiting])


@njit(cache=True)
def _write_down(w: World, c: Course) -> None:
    """Keep the points of the member that was walked through."""
    offset = c.counts[1]
    for p in range(w.n[N_POINT]):
        point, row = w.point[p], c.life[offset + p]
        row.chain, row.kind = point.chain, point.kind
        row.usable, row.bad = point.usable, point.bad
        row.made_on = -1 if point.made_on < 0 else point.made_on + offset
        row.replaced = -1 if point.replaced < 0 else point.replaced + offset
        row.at, row.exists_from = point.at, point.exists_from
        row.stored_bytes, row.since, row.gone = point.stored, point.since, point.gone
    c.counts[1] = offset + w.n[N_POINT]


@njit(cache=True)
def _walk_members(w: World, c: Course, members: t.Ints, jobs: t.Ints, from_: float) -> None:
    dues_most = 0
    for j in range(len(w.job)):
        dues_most = max(dues_most, c.due_from[j + 1] - c.due_from[j])
    made = np.zeros(dues_most, np.float64)
    made_kind = np.zeros(dues_most, np.int64)
    later = np.zeros(len(c.saved) + 1, np.int64)
    for x in range(len(members)):
        m, j = members[x], jobs[x]
        w.n[N_POINT] = w.n[N_NEWEST] = 0
        _walk_home(w, c, j, m, from_, later, made, made_kind)
        for k in range(w.job[j].copies_n):
            _walk_copy(w, c, j, m, k, from_, later, made, made_kind)
        if c.told[m]:
            _write_down(w, c)


@njit(cache=True, nogil=True)
def walk_members(
    world: Handle, course: Course, members: t.Ints, jobs: t.Ints, from_: float
) -> None:
    """Walk through some members, each with its job; `from_` in seconds from EPOCH."""
    _walk_members(view_of(world), course, members, jobs, from_)
