"""How a night that is under way will end, by what it has shown by now, and how sure that is.

The rest of the night is simulated from where it is (section 15), in the plan as corrected by what
the night has shown (`shown_tonight`): that is the expected course. Around it the factors that
nobody knows yet are drawn again and again, from lognormal distributions whose spread is what the
night has left of it; each draw is a simulation of the rest. The 5th and the 95th percentile of an
end are its soft edge.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from math import sqrt

import numpy as np

from gambrel.core.ledger.comparing import that_bind
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS, NightSpreads
from gambrel.core.ledger.records import RunKey, RunRecord, run_key
from gambrel.core.ledger.shown_tonight import (
    Shown,
    corrected,
    fading,
    folder_of,
    shown_by,
    unsure,
)
from gambrel.core.nights.nights import TIGHT_MARGIN_S, Night, Verdict
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.engine import tables as t
from gambrel.core.simulation.engine.layout import Layout, layout_of
from gambrel.core.simulation.engine.taking_up import UnderWay, fits, read_under_way
from gambrel.core.simulation.engine.walk import Walk
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.simulation.known_points import snapshot_of_state
from gambrel.core.simulation.simulate import simulate
from gambrel.core.simulation.varying import STREAM_KINDS, vary
from gambrel.core.units import HOUR, SAME_INSTANT

DRAWS = 100
FEWEST = 10
"""Fewer draws say nothing of an edge."""
EDGE = (5.0, 50.0, 95.0)
LIKELY = 0.5


@dataclass(frozen=True, slots=True)
class RunOutlook:
    """How a run that is not over is likely to end.

    Attributes:
        expected_end: in the expected course; None where no machine of it gets going.
        early, middle, late: the 5th, 50th and 95th percentile of its end; None where it does not
            end in most draws.
        late_share: the part of the draws in which it ends after its window.
        missed: (machine, the part of the draws in which it is not done), where that is not 0.
    """

    job: str
    occurrence: float
    window_end: float | None
    expected_end: float | None
    early: float | None
    middle: float | None
    late: float | None
    late_share: float
    missed: tuple[tuple[str, float], ...]

    @property
    def likely_missed(self) -> tuple[str, ...]:
        """The machines that more draws miss than not."""
        return tuple(machine for machine, share in self.missed if share >= LIKELY)


@dataclass(frozen=True, slots=True)
class Outlook:
    """How the rest of a night will go from an instant on.

    Attributes:
        shown: what the night has shown by then.
        early_end, last_end, late_end: percentiles of when the last run with a window ends.
        fits: the part of the draws in which every run that is not over keeps its window, with all
            of its machines. What is over by now is not in it.
        verdict: of what is not over: "over" where that is so in most draws, "tight" where the
            middle end of a run is less than the margin of section 13 before its window's, "fits".
    """

    at: float
    draws: int
    shown: Mapping[str, Shown]
    runs: tuple[RunOutlook, ...]
    early_end: float | None
    last_end: float | None
    late_end: float | None
    fits: float
    verdict: Verdict


class Draws:
    """Rests of a night, drawn again and again from one instant.

    Two plans drawn with one seed see the same world in each draw: what differs between them comes
    from the plans (common random numbers).
    """

    def __init__(
        self,
        plan: Plan,
        until: float,
        shown: Mapping[str, Shown],
        rest_s: float,
        spreads: NightSpreads,
        seed: int = 1,
    ) -> None:
        running = plan.state.running
        assert running is not None
        self.plan, self.at, self.until, self.seed = plan, running.at, until, seed
        self.layout: Layout = layout_of(plan)
        if not fits(self.layout, running):
            raise ValueError("runs under way whose machines have changed cannot be drawn")
        points = snapshot_of_state(plan)
        self._under_way = read_under_way(self.layout, plan, points, running)
        self._start = Walk(
            self.layout, plan, self.at, until, points, running=running, under_way=self._under_way
        )
        weight = fading(rest_s, spreads.fades_s)

        def spread_of(what: str) -> float:
            # What fades comes back as what nobody knows.
            left, usual = unsure(shown, what, spreads), spreads.of(what)
            return sqrt((weight * left) ** 2 + (1.0 - weight**2) * usual**2)

        names = self.layout.topology.resource_names
        self._streams = np.array([spread_of(f"stream:{kind}") for kind in STREAM_KINDS])
        self._rates = np.array([spread_of(name) for name in names])
        folders = sorted({folder_of(machine) for machine in plan.machines})
        place = {folder: i for i, folder in enumerate(folders)}
        self._folder = np.array([place[folder_of(m)] for m in plan.machines], np.int64)
        self._change = np.array([unsure(shown, f"change:{folder}", spreads) for folder in folders])
        self._own = np.array([spreads.of_machine(machine.id) for machine in plan.machines])

    def walk(self, number: int) -> Walk:
        """The rest of the night in one draw."""
        random = np.random.default_rng((self.seed, number))
        plan = self.plan
        streams = np.exp(self._streams * random.standard_normal(len(self._streams)))
        rates = np.exp(self._rates * random.standard_normal(len(self._rates)))
        folders = self._change * random.standard_normal(len(self._change))
        own = self._own * random.standard_normal(len(plan.machines))
        change = np.exp(folders[self._folder] + own)
        layout, varied = vary(self.layout, plan, change, rates, streams)
        under_way = _with_change(layout, self._under_way, change)
        walk = self._start.varied(layout, varied, under_way)
        walk.run()
        return walk


def _with_change(layout: Layout, told: UnderWay, change: t.Floats) -> UnderWay:
    """What is under way with other totals of incrementals; nobody knows those before their end.

    Where changes are not tracked, all of a disk is read, whatever changed.
    """
    if not len(told.disks):
        return told
    tasks = told.tasks[told.disks["task"]]
    jobs = told.runs["job"][tasks["run"]]
    members = layout.job["members_from"][jobs] + tasks["order"]
    moves = (told.disks["moved"] == 0) & (tasks["kind"] == t.INCREMENTAL)
    moves &= layout.job["tracking"][jobs] != 0
    factors = np.where(moves, change[layout.member["machine"][members]], 1.0)
    disks = told.disks.copy()
    disks["work"] = np.maximum(disks["work"] * factors, disks["done"])
    return told._replace(disks=disks)


@dataclass(frozen=True, slots=True)
class Rest:
    """The rest of a night from now, expected and to be drawn.

    Attributes:
        plan: as corrected by what the night has shown.
        expected: the expected course, a simulation of that plan.
        lasts_s: how long the night was predicted to last from here.
        spreads: how much nights vary of themselves.
    """

    plan: Plan
    expected: Forecast
    shown: Mapping[str, Shown]
    until: float
    lasts_s: float
    spreads: NightSpreads = USUAL_NIGHTS

    def draws_of(self, plan: Plan, seed: int = 1) -> Draws:
        """Draws of this rest in a plan that differs from its own by an order, say.

        Raises:
            ValueError: where what is under way cannot be drawn, as its machines have changed.
        """
        return Draws(plan, self.until, self.shown, self.lasts_s, self.spreads, seed)


def rest_of(
    plan: Plan, night: Night, runs: Sequence[RunRecord], spreads: NightSpreads = USUAL_NIGHTS
) -> Rest:
    """The rest of a night from where it is, by what it has shown.

    Args:
        plan: with `state.running` as the ledger knows it, see `under_way`.
        runs: of the night, with what was predicted.
        spreads: how much nights vary of themselves, as the ledger knows it.
    """
    assert plan.state.running is not None
    at = plan.state.running.at
    until = max(night.end, at + HOUR)
    shown = shown_by(plan, runs, at, spreads)
    lasts_s = _lasts_s(runs, at, until)
    better = corrected(plan, shown, fading(lasts_s, spreads.fades_s))
    return Rest(better, simulate(better, at, until), shown, until, lasts_s, spreads)


def _lasts_s(runs: Sequence[RunRecord], at: float, until: float) -> float:
    """How long the night still lasts, as was predicted of its runs with a window; an hour where
    that is over. What has none may go on until the next noon, and nobody waits for it."""
    bound = that_bind(runs)
    ends = [run.predicted["ended"] for run in bound if run.predicted and run.predicted["ended"]]
    return float(min(max([HOUR, *(end - at for end in ends)]), until - at))


def never() -> bool:
    """For those who wait for every draw."""
    return False


def outlook(
    rest: Rest, draws: int = DRAWS, seed: int = 1, enough: Callable[[], bool] = never
) -> Outlook:
    """How the rest of a night will go.

    Args:
        enough: asked after each draw whether fewer will do; `FEWEST` are drawn in any case.

    Raises:
        ValueError: as `Rest.draws_of`.
    """
    drawn, tallies = rest.draws_of(rest.plan, seed), list[Tally]()
    while len(tallies) < draws and not (len(tallies) >= FEWEST and enough()):
        tallies.append(tally(drawn.walk(len(tallies))))
    return summed(rest, tallies)


@dataclass(frozen=True, slots=True)
class Tally:
    """What one draw came to.

    Attributes:
        ends: by run when it ended, UTC seconds; infinite where it did not.
        past: by run by how many seconds it ended after its window; negative before it, NaN where
            it has none.
        undone: by run the machines that were not done.
        machines: by run how many it has.
    """

    ends: Mapping[RunKey, float]
    past: Mapping[RunKey, float]
    undone: Mapping[RunKey, tuple[str, ...]]
    machines: Mapping[RunKey, int]

    @property
    def missed(self) -> int:
        """How many machine-runs were not done."""
        return sum(map(len, self.undone.values()))

    @property
    def late_s(self) -> float:
        """By how much runs were past their windows, in all."""
        return sum(past for past in self.past.values() if past > SAME_INSTANT)


def tally(walk: Walk) -> Tally:
    """Read what a draw came to; runs that had ended before it are not in it."""
    world, plan, layout = walk.world, walk.plan, walk.layout
    run, task = world.run[: world.n[t.N_RUN]], world.task[: world.n[t.N_TASK]]
    counted = (run["outcome"] != t.RUN_SKIPPED) & (run["ended_before"] == 0)
    ids = [job.id for job in plan.jobs]
    keys: list[RunKey | None] = [
        run_key(ids[job], at + t.EPOCH) if counts_it else None
        for job, at, counts_it in zip(
            run["job"].tolist(), run["occurrence"].tolist(), counted.tolist(), strict=True
        )
    ]
    ends, past, counts = {}, {}, {}
    for key, ended, closes, machines_n in zip(
        keys,
        run["ended"].tolist(),
        run["closes"].tolist(),
        run["tasks_n"].tolist(),
        strict=True,
    ):
        if key is not None:
            counts[key] = machines_n
            ends[key] = ended + t.EPOCH
            past[key] = ended - closes if np.isfinite(closes) else float("nan")
    undone: dict[RunKey, list[str]] = {}
    machines = layout.member["machine"]
    # What had failed by then is no outlook any more.
    open_ = ~(task["ended"] <= walk.from_ - t.EPOCH + SAME_INSTANT)
    for row in task[(task["outcome"] != t.DONE) & open_ & counted[task["run"]]]:
        found = keys[row["run"]]
        if found is not None:
            undone.setdefault(found, []).append(plan.machines[machines[row["member"]]].id)
    return Tally(ends, past, {key: tuple(each) for key, each in undone.items()}, counts)


def summed(rest: Rest, tallies: Sequence[Tally]) -> Outlook:
    """What draws come to. Raises ValueError for none at all."""
    if not tallies:
        raise ValueError("nothing was drawn")
    expected, runs = rest.expected, []
    for run in expected.runs:
        if run.outcome == "skipped":
            continue
        key = run_key(run.job, run.occurrence)
        ends = [each.ends.get(key, np.inf) for each in tallies]
        early, middle, late = _percentiles(ends)
        shares: dict[str, int] = {}
        for each in tallies:
            for machine in each.undone.get(key, ()):
                shares[machine] = shares.get(machine, 0) + 1
        runs.append(
            RunOutlook(
                run.job, run.occurrence, run.window_end, run.ended, early, middle, late,
                sum(each.past.get(key, 0.0) > SAME_INSTANT for each in tallies) / len(tallies),
                tuple(sorted((m, n / len(tallies)) for m, n in shares.items())),
            )
        )  # fmt: skip
    bound = {run_key(r.job, r.occurrence) for r in runs if r.window_end is not None}
    bound = bound or {run_key(r.job, r.occurrence) for r in runs}
    lasts = [
        max((end for key, end in each.ends.items() if key in bound), default=np.inf)
        for each in tallies
    ]
    early, middle, late = _percentiles(lasts)
    well = sum(not each.missed and not each.late_s for each in tallies) / len(tallies)
    margins = [
        run.window_end - run.middle
        for run in runs
        if run.window_end is not None and run.middle is not None
    ]
    tight = bool(margins) and min(margins) < TIGHT_MARGIN_S
    return Outlook(
        at=expected.from_,
        draws=len(tallies),
        shown=rest.shown,
        runs=tuple(runs),
        early_end=early,
        last_end=middle,
        late_end=late,
        fits=well,
        verdict="over" if well < LIKELY else "tight" if tight else "fits",
    )


def _percentiles(values: Sequence[float]) -> tuple[float | None, float | None, float | None]:
    """The edges of some ends; None where most are infinite."""
    known = [value for value in values if np.isfinite(value)]
    if 2 * len(known) < len(values) or not known:
        return None, None, None
    early, middle, late = np.percentile(known, EDGE)
    return float(early), float(middle), float(late)
