"""The morning report: one page about a night, for the first coffee."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from gambrel.core import words
from gambrel.core.ledger.comparing import MachineTrouble, NightSummary, was_skipped
from gambrel.core.ledger.records import RunRecord
from gambrel.core.ledger.shown_tonight import taught
from gambrel.core.ledger.standing import Standing
from gambrel.core.nights.nights import NightOutcome
from gambrel.core.plan.objects import Plan
from gambrel.core.units import HOUR

MOST_LINES = 12
"""Lines of one part that are printed; the rest are counted."""

LEFT_BEHIND = {
    "locked": "is locked",
    "snapshot": "still has a snapshot of its backup",
    "mount": "still has something mounted",
}
"""What a run can leave behind on a machine, in words that go on after its name."""


@dataclass(frozen=True, slots=True)
class LeftOver:
    """Something that a run left on a machine and nobody has cleaned up."""

    machine: str
    what: str
    since: float


@dataclass(frozen=True, slots=True)
class NeedsHand:
    """A machine that somebody must look at.

    Attributes:
        good_at: the start of its newest restore point; None where it has none.
        exposure_s: how old that is; None where it has none.
        rpo_s: what was promised; None for nothing.
        why: what happened, in words. `advice`: what to do first.
        also: less exposed machines with the same reason, all within their RPO.
    """

    machine: str
    tags: tuple[str, ...]
    good_at: float | None
    exposure_s: float | None
    rpo_s: float | None
    why: str
    advice: str
    also: tuple[str, ...] = ()

    @property
    def breaks_rpo(self) -> bool:
        """Whether its newest point is older than promised."""
        if self.rpo_s is None:
            return False
        return self.exposure_s is None or self.exposure_s > self.rpo_s


@dataclass(frozen=True, slots=True)
class JobLine:
    """How the runs of a job went in a night."""

    job: str
    name: str
    outcome: str
    done: int
    total: int
    ended: float | None
    predicted_end: float | None
    window_end: float | None


@dataclass(frozen=True, slots=True)
class Broken:
    """How many machines of a tier would break what was promised in the coming night."""

    tier: str
    rpo: int
    rto: int


@dataclass(frozen=True, slots=True)
class Ahead:
    """What the day brings beside the coming night.

    Attributes:
        tests: restore tests of this day: (machine, when it starts).
        broken: promises that the coming night would break, by tier.
    """

    tests: tuple[tuple[str, float], ...] = ()
    broken: tuple[Broken, ...] = ()


NOTHING_AHEAD = Ahead()


@dataclass(frozen=True, slots=True)
class Report:
    """The page. `tonight`: what the plan says of the coming night; None where it has no forecast.

    Attributes:
        at: the instant at which it was made, by the runner's clock.
        silent_since: the runner's last word, where it has fallen silent.
        taught: what the night showed of rates and change, in words.
    """

    plan: Plan
    at: float
    summary: NightSummary
    needs_hand: tuple[NeedsHand, ...]
    left: tuple[LeftOver, ...]
    jobs: tuple[JobLine, ...]
    tonight: NightOutcome | None
    silent_since: float | None = None
    standing: tuple[Standing, ...] = ()
    ahead: Ahead = NOTHING_AHEAD
    taught: tuple[str, ...] = ()


def make_report(
    plan: Plan,
    summary: NightSummary,
    runs: Sequence[RunRecord],
    newest: Mapping[str, float],
    left: Iterable[LeftOver],
    tonight: NightOutcome | None,
    at: float,
    silent_since: float | None = None,
    standing: Iterable[Standing] = (),
    ahead: Ahead = NOTHING_AHEAD,
) -> Report:
    """The report of a night.

    Args:
        newest: start instant of the newest restore point of each machine that has one.
    """
    left = tuple(sorted(left, key=lambda over: over.since))
    return Report(
        plan,
        at,
        summary,
        tuple(_needs_hand(plan, summary.troubles, newest, left, at)),
        left,
        tuple(_jobs(plan, runs, at)),
        tonight,
        silent_since,
        tuple(standing),
        ahead,
        tuple(taught(plan, runs, at)),
    )


def _needs_hand(
    plan: Plan,
    troubles: Iterable[MachineTrouble],
    newest: Mapping[str, float],
    left: Sequence[LeftOver],
    at: float,
) -> list[NeedsHand]:
    """Machines that are in trouble, the most exposed first: by how far their RPO is used up."""
    by_machine: dict[str, list[MachineTrouble]] = {}
    for trouble in troubles:
        if not trouble.made_good and trouble.machine in plan.machine_by_id:
            by_machine.setdefault(trouble.machine, []).append(trouble)
    found = []
    for name, its in by_machine.items():
        machine = plan.machine_by_id[name]
        good = newest.get(name)
        worst = its[-1]
        why = "; ".join(dict.fromkeys(f"{plan.job_by_id[t.job].name}: {_why(t)}" for t in its))
        rpo = None if machine.rpo_hours is None else machine.rpo_hours * HOUR
        exposure = None if good is None else max(0.0, at - good)
        locked = any(over.machine == name and over.what == "locked" for over in left)
        found.append(
            NeedsHand(name, machine.tags, good, exposure, rpo, why, _advice(worst, locked=locked))
        )

    def exposed(item: NeedsHand) -> tuple[float, float]:
        if item.exposure_s is None:
            return (-float("inf"), 0.0)
        part = item.exposure_s / item.rpo_s if item.rpo_s else 0.0
        return (-part, -item.exposure_s)

    return _together(sorted(found, key=exposed))


def _together(found: Iterable[NeedsHand]) -> list[NeedsHand]:
    """The same, with machines that hold their RPO and have one reason in one entry."""
    kept: list[NeedsHand] = []
    place: dict[tuple[str, str], int] = {}
    for item in found:
        key = (item.why, item.advice)
        if item.breaks_rpo or item.exposure_s is None:
            kept.append(item)
        elif key in place:
            first = kept[place[key]]
            kept[place[key]] = replace(first, also=(*first.also, item.machine))
        else:
            place[key] = len(kept)
            kept.append(item)
    return kept


def _why(trouble: MachineTrouble) -> str:
    if trouble.reason:
        return trouble.reason
    return {
        "cut off": "cut off before all of it had moved",
        "missed": "did not start before its window closed",
        "no path": "no proxy can read it",
        "failed": "failed",
        "not reported": "the runner has not reported it",
    }[trouble.outcome]


def _advice(trouble: MachineTrouble, *, locked: bool) -> str:
    if locked:
        return "Unlock the machine, then retry it."
    if trouble.outcome == "no path":
        return "Give the job a proxy that can read it."
    if trouble.outcome in ("missed", "cut off") and not trouble.reason:
        return "Retry it in free hours, and give its job more room."
    return "Mend the cause, then retry it."


def _jobs(plan: Plan, runs: Sequence[RunRecord], at: float) -> list[JobLine]:
    """The runs that have begun or should have by an instant."""
    found = []
    for run in sorted(runs, key=lambda run: (run.occurrence, run.job)):
        if run.began is None and (run.occurrence > at or was_skipped(run, runs)):
            continue
        job = plan.job_by_id.get(run.job)
        machines = list(run.machines.values())
        outcome = run.outcome or ("under way" if run.began is not None else "not begun")
        found.append(
            JobLine(
                run.job,
                run.job if job is None else job.name,
                outcome,
                sum(machine.outcome == "done" for machine in machines),
                len(machines),
                run.ended,
                run.predicted["ended"] if run.predicted else None,
                run.window_end,
            )
        )
    return found


def headline(summary: NightSummary) -> str:
    """The night in one sentence."""
    said = f"{summary.done} of {words.count(summary.total, 'machine')} done"
    open_ = [t for t in summary.troubles if not t.made_good]
    if open_:
        said += f", {len(open_)} not"
    zone = summary.night.zone
    if summary.runs_open:
        return f"{said}; {words.count(summary.runs_open, 'run')} still under way."
    if summary.last_end is not None:
        said += f"; the last run ended {words.moment(summary.last_end, zone)}"
        if summary.predicted_end is not None:
            late = summary.last_end - summary.predicted_end
            if abs(late) >= 60:
                how = "later" if late > 0 else "earlier"
                said += f", {words.duration(abs(late))} {how} than predicted"
    return said + "."
