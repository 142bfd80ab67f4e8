"""Findings about runs: what does not get done, or not in time."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import pairwise
from statistics import median

from gambrel.core.findings.model import Finding, Look, Subject
from gambrel.core.loads.time_account import account_of
from gambrel.core.model.job_windows import window_of
from gambrel.core.plan.objects import DayRowSchedule
from gambrel.core.schedules.calendars import clock_moves, job_occurrences, window_span
from gambrel.core.simulation.forecast import SLOT_PARTS, MachineOutcome, Run
from gambrel.core.units import SAME_INSTANT
from gambrel.core.words import count, duration, load_label, moment


def _worst(runs: Iterable[Run]) -> Run:
    return max(runs, key=lambda run: (run.over_s, -run.occurrence))


_VERBS = {
    "window": "waited for its window",
    "slot": "waited",
    "disk slot": "waited between disks",
    "preparing": "prepared",
    "moving": "moved",
    "releasing": "released its snapshot",
    "transform slot": "waited for the repository",
    "transforming": "was transformed",
    "verifying": "was verified",
}
WORTH_TELLING = 0.1
"""Part of a machine-run's time from which on a stretch of it is told."""


def _because(look: Look, run: Run) -> str:
    """Where the time of the machine that ended last went, in words."""
    last = max(run.machines, key=lambda machine: machine.ended)
    parts = account_of(look.forecast, run, last)
    whole = sum(part.seconds for part in parts)
    said = []
    for part in parts:
        if part.seconds < WORTH_TELLING * whole:
            continue
        words = f"{_VERBS[part.kind]} {duration(part.seconds)}"
        if part.by is not None:
            waits = part.kind in SLOT_PARTS
            name = load_label(look.plan, f"slots:{part.by}" if waits else part.by)
            words += f" for {name}" if waits else f", held back by {name}"
        said.append(words)
    if not said:
        return "nothing held it up"
    return f"{last.machine}, the last to end, " + "; ".join(said)


def over_the_window(look: Look) -> Iterator[Finding]:
    """A job's runs end after their window."""
    for job, runs in look.runs_of.items():
        late = [run for run in runs if run.over_s > SAME_INSTANT]
        if not late:
            continue
        worst = _worst(late)
        zone = look.zone_of(job)
        times = "" if len(late) == 1 else f", the worst of {len(late)} runs"
        yield Finding(
            "over the window",
            "breaks",
            (Subject("job", job),),
            f"{look.name(job)} ends {duration(worst.over_s)} after its window, "
            f"at {moment(worst.ended or 0.0, zone)}{times}.",
            f"Because {_because(look, worst)}.",
            sum(run.over_s for run in late),
            {"worst_s": worst.over_s, "runs": len(late)},
            worst.occurrence,
        )


_NOT_DONE: tuple[tuple[MachineOutcome, str], ...] = (
    ("missed", "never start before the window or the job's limit ends"),
    ("cut off", "are stopped while they move, and what they moved is lost"),
    ("no path", "have a disk that no allowed proxy reaches, or no route to the repository"),
)


def not_done(look: Look) -> Iterator[Finding]:
    """Machines are missed, cut off, or have no path."""
    for job, runs in look.runs_of.items():
        for outcome, meaning in _NOT_DONE:
            hit = [run for run in runs if run.outcomes[outcome]]
            if not hit:
                continue
            worst = max(hit, key=lambda run: run.outcomes[outcome])
            machines = [m.machine for m in worst.machines if m.outcome == outcome]
            total = sum(run.outcomes[outcome] for run in hit)
            listed = ", ".join(machines[:3]) + (", ..." if len(machines) > 3 else "")
            why = f"They {meaning}"
            if outcome != "no path":
                why += f"; {_because(look, worst)}"
            yield Finding(
                outcome,
                "breaks",
                (Subject("job", job), *(Subject("machine", m) for m in machines[:3])),
                f"{look.name(job)}: {count(len(machines), 'machine')} {outcome} on "
                f"{moment(worst.occurrence, look.zone_of(job))} ({listed}).",
                f"{why}.",
                float(total),
                {"machines": len(machines), "machine_runs": total, "runs": len(hit)},
                worst.occurrence,
            )


def _still_going(look: Look, run: Run) -> Run | None:
    """The run of the same job that had not ended at a skipped run's occurrence."""
    before = [
        r
        for r in look.forecast.runs
        if r.job == run.job and r.occurrence < run.occurrence and r.outcome != "skipped"
    ]
    return before[-1] if before else None


def _only_verifying(blocker: Run, at: float) -> bool:
    """Whether all that a run still did at an instant was checking what it had made."""
    going = [m for m in blocker.machines if m.ended > at + SAME_INSTANT]
    return bool(going) and all(m.released is not None and m.released <= at for m in going)


def skipped(look: Look) -> Iterator[Finding]:
    """Runs are skipped as the one before was still going; a verify that does it is told apart."""
    for job, runs in look.runs_of.items():
        lost = [run for run in runs if run.outcome == "skipped"]
        if not lost:
            continue
        first = lost[0]
        blocker = _still_going(look, first)
        zone = look.zone_of(job)
        item = look.plan.job_by_id[job]
        verifies = (
            blocker is not None
            and item.verify != "none"
            and _only_verifying(blocker, first.occurrence)
        )
        ended = "" if blocker is None or blocker.ended is None else moment(blocker.ended, zone)
        since = "" if blocker is None else moment(blocker.occurrence, zone)
        kind = "verify runs into the next run" if verifies else "skipped"
        doing = "verifying what it had made" if verifies else "going"
        yield Finding(
            kind,
            "risks",
            (Subject("job", job),),
            f"{look.name(job)} skips {count(len(lost), 'run')}, the first on "
            f"{moment(first.occurrence, zone)}.",
            f"The run of {since} was still {doing}; it ended {ended}.",
            float(len(lost)),
            {"runs": len(lost)},
            first.occurrence,
        )


def short_interval(look: Look) -> Iterator[Finding]:
    """Runs usually take longer than the time to the next one."""
    for job, runs in look.runs_of.items():
        took = [r.ended - r.occurrence for r in runs if r.ended is not None and r.machines]
        gaps = [b.occurrence - a.occurrence for a, b in pairwise(runs)]
        if len(took) < 2 or not gaps:
            continue
        usual, gap = median(took), median(gaps)
        if usual <= gap:
            continue
        yield Finding(
            "interval too short",
            "risks",
            (Subject("job", job),),
            f"{look.name(job)} starts every {duration(gap)} but usually takes {duration(usual)}.",
            "Whatever falls due while it runs is skipped; "
            f"an interval above {duration(usual)} would not be.",
            usual / gap,
            {"usual_s": usual, "interval_s": gap, "runs": len(took)},
            runs[0].occurrence,
        )


def window_never_opens(look: Look) -> Iterator[Finding]:
    """A schedule's occurrences find no open window within eight days."""
    for job in look.plan.jobs:
        window = window_of(look.plan, job)
        if window is None:
            continue
        for position in range(len(job.schedules)):
            due = [
                instant
                for instant, _, schedule in job_occurrences(
                    job, look.plan.calendar_by_id, look.start, look.end
                )
                if schedule == position
            ]
            shut = [instant for instant in due if window_span(window, instant) is None]
            if shut:
                yield Finding(
                    "window never opens",
                    "breaks",
                    (Subject("job", job.id),),
                    f"{job.name}: window {window.id} does not open within 8 days of "
                    f"{moment(shut[0], look.zone_of(job.id))}.",
                    f"{count(len(shut), 'run')} of its schedule {position + 1} can never start; "
                    "give the window hours, or the job another window.",
                    float(len(shut)),
                    {"runs": len(shut)},
                    shut[0],
                )


def moved_by_the_clock(look: Look) -> Iterator[Finding]:
    """A start falls into an hour that a clock change skips or repeats."""
    for job in look.plan.jobs:
        for position, schedule in enumerate(job.schedules):
            moved = clock_moves(schedule, look.plan.calendar_by_id, look.start, look.end)
            if not moved:
                continue
            nominal, instant, skips = moved[0]
            many = isinstance(schedule, DayRowSchedule)
            happens = "is skipped that night" if skips else "occurs twice that night"
            yield Finding(
                "start moved by the clock",
                "risks",
                (Subject("job", job.id),),
                f"{job.name}: {nominal:%H:%M} {happens}; it starts at "
                f"{moment(instant, schedule.time_zone)}.",
                f"The clocks of {schedule.time_zone} change. "
                + (
                    f"{count(len(moved), 'run')} of the row are concerned."
                    if many
                    else f"Schedule {position + 1} keeps its time on every other night."
                ),
                float(len(moved)),
                {"runs": len(moved)},
                instant,
            )


RULES = {
    "over the window": over_the_window,
    "missed": not_done,
    "cut off": not_done,
    "no path": not_done,
    "skipped": skipped,
    "verify runs into the next run": skipped,
    "interval too short": short_interval,
    "window never opens": window_never_opens,
    "start moved by the clock": moved_by_the_clock,
}
