"""The night sheet: what runs in a night in order, whom to call, what to check."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from gambrel.core import words
from gambrel.core.findings.model import Finding
from gambrel.core.ledger.report import LEFT_BEHIND, LeftOver
from gambrel.core.nights.nights import Night, night_outcome, not_done, run_verdict, runs_of
from gambrel.core.plan.objects import Plan
from gambrel.core.simulation.forecast import Forecast, Run


@dataclass(frozen=True, slots=True)
class SheetRun:
    """A run of the night as the forecast has it.

    Attributes:
        begins, ends: of its first and its last machine-run; None where nothing begins.
        window_end: None where the window never ends.
        machines: how many, `undone` of them missed, cut off or without a path.
        verdict: "fits", "tight" or "over", as on the board.
        notify: whom the job tells of trouble.
    """

    job: str
    name: str
    occurrence: float
    kind: str
    begins: float | None
    ends: float | None
    window_end: float | None
    over_s: float
    machines: int
    undone: int
    verdict: str
    notify: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Contact:
    """Whom to call: a name that jobs notify, how to reach it, and for which of the jobs."""

    name: str
    phone: str
    mail: str
    jobs: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class NightSheet:
    """One page to take along. `checks`: what to look at, the gravest first, in words."""

    night: Night
    verdict: str
    last_end: float | None
    runs: tuple[SheetRun, ...]
    held: tuple[str, ...]
    checks: tuple[str, ...]
    contacts: tuple[Contact, ...]


def night_sheet(
    forecast: Forecast,
    night: Night,
    findings: Iterable[Finding],
    left: Iterable[LeftOver] = (),
    phones: Mapping[str, str] | None = None,
    mails: Mapping[str, str] | None = None,
) -> NightSheet:
    """The sheet of a night.

    Args:
        findings: of this night, the gravest first; those without a time are no matter for a night.
        left: what earlier runs left behind on machines.
        phones, mails: by the names that jobs notify.
    """
    plan = forecast.plan
    outcome = night_outcome(forecast, night)
    runs = sorted(
        (_sheet_run(plan, run) for run in runs_of(forecast, night)),
        key=lambda run: (run.occurrence if run.begins is None else run.begins, run.name),
    )
    return NightSheet(
        night,
        outcome.verdict,
        outcome.last_end,
        tuple(runs),
        tuple(job.name for job in plan.jobs if job.on_hold),
        (
            *(f"{found.what} {found.why}" for found in findings if found.at is not None),
            *_left(night, left),
        ),
        tuple(_contacts(runs, phones or {}, mails or {})),
    )


def headline(sheet: NightSheet) -> str:
    """What the night comes to, in one or two sentences."""
    count = words.count(len(sheet.runs), "run")
    if sheet.last_end is None:
        return f"{count}. Nothing with a window ends in this night."
    end = words.moment(sheet.last_end, sheet.night.zone)
    late = [run for run in sheet.runs if run.over_s > 0 or run.undone]
    said = f"{count}, the last ends {end}."
    return f"{said} {words.count(len(late), 'run')} not done in time." if late else said


def expected(run: SheetRun) -> str:
    """How a run is expected to come out."""
    parts = []
    if run.over_s >= 1:
        parts.append(f"{words.duration(run.over_s)} late")
    if run.undone:
        parts.append(f"{run.undone} not done")
    return ", ".join(parts) or ("barely in time" if run.verdict == "tight" else "in time")


def _sheet_run(plan: Plan, run: Run) -> SheetRun:
    job, totals = plan.job_by_id[run.job], run.totals()
    return SheetRun(
        job=run.job,
        name=job.name,
        occurrence=run.occurrence,
        kind=totals.kinds[0] if totals.kinds else run.kind,
        begins=totals.first_start,
        ends=run.ended if totals.first_start is not None else None,
        window_end=run.window_end,
        over_s=run.over_s,
        machines=len(run.machines),
        undone=not_done(run),
        verdict=run_verdict(run),
        notify=job.notify_to if job.notify != "never" else (),
    )


def _left(night: Night, left: Iterable[LeftOver]) -> Iterable[str]:
    for over in left:
        since = words.dated_moment(over.since, night.zone)
        yield f"{over.machine} {LEFT_BEHIND.get(over.what, over.what)} since {since}."


def _contacts(
    runs: Sequence[SheetRun], phones: Mapping[str, str], mails: Mapping[str, str]
) -> Iterable[Contact]:
    """Whom the jobs of the night tell of trouble, and everybody else who has a number."""
    told = {name for run in runs for name in run.notify}
    for name in sorted({*told, *phones}, key=str.casefold):
        jobs = dict.fromkeys(run.name for run in runs if name in run.notify)
        yield Contact(name, phones.get(name, ""), mails.get(name, ""), tuple(jobs))
