"""The planning model as one would write it with SimPy: a process for each run, machine and disk.

It shares the rules that are not about time with the core (volumes, candidates, fair rates,
retention) and leaves the passing of time, the waiting and the moving to the library. It is here to
be measured against; it covers what the sample plans use.
"""

from __future__ import annotations

from collections.abc import Generator
from math import inf
from typing import Any
from zoneinfo import ZoneInfo

import simpy

from gambrel.core import constants as c
from gambrel.core.model.paths import Candidate, Topology
from gambrel.core.model.retention import Point, PointStore, linked
from gambrel.core.model.selection import selected_machines
from gambrel.core.model.sharing import Demand, fair_rates
from gambrel.core.model.volume import (
    compression,
    disk_volume,
    effective_kind,
    protected_bytes,
    protected_disks,
)
from gambrel.core.plan.objects import Disk, Job, Kind, Machine, Plan
from gambrel.core.schedules.calendars import (
    NEVER,
    WindowSpan,
    job_occurrences,
    limit_intervals,
    window_span,
)
from gambrel.core.units import DAY, MBIT, MIB, MINUTE, SAME_INSTANT

Process = Generator[simpy.Event, Any, Any]


class Network:
    """Streams that share capacities; each change settles all of them and shares anew."""

    def __init__(self, env: simpy.Environment, capacity: dict[int, float]) -> None:
        self.env = env
        self.capacity = capacity
        self.streams: list[dict[str, Any]] = []
        self.changed = env.event()
        env.process(self._watch())

    def start(self, demand: Demand, work: float) -> dict[str, Any]:
        stream = {"demand": demand, "left": work, "rate": 0.0, "since": self.env.now}
        stream["done"] = self.env.event()
        self.streams.append(stream)
        self.share()
        return stream

    def cut(self, stream: dict[str, Any]) -> None:
        if stream in self.streams:
            self.streams.remove(stream)
            self.share()

    def share(self) -> None:
        now = self.env.now
        for stream in self.streams:
            if stream["rate"] != inf:
                stream["left"] -= stream["rate"] * (now - stream["since"])
            stream["since"] = now
        rates = fair_rates([stream["demand"] for stream in self.streams], self.capacity)
        for stream, allotted in zip(self.streams, rates, strict=True):
            stream["rate"] = allotted.rate
        changed, self.changed = self.changed, self.env.event()
        changed.succeed()

    def _end(self, stream: dict[str, Any]) -> float:
        if stream["rate"] == inf or stream["left"] <= 0:
            return self.env.now
        return stream["since"] + stream["left"] / stream["rate"] if stream["rate"] > 0 else inf

    def _watch(self) -> Process:
        while True:
            end = min((self._end(stream) for stream in self.streams), default=inf)
            wait = [self.changed]
            if end < inf:
                wait.append(self.env.timeout(max(0.0, end - self.env.now)))
            yield simpy.AnyOf(self.env, wait)
            reached = self.env.now + SAME_INSTANT
            done = [stream for stream in self.streams if self._end(stream) <= reached]
            if done:
                self.streams = [stream for stream in self.streams if stream not in done]
                for stream in done:
                    stream["done"].succeed()
                self.share()


class Model:
    """One simulation; `ended` holds (job, occurrence, machine) -> (outcome, instant)."""

    def __init__(self, plan: Plan, from_: float, to: float) -> None:
        self.plan = plan
        self.from_ = from_
        self.to = to
        self.env = simpy.Environment(initial_time=from_)
        self.topology = Topology(plan)
        self.network = Network(self.env, dict(self.topology.capacity))
        self.busy = [0] * len(self.topology.pool_names)
        self.queue: list[tuple[Any, Any, simpy.Event]] = []
        self.walking = False
        self.held: set[str] = set()
        self.lanes: dict[Any, simpy.Resource] = {}
        self.points = PointStore()
        self.position = {m.id: i for i, m in enumerate(plan.machines)}
        self.repository = {r.id: i for i, r in enumerate(plan.repositories)}
        self.running: dict[str, bool] = {}
        self.ended: dict[tuple[str, float, str], tuple[str, float]] = {}
        groups: dict[Any, list[int]] = {}
        for i, saved in enumerate(plan.state.points):
            job = plan.job_position[saved.job]
            key = (self.repository[saved.repository], job, self.position[saved.machine])
            groups.setdefault(key, []).append(i)
        for key, indices in groups.items():
            for _, point in linked(plan.state.points[i] for i in indices):
                self.points.add(key, point)
        for link in plan.links:
            for limit in link.limits:
                self.env.process(self._limit(link, limit))
        for each in plan.jobs:
            self.env.process(self._schedule(each))

    def run(self) -> None:
        self.env.run()

    # --- time ---

    def _limit(self, link: Any, limit: Any) -> Process:
        from zoneinfo import ZoneInfo

        zone = ZoneInfo(self.plan.site_by_id[link.between[0]].time_zone)
        number = self.topology.resource(f"link:{link.id}")
        for start, end in limit_intervals(limit, zone, self.from_, self.to + 2 * DAY):
            if end <= self.env.now:
                continue
            for at, rate in ((start, limit.mbit_per_s), (end, link.mbit_per_s)):
                yield self.env.timeout(max(0.0, at - self.env.now))
                self.network.capacity[number] = rate * MBIT
                self.network.share()

    def _schedule(self, job: Job) -> Process:
        due = job_occurrences(job, self.plan.calendar_by_id, self.from_, self.to)
        for instant, kind, _ in due:
            yield self.env.timeout(instant - self.env.now)
            if not self.running.get(job.id):
                self.running[job.id] = True
                self.env.process(self._run(job, instant, kind))

    def _run(self, job: Job, occurrence: float, kind: Any) -> Process:
        span: WindowSpan | None = WindowSpan(occurrence, NEVER)
        if job.window is not None:
            span = window_span(self.plan.window_by_id[job.window], occurrence)
        run: dict[str, Any] = {
            "job": job, "occurrence": occurrence, "kind": kind, "span": span, "over": False,
            "started": False, "made": [],
        }  # fmt: skip
        yield self.env.timeout(job.before_min * MINUTE)
        tasks = [
            self.env.process(self._machine(run, order, machine))
            for order, machine in enumerate(selected_machines(self.plan, job))
        ]
        run["tasks"] = tasks
        if span is not None and span.closes != NEVER and job.at_window_end != "run_on":
            self.env.process(self._close(run, span.closes - occurrence))
        if job.start_within_min is not None:
            self.env.process(self._close(run, job.start_within_min * MINUTE, unstarted=True))
        yield simpy.AllOf(self.env, tasks)
        yield self.env.timeout(job.after_min * MINUTE)
        for key in run["made"]:
            self._retain(job, key, job.retention)
        self.running[job.id] = False
        for follower in self.plan.jobs:
            if (
                follower.after == job.id
                and self.env.now < self.to
                and not self.running.get(follower.id)
            ):
                self.running[follower.id] = True
                self.env.process(self._run(follower, self.env.now, kind))

    def _close(self, run: Any, after: float, *, unstarted: bool = False) -> Process:
        yield self.env.timeout(max(0.0, run["occurrence"] + after - self.env.now))
        if not (unstarted and run["started"]):
            run["over"] = True
            self.walk()

    # --- slots ---

    def wanted(self, key: Any, ready: Any) -> simpy.Event:
        """An event that comes when `ready` gives something in its turn."""
        event = self.env.event()
        self.queue.append((key, ready, event))
        self.queue.sort(key=lambda entry: entry[0])
        self.walk()
        return event

    def walk(self) -> None:
        """Walk the queue at the end of this instant."""
        if not self.walking:
            self.walking = True
            self.env.process(self._walk())

    def _walk(self) -> Process:
        yield self.env.timeout(0)
        self.walking = False
        left = []
        for key, ready, event in self.queue:
            given = ready()
            if given is None:
                left.append((key, ready, event))
            else:
                event.succeed(given)
        self.queue = left

    def free(self, pools: Any) -> bool:
        return all(self.busy[pool] < self.topology.slots[pool] for pool in pools)

    def take(self, pools: Any) -> bool:
        for pool in pools:
            self.busy[pool] += 1
        return True

    def give(self, pools: Any) -> None:
        for pool in pools:
            self.busy[pool] -= 1
        self.walk()

    # --- machines ---

    def _machine(self, run: Any, order: int, machine: Machine) -> Process:
        job = run["job"]
        disks = protected_disks(job, machine)
        end = (job.id, run["occurrence"], machine.id)
        if not disks:
            self.ended[end] = ("done", self.env.now)
            return
        ways = [self.topology.candidates(job, machine, disk) for disk in disks]
        if not all(ways):
            self.ended[end] = ("no path", self.env.now)
            return
        order_of = sorted(range(len(disks)), key=lambda i: (-disks[i].used_gib, i))
        key = (-job.priority, run["occurrence"], self.plan.job_position[job.id], order, 0)
        hosts = () if machine.host is None else self.topology.limited_pools(f"host:{machine.host}")

        def ready() -> Any:
            if run["over"]:
                return "missed"
            span = run["span"]
            if span is None or machine.id in self.held or not self.free(hosts):
                return None
            if self.env.now < span.opens - SAME_INSTANT:
                return None
            for i in order_of:
                way = self._reader(job, machine, disks[i], ways[i])
                if way is not None:
                    self.held.add(machine.id)
                    self.take(hosts)
                    run["started"] = True
                    return i, way
            return None

        if run["span"] is not None and run["span"].opens > self.env.now:
            self.env.process(self._walk_at(run["span"].opens))
        given = yield self.wanted(key, ready)
        if given == "missed":
            self.ended[end] = ("missed", self.env.now)
            return
        first, way = given
        start = self.env.now
        chain = (self.repository[job.repository], self.plan.job_position[job.id],
                 self.position[machine.id])  # fmt: skip
        full = self.points.newest_full(chain)
        kind = effective_kind(job, run["kind"], full is not None)
        synthetic = kind == "full" and job.synthetic_full and full is not None
        base = None
        if synthetic or kind == "incremental":
            base = self.points.newest_usable(chain)
        elif kind == "differential":
            base = full
        since = None if base is None else start - base.at
        volumes = [disk_volume(job, machine, disk, since) for disk in disks]
        prepare = c.PREPARE_VM_S if machine.kind == "vm" else c.PREPARE_SERVER_S
        yield self.env.timeout(prepare + job.quiesce_s)
        moving = []
        for rank, i in enumerate(order_of):
            taken = way if i == first else None
            moving.append(
                self.env.process(
                    self._disk(job, machine, disks[i], ways[i], volumes[i], taken, (*key, rank))
                )
            )
        yield simpy.AllOf(self.env, moving)
        repository = self.plan.repository_by_id[job.repository]
        protected = sum(protected_bytes(job, machine, disk) for disk in disks)
        stored = sum(volume.wire for volume in volumes) / repository.dedupe_ratio
        if synthetic:
            stored = protected / compression(job, machine) / repository.dedupe_ratio
        else:
            point = Point(kind, start, self.env.now, stored, None if kind == "full" else base)
            self.points.add(chain, point)
            run["made"].append(chain)
        if machine.kind == "vm":
            written = protected * machine.daily_change * (self.env.now - start) / DAY
            yield self.env.timeout(c.RELEASE_S + written / c.RELEASE_BYTES_PER_S)
        self.held.discard(machine.id)
        self.give(hosts)
        if synthetic:
            yield self.env.process(self._rewrite(job, repository, stored, key, 1))
            self.points.add(chain, Point("full", start, self.env.now, stored, None))
            run["made"].append(chain)
        how = job.verify if job.verify_fulls or kind != "full" else "none"
        if how == "boot":
            yield self.env.timeout(job.boot_min * MINUTE)
        elif how == "checksum" and repository.read_mib_per_s is not None:
            yield self.env.timeout(stored / (repository.read_mib_per_s * MIB))
        self.ended[end] = ("done", self.env.now)
        for index, copy in enumerate(job.copies):
            whole = protected / compression(job, machine)
            self.env.process(
                self._copy(job, machine, copy, kind, start, stored, whole, (*key[:4], 3, index))
            )

    def _walk_at(self, instant: float) -> Process:
        yield self.env.timeout(instant - self.env.now)
        self.walk()

    def _reader(
        self, job: Job, machine: Machine, disk: Disk, ways: tuple[Candidate, ...]
    ) -> tuple[Candidate, tuple[int, ...]] | None:
        """The least busy candidate, its slots taken; None if there is none."""
        own = f"agent:{machine.id}" if machine.kind == "server" else f"datastore:{disk.datastore}"
        names = (f"repository:{job.repository}", f"job:{job.id}", own)
        pools = self.topology.limited_pools(*names)
        if not self.free(pools):
            return None
        slots = self.topology.slots
        open_ways = [w for w in ways if w.proxy is None or self.free((w.proxy,))]
        if not open_ways:
            return None
        way = min(
            open_ways, key=lambda w: 0.0 if w.proxy is None else self.busy[w.proxy] / slots[w.proxy]
        )
        taken = pools if way.proxy is None else (*pools, way.proxy)
        self.take(taken)
        return way, taken

    def _disk(
        self, job: Job, machine: Machine, disk: Disk, ways: Any, volume: Any, taken: Any, key: Any
    ) -> Process:
        if taken is None:
            taken = yield self.wanted(key, lambda: self._reader(job, machine, disk, ways))
        way, pools = taken
        if volume.source > 0:
            demand = Demand(job.share, way.ceiling, way.uses(volume.wire_per_source))
            yield self.network.start(demand, volume.source)["done"]
        self.give(pools)

    # --- repositories ---

    def _rewrite(self, job: Job, repository: Any, stored: float, key: Any, stage: int) -> Process:
        factor = c.BLOCK_CLONE_WORK if repository.block_clone else c.TRANSFORM_WORK
        pools = self.topology.limited_pools(f"repository:{repository.id}")

        def ready() -> Any:
            return self.take(pools) if self.free(pools) else None

        yield self.wanted((*key[:4], stage, 0), ready)
        rate = repository.transform_mib_per_s
        uses = ((self.topology.resource(f"repository:{repository.id}"), 1.0),)
        demand = Demand(job.share, None if rate is None else rate * MIB, uses)
        if stored > 0:
            yield self.network.start(demand, factor * stored)["done"]
        self.give(pools)

    def _copy(
        self, job: Job, machine: Machine, copy: Any, kind: Any, at: float, stored: float,
        whole: float, key: Any,
    ) -> Process:  # fmt: skip
        source = self.plan.repository_by_id[job.repository]
        target = self.plan.repository_by_id[copy.repository]
        uses = self.topology.copy_uses(source, target)
        if uses is None:
            return
        yield self.env.timeout(copy.delay_min * MINUTE)
        chain = (self.repository[target.id], self.plan.job_position[job.id],
                 self.position[machine.id])  # fmt: skip
        lane = self.lanes.setdefault(chain, simpy.Resource(self.env, 1))
        names = (f"repository:{source.id}", f"repository:{target.id}")
        pools = self.topology.limited_pools(*names)

        def ready() -> Any:
            return self.take(pools) if self.free(pools) else None

        with lane.request() as turn:
            yield turn
            yield self.wanted(key, ready)
            first = self.points.newest_full(chain) is None
            work = whole if first else stored * source.dedupe_ratio
            if work > 0:
                yield self.network.start(Demand(job.share, None, uses), work)["done"]
            self.give(pools)
        made: Kind = "full" if first else kind
        base = self.points.base_for(chain, made)
        self.points.add(chain, Point(made, at, self.env.now, work / target.dedupe_ratio, base))
        self._retain(job, chain, copy.retention)

    def _retain(self, job: Job, chain: Any, retention: Any) -> None:
        repository = self.plan.repositories[chain[0]]
        zone = ZoneInfo(self.plan.site_by_id[repository.site].time_zone)
        if job.chain == "forever":
            for merge in self.points.merge(chain, retention, self.env.now, zone):
                key = (-job.priority, self.env.now, chain[1], chain[2])
                self.env.process(self._rewrite(job, repository, merge.merged_bytes, key, 2))
        else:
            self.points.apply(chain, retention, self.env.now, repository.immutable_days, zone)
