"""Section 16 as one would write it down at first: plain, slow, one event after the other."""

from __future__ import annotations

from math import inf
from zoneinfo import ZoneInfo

from gambrel.core.model.destinations import at_destination, destination_of
from gambrel.core.model.paths import Topology
from gambrel.core.model.retention import Point, PointStore, linked
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.volume import (
    changed_bytes,
    compression,
    disks_at,
    effective_kind,
    makes_synthetic_fulls,
    protected_bytes,
    refuses,
)
from gambrel.core.plan.objects import Job, Plan
from gambrel.core.runway.projection import Lifetime
from gambrel.core.schedules.calendars import held_until
from gambrel.core.schedules.spread_fulls import NOBODYS, full_groups, job_dues, kind_in_turn
from gambrel.core.units import SAME_INSTANT


def _dues(plan: Plan, job: Job, from_, to):
    if job.after is None:
        return list(job_dues(job, plan.calendar_by_id, from_, to))
    begins = held_until(plan, job)
    found = _dues(plan, plan.job_by_id[job.after], from_, to)
    return [(at, kind, -1, NOBODYS) for at, kind, _, _ in found if at >= begins]


class Naive:
    """The points of a plan, one event after the other.

    Attributes:
        store: the points that exist when all is done.
        used: (instant, bytes by repository) after each instant at which anything changed.
    """

    def __init__(self, plan: Plan, from_, to, lives=None):
        self.plan, self.lives = plan, lives or {}
        self.store = PointStore()
        self.repository = {r.id: i for i, r in enumerate(plan.repositories)}
        self.machine = {m.id: i for i, m in enumerate(plan.machines)}
        self.topology = Topology(plan)
        self.used = []
        events = []
        self._saved(from_, events)
        for j, job in enumerate(plan.jobs):
            machines = selected_machines(plan, job)
            groups = full_groups(job, machines)
            for at, kind, _, turn in _dues(plan, job, from_, to):
                for m, (machine, group) in enumerate(zip(machines, groups, strict=True)):
                    life = self.lives.get(machine.id, Lifetime())
                    if not life.since <= at < life.until:
                        continue
                    made = {}
                    scheduled = kind_in_turn(kind, group, turn)
                    events.append((at, 1, j, m, 0, self._run, (j, machine, scheduled, at, made)))
                    for k, copy in enumerate(job.copies):
                        due = at + copy.delay_min * 60
                        if due < life.points_go:
                            rest = (j, machine, k, at, due, made)
                            events.append((due, 2, j, m, k, self._copy, rest))
        for machine, life in self.lives.items():
            if life.points_go < inf:
                events.append((life.points_go, 0, -1, -1, -1, self._go, (machine,)))
        events.sort(key=lambda event: event[:5])
        self._note(from_)
        for at, *_, act, args in events:
            act(*args)
            self._note(at)

    def _note(self, at):
        used = [self.store.used_bytes.get(i, 0.0) for i in range(len(self.plan.repositories))]
        if self.used and at - self.used[-1][0] <= SAME_INSTANT:
            self.used.pop()
        self.used.append((at, used))

    def _saved(self, from_, events):
        chains = {}
        for p in self.plan.state.points:
            key = (self.repository[p.repository], self.plan.job_position[p.job],
                   self.machine[p.machine])  # fmt: skip
            chains.setdefault(key, []).append(p)
        for key, found in chains.items():
            for told, point in linked(found):
                if told.exists_from <= from_ + SAME_INSTANT:
                    self.store.add(key, point)
                elif told.exists_from < self._go_at(key):
                    events.append((told.exists_from, 0, 0, 0, 0, self.store.add, (key, point)))

    def _looked_after(self, key):
        """Whether a chain is that of a machine of a job; nobody deletes anything of the others."""
        job, machine = self.plan.jobs[key[1]], self.plan.machines[key[2]]
        homes = {destination_of(self.plan, job, machine)}
        places = homes.union(copy.repository for copy in job.copies)
        return self.plan.repositories[key[0]].id in places

    def _go_at(self, key):
        life = self.lives.get(self.plan.machines[key[2]].id, Lifetime())
        return life.points_go if self._looked_after(key) else inf

    def _keep(self, key, job, rule, now):
        repository = self.plan.repositories[key[0]]
        zone = ZoneInfo(self.plan.site_by_id[repository.site].time_zone)
        if job.chain == "forever":
            self.store.merge(key, rule, now, zone)
        else:
            self.store.apply(key, rule, now, repository.immutable_days, zone)

    def _reached(self, job, machine, disks):
        return all(self.topology.candidates(job, machine, disk) for disk in disks)

    def _run(self, j, machine, scheduled, at, made):
        plan = self.plan
        job = at_destination(plan, plan.jobs[j], machine)
        disks = disks_at(job, machine, plan.state.sizes_as_of, at)
        if not disks or refuses(job, machine) or not self._reached(job, machine, disks):
            return
        home = plan.repository_by_id[job.repository]
        key = (self.repository[home.id], j, self.machine[machine.id])
        full = self.store.newest_full(key)
        kind = effective_kind(job, scheduled, full is not None)
        made["whole"] = sum(protected_bytes(job, machine, d) for d in disks)
        payload, base = made["whole"], None
        synthetic = kind == "full" and full is not None and makes_synthetic_fulls(plan, job)
        if kind != "full" and not synthetic:
            base = self.store.base_for(key, kind)
            payload = sum(
                changed_bytes(protected_bytes(job, machine, d), machine, at - base.at)
                for d in disks
            )
        made["kind"] = kind
        made["wire"] = payload / compression(job, machine)
        self.store.add(key, Point(kind, at, at, made["wire"] / home.dedupe_ratio, base))
        self._keep(key, job, job.retention, at)

    def _copy(self, j, machine, k, at, due, made):
        if not made:
            return
        job = at_destination(self.plan, self.plan.jobs[j], machine)
        copy = job.copies[k]
        there = self.plan.repository_by_id[copy.repository]
        home = self.plan.repository_by_id[job.repository]
        if self.topology.copy_uses(home, there) is None:
            return
        key = (self.repository[there.id], j, self.machine[machine.id])
        kind, wire = made["kind"], made["wire"]
        if self.store.newest_full(key) is None:
            kind, wire = "full", made["whole"] / compression(job, machine)
        base = self.store.base_for(key, kind)
        self.store.add(key, Point(kind, at, due, wire / there.dedupe_ratio, base))
        self._keep(key, job, copy.retention, due)

    def _go(self, machine):
        for key, points in list(self.store.items()):
            if key[2] == self.machine[machine] and self._looked_after(key):
                self.store._remove(key, list(points))
