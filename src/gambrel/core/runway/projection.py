"""The projection of a plan over months (section 16): what every repository holds, when, for whom.

Every run takes place at its occurrence, on every machine that it can reach, at once. Nothing is
sampled: the space of a repository is known at each instant at which it changes. Only what each
machine has, and what a chain or an immutable span holds, is looked at once a week.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np

from gambrel.core.plan.objects import KINDS, Job, Plan
from gambrel.core.runway.chain_walk import LIFE, Course, walk_members
from gambrel.core.runway.months import months_between
from gambrel.core.schedules.spread_fulls import NOBODYS, job_dues
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import Layout, layout_of, offsets
from gambrel.core.simulation.engine.walk import note_sizes_and_chains, repository_zones
from gambrel.core.simulation.engine.world import empty_world, open_world
from gambrel.core.simulation.known_points import SAVED_POINT, Snapshot, snapshot_of_state
from gambrel.core.simulation.point_history import HISTORY, PointHistory, bases_at
from gambrel.core.simulation.turns import stop_if_unwanted
from gambrel.core.simulation_limits import TooMuch
from gambrel.core.units import DAY, GIB, MINUTE, SAME_INSTANT

MOST_MONTHS = 36
MOST_POINTS = 60_000_000
"""Points that a projection goes through at most."""
AT_ONCE = 2
"""How many threads walk through the machines of a plan."""
FEW = 2_000
"""Machine-runs that are not worth a second thread."""


@dataclass(frozen=True, slots=True)
class Lifetime:
    """When a machine is part of the plan, in UTC seconds.

    Attributes:
        points_go: when its points are thrown away; infinite: no sooner than retention says.
    """

    since: float = -np.inf
    until: float = np.inf
    points_go: float = np.inf


@dataclass(frozen=True, eq=False)
class JobSpace:
    """What one job keeps over the months, in each of its places.

    These are its repository, those of its destinations, and those of its copies.

    Attributes:
        repositories: positions in the plan.
        instants: of each place, when the bytes of `changes` come or go; UTC seconds.
        begins: bytes of each place at the beginning.
        odd: (instant, place, bytes) of what comes or goes at other times.
        machines: positions of its machines.
        stored: bytes by machine, place and sample.
        read: source bytes read of each machine from the beginning up to each sample.
        chained, immutable: bytes by place and sample that no rule of the job wants, and that a
            chain needs, or an immutable span holds.
    """

    job: Job
    repositories: tuple[int, ...]
    instants: tuple[t.Floats, ...]
    changes: tuple[t.Floats, ...]
    begins: t.Floats
    odd: tuple[tuple[float, int, float], ...]
    machines: t.Ints
    stored: t.Floats
    read: t.Floats
    chained: t.Floats
    immutable: t.Floats

    def nbytes(self) -> int:
        """The bytes of its arrays."""
        arrays = (self.stored, self.read, self.chained, self.immutable, *self.changes)
        return sum(array.nbytes for array in (*arrays, *self.instants))


@dataclass(frozen=True, eq=False)
class Steps:
    """Bytes over time: `bytes[i]` from `instants[i]` on, the first at the beginning."""

    instants: t.Floats
    bytes: t.Floats

    def at(self, instants: Any) -> t.Floats:
        """The bytes at some instants; before the first step those of the first."""
        places = np.searchsorted(self.instants, np.asarray(instants) + SAME_INSTANT, "right") - 1
        found: t.Floats = self.bytes[np.maximum(places, 0)]
        return found

    def until(self, end: float) -> Steps:
        """The steps before an instant."""
        count = max(1, int(np.searchsorted(self.instants, end, "left")))
        return Steps(self.instants[:count], self.bytes[:count])

    def first_above(self, most: float) -> float | None:
        """The first instant at which there are more bytes; None: never."""
        above = np.flatnonzero(self.bytes > most)
        return float(self.instants[above[0]]) if len(above) else None


def steps_of(
    begins: float, instants: Sequence[t.Floats], changes: Sequence[t.Floats], from_: float
) -> Steps:
    """Bytes over time from lists of changes; what changed before `from_` counts from there on."""
    at = np.concatenate([np.zeros(0), *instants])
    by = np.concatenate([np.zeros(0), *changes])
    order = np.argsort(at, kind="stable")
    at, used = np.maximum(at[order], from_), begins + np.cumsum(by[order])
    # All changes of one instant count as one step.
    last = np.flatnonzero(np.append(np.diff(at) > SAME_INSTANT, True)) if len(at) else at[:0]
    last = last.astype(np.int64)
    at, used = at[last], np.maximum(0.0, used[last])
    if not len(at) or at[0] > from_:
        at, used = np.append(from_, at), np.append(begins, used)
    return Steps(at, used)


class Dues(NamedTuple):
    """The occurrences of a job: UTC seconds, positions in KINDS, turns as `job_dues` tells them."""

    at: t.Floats
    kind: t.Ints
    turn: t.Ints

    def nbytes(self) -> int:
        """The bytes of its arrays."""
        return self.at.nbytes + self.kind.nbytes + self.turn.nbytes


@dataclass(frozen=True, eq=False)
class Projection:
    """A plan over [from_, to): what `project` returns. Nothing in it is changed.

    Attributes:
        dues: the occurrences of each job.
        samples: UTC instants at which machines are looked at: each week, each first of a month.
        lifetimes: of machines that are not there all the time.
        rest: by repository the bytes of points that belong to no machine of any job; no rule ever
            deletes them.
    """

    plan: Plan
    from_: float
    to: float
    samples: t.Floats
    jobs: tuple[JobSpace, ...]
    dues: tuple[Dues, ...]
    rest: tuple[Steps, ...]
    provisioned_grows: bool = True
    lifetimes: Mapping[str, Lifetime] = field(default_factory=dict)
    _rest_rows: t.Table | None = None
    _life: tuple[t.Table, tuple[tuple[int, int, int], ...]] | None = None

    def nbytes(self) -> int:
        """The bytes of its arrays."""
        life = 0 if self._life is None else self._life[0].nbytes
        parts = [*(job.nbytes() for job in self.jobs), *(dues.nbytes() for dues in self.dues)]
        return sum(parts) + self.samples.nbytes + int(life)

    @cached_property
    def _known_steps(self) -> dict[tuple[int, int], Steps]:
        return {}

    def space(self, repository: int) -> Steps:
        """The bytes in a repository, by its position."""
        return self._space(repository, -1)

    def space_of_job(self, repository: int, job: int) -> Steps:
        """What one job has in a repository."""
        return self._space(repository, job)

    def _space(self, repository: int, job: int) -> Steps:
        known = self._known_steps.get((repository, job))
        if known is not None:
            return known
        chosen = self.jobs if job < 0 else (self.jobs[job],)
        begins = 0.0
        instants: list[t.Floats] = []
        changes: list[t.Floats] = []
        if job < 0:
            rest = self.rest[repository]
            instants.append(rest.instants)
            changes.append(np.diff(rest.bytes, prepend=0.0))
        for each in chosen:
            for place, where in enumerate(each.repositories):
                if where != repository:
                    continue
                begins += float(each.begins[place])
                instants.append(each.instants[place])
                changes.append(each.changes[place])
                odd = [(at, by) for at, p, by in each.odd if p == place]
                if odd:
                    instants.append(np.array([at for at, _ in odd]))
                    changes.append(np.array([by for _, by in odd]))
        made = steps_of(begins, instants, changes, self.from_)
        self._known_steps[repository, job] = made
        return made

    def rest_at(self, instant: float) -> list[tuple[int, int, int, float]]:
        """(job, machine, repository, bytes) of points that no job looks after, at an instant."""
        rows = self._rest_rows
        if rows is None:
            return []
        rows = rows[rows["exists_from"] + t.EPOCH <= instant + SAME_INSTANT]
        columns = (rows[name].tolist() for name in ("job", "machine", "repository", "stored_bytes"))
        return list(zip(*columns, strict=True))

    def jobs_of(self, repository: int) -> list[int]:
        """The positions of the jobs that keep points in a repository."""
        return [i for i, job in enumerate(self.jobs) if repository in job.repositories]

    def held(self, repository: int) -> tuple[t.Floats, t.Floats]:
        """At each sample the bytes that only a chain needs, and that only immutability holds."""
        chained, immutable = np.zeros(len(self.samples)), np.zeros(len(self.samples))
        for job in self.jobs:
            for place, where in enumerate(job.repositories):
                if where == repository:
                    chained = chained + job.chained[place]
                    immutable = immutable + job.immutable[place]
        return chained, immutable

    def full_at(self, repository: int) -> float | None:
        """When a repository holds more than its capacity; None: not before the end."""
        capacity = self.plan.repositories[repository].space_gib
        if capacity is None:
            return None
        at = self.space(repository).first_above(capacity * GIB)
        return None if at is None or at >= self.to else at

    @property
    def keeps_points(self) -> bool:
        """Whether it has points of any repository."""
        return self._life is not None

    def rows_of(self, repository: int) -> t.Table:
        """The points of a repository whose points were kept, as rows of HISTORY.

        What refers to other rows does so among all of them.
        """
        life, chains = self._told()
        places = np.array([place for place, _, _ in chains], np.int64)
        return self._as_history(life[places[life["chain"]] == repository])

    @cached_property
    def history(self) -> PointHistory:
        """All points over time; only where they were asked for."""
        return PointHistory(self.plan, lambda: self._as_history(self._told()[0]))

    def _told(self) -> tuple[t.Table, tuple[tuple[int, int, int], ...]]:
        if self._life is None:
            raise ValueError("this projection did not keep its points")
        return self._life

    def _as_history(self, life: t.Table) -> t.Table:
        _, chains = self._told()
        rows = np.zeros(len(life), HISTORY)
        keys = np.array(chains, np.int64).reshape(-1, 3)[life["chain"]]
        for i, name in enumerate(("repository", "job", "machine")):
            rows[name] = keys[:, i]
        for name in ("kind", "usable", "made_on", "replaced", "stored_bytes"):
            rows[name] = life[name]
        for name in ("at", "exists_from", "since", "gone"):
            rows[name] = life[name] + t.EPOCH
        return rows

    def points_at_the_end(self) -> Snapshot:
        """The points that exist at `to`, and those of runs before it that come to exist later."""
        life, chains = self._told()
        end = self.to - t.EPOCH
        alive = np.flatnonzero(life["gone"] > end + SAME_INSTANT)
        bases = bases_at(life, alive, end)
        order = np.lexsort((alive, life["at"][alive], life["chain"][alive]))
        alive, bases = alive[order], bases[order]
        place = np.full(len(life) + 1, -1)
        place[alive] = np.arange(len(alive))
        saved = np.zeros(len(alive), SAVED_POINT)
        keys = np.array(chains, np.int64).reshape(-1, 3)[life["chain"][alive]]
        for i, name in enumerate(("repository", "job", "machine")):
            saved[name] = keys[:, i]
        for name in ("kind", "usable", "bad", "at", "exists_from", "stored_bytes"):
            saved[name] = life[name][alive]
        saved["base"] = place[bases]
        return Snapshot(saved)


# --- what is asked ----------------------------------------------------------------------------


def sample_instants(from_: float, to: float, zone: str) -> t.Floats:
    """Each week from the beginning, each first of a month at midnight, and the end; UTC seconds."""
    months = months_between(from_, to, zone)
    found = {to, *np.arange(from_, to, 7 * DAY).tolist(), *(month.start for month in months)}
    return np.array(sorted(found), np.float64)


def _own_dues(job: Job, plan: Plan, from_: float, to: float) -> Dues:
    found = job_dues(job, plan.calendar_by_id, from_, to)
    return Dues(
        np.array([at for at, _, _, _ in found], np.float64),
        np.array([KINDS.index(kind) for _, kind, _, _ in found], np.int64),
        np.array([turn for _, _, _, turn in found], np.int64),
    )


def _dues_of_jobs(
    plan: Plan, layout: Layout, from_: float, to: float, known: Mapping[int, Dues]
) -> tuple[Dues, ...]:
    """The occurrences of each job; one that follows another has those of the one it follows.

    Args:
        known: those of jobs by position, as they were worked out before.
    """
    found = {plan.jobs[i].id: dues for i, dues in known.items()}
    held = layout.job["held_until"] + t.EPOCH

    def of(job: Job) -> Dues:
        line = [job]
        while line[-1].id not in found and line[-1].after is not None:
            line.append(plan.job_by_id[line[-1].after])
        for each in reversed(line):
            if each.id in found:
                continue
            if each.after is None:
                found[each.id] = _own_dues(each, plan, from_, to)
            else:
                first = found[each.after]
                later = first.at >= held[plan.job_position[each.id]]
                found[each.id] = Dues(
                    first.at[later], first.kind[later], np.full(later.sum(), NOBODYS, np.int64)
                )
        return found[job.id]

    return tuple(of(job) for job in plan.jobs)


def project(
    plan: Plan,
    from_: float,
    to: float,
    *,
    points: Snapshot | None = None,
    samples: t.Floats | None = None,
    provisioned_grows: bool = True,
    lifetimes: Mapping[str, Lifetime] | None = None,
    keep_points: bool = False,
    keep_points_of: Iterable[int] = (),
    known: Projection | None = None,
) -> Projection:
    """Let every run of a plan in [from_, to) take place at its occurrence (section 16).

    Args:
        points: those that exist at the beginning; by default those of the plan's state.
        samples: when machines are looked at, ascending; by default `sample_instants`.
        provisioned_grows: whether disks may grow beyond what is provisioned for them today.
        lifetimes: by machine, of those that are not there all the time.
        keep_points: whether all points are kept, for `history` and `points_at_the_end`.
        keep_points_of: positions of repositories of which they are kept at least.
        known: a projection of a similar plan; the jobs that are the same there are taken over,
            but for those whose points are kept.

    Raises:
        TooMuch: (a ValueError) for more points than can be gone through.
    """
    if not to > from_:
        raise ValueError("the horizon ends before it begins")
    layout = layout_of(plan)
    start = snapshot_of_state(plan) if points is None else points
    looked = sample_instants(from_, to, plan.sites[0].time_zone) if samples is None else samples
    lives = dict(lifetimes or {})
    asked = (from_, to, provisioned_grows)
    same: Mapping[int, int] = {}
    if known is not None and points is None and _alike(known, plan, asked, looked, lives):
        same = _same_jobs(known, plan)
    known_dues = {i: known.dues[j] for i, j in same.items()} if known else {}
    dues = _dues_of_jobs(plan, layout, from_, to, known_dues)
    kept_of = set(keep_points_of)
    if keep_points:
        kept_of = set(range(len(plan.repositories)))
    walk = _Walk(plan, layout, from_, to, start, looked, dues, lives, provisioned_grows)
    kept = walk.jobs_in(kept_of)
    spaces = {i: known.jobs[j] for i, j in same.items() if i not in kept} if known else {}
    jobs, life = walk.run(spaces, kept_of)
    return Projection(
        plan, from_, to, looked, jobs, dues, walk.rest(), provisioned_grows, lives,
        walk.rest_rows(),
        (life, tuple(walk.chains)) if kept_of else None,
    )  # fmt: skip


_AROUND_JOBS = (
    "sites", "links", "hosts", "datastores", "proxies", "repositories", "machines", "calendars",
)  # fmt: skip


def _alike(
    known: Projection,
    plan: Plan,
    asked: tuple[float, float, bool],
    samples: t.Floats,
    lifetimes: Mapping[str, Lifetime],
) -> bool:
    """Whether all that jobs depend on is the same, but for the jobs.

    Args:
        asked: the horizon, and whether disks may grow beyond what is provisioned.
    """
    was = known.plan
    if (known.from_, known.to, known.provisioned_grows) != asked or known.lifetimes != lifetimes:
        return False
    if not np.array_equal(known.samples, samples):
        return False
    if was.state is not plan.state and was.state != plan.state:
        return False
    return all(getattr(was, name) == getattr(plan, name) for name in _AROUND_JOBS)


def _same_jobs(known: Projection, plan: Plan) -> dict[int, int]:
    """The positions of jobs that are the same, with those that they follow, and those there."""
    was = known.plan
    found: dict[int, int] = {}
    for i, job in enumerate(plan.jobs):
        each: Job | None = job
        while each is not None and was.job_by_id.get(each.id) == each:
            each = None if each.after is None else plan.job_by_id[each.after]
        if each is None:
            found[i] = was.job_position[job.id]
    return found


def _together(parts: Sequence[t.Ints]) -> t.Ints:
    """Arrays one after the other; none of them is an empty one."""
    return np.concatenate([np.zeros(0, np.int64), *parts])


# --- going through it -------------------------------------------------------------------------


class _Walk:
    """The arrays of one projection.

    Attributes:
        chains: (repository, job, machine) of each chain, those of the layout first.
    """

    def __init__(
        self,
        plan: Plan,
        layout: Layout,
        from_: float,
        to: float,
        points: Snapshot,
        samples: t.Floats,
        dues: Sequence[Dues],
        lifetimes: Mapping[str, Lifetime],
        provisioned_grows: bool,
    ) -> None:
        self.plan, self.layout = plan, layout
        self.from_, self.to = from_, to
        self.samples = samples
        self.dues = dues
        self.lifetimes = lifetimes
        self.chains: list[tuple[int, int, int]] = [*map(tuple, layout.chains.tolist())]
        self.saved_from, self.saved = self._sorted(points)
        self.most = self._most_of_disks(provisioned_grows)
        job = layout.job
        position = {repository.id: i for i, repository in enumerate(plan.repositories)}
        self.repositories = [tuple(position[name] for name in each.places) for each in plan.jobs]
        homes = np.array([len(each.repositories) for each in plan.jobs], np.int64)
        self.places = homes + job["copies_n"]
        self.place_from = offsets(self.places.tolist())
        counts = [len(each.at) for each in dues]
        self.due_from = offsets(counts)
        self.change_from = offsets(np.repeat(counts, self.places).tolist())
        members = np.repeat(np.arange(len(job)), job["members_n"])
        self.job_of_member = members.astype(np.int64)
        self.homes_n = homes[members]
        self.home_of = np.array(
            [
                self.repositories[j].index(repository)
                for j, repository in zip(
                    members.tolist(), layout.member["repository"].tolist(), strict=True
                )
            ],
            np.int64,
        )
        self.row_from = offsets(self.places[members].tolist())

    def _sorted(self, points: Snapshot) -> tuple[t.Ints, t.Table]:
        """The points of the beginning by chain, with where those of each chain begin."""
        rows = points.points
        number = {key: i for i, key in enumerate(self.chains)}
        keys = zip(
            rows["repository"].tolist(), rows["job"].tolist(), rows["machine"].tolist(), strict=True
        )
        chain = np.zeros(len(rows), np.int64)
        for i, key in enumerate(keys):
            chain[i] = number.setdefault(key, len(number))
        self.chains = list(number)
        order = np.argsort(chain, kind="stable")
        place = np.empty(len(rows) + 1, np.int64)
        place[order], place[-1] = np.arange(len(rows)), -1
        saved = rows[order].copy()
        saved["base"] = place[saved["base"]]
        begins = np.searchsorted(chain[order], np.arange(len(number) + 1)).astype(np.int64)
        return begins, saved

    def _most_of_disks(self, provisioned_grows: bool) -> t.Floats:
        most = np.full(len(self.layout.disk), np.inf)
        if provisioned_grows:
            return most
        for member in self.layout.member:
            disks = self.plan.machines[member["machine"]].disks
            for d in range(member["disks_from"], member["disks_from"] + member["disks_n"]):
                disk = disks[self.layout.disk_positions[d]]
                most[d] = disk.provisioned_gib * GIB
        return most

    def run(
        self, same: Mapping[int, JobSpace], kept_of: set[int]
    ) -> tuple[tuple[JobSpace, ...], t.Table]:
        """Walk through the members of all jobs but those that are known."""
        layout = self.layout
        chosen = np.flatnonzero(~np.isin(self.job_of_member, list(same)))
        told = self._told(kept_of)
        each = np.diff(self.due_from)[self.job_of_member] * self.places[self.job_of_member]
        total = int(each[chosen].sum())
        if total > MOST_POINTS:
            worst = int(np.bincount(self.job_of_member[chosen], each[chosen]).argmax())
            raise TooMuch(
                f"{total:,} points are more than a projection goes through ({MOST_POINTS:,}). Job "
                f"{self.plan.jobs[worst].id} makes the most: look at fewer months."
            )
        halves = [chosen]
        if total > FEW:
            # Halves of the same work.
            middle = int(np.searchsorted(np.cumsum(each[chosen]), total / AT_ONCE))
            halves = [half for half in (chosen[:middle], chosen[middle:]) if len(half)]
        stored = np.zeros((int(self.row_from[-1]), len(self.samples)))
        read = np.zeros((len(layout.member), len(self.samples)))
        parts = [self._part(half, stored, read, told) for half in halves]
        if len(parts) == 1:
            self._walk(*parts[0])
        else:
            with ThreadPoolExecutor(len(parts)) as pool:
                list(pool.map(lambda part: self._walk(*part), parts))
        stop_if_unwanted()
        courses = [course for course, _, _ in parts]
        jobs = tuple(
            same[j] if j in same else self._job_space(j, courses) for j in range(len(layout.job))
        )
        life = self._life(courses, told) if kept_of else np.zeros(0, LIFE)
        return jobs, life

    def jobs_in(self, repositories: set[int]) -> set[int]:
        """The positions of the jobs that keep points in any of some repositories."""
        return {j for j, mine in enumerate(self.repositories) if not repositories.isdisjoint(mine)}

    def _told(self, kept_of: set[int]) -> t.Ints:
        """Whether the points of each member are kept."""
        kept = list(self.jobs_in(kept_of))
        return np.isin(self.job_of_member, kept).astype(np.int64)

    def _rows_of(self, members: t.Ints) -> tuple[int, int]:
        """At most so many rows for the points of one member, and of all of those together."""
        job = self.job_of_member[members]
        dues = np.diff(self.due_from)[job]
        merges = 1 + (self.layout.job["chain"][job] == t.CHAIN_FOREVER)
        saved = np.diff(self.saved_from)
        before = np.zeros(len(members), np.int64)
        for i, m in enumerate(members.tolist()):
            member = self.layout.member[m]
            before[i] = saved[member["chain"]]
            first = member["copy_chains"]
            for k in range(self.layout.job["copies_n"][job[i]]):
                before[i] += saved[self.layout.copy_chain[first + k]]
        rows = dues * self.places[job] * merges + before * merges
        return int(rows.max(initial=0)), int(rows.sum())

    def _part(
        self, members: t.Ints, stored: t.Floats, read: t.Floats, told: t.Ints
    ) -> tuple[Course, t.World, t.Ints]:
        most_rows, _ = self._rows_of(members)
        _, told_rows = self._rows_of(members[told[members] > 0])
        lives = [self.lifetimes.get(machine.id, Lifetime()) for machine in self.plan.machines]
        places = int(self.place_from[-1])
        # Each saved point comes once, and each row of a member is thrown away once.
        odd = len(self.saved) + int(self.row_from[-1])
        course = Course(
            due_from=self.due_from,
            due_at=np.concatenate([np.zeros(0), *(due.at for due in self.dues)]) - t.EPOCH,
            due_kind=_together([due.kind for due in self.dues]),
            due_turn=_together([due.turn for due in self.dues]),
            place_from=self.place_from,
            change_from=self.change_from,
            row_from=self.row_from,
            homes_n=self.homes_n,
            home_of=self.home_of,
            active_from=np.array([life.since for life in lives], np.float64) - t.EPOCH,
            active_to=np.array([life.until for life in lives], np.float64) - t.EPOCH,
            points_go=np.array([life.points_go for life in lives], np.float64) - t.EPOCH,
            most=self.most,
            saved_from=self.saved_from,
            saved=self.saved,
            samples=self.samples - t.EPOCH,
            told=told,
            change=np.zeros(int(self.change_from[-1])),
            begins=np.zeros(places),
            odd_at=np.zeros(odd),
            odd_place=np.zeros(odd, np.int64),
            odd_bytes=np.zeros(odd),
            stored=stored,
            read=read,
            chained=np.zeros((places, len(self.samples))),
            immutable=np.zeros((places, len(self.samples))),
            life=np.zeros(max(1, told_rows), LIFE),
            counts=np.zeros(2, np.int64),
        )
        return course, self._world(most_rows), members

    def _walk(self, course: Course, world: t.World, members: t.Ints) -> None:
        jobs = self.job_of_member[members]
        handle = open_world(world)
        walk_members(handle, course, members, jobs, self.from_ - t.EPOCH)

    def _world(self, rows: int) -> t.World:
        """The arrays of the engine that a projection needs; the others are empty."""
        plan, layout = self.plan, self.layout
        repository, zone = repository_zones(
            plan, layout.repository, self.saved, self.from_, self.to
        )
        made = empty_world()
        world = made._replace(
            job=layout.job,
            member=layout.member,
            disk=layout.disk,
            copy=layout.copy,
            copy_chain=layout.copy_chain,
            repository=repository,
            zone=zone,
            point=np.zeros(rows + 1, t.POINT),
            newest=np.zeros(rows + 1, t.NEWEST),
            chain=np.zeros(max(1, len(self.chains)), t.CHAIN),
            used_bytes=np.zeros(max(1, len(repository))),
            n=np.zeros(t.COUNTERS, np.int64),
            f=np.zeros(t.FACTS),
        )
        note_sizes_and_chains(world, plan, self.chains)
        return world

    # --- what came out ----------------------------------------------------------------------

    def _job_space(self, j: int, courses: Sequence[Course]) -> JobSpace:
        layout = self.layout
        first, places = int(self.place_from[j]), int(self.places[j])
        at = self.dues[j].at
        job = self.plan.jobs[j]
        delays = [0.0 for _ in job.repositories] + [c.delay_min * MINUTE for c in job.copies]
        begin = layout.job["members_from"][j]
        end = begin + layout.job["members_n"][j]
        rows = slice(int(self.row_from[begin]), int(self.row_from[end]))
        count = len(at)
        changes = []
        for place in range(first, first + places):
            k = int(self.change_from[place])
            changes.append(sum((c.change[k : k + count] for c in courses), np.zeros(count)))
        odd = [
            (float(c.odd_at[i]) + t.EPOCH, int(c.odd_place[i]) - first, float(c.odd_bytes[i]))
            for c in courses
            for i in range(c.counts[0])
            if first <= c.odd_place[i] < first + places
        ]
        kept = slice(first, first + places)
        none = np.zeros((places, len(self.samples)))
        return JobSpace(
            job=job,
            repositories=self.repositories[j],
            instants=tuple(at + delay for delay in delays),
            changes=tuple(changes),
            begins=sum((c.begins[kept] for c in courses), np.zeros(places)),
            odd=tuple(odd),
            machines=layout.member["machine"][begin:end].copy(),
            stored=courses[0].stored[rows].reshape(-1, places, len(self.samples)),
            read=courses[0].read[begin:end],
            chained=sum((c.chained[kept] for c in courses), none),
            immutable=sum((c.immutable[kept] for c in courses), none),
        )

    def _life(self, courses: Sequence[Course], told: t.Ints) -> t.Table:
        """All points of members whose points are kept, and those that no job looks after."""
        parts: list[t.Table] = []
        offset = 0
        for course in courses:
            rows = course.life[: course.counts[1]].copy()
            for name in ("made_on", "replaced"):
                rows[name][rows[name] >= 0] += offset
            offset += len(rows)
            parts.append(rows)
        walked = np.zeros(len(self.chains), bool)
        for m in np.flatnonzero(told).tolist():
            member = self.layout.member[m]
            walked[member["chain"]] = True
            for k in range(self.layout.job["copies_n"][self.job_of_member[m]]):
                walked[self.layout.copy_chain[member["copy_chains"] + k]] = True
        chain = np.repeat(np.arange(len(self.chains)), np.diff(self.saved_from))
        rest = np.flatnonzero(~walked[chain])
        rows = np.zeros(len(rest), LIFE)
        place = np.full(len(self.saved) + 1, -1)
        place[rest] = offset + np.arange(len(rest))
        rows["chain"], rows["made_on"] = chain[rest], place[self.saved["base"][rest]]
        rows["replaced"], rows["gone"] = -1, np.inf
        for name in ("kind", "usable", "bad", "at", "exists_from", "stored_bytes"):
            rows[name] = self.saved[name][rest]
        rows["since"] = rows["exists_from"]
        return np.concatenate([*parts, rows])

    def rest_rows(self) -> t.Table:
        """The points that no job looks after."""
        known = len(self.layout.chains)
        return self.saved[int(self.saved_from[min(known, len(self.saved_from) - 1)]) :]

    def rest(self) -> tuple[Steps, ...]:
        """By repository the bytes of the points that no job looks after."""
        rows = self.rest_rows()
        found = []
        for i in range(len(self.plan.repositories)):
            mine = rows[rows["repository"] == i]
            since = np.maximum(mine["exists_from"] + t.EPOCH, self.from_)
            found.append(steps_of(0.0, [since], [mine["stored_bytes"]], self.from_))
        return tuple(found)
