"""Beginning in the middle (section 15): a walk that was left at an instant, written down."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np

from gambrel.core.model.retention import linked
from gambrel.core.plan import objects as p
from gambrel.core.plan.objects import KINDS
from gambrel.core.plan.state import Seconds
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.restore_arrays import squeezes_of
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.known_points import found_bad, with_what_is_bad

BETWEEN = {t.PREPARING: "preparing", t.MOVING: "moving"}


def state_of(walk: Walk) -> p.State:
    """The state of a walk once all is done that happens up to the instant where it was left."""
    return _Writer(walk).state()


class _Writer:
    def __init__(self, walk: Walk) -> None:
        self.walk = walk
        self.plan, self.layout, self.world = walk.plan, walk.layout, walk.world
        self.now = float(self.world.f[t.F_NOW])
        self._names = ("transport", *self.layout.topology.resource_names)
        works = self.world.work[: self.world.n[t.N_WORK]]
        self._open_works = np.flatnonzero(works["state"] != t.W_ENDED).tolist()
        self._transforms = {
            int(works["task"][k]): k
            for k in self._open_works
            if works["stage"][k] == t.ST_TRANSFORM
        }

    def state(self) -> p.State:
        """All of it."""
        points, built_on = self._points()
        run = self.world.run[: self.world.n[t.N_RUN]]
        active = self.world.active[self.world.active >= 0]
        order = active[np.argsort(run["began"][active], kind="stable")]
        running = p.Running(
            at=self.now + t.EPOCH,
            runs=tuple(self._run(r) for r in order.tolist()),
            copies=tuple(self._copies()),
            merges=tuple(self._merges()),
            restores=tuple(self._restores()),
            built_on=built_on,
        )
        state = self.plan.state
        rows = self.world.restore
        over = {int(position) for position in rows["position"][rows["state"] == t.R_ENDED]}
        return p.State(
            points=points,
            restores=tuple(r for i, r in enumerate(state.restores) if i not in over),
            restores_at_once=state.restores_at_once,
            running=running,
            sizes_as_of=state.sizes_as_of,
        )

    # --- points -----------------------------------------------------------------------------

    def _points(self) -> tuple[tuple[p.ExistingPoint, ...], tuple[p.BuiltOn, ...]]:
        """Points that exist or will appear, and where their order does not tell the base."""
        world = self.world
        written: list[p.ExistingPoint] = []
        odd: list[p.BuiltOn] = []
        bad = found_bad(self.plan)
        for number, rows in sorted(self._rows_of_chains().items(), key=self._place_of_chain):
            chain = world.chain[number]
            place = (
                self.plan.jobs[chain["job"]].id,
                self.plan.machines[chain["machine"]].id,
                self.plan.repositories[chain["repository"]].id,
            )
            told = world.point[rows]
            points = [
                with_what_is_bad(
                    p.ExistingPoint(*place, KINDS[kind], at + t.EPOCH, since + t.EPOCH, stored), bad
                )
                for kind, at, since, stored in told[
                    ["kind", "at", "exists_from", "stored"]
                ].tolist()
            ]
            written += points
            read = {id(point): found for point, found in linked(points)}
            for point, needs, usable in zip(
                points, told["needs"].tolist(), told["usable"].tolist(), strict=True
            ):
                base = None if needs < 0 else float(world.point["at"][needs]) + t.EPOCH
                as_read = read[id(point)]
                same = bool(usable) == as_read.usable
                if not same or base != (None if as_read.base is None else as_read.base.at):
                    odd.append(p.BuiltOn(*place, point.at, base, bool(usable)))
        return tuple(written), tuple(odd)

    def _place_of_chain(self, entry: tuple[int, list[int]]) -> tuple[int, int, int]:
        chain = self.world.chain[entry[0]]
        return int(chain["repository"]), int(chain["job"]), int(chain["machine"])

    def _rows_of_chains(self) -> dict[int, list[int]]:
        world = self.world
        found: dict[int, list[int]] = {}
        for number in np.flatnonzero(world.chain["count"] > 0).tolist():
            rows = found[number] = []
            row = int(world.chain["first"][number])
            while row >= 0:
                rows.append(row)
                row = int(world.point["next"][row])
        steps = world.step_key[: world.n[t.N_STEP]]
        for row in steps[steps[:, 1] == t.S_POINT][:, 2].tolist():
            found.setdefault(int(world.point["chain"][row]), []).append(row)
        return found

    # --- runs -------------------------------------------------------------------------------

    def _run(self, r: int) -> p.RunningRun:
        run = self.world.run[r]
        first = int(run["tasks_from"])
        schedule = int(run["schedule"])
        return p.RunningRun(
            job=self.plan.jobs[run["job"]].id,
            occurrence=float(run["occurrence"]) + t.EPOCH,
            kind=KINDS[run["kind"]],
            schedule=None if schedule < 0 else schedule,
            turn=int(run["turn"]),
            at_any_time=bool(run["at_any_time"]),
            machines=tuple(self._machine(i) for i in range(first, first + int(run["tasks_n"]))),
        )

    def _machine(self, i: int) -> p.RunningMachine:
        task = self.world.task[i]
        transform = self._transforms.get(i)
        outcome, started = int(task["outcome"]), not np.isnan(task["start"])
        state = "waiting"
        if task["state"] in BETWEEN:
            state = BETWEEN[int(task["state"])]
        elif task["state"] == t.ENDED:
            state = "ended"
        elif task["state"] == t.FINISHING:
            state = "verifying" if transform is None else "transforming"
            if np.isnan(task["released"]):
                state = "releasing"
        disks, squeezes = self._disks(i) if started else ((), {})
        return p.RunningMachine(
            machine=self.plan.machines[self.world.member["machine"][task["member"]]].id,
            state=state,  # type: ignore[arg-type]
            queued=_instant(task["queued"]),
            start=_instant(task["start"]),
            kind=None if task["kind"] < 0 else KINDS[task["kind"]],
            synthetic=bool(task["synthetic"]),
            base_at=self._base_at(int(task["base_point"])),
            moved=_instant(task["moved"]),
            released=_instant(task["released"]),
            transformed=self._transformed(i) if task["synthetic"] else None,
            ended=_instant(task["ended"]),
            outcome=None if outcome < 0 else t.MACHINE_OUTCOMES[outcome],
            source_bytes=float(task["source"]),
            wire_bytes=float(task["wire"]),
            stored_bytes=float(task["stored"]),
            squeeze_s=self._named(squeezes),
            disks=disks,
            transform=None if transform is None else self._work(transform),
        )

    def _transformed(self, i: int) -> float | None:
        """When the new full of a machine-run was made; that of its point."""
        work = self.world.work[: self.world.n[t.N_WORK]]
        rows = np.flatnonzero((work["task"] == i) & (work["stage"] == t.ST_TRANSFORM))
        return None if not len(rows) else _instant(work["ended"][rows[0]])

    def _base_at(self, row: int) -> float | None:
        """When the point began on which a machine-run builds, under whatever merges made of it."""
        if row < 0:
            return None
        while self.world.point["replaced"][row] >= 0:
            row = int(self.world.point["replaced"][row])
        return float(self.world.point["at"][row]) + t.EPOCH

    def _disks(self, i: int) -> tuple[tuple[p.RunningDisk, ...], dict[int, float]]:
        """The disks of a machine-run that has started, and the squeezes of those that are over."""
        world, layout = self.world, self.layout
        task = world.task[i]
        member = world.member[task["member"]]
        machine = self.plan.machines[member["machine"]]
        begin, first, count = (
            int(task["disks_from"]), int(member["disks_from"]), int(member["disks_n"]),
        )  # fmt: skip
        over: dict[int, float] = {}
        found: list[p.RunningDisk] = []
        for place in range(count):
            t_row = begin + place
            transfer = world.transfer[t_row]
            disk = machine.disks[layout.disk_positions[first + place]]
            stream = int(transfer["stream"])
            held = not np.isnan(transfer["slots_from"])
            way = layout.ways[transfer["candidate"]] if held else None
            source = float(transfer["work"])
            now: dict[int, float] = {}
            if stream >= 0:
                row = world.squeezed_now[stream]
                self._add(now, row, int(transfer["candidate"]))
                moved = max(0.0, source - float(world.stream["left"][stream]))
            else:
                self._add(over, world.squeezed[t_row], int(transfer["candidate"]))
                moved = source if transfer["moved"] else 0.0
            proxy = None if way is None or way.proxy is None else self.plan.proxies[way.proxy].id
            found.append(
                p.RunningDisk(
                    disk=disk.id,
                    source_bytes=source,
                    wire_bytes=source * float(transfer["omega"]),
                    proxy=proxy,
                    transport=None if way is None else way.transport,
                    holds=held and not transfer["moved"],
                    moved=bool(transfer["moved"]),
                    moved_bytes=moved,
                    squeeze_s=self._named(now),
                )
            )
        return tuple(found), over

    def _add(self, sums: dict[int, float], row: t.Floats, way: int) -> None:
        """Add seconds by squeeze; the keys are places in `_names`."""
        for column in np.flatnonzero(row).tolist():
            name = 0
            if column:
                first = int(self.world.candidate["uses_from"][way])
                name = int(self.world.use["resource"][first + column - 1]) + 1
            sums[name] = sums.get(name, 0.0) + float(row[column])

    def _named(self, squeeze_s: dict[int, float]) -> Seconds:
        return tuple((self._names[name], squeeze_s[name]) for name in sorted(squeeze_s))

    # --- work in and between repositories ---------------------------------------------------

    def _work(self, k: int) -> p.RunningWork:
        work = self.world.work[k]
        transfer = self.world.transfer[self.world.n[t.N_DISKS] + k]
        total, stream = float(transfer["work"]), int(transfer["stream"])
        if work["state"] != t.W_MOVING:
            return p.RunningWork(None, None if work["stage"] == t.ST_COPY else total)
        left = float(self.world.stream["left"][stream]) if stream >= 0 else 0.0
        return p.RunningWork(_instant(work["started"]), total, max(0.0, total - left))

    def _outside(self, stage: int) -> Iterator[tuple[int, Any, Any, Any]]:
        """Copies or merges that have not ended, in the order of the queue."""
        world = self.world
        rows = [k for k in self._open_works if world.work["stage"][k] == stage]
        found = []
        for k in rows:
            task = world.task[world.work["task"][k]]
            found.append((k, world.work[k], task, world.run[task["run"]]))

        def place(entry: tuple[int, Any, Any, Any]) -> tuple[float, ...]:
            _, work, task, run = entry
            priority = -float(world.job["priority"][run["job"]])
            return (priority, run["occurrence"], run["job"], task["order"], work["number"])

        return iter(sorted(found, key=place))

    def _copies(self) -> Iterator[p.RunningCopy]:
        steps = self.world.step_key[: self.world.n[t.N_STEP]]
        late = {
            int(key[2]): float(at)
            for at, key in zip(self.world.step_at[: len(steps)], steps, strict=True)
            if key[1] == t.S_COPY_DUE
        }
        for k, work, task, run in self._outside(t.ST_COPY):
            yield p.RunningCopy(
                job=self.plan.jobs[run["job"]].id,
                machine=self._machine_id(task),
                copy=int(work["number"]),
                occurrence=float(run["occurrence"]) + t.EPOCH,
                order=int(task["order"]),
                kind=KINDS[task["kind"]],
                start=float(task["start"]) + t.EPOCH,
                stored_bytes=float(task["stored"]),
                due=late.get(k, float(work["queued"])) + t.EPOCH,
                work=self._work(k),
            )

    def _merges(self) -> Iterator[p.RunningMerge]:
        for k, work, task, run in self._outside(t.ST_MERGE):
            member = self.world.member[task["member"]]
            repository, first = int(member["repository"]), int(member["copies_from"])
            copies = int(self.world.job[run["job"]]["copies_n"])
            for copy in self.world.copy[first : first + copies]:
                if copy["merge_class"] == work["klass"]:
                    repository = int(copy["repository"])
            yield p.RunningMerge(
                job=self.plan.jobs[run["job"]].id,
                machine=self._machine_id(task),
                repository=self.plan.repositories[repository].id,
                occurrence=float(run["occurrence"]) + t.EPOCH,
                order=int(task["order"]),
                queued=float(work["queued"]) + t.EPOCH,
                work=self._work(k),
            )

    # --- restores ---------------------------------------------------------------------------

    def _restores(self) -> Iterator[p.RunningRestore]:
        """Those that are due and have not ended, in the order of the queue."""
        world, planned = self.world, self.plan.state.restores
        for r in range(int(world.n[t.N_RESTORES_DUE])):
            restore = world.restore[r]
            told = p.RunningRestore(
                planned[restore["position"]].id, float(restore["due"]) + t.EPOCH
            )
            if restore["state"] == t.R_DUE:
                yield told
            elif restore["state"] == t.R_UNDER_WAY:
                yield self._started(told, r)

    def _started(self, told: p.RunningRestore, r: int) -> p.RunningRestore:
        world, restore = self.world, self.world.restore[r]
        option = world.option[restore["option"]]
        repository, job, _ = self.walk.chains[option["chain"]]
        stream = int(world.transfer["stream"][world.n[t.N_FIRST_RESTORE] + r])
        moved, seconds = 0.0, dict[int, float]()
        if stream >= 0:
            moved = max(0.0, float(restore["written"]) - float(world.stream["left"][stream]))
            seconds = squeezes_of(world, option, world.squeezed_now[stream])
        return replace(
            told,
            start=_instant(restore["start"]),
            back=_instant(restore["back"]),
            point=p.NamedPoint(
                self.plan.jobs[job].id,
                self.plan.repositories[repository].id,
                float(restore["at"]) + t.EPOCH,
            ),
            points=int(restore["points_n"]),
            delay_s=float(restore["delay"]),
            read_bytes=float(restore["read"]),
            written_bytes=float(restore["written"]),
            moved_bytes=moved,
            squeeze_s=self._named(seconds),
        )

    def _machine_id(self, task: Any) -> str:
        return self.plan.machines[self.world.member["machine"][task["member"]]].id


def _instant(value: float) -> float | None:
    return float(value) + t.EPOCH if np.isfinite(value) else None
