"""The rows that one job adds to the arrays of a plan.

They are numbered from 0 within the job, so that they can be used again for every plan in which the
job and what it works on are the same: whoever edits one job has only that job's rows made anew.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from copy import copy as copy_of
from dataclasses import replace
from datetime import date
from typing import Any

import numpy as np

from gambrel.core.model.destinations import at_destination, destination_of
from gambrel.core.model.job_windows import window_of
from gambrel.core.model.paths import Candidate, Topology, Uses
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    compression,
    left_out_bytes,
    makes_synthetic_fulls,
    preparation_s,
    protected_disks,
    refuses,
)
from gambrel.core.plan.objects import Copy, Disk, Job, Machine, Plan, Retention
from gambrel.core.schedules.calendars import held_until
from gambrel.core.schedules.spread_fulls import full_groups
from gambrel.core.simulation.engine import tables as t
from gambrel.core.units import GIB, MINUTE

Row = dict[str, Any]
FIRST_DAY = date(1970, 1, 1)


def table(dtype: np.dtype[Any], rows: Sequence[Row]) -> t.Table:
    """Rows by field name as an array of records; a field that a row lacks is 0."""
    made = np.zeros(len(rows), dtype)
    for name in dtype.names or ():
        if rows and name in rows[0]:
            made[name] = [row[name] for row in rows]
    return made


def flat(lists: Iterable[Iterable[int]]) -> t.Ints:
    """All numbers of some lists, one list after the other."""
    return np.array([number for numbers in lists for number in numbers], np.int64)


def _pairs(found: Sequence[tuple[int, int]]) -> t.Ints:
    return np.array(found, np.int64).reshape(-1, 2)


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
        "keep_until": -1.0 if rule.until is None else (rule.until - FIRST_DAY).days,
    }


class Surroundings:
    """What jobs work on: a plan, its topology, and the places of what they name."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self.topology = Topology(plan)
        self.machine = {m.id: i for i, m in enumerate(plan.machines)}
        self.repository = {r.id: i for i, r in enumerate(plan.repositories)}
        self.window = {w.id: i for i, w in enumerate(plan.windows)}

    def with_jobs_of(self, plan: Plan) -> Surroundings:
        """Those of a plan whose jobs have the ids of these, and which else is the same."""
        made = copy_of(self)
        made.plan, made.topology = plan, self.topology.with_jobs_of(plan)
        return made

    def pool(self, name: str) -> int:
        """The number of a slot pool, -1 where it has no limit."""
        return next(iter(self.topology.limited_pools(name)), -1)

    def limited(self, uses: Iterable[tuple[int, float, float]]) -> list[Row]:
        """Rows of USE for (resource, source, wire), those of resources without limit left out."""
        capacity = self.topology.capacity
        return [{"resource": r, "source": s, "wire": w} for r, s, w in uses if r in capacity]


class JobRows:
    """The rows of one job. What says where other rows are counts from 0 within the job.

    Attributes:
        job: what stands in the job's own row.
        member, disk, klass, class_items, candidate, use, copy: rows of the tables of these names.
        copy_chain: the chain of each copy of each member.
        work: the pools of each row that the job adds to the queue.
        chains: (repository, job, machine) of each chain, a row for each, by place in the plan.
        disk_positions: of each disk row, the place of the disk in its machine.
        ways: what is behind each candidate; None for those of copies.
        proxy_sets: the sets of proxies of classes.
        class_machines: pairs of a machine and a class that has disks of it.
    """

    def __init__(self, around: Surroundings, position: int) -> None:
        self._around = around
        self._position = position
        self._job = job = around.plan.jobs[position]
        self._members: list[Row] = []
        self._disks: list[Row] = []
        self._classes: list[Row] = []
        self._items: list[list[int]] = []
        self._machines_of: list[dict[int, None]] = []
        self._candidates: list[Row] = []
        self._uses: list[Row] = []
        self._ways_of: dict[tuple[object, ...], tuple[int, int]] = {}
        # The topology keeps these, so that none comes to have the id of another.
        self._rows_of: dict[int, tuple[int, int]] = {}
        self._class_of: dict[tuple[object, ...], int] = {}
        self._proxy_sets: dict[frozenset[int], int] = {}
        self._chain_of: dict[tuple[int, int, int], int] = {}
        self._copy_chains: list[int] = []
        self._work: list[Row] = []
        self.disk_positions: list[int] = []
        self.ways: list[Candidate | None] = []
        self._homes: dict[str, Row] = {}
        self._copies: list[Row] = []
        self._merge_rows: list[int] = []
        self._home(job.repository)
        machines = selected_machines(around.plan, job)
        for machine, group in zip(machines, full_groups(job, machines), strict=True):
            self._member(machine, group)
        self.job: Row = {
            **self._settings(),
            "priority": job.priority,
            "members_n": len(self._members),
            "classes_n": len(self._classes),
            "copies_n": len(job.copies),
            "disks_n": len(self._disks),
        }
        self._finish()

    def _settings(self) -> Row:
        job, around = self._job, self._around
        window = window_of(around.plan, job)
        return {
            "window": -1 if window is None else around.window[window.id],
            "end_rule": t.WINDOW_ENDS.index(job.at_window_end),
            "chain": t.CHAINS.index(job.chain),
            "tracking": int(job.tracking),
            "verify": t.VERIFIES.index(job.verify),
            "verify_fulls": int(job.verify_fulls),
            "share": job.share,
            "start_within": _minutes(job.start_within_min),
            "stop_after": _minutes(job.stop_after_min),
            "guest_after": job.guest_after_s,
            "held_until": held_until(around.plan, job) - t.EPOCH,
            "before": job.before_min * MINUTE,
            "after": job.after_min * MINUTE,
            "boot": job.boot_min * MINUTE,
            **_retention(job.retention),
        }

    # --- machines and their disks -----------------------------------------------------------

    def _chain(self, repository: int, machine: int) -> int:
        key = (repository, self._position, machine)
        return self._chain_of.setdefault(key, len(self._chain_of))

    def _member(self, machine: Machine, group: int) -> None:
        """Add a machine and its disks."""
        around = self._around
        job = at_destination(around.plan, self._job, machine)
        number, first_disk = around.machine[machine.id], len(self._disks)
        chosen = {id(disk) for disk in protected_disks(job, machine)}
        disks = [(i, disk) for i, disk in enumerate(machine.disks) if id(disk) in chosen]
        disks.sort(key=lambda entry: (-entry[1].used_gib, entry[0]))
        found = [self._ways_to_read(machine, disk) for _, disk in disks]
        self._members.append(
            {
                "machine": number,
                "server": int(machine.kind == "server"),
                "path": int(all(count for _, count in found)),
                "host_pool": -1 if machine.host is None else around.pool(f"host:{machine.host}"),
                "disks_from": first_disk,
                "disks_n": len(disks),
                "first_disk": first_disk,
                "chain": self._chain(around.repository[job.repository], number),
                "copy_chains": len(self._copy_chains),
                "kappa": compression(job, machine),
                "change": machine.daily_change,
                "churn": machine.churn_ceiling,
                "growth": 1.0 + machine.facts.growth_per_year,
                "prepare": preparation_s(job, machine),
                "refuses": int(refuses(job, machine)),
                "group": group,
                **self._home(job.repository),
            }
        )
        for copy in job.copies:
            self._copy_chains.append(self._chain(around.repository[copy.repository], number))
        for (place, disk), ways in zip(disks, found, strict=True):
            c = self._class(job, machine, disk, ways)
            self._machines_of[c][number] = None
            self._items[c].append(len(self._disks))
            self._disks.append(
                {
                    "klass": c,
                    "place": len(self._items[c]) - 1,
                    "candidates_from": ways[0],
                    "candidates_n": ways[1],
                    "used": disk.used_gib * GIB,
                    "whole": (disk.used_gib if job.skip_unused else disk.provisioned_gib) * GIB,
                    "left_out": left_out_bytes(job, machine, disk),
                }
            )
            self.disk_positions.append(place)

    def _class(self, job: Job, machine: Machine, disk: Disk, ways: tuple[int, int]) -> int:
        """The class of a disk: those that need the same slots."""
        server, around = machine.kind == "server", self._around
        key: tuple[object, ...] = (machine.id,) if server else (machine.host, disk.datastore)
        key = (job.repository, *key)
        if key not in self._class_of:
            self._class_of[key] = len(self._classes)
            own = f"agent:{machine.id}" if server else f"datastore:{disk.datastore}"
            self._classes.append(
                {
                    "job": self._position,
                    "host_pool": -1 if server else around.pool(f"host:{machine.host}"),
                    "pool_a": around.pool(f"repository:{job.repository}"),
                    "pool_b": around.pool(own),
                    "pool_c": around.pool(f"job:{job.id}"),
                    "candidates_from": ways[0],
                    "candidates_n": 0 if server else ways[1],
                    "proxies": self._proxy_set(() if server else ways),
                    "readable": int(ways[1] > 0),
                }
            )
            self._items.append([])
            self._machines_of.append({})
        return self._class_of[key]

    def _proxy_set(self, ways: tuple[int, ...]) -> int:
        """The number of the set of proxies of some candidates, from the first on so many."""
        rows = self._candidates[ways[0] : sum(ways)] if ways else []
        proxies = frozenset(row["proxy"] for row in rows) - {-1}
        return self._proxy_sets.setdefault(proxies, len(self._proxy_sets))

    # --- ways to move -----------------------------------------------------------------------

    def _add_way(
        self, uses: Iterable[tuple[int, float, float]], ceiling: float, way: Candidate | None = None
    ) -> int:
        limited = self._around.limited(uses)
        self._candidates.append(
            {
                "proxy": -1 if way is None or way.proxy is None else way.proxy,
                "uses_from": len(self._uses),
                "uses_n": len(limited),
                "ceiling": ceiling,
            }
        )
        self.ways.append(way)
        self._uses += limited
        return len(self._candidates) - 1

    def _ways_to_read(self, machine: Machine, disk: Disk) -> tuple[int, int]:
        """First and number of the candidates of a disk."""
        server = machine.kind == "server"
        repository = destination_of(self._around.plan, self._job, machine)
        place = (machine.id, disk.id) if server else (machine.host, disk.datastore)
        key = (repository, *place)
        if key not in self._ways_of:
            ways = self._around.topology.candidates(self._job, machine, disk)
            if id(ways) not in self._rows_of:
                self._rows_of[id(ways)] = self._add_ways(ways)
            self._ways_of[key] = self._rows_of[id(ways)]
        return self._ways_of[key]

    def _add_ways(self, ways: Iterable[Candidate]) -> tuple[int, int]:
        first = len(self._candidates)
        for way in ways:
            once, twice = dict(way.uses(0.0)), dict(way.uses(1.0))
            uses = [(r, once[r], twice[r] - once[r]) for r in once]
            self._add_way(uses, way.ceiling, way)
        return first, len(self._candidates) - first

    # --- between repositories ---------------------------------------------------------------

    def _work_row(self, one: str, other: str | None = None) -> int:
        """Add a row to the queue for repository work."""
        around = self._around
        self._work.append(
            {
                "pool_a": around.pool(f"repository:{one}"),
                "pool_b": -1 if other is None else around.pool(f"repository:{other}"),
            }
        )
        return len(self._work) - 1

    def _home(self, repository: str) -> Row:
        """What the members have in common that go to a repository; copies set out from there."""
        if repository not in self._homes:
            job, plan = self._job, self._around.plan
            work = self._work_row(repository)
            first = len(self._copies)
            self._copies += [self._copy(repository, i, copy) for i, copy in enumerate(job.copies)]
            self._homes[repository] = {
                "repository": self._around.repository[repository],
                "synthetic": int(makes_synthetic_fulls(plan, replace(job, repository=repository))),
                "work_class": work,
                "copies_from": first,
            }
        return self._homes[repository]

    def _merge_row(self, number: int, repository: str) -> int:
        """The row of the queue for merges of a copy: one, wherever the copy sets out from."""
        if number == len(self._merge_rows):
            self._merge_rows.append(self._work_row(repository))
        return self._merge_rows[number]

    def _copy(self, home: str, number: int, copy: Copy) -> Row:
        around = self._around
        source, target = (around.plan.repository_by_id[r] for r in (home, copy.repository))
        uses: Uses | None = around.topology.copy_uses(source, target)
        return {
            "repository": around.repository[copy.repository],
            "routed": int(uses is not None),
            "candidate": self._add_way([(r, a, 0.0) for r, a in uses or ()], np.inf),
            "move_class": self._work_row(home, copy.repository),
            "merge_class": self._merge_row(number, copy.repository),
            "delay": copy.delay_min * MINUTE,
            **_retention(copy.retention),
        }

    # --- as arrays --------------------------------------------------------------------------

    def _finish(self) -> None:
        begins = np.cumsum([0, *(len(items) for items in self._items)]).tolist()
        for row, items, begin in zip(self._classes, self._items, begins[:-1], strict=True):
            row["items_from"], row["items_n"] = begin, len(items)
        self.member = table(t.MEMBER, self._members)
        self.disk = table(t.DISK, self._disks)
        self.klass = table(t.KLASS, self._classes)
        self.class_items = flat(self._items)
        self.candidate = table(t.CANDIDATE, self._candidates)
        self.use = table(t.USE, self._uses)
        self.copy = table(t.COPY, self._copies)
        self.copy_chain = np.array(self._copy_chains, np.int64)
        self.work = table(t.QUEUE, self._work)
        self.chains = np.array(list(self._chain_of), np.int64).reshape(-1, 3)
        self.proxy_sets = list(self._proxy_sets)
        self.class_machines = _pairs(
            [(machine, c) for c, machines in enumerate(self._machines_of) for machine in machines]
        )
        # Only the arrays are kept.
        del self._around, self._members, self._disks, self._classes, self._items
        del self._machines_of, self._candidates, self._uses, self._ways_of, self._class_of
        del self._rows_of
        del self._chain_of, self._copy_chains, self._work, self._homes, self._copies
        del self._merge_rows
