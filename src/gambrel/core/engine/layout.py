"""From a Plan to arrays: everything that does not depend on the horizon.

A Layout is kept and used again for plans that differ only in what it does not hold: the schedules
of jobs, their names and locks, and the points of the state. That is all that a planner changes
while dragging a bar.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterable, Sequence
from copy import copy as copy_of
from dataclasses import replace
from threading import Lock
from typing import Any

import numpy as np

from gambrel.core.calendars import held_until, without_timing
from gambrel.core.engine import tables as t
from gambrel.core.paths import Candidate, Topology, Uses
from gambrel.core.plan import Copy, Disk, Job, Machine, Plan, Retention, State
from gambrel.core.selection import selected_machines
from gambrel.core.snapshot import Snapshot, snapshot_of_state
from gambrel.core.spreading import full_groups
from gambrel.core.units import MIB, MINUTE
from gambrel.core.volume import (
    compression,
    preparation_s,
    protected_bytes,
    protected_disks,
    read_bytes,
    refuses,
)

KEPT = 8
"""How many layouts are kept."""
ANY_NUMBER = 2**40
"""Slots of a pool without limit."""

Row = dict[str, Any]
_STREAMS: dict[str | None, int] = {"direct": 0, "hot_add": 1, "network": 2, None: 3}
"""The place of each transport among the factors of `Layout.varied`; None: an agent."""


def _table(dtype: np.dtype[Any], rows: Sequence[Row]) -> t.Table:
    """Rows by field name as an array of records; a field that a row lacks is 0."""
    table = np.zeros(len(rows), dtype)
    for name in dtype.names or ():
        if rows and name in rows[0]:
            table[name] = [row[name] for row in rows]
    return table


def _offsets(counts: Iterable[int]) -> t.Ints:
    return np.concatenate([[0], np.cumsum(np.fromiter(counts, np.int64))]).astype(np.int64)


def _flat(lists: Iterable[Iterable[int]]) -> t.Ints:
    return np.array([number for numbers in lists for number in numbers], np.int64)


def _minutes(value: float | None) -> float:
    return np.inf if value is None else value * MINUTE


def _retention(rule: Retention) -> Row:
    def span(days: float | None) -> float:
        return -1.0 if days is None else days

    return {
        "keep_points": -1 if rule.points is None else rule.points,
        "weekly": rule.weekly,
        "monthly": rule.monthly,
        "yearly": rule.yearly,
        "keeps_all": int(rule.keeps_everything),
        "keep_days": span(rule.days),
        "full_days": span(rule.full_days),
        "incremental_days": span(rule.incremental_days),
    }


class Layout:
    """The arrays of a plan and the names behind their numbers.

    Attributes:
        plan: one of the plans that it fits.
        chain_of: number of the chain of a (repository, job, machine), all by position.
        disk_positions: of each DISK row, the position of the disk in its machine.
        ways: what is behind each CANDIDATE row; None for those of repository work.
    """

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.topology = Topology(plan)
        self._lock = Lock()
        self._state: tuple[State, Snapshot] | None = None
        self.chain_of: dict[tuple[int, int, int], int] = {}
        self.disk_positions: list[int] = []
        self.ways: list[Candidate | None] = []
        self._machine = {m.id: i for i, m in enumerate(plan.machines)}
        self._repository = {r.id: i for i, r in enumerate(plan.repositories)}
        self._window = {w.id: i for i, w in enumerate(plan.windows)}
        self._members: list[Row] = []
        self._disks: list[Row] = []
        self._classes: list[Row] = []
        self._items: list[list[int]] = []
        self._class_machines: list[dict[int, None]] = []
        self._candidates: list[Row] = []
        self._uses: list[Row] = []
        self._copies: list[Row] = []
        self._copy_chains: list[int] = []
        self._work_rows: list[Row] = []
        self._ways_of: dict[tuple[object, ...], tuple[int, int]] = {}
        self._rewrites = [self._rewrite_way(i) for i in range(len(plan.repositories))]
        jobs = [self._job(position, job) for position, job in enumerate(plan.jobs)]
        self._finish(jobs)

    # --- jobs and their machines ------------------------------------------------------------

    def _job(self, position: int, job: Job) -> Row:
        row: Row = {
            **self._settings(self.plan, job),
            "priority": job.priority,
            "repository": self._repository[job.repository],
            "members_from": len(self._members),
            "classes_from": len(self._classes),
            "copies_from": len(self._copies),
            "copies_n": len(job.copies),
            "work_class": self._work_row(job, job.repository),
        }
        for copy in job.copies:
            self._copy(job, copy)
        class_of: dict[tuple[object, ...], int] = {}
        disks = 0
        machines = selected_machines(self.plan, job)
        for machine, group in zip(machines, full_groups(job, machines), strict=True):
            disks += self._member(position, job, machine, group, disks, class_of)
        row["members_n"] = len(self._members) - row["members_from"]
        row["classes_n"] = len(self._classes) - row["classes_from"]
        row["disks_n"] = disks
        return row

    def _settings(self, plan: Plan, job: Job) -> Row:
        """What of a job's row nothing else depends on (`_SETTINGS`)."""
        return {
            "window": -1 if job.window is None else self._window[job.window],
            "end_rule": t.WINDOW_ENDS.index(job.at_window_end),
            "chain": t.CHAINS.index(job.chain),
            "synthetic": int(job.synthetic_full),
            "tracking": int(job.tracking),
            "verify": t.VERIFIES.index(job.verify),
            "share": job.share,
            "start_within": _minutes(job.start_within_min),
            "stop_after": _minutes(job.stop_after_min),
            "guest_after": job.guest_after_s,
            "held_until": held_until(plan, job) - t.EPOCH,
            "before": job.before_min * MINUTE,
            "after": job.after_min * MINUTE,
            "boot": job.boot_min * MINUTE,
            **_retention(job.retention),
        }

    def revised(self, plan: Plan) -> Layout | None:
        """The layout of a plan whose jobs differ in settings alone; None for any other plan."""
        if not self._same_lists(plan):
            return None
        changed = [
            i
            for i, (one, other) in enumerate(zip(self.plan.jobs, plan.jobs, strict=True))
            if not _alike(one, other)
        ]
        for i in changed:
            was, now = self.plan.jobs[i], plan.jobs[i]
            if not _alike(replace(was, **{name: getattr(now, name) for name in _SETTINGS}), now):
                return None
        made = copy_of(self)
        made.plan = plan
        made._lock = Lock()
        made.job = self.job.copy()
        for i in changed:
            for name, value in self._settings(plan, plan.jobs[i]).items():
                made.job[name][i] = value
        return made

    def _pool(self, name: str) -> int:
        return next(iter(self.topology.limited_pools(name)), -1)

    def _chain(self, repository: int, job: int, machine: int) -> int:
        return self.chain_of.setdefault((repository, job, machine), len(self.chain_of))

    def _member(
        self,
        position: int,
        job: Job,
        machine: Machine,
        group: int,
        first_disk: int,
        class_of: dict[tuple[object, ...], int],
    ) -> int:
        """Add a machine of a job and its disks; how many disks it has there."""
        number = self._machine[machine.id]
        chosen = {id(disk) for disk in protected_disks(job, machine)}
        disks = [(i, disk) for i, disk in enumerate(machine.disks) if id(disk) in chosen]
        disks.sort(key=lambda entry: (-entry[1].used_gib, entry[0]))
        found = [self._ways_to_read(position, job, machine, disk) for _, disk in disks]
        home = self._repository[job.repository]
        self._members.append(
            {
                "machine": number,
                "server": int(machine.kind == "server"),
                "path": int(all(count for _, count in found)),
                "host_pool": -1 if machine.host is None else self._pool(f"host:{machine.host}"),
                "disks_from": len(self._disks),
                "disks_n": len(disks),
                "first_disk": first_disk,
                "chain": self._chain(home, position, number),
                "copy_chains": len(self._copy_chains),
                "kappa": compression(job, machine),
                "change": machine.daily_change,
                "churn": machine.churn_ceiling,
                "protected": float(sum(protected_bytes(job, machine, disk) for _, disk in disks)),
                "prepare": preparation_s(job, machine),
                "refuses": int(refuses(job, machine)),
                "group": group,
            }
        )
        for copy in job.copies:
            target = self._repository[copy.repository]
            self._copy_chains.append(self._chain(target, position, number))
        for offset, ((place, disk), ways) in enumerate(zip(disks, found, strict=True)):
            c = self._class(position, job, machine, disk, ways, class_of)
            self._disks.append(
                {
                    "klass": c,
                    "place": len(self._items[c]),
                    "candidates_from": ways[0],
                    "candidates_n": ways[1],
                    "protected": protected_bytes(job, machine, disk),
                    "whole": read_bytes(job, machine, disk),
                }
            )
            self._items[c].append(first_disk + offset)
            self._class_machines[c][number] = None
            self.disk_positions.append(place)
        return len(disks)

    def _class(
        self,
        position: int,
        job: Job,
        machine: Machine,
        disk: Disk,
        ways: tuple[int, int],
        class_of: dict[tuple[object, ...], int],
    ) -> int:
        """The class of a disk: those of the job that need the same slots."""
        server = machine.kind == "server"
        key: tuple[object, ...] = (machine.id,) if server else (machine.host, disk.datastore)
        if key not in class_of:
            class_of[key] = len(self._classes)
            own = f"agent:{machine.id}" if server else f"datastore:{disk.datastore}"
            self._classes.append(
                {
                    "job": position,
                    "host_pool": -1 if server else self._pool(f"host:{machine.host}"),
                    "pool_a": self._pool(f"repository:{job.repository}"),
                    "pool_b": self._pool(own),
                    "pool_c": self._pool(f"job:{job.id}"),
                    "candidates_from": ways[0],
                    "candidates_n": 0 if server else ways[1],
                }
            )
            self._items.append([])
            self._class_machines.append({})
        return class_of[key]

    # --- ways to move -----------------------------------------------------------------------

    def _add_way(
        self, uses: Iterable[tuple[int, float, float]], ceiling: float, way: Candidate | None = None
    ) -> int:
        limited = [use for use in uses if use[0] in self.topology.capacity]
        self._candidates.append(
            {
                "proxy": -1 if way is None or way.proxy is None else way.proxy,
                "uses_from": len(self._uses),
                "uses_n": len(limited),
                "ceiling": ceiling,
            }
        )
        self.ways.append(way)
        self._uses += [{"resource": r, "source": s, "wire": w} for r, s, w in limited]
        return len(self._candidates) - 1

    def _ways_to_read(
        self, position: int, job: Job, machine: Machine, disk: Disk
    ) -> tuple[int, int]:
        """First and number of the candidates of a disk."""
        if machine.kind == "server":
            key: tuple[object, ...] = (position, machine.id, disk.id)
        else:
            key = (position, machine.host, disk.datastore)
        if key not in self._ways_of:
            first = len(self._candidates)
            for way in self.topology.candidates(job, machine, disk):
                once, twice = dict(way.uses(0.0)), dict(way.uses(1.0))
                uses = [(r, once[r], twice[r] - once[r]) for r in once]
                self._add_way(uses, way.ceiling, way)
            self._ways_of[key] = (first, len(self._candidates) - first)
        return self._ways_of[key]

    def _rewrite_way(self, position: int) -> int:
        """How transforms and merges move in a repository."""
        repository = self.plan.repositories[position]
        ingest = self.topology.resource(f"repository:{repository.id}")
        rate = repository.transform_mib_per_s
        return self._add_way([(ingest, 1.0, 0.0)], np.inf if rate is None else rate * MIB)

    # --- between repositories ---------------------------------------------------------------

    def _work_row(self, job: Job, one: str, other: str | None = None) -> int:
        """A row of the queue for repository work; numbered from 0 until all are known."""
        self._work_rows.append(
            {
                "priority": job.priority,
                "pool_a": self._pool(f"repository:{one}"),
                "pool_b": -1 if other is None else self._pool(f"repository:{other}"),
            }
        )
        return len(self._work_rows) - 1

    def _copy(self, job: Job, copy: Copy) -> None:
        source = self.plan.repository_by_id[job.repository]
        target = self.plan.repository_by_id[copy.repository]
        uses: Uses | None = self.topology.copy_uses(source, target)
        self._copies.append(
            {
                "repository": self._repository[copy.repository],
                "routed": int(uses is not None),
                "candidate": self._add_way([(r, a, 0.0) for r, a in uses or ()], np.inf),
                "move_class": self._work_row(job, job.repository, copy.repository),
                "merge_class": self._work_row(job, copy.repository),
                "delay": copy.delay_min * MINUTE,
                **_retention(copy.retention),
            }
        )

    # --- putting it together ----------------------------------------------------------------

    def _finish(self, jobs: list[Row]) -> None:
        plan, classes = self.plan, len(self._classes)
        followers: list[list[int]] = [[] for _ in plan.jobs]
        for position, job in enumerate(plan.jobs):
            if job.after is not None:
                followers[plan.job_position[job.after]].append(position)
        starts = _offsets(len(f) for f in followers)
        for position, row in enumerate(jobs):
            row["followers_from"] = int(starts[position])
            row["followers_n"] = len(followers[position])
            row["work_class"] += 2 * classes
        for row in self._copies:
            row["move_class"] += 2 * classes
            row["merge_class"] += 2 * classes
        begins = _offsets(len(items) for items in self._items)
        for c, row in enumerate(self._classes):
            row["items_from"], row["items_n"] = int(begins[c]), len(self._items[c])
        self.follower = _flat(followers)
        self.job = _table(t.JOB, jobs)
        self.member = _table(t.MEMBER, self._members)
        self.disk = _table(t.DISK, self._disks)
        self.klass = _table(t.KLASS, self._classes)
        self.class_items = _flat(self._items)
        self.candidate = _table(t.CANDIDATE, self._candidates)
        self.use = _table(t.USE, self._uses)
        self.copy = _table(t.COPY, self._copies)
        self.copy_chain = np.array(self._copy_chains, np.int64)
        self.capacity = np.full(max(1, len(self.topology.resource_names)), np.inf)
        for resource, capacity in self.topology.capacity.items():
            self.capacity[resource] = capacity
        self.slots = np.full(max(1, len(self.topology.pool_names)), ANY_NUMBER, np.int64)
        for pool, slots in self.topology.slots.items():
            self.slots[pool] = slots
        self.uses_most = int(max(1, self.candidate["uses_n"].max(initial=0)))
        self.repository = self._repositories()
        self.queue = self._queue(classes)
        self._index_classes(classes)

    def _repositories(self) -> t.Table:
        return _table(
            t.REPOSITORY,
            [
                {
                    "candidate": self._rewrites[i],
                    "block_clone": int(r.block_clone),
                    "dedupe": r.dedupe_ratio,
                    "read": np.inf if r.read_mib_per_s is None else r.read_mib_per_s * MIB,
                    "immutable_days": r.immutable_days,
                }
                for i, r in enumerate(self.plan.repositories)
            ],
        )

    def _queue(self, classes: int) -> t.Table:
        queue = np.zeros(2 * classes + len(self._work_rows), t.QUEUE)
        queue["parked"] = t.P_NOTHING
        for name in ("first", "last", "pool_a", "pool_b"):
            queue[name] = -1
        for name in ("pool_a", "pool_b", "priority"):
            queue[name][2 * classes :] = [row[name] for row in self._work_rows]
        priorities = [self.plan.jobs[row["job"]].priority for row in self._classes]
        queue["priority"][: 2 * classes] = priorities * 2
        return queue

    def _index_classes(self, classes: int) -> None:
        """Which rows of the queue may wait for a pool, and which for a machine."""
        of_pool: list[list[int]] = [[] for _ in self.slots]
        for c, row in enumerate(self._classes):
            first = row["candidates_from"]
            proxies = [
                self._candidates[i]["proxy"] for i in range(first, first + row["candidates_n"])
            ]
            for pool in {row["pool_a"], row["pool_b"], row["pool_c"], *proxies} - {-1}:
                of_pool[pool] += [c, classes + c]
            if row["host_pool"] >= 0:
                of_pool[row["host_pool"]].append(c)
        for k, row in enumerate(self._work_rows):
            for pool in {row["pool_a"], row["pool_b"]} - {-1}:
                of_pool[pool].append(2 * classes + k)
        # By priority, so that a walk may end with the first priority that can start something.
        priority = self.queue["priority"].tolist()
        for rows in of_pool:
            rows.sort(key=lambda row: (-priority[row], row))
        of_machine: list[list[int]] = [[] for _ in self.plan.machines]
        for c, machines in enumerate(self._class_machines):
            for machine in machines:
                of_machine[machine].append(c)
        self.pool_class_from = _offsets(len(rows) for rows in of_pool)
        self.pool_class = _flat(of_pool)
        self.machine_class_from = _offsets(len(rows) for rows in of_machine)
        self.machine_class = _flat(of_machine)

    def points_of(self, plan: Plan) -> Snapshot:
        """The points of the state of a plan that the layout fits."""
        with self._lock:
            if self._state is None or self._state[0] is not plan.state:
                self._state = (plan.state, snapshot_of_state(plan))
            return self._state[1]

    # --- for which plans --------------------------------------------------------------------

    def fits(self, plan: Plan) -> bool:
        """Whether a plan has the same arrays."""
        if plan is self.plan:
            return True
        return self._same_lists(plan) and all(
            _alike(one, other) for one, other in zip(plan.jobs, self.plan.jobs, strict=True)
        )

    def varied(self, change: t.Floats, rates: t.Floats, streams: t.Floats) -> Layout:
        """The same arrays with factors on what varies from week to week.

        Args:
            change: one for the daily change of each machine.
            rates: one for each resource.
            streams: one for the ceiling of a stream by direct, hot-add, network and an agent.
        """
        made = copy_of(self)
        made._lock = Lock()
        made.member = self.member.copy()
        made.member["change"] *= change[made.member["machine"]]
        made.capacity = self.capacity * rates
        made.candidate = self.candidate.copy()
        kinds = [-1 if way is None else _STREAMS[way.transport] for way in self.ways]
        made.candidate["ceiling"] *= np.append(streams, 1.0)[kinds]
        return made

    def _same_lists(self, plan: Plan) -> bool:
        mine = self.plan
        if any(getattr(plan, name) != getattr(mine, name) for name in _LISTS):
            return False
        return plan.transports == mine.transports and len(plan.jobs) == len(mine.jobs)


_SETTINGS = (
    "window", "at_window_end", "chain", "synthetic_full", "tracking", "verify", "share",
    "start_within_min", "stop_after_min", "guest_after_s", "before_min", "after_min", "boot_min",
    "retention", "on_hold", "hold_until",
)  # fmt: skip
"""What of a job stands in its row and nowhere else."""
_LISTS = ("sites", "links", "hosts", "datastores", "proxies", "repositories", "machines", "windows")


def _alike(one: Job, other: Job) -> bool:
    if one is other:
        return True
    return without_timing(one, other) == other


_kept: OrderedDict[int, Layout] = OrderedDict()
_lock = Lock()


def layout_of(plan: Plan) -> Layout:
    """The layout of a plan: a kept one that fits, else a new one."""
    with _lock:
        for key in reversed(_kept):
            if _kept[key].fits(plan):
                _kept.move_to_end(key)
                return _kept[key]
        known = [_kept[key] for key in reversed(_kept)]
    revised = (kept.revised(plan) for kept in known)
    made = next((layout for layout in revised if layout is not None), None) or Layout(plan)
    with _lock:
        _kept[id(made)] = made
        while len(_kept) > KEPT:
            _kept.popitem(last=False)
    return made
