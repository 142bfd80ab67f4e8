"""From a Plan to arrays: everything that does not depend on the horizon.

A Layout is kept and used again for plans that differ only in what it does not hold: the schedules
of jobs, their names and locks, and the points of the state. That is all that a planner changes
while dragging a bar. Where more of a job differs, only the rows of that job are made anew.
"""

from __future__ import annotations

from collections.abc import Iterable
from copy import copy as copy_of
from dataclasses import replace
from itertools import chain
from typing import Any

import numpy as np

from gambrel.core.caches import MIB as CACHE_MIB
from gambrel.core.caches import ByteCache
from gambrel.core.model.paths import Candidate
from gambrel.core.plan.objects import Plan
from gambrel.core.schedules.calendars import run_alike
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.job_arrays import JobRows, Row, Surroundings, flat, table
from gambrel.core.units import MIB

MOST_BYTES = 32 * CACHE_MIB
"""What layouts may hold together."""
OF_THE_LARGEST = 3
"""But never less than so many times the largest: of a plan, a draft, a preview."""
BYTES_BY_WAY = 200
"""What stands behind the number of a way to read takes, about."""
ANY_NUMBER = 2**40
"""Slots of a pool without limit."""

_NONE = np.zeros(0, np.int64)
_STREAMS: dict[str | None, int] = {"direct": 0, "hot_add": 1, "network": 2, None: 3}
"""The place of each transport among the factors of `Layout.varied`; None: an agent."""


def offsets(counts: Iterable[int]) -> t.Ints:
    """Where each of some lists begins that stand one after the other, and where the last ends."""
    return np.concatenate([[0], np.cumsum(np.fromiter(counts, np.int64))]).astype(np.int64)


def _joined(dtype: np.dtype[Any], tables: Iterable[t.Table], **begins: t.Ints) -> t.Table:
    """Tables one after the other; a named column of table i counts from `begins[name][i]` on."""
    tables = list(tables)
    lengths = [len(rows) for rows in tables]
    made = np.empty(sum(lengths), dtype)
    # To concatenate them would compare all fields of each with those of the next.
    for rows, end in zip(tables, np.cumsum(lengths).tolist(), strict=True):
        made[end - len(rows) : end] = rows
    for name, begin in begins.items():
        made[name] += np.repeat(begin[: len(tables)], lengths)
    return made


def _pairs(tables: Iterable[t.Ints], begin: t.Ints) -> t.Ints:
    """Pairs one after the other; the second of those of table i count from `begin[i]` on."""
    shifted = [
        np.add(pairs, (0, first)) for pairs, first in zip(tables, begin.tolist(), strict=False)
    ]
    return np.concatenate([np.zeros((0, 2), np.int64), *shifted])


def _grouped(pairs: t.Ints, groups: int) -> tuple[t.Ints, t.Ints]:
    """Pairs in order of their group: where each group begins, and all that is in them."""
    begins = np.searchsorted(pairs[:, 0], np.arange(groups + 1)).astype(np.int64)
    return begins, np.ascontiguousarray(pairs[:, 1])


class Layout:
    """The arrays of a plan and the names behind their numbers.

    Args:
        known: a layout of the same lists and jobs; the rows of what is the same are used again.

    Attributes:
        plan: one of the plans that it fits, without its points and what is under way.
        around: what its jobs work on.
        chains: (repository, job, machine) of each chain, a row for each, all by position.
        disk_positions: of each DISK row, the position of the disk in its machine.
        ways: what is behind each CANDIDATE row; None for those of repository work.
    """

    def __init__(self, plan: Plan, known: Layout | None = None) -> None:
        # A layout is kept for long, and every state has points of its own.
        self.plan = plan = replace(plan, state=replace(plan.state, points=(), running=None))
        around = Surroundings(plan) if known is None else known.around.with_jobs_of(plan)
        self.around: Surroundings = around
        self.topology = around.topology
        self._parts = parts = self._rows_of_jobs(around, known)
        self._number_slots_and_rates()
        rewrites, rewrite_uses = self._rewrites(around)
        # How transforms and merges move stands before the ways of all jobs.
        ways = offsets([len(rewrites), *(len(part.candidate) for part in parts)])
        uses = offsets([len(rewrite_uses), *(len(part.use) for part in parts)])
        members = offsets(len(part.member) for part in parts)
        disks = offsets(len(part.disk) for part in parts)
        classes = offsets(len(part.klass) for part in parts)
        items = offsets(len(part.class_items) for part in parts)
        copies = offsets(len(part.copy) for part in parts)
        copy_chains = offsets(len(part.copy_chain) for part in parts)
        chains = offsets(len(part.chains) for part in parts)
        # The queue has two rows for each class of disks, then those for repository work.
        works = offsets(len(part.work) for part in parts) + 2 * int(classes[-1])

        self.use = _joined(t.USE, [rewrite_uses, *(part.use for part in parts)])
        self.candidate = _joined(
            t.CANDIDATE,
            [rewrites, *(part.candidate for part in parts)],
            uses_from=uses,
        )
        self.member = _joined(
            t.MEMBER,
            (part.member for part in parts),
            disks_from=disks,
            chain=chains,
            copy_chains=copy_chains,
            work_class=works,
            copies_from=copies,
        )
        self.disk = _joined(
            t.DISK, (part.disk for part in parts), klass=classes, candidates_from=ways[1:]
        )
        self.klass = _joined(
            t.KLASS, (part.klass for part in parts), candidates_from=ways[1:], items_from=items
        )
        self._number_proxy_sets(classes)
        self.copy = _joined(
            t.COPY,
            (part.copy for part in parts),
            candidate=ways[1:],
            move_class=works,
            merge_class=works,
        )
        self.class_items = np.concatenate([_NONE, *(part.class_items for part in parts)])
        self.copy_chain = np.concatenate(
            [_NONE, *(part.copy_chain + first for part, first in zip(parts, chains, strict=False))]
        )
        self.chains = np.concatenate([np.zeros((0, 3), np.int64), *(part.chains for part in parts)])
        self.disk_positions = list(chain.from_iterable(part.disk_positions for part in parts))
        self.ways: list[Candidate | None] = [None] * len(rewrites)
        self.ways += (way for part in parts for way in part.ways)

        self.job = table(t.JOB, [part.job for part in parts])
        self.job["members_from"], self.job["classes_from"] = members[:-1], classes[:-1]
        self._let_follow()
        self.repository = self._repositories()
        self.uses_most = int(max(1, self.candidate["uses_n"].max(initial=0)))
        self.queue = self._queue(int(classes[-1]))
        self._index_machines(classes)

    def _rows_of_jobs(self, around: Surroundings, known: Layout | None) -> list[JobRows]:
        jobs = self.plan.jobs
        if known is None:
            return [JobRows(around, i) for i in range(len(jobs))]
        return [
            part if run_alike(was, now) else JobRows(around, i)
            for i, (was, now, part) in enumerate(
                zip(known.plan.jobs, jobs, known._parts, strict=True)
            )
        ]

    def _number_slots_and_rates(self) -> None:
        topology = self.topology
        self.capacity = np.full(max(1, len(topology.resource_names)), np.inf)
        for resource, capacity in topology.capacity.items():
            self.capacity[resource] = capacity
        self.slots = np.full(max(1, len(topology.pool_names)), ANY_NUMBER, np.int64)
        for pool, slots in topology.slots.items():
            self.slots[pool] = slots

    def _rewrites(self, around: Surroundings) -> tuple[t.Table, t.Table]:
        """How transforms and merges move in each repository: rows of CANDIDATE and of USE."""
        ways: list[Row] = []
        uses: list[Row] = []
        for repository in self.plan.repositories:
            ingest = self.topology.resource(f"repository:{repository.id}")
            limited = around.limited([(ingest, 1.0, 0.0)])
            rate = repository.transform_mib_per_s
            ceiling = np.inf if rate is None else rate * MIB
            ways.append(
                {"proxy": -1, "uses_from": len(uses), "uses_n": len(limited), "ceiling": ceiling}
            )
            uses += limited
        return table(t.CANDIDATE, ways), table(t.USE, uses)

    def _let_follow(self) -> None:
        followers: list[list[int]] = [[] for _ in self.plan.jobs]
        for position, job in enumerate(self.plan.jobs):
            if job.after is not None:
                followers[self.plan.job_position[job.after]].append(position)
        counts = [len(found) for found in followers]
        self.job["followers_from"], self.job["followers_n"] = offsets(counts)[:-1], counts
        self.follower = flat(followers)

    def _repositories(self) -> t.Table:
        return table(
            t.REPOSITORY,
            [
                {
                    "candidate": i,
                    "block_clone": int(r.block_clone),
                    "dedupe": r.dedupe_ratio,
                    "read": np.inf
                    if r.read_rate_mib_per_s is None
                    else r.read_rate_mib_per_s * MIB,
                    "first_byte": r.first_byte_s,
                    "immutable_days": r.immutable_days,
                }
                for i, r in enumerate(self.plan.repositories)
            ],
        )

    def _queue(self, classes: int) -> t.Table:
        queue = _joined(
            t.QUEUE, [np.zeros(2 * classes, t.QUEUE), *(part.work for part in self._parts)]
        )
        queue["parked"] = t.P_NOTHING
        for name in ("first", "last"):
            queue[name] = -1
        for name in ("pool_a", "pool_b"):
            queue[name][: 2 * classes] = -1
        return queue

    def _number_proxy_sets(self, classes: t.Ints) -> None:
        """Number the sets of proxies, alike in all jobs, and say which hold each proxy."""
        number: dict[frozenset[int], int] = {}
        for part, first in zip(self._parts, classes.tolist(), strict=False):
            numbers = [number.setdefault(proxies, len(number)) for proxies in part.proxy_sets]
            rows = self.klass[first : first + len(part.klass)]
            rows["proxies"] = np.array(numbers, np.int64)[rows["proxies"]]
        self.proxy_sets_n = len(number)
        pairs = np.array(
            sorted((proxy, i) for proxies, i in number.items() for proxy in proxies), np.int64
        )
        self.proxy_set_from, self.proxy_set = _grouped(pairs.reshape(-1, 2), len(self.slots))

    def _index_machines(self, classes: t.Ints) -> None:
        """Which classes may wait for a machine."""
        held = _pairs((part.class_machines for part in self._parts), classes)
        self.machine_class_from, self.machine_class = _grouped(
            held[np.lexsort((held[:, 1], held[:, 0]))], len(self.plan.machines)
        )

    def nbytes(self) -> int:
        """The bytes that it holds, about, with the rows of its jobs."""
        held = [
            *vars(self).values(),
            *(value for part in self._parts for value in vars(part).values()),
        ]
        arrays = sum(array.nbytes for array in held if isinstance(array, np.ndarray))
        return arrays + BYTES_BY_WAY * len(self.ways)

    # --- for which plans --------------------------------------------------------------------

    def fits(self, plan: Plan) -> bool:
        """Whether a plan has the same arrays."""
        return self.has_rows_for(plan) and self.same_jobs(plan) == len(plan.jobs)

    def same_jobs(self, plan: Plan) -> int:
        """How many jobs have the rows that they have here, for a plan that it has rows for."""
        return sum(map(run_alike, plan.jobs, self.plan.jobs))

    def varied(self, change: t.Floats, rates: t.Floats, streams: t.Floats) -> Layout:
        """The same arrays with factors on what varies from week to week.

        Args:
            change: one for the daily change of each machine.
            rates: one for each resource.
            streams: one for the ceiling of a stream by direct, hot-add, network and an agent.
        """
        made = copy_of(self)
        made.member = self.member.copy()
        made.member["change"] *= change[made.member["machine"]]
        made.capacity = self.capacity * rates
        # A checksum reads at the rate of its repository too.
        made.repository = self.repository.copy()
        for i, repository in enumerate(self.plan.repositories):
            made.repository["read"][i] *= rates[
                self.topology.resource(f"repository_read:{repository.id}")
            ]
        made.candidate = self.candidate.copy()
        kinds = [-1 if way is None else _STREAMS[way.transport] for way in self.ways]
        made.candidate["ceiling"] *= np.append(streams, 1.0)[kinds]
        return made

    def has_rows_for(self, plan: Plan) -> bool:
        """Whether its rows of a job hold for a plan in which that job is the same."""
        mine = self.plan
        # Only where there are restores are the rates known at which datastores are written to.
        if bool(plan.state.restores) != bool(mine.state.restores):
            return False
        for name in _LISTS:
            theirs, own = getattr(plan, name), getattr(mine, name)
            # Edits share what they do not touch, and to compare ten thousand machines takes time.
            if theirs is not own and theirs != own:
                return False
        jobs = [job.id for job in plan.jobs] == [job.id for job in mine.jobs]
        return plan.transports == mine.transports and jobs


_LISTS = ("sites", "links", "hosts", "datastores", "proxies", "repositories", "machines", "windows")


_kept: ByteCache[Layout] = ByteCache("layouts", MOST_BYTES, Layout.nbytes)


def layout_of(plan: Plan) -> Layout:
    """The layout of a plan: a kept one that fits, else a new one."""
    alike = {each: each.same_jobs(plan) for each in _kept.values() if each.has_rows_for(plan)}
    stem = max(alike, key=lambda each: alike[each], default=None)
    if stem is not None:
        # Whatever is tried next is likely to be made from the same one.
        _kept.get(id(stem))
        if alike[stem] == len(plan.jobs):
            return stem
    made = Layout(plan, stem)
    _kept.most_bytes = max(_kept.most_bytes, OF_THE_LARGEST * made.nbytes())
    return _kept.put(id(made), made)
