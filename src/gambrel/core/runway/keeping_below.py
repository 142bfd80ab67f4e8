"""What would keep a repository below a part of its space: changes of jobs, each projected."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from math import ceil

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.edits.operations import Operation, apply_all, change_job
from gambrel.core.plan.objects import Job, Plan, Retention
from gambrel.core.plan.reading import JOB
from gambrel.core.runway.projection import Projection
from gambrel.core.schedules.spread_fulls import job_dues
from gambrel.core.schedules.words import number
from gambrel.core.units import DAY, GIB
from gambrel.core.words import count, retention_in_words, size

MOST_JOBS = 5
"""Of so many jobs, those that keep most at the peak, changes are tried."""
STEPS = (0.85, 0.7, 0.55, 0.4, 0.25)
"""To which parts a span or a number of points is cut, the least first."""
LEAST_KEPT = 2
"""No rule is cut below so many points, or days."""
CLEARLY = 0.002
"""A change that brings less than this part of the space is not worth a line."""
MOST_TOGETHER = 8
"""How many changes are put together where no single one is enough."""

Projecting = Callable[[Plan], Projection]


@dataclass(frozen=True, slots=True)
class Candidate:
    """A change and what it brings.

    Attributes:
        operations: those of a draft.
        words: what is done; `costs`: what that costs, in sentences without a full stop.
        peak_bytes: the most that the repository holds within the time, then.
        full_at: when it is full, then; None: not within the time.
        enough: whether it stays below the part.
        loses_days: by how much less far back one can go, in days.
        drops_points: whether points that exist have to be deleted by hand before it helps.
    """

    operations: tuple[Operation, ...]
    words: str
    costs: tuple[str, ...]
    peak_bytes: float
    full_at: float | None
    enough: bool
    loses_days: float = 0.0
    drops_points: bool = False


@dataclass(frozen=True, slots=True)
class Below:
    """The question with its answers, the best first.

    Attributes:
        most_bytes: what must not be passed, up to `until`.
        together: the smallest set of them that is enough where no single one is; None where there
            is none, or one is.
    """

    repository: str
    most_bytes: float
    until: float
    peak_bytes: float
    candidates: tuple[Candidate, ...]
    together: Candidate | None


@dataclass(frozen=True, slots=True)
class _Idea:
    operations: tuple[Operation, ...]
    words: str
    costs: tuple[str, ...]
    loses_days: float = 0.0
    without_points_of: str | None = None
    also: str | None = None
    """Another repository that must stay below the part as well."""


def keep_below(
    plan: Plan, repository: str, part: float, until: float, projecting: Projecting
) -> Below:
    """What keeps a repository below a part of its space up to an instant.

    Args:
        projecting: the projection of a plan, with all that is asked of it (growth, assumptions).

    Raises:
        OperationError: for a repository that is not there, or has no stated space.
    """
    target = plan.repository_by_id.get(repository)
    if target is None:
        raise OperationError("repository", repository, "is not the id of a repository of this plan")
    if target.space_gib is None:
        raise OperationError("repository", repository, "has no stated space to stay below")
    position = plan.repositories.index(target)
    most = target.space_gib * GIB * part
    now = projecting(plan)
    peak, at = _peak(now, position, until)
    if peak <= most:
        return Below(repository, most, until, peak, (), None)
    found: list[tuple[_Idea, Candidate]] = []
    for j in _largest(now, position, at):
        for series in _ideas(plan, plan.jobs[j], repository, now.from_):
            best = _least_that_is_enough(
                plan, series, position, most, until, peak, projecting, part
            )
            if best is not None:
                found.append(best)
    found.sort(
        key=lambda pair: (
            not pair[1].enough, pair[1].drops_points, pair[1].loses_days > 0,
            pair[1].loses_days if pair[1].enough else pair[1].peak_bytes,
        )
    )  # fmt: skip
    together = None
    if found and not any(c.enough and not c.drops_points for _, c in found):
        together = _together(plan, found, position, most, until, projecting)
    return Below(repository, most, until, peak, tuple(c for _, c in found), together)


def _peak(projection: Projection, repository: int, until: float) -> tuple[float, float]:
    space = projection.space(repository).until(until)
    top = int(space.bytes.argmax())
    return float(space.bytes[top]), float(space.instants[top])


def _largest(projection: Projection, repository: int, at: float) -> list[int]:
    """The jobs that have most in a repository at an instant."""
    amounts = {
        job: float(projection.space_of_job(repository, job).at([at])[0])
        for job in projection.jobs_of(repository)
    }
    jobs = sorted(amounts, key=lambda job: -amounts[job])
    return [job for job in jobs if amounts[job] > 0 and not projection.plan.jobs[job].locked][
        :MOST_JOBS
    ]


def _least_that_is_enough(
    plan: Plan, series: Sequence[_Idea], repository: int, most: float, until: float, was: float,
    projecting: Projecting, part: float,
) -> tuple[_Idea, Candidate] | None:  # fmt: skip
    """The least idea of a series that is enough, searched by halving; else the last of it.

    Each idea of a series brings more than the one before. None where even the last brings nothing.
    """
    known: dict[int, Candidate | None] = {}

    def tried(i: int) -> Candidate | None:
        if i not in known:
            known[i] = _tried(plan, series[i], repository, most, until, projecting, part)
        return known[i]

    if not series:
        return None
    last = len(series) - 1
    best = tried(last)
    if best is None or best.peak_bytes > was - CLEARLY * most:
        return None
    if not best.enough:
        return series[last], best

    def enough(i: int) -> bool:
        candidate = tried(i)
        return candidate is not None and candidate.enough

    least = bisect_left(range(last), True, key=enough)
    return series[least], tried(least) or best


def _tried(
    plan: Plan, idea: _Idea, repository: int, most: float, until: float, projecting: Projecting,
    part: float,
) -> Candidate | None:  # fmt: skip
    try:
        changed = apply_all(plan, idea.operations)
    except OperationError:
        return None
    if idea.without_points_of is not None:
        target = plan.repositories[repository].id
        kept = tuple(
            point
            for point in changed.state.points
            if (point.job, point.repository) != (idea.without_points_of, target)
        )
        changed = replace(changed, state=replace(changed.state, points=kept))
    made = projecting(changed)
    peak, _ = _peak(made, repository, until)
    if idea.also is not None:
        other = plan.repositories.index(plan.repository_by_id[idea.also])
        room = plan.repositories[other].space_gib
        if room is not None and _peak(made, other, until)[0] > part * room * GIB:
            return None
    full = made.full_at(repository)
    return Candidate(
        idea.operations, idea.words, idea.costs, peak,
        None if full is None or full >= until else full,
        peak <= most, idea.loses_days, idea.without_points_of is not None,
    )  # fmt: skip


def _together(
    plan: Plan, found: Sequence[tuple[_Idea, Candidate]], repository: int, most: float,
    until: float, projecting: Projecting,
) -> Candidate | None:  # fmt: skip
    """The best changes of different jobs one after the other until they are enough."""
    ideas: list[_Idea] = []
    jobs: set[str] = set()
    for idea, candidate in found:
        operation = idea.operations[0]
        job = str(getattr(operation, "id", getattr(operation, "job", "")))
        if job in jobs or candidate.drops_points:
            continue
        jobs.add(job)
        ideas.append(idea)
        if len(ideas) < 2:
            continue
        whole = _Idea(
            tuple(o for each in ideas for o in each.operations),
            "; ".join(each.words for each in ideas),
            tuple(dict.fromkeys(cost for each in ideas for cost in each.costs)),
            max(each.loses_days for each in ideas),
        )
        made = _tried(plan, whole, repository, most, until, projecting, 1.0)
        if made is not None and made.enough:
            return made
        if len(ideas) == MOST_TOGETHER:
            return made
    return None


# --- ideas ------------------------------------------------------------------------------------


def _ideas(plan: Plan, job: Job, repository: str, since: float) -> Iterator[list[_Idea]]:
    """Series of changes of a job, the least of each first."""
    apart = _days_apart(plan, job, since)
    if repository in job.repositories:
        yield from _shorter(job, job.retention, None, apart)
        yield _made_there(plan, job)
        yield _spread(job)
        if repository == job.repository:
            yield from ([idea] for idea in _elsewhere(plan, job))
    for i, copy in enumerate(job.copies):
        if copy.repository == repository:
            yield from _shorter(job, copy.retention, i, apart)
            yield [_without_copy(job, i)]


def _with_retention(job: Job, rule: Retention, copy: int | None) -> Operation:
    if copy is None:
        return change_job(job.id, retention=JOB.values["retention"].write(rule))
    copies = list(job.copies)
    copies[copy] = replace(copies[copy], retention=rule)
    return change_job(job.id, copies=JOB.values["copies"].write(tuple(copies)))


_SPANS = ("points", "days", "full_days", "incremental_days", "weekly", "monthly", "yearly")
_DAYS_OF = {"days": 1.0, "full_days": 1.0, "incremental_days": 1.0, "weekly": 7.0,
            "monthly": 30.4, "yearly": 365.0}  # fmt: skip


def _shorter(
    job: Job, rule: Retention, copy: int | None, days_apart: float
) -> Iterator[list[_Idea]]:
    """Each rule of a retention cut in steps."""
    where = "" if copy is None else f", the copies in {job.copies[copy].repository}"
    if rule.keeps_everything:
        yield [
            _Idea(
                (_with_retention(job, Retention(days=days), copy),),
                f"{job.name}{where}: kept {number(days)} days in place of for ever",
                (f"nothing older than {number(days)} days can be brought back",),
                loses_days=3650.0 - days,
            )
            for days in (365.0, 180.0, 90.0, 30.0)
        ]
        return
    for key in _SPANS:
        value = getattr(rule, key)
        if not value:
            continue
        series, last = [], value
        for step in STEPS:
            kept = max(LEAST_KEPT, ceil(value * step))
            if kept >= last:
                continue
            last = kept
            made = replace(rule, **{key: type(value)(kept)})
            less = (value - kept) * _DAYS_OF.get(key, days_apart)
            series.append(
                _Idea(
                    (_with_retention(job, made, copy),),
                    f"{job.name}{where}: kept {retention_in_words(made)} in place of "
                    f"{retention_in_words(rule)}",
                    (f"one goes back {_days_in_words(less)} less far",),
                    loses_days=less,
                )
            )
        if series:
            yield series


def _days_in_words(days: float) -> str:
    if days >= 2:
        return f"{round(days)} days"
    return f"{number(round(days * 24, 1))} hours"


def _days_apart(plan: Plan, job: Job, since: float) -> float:
    """How far apart the points of a job lie, on the average of four weeks."""
    while job.after is not None:
        job = plan.job_by_id[job.after]
    runs = len(job_dues(job, plan.calendar_by_id, since, since + 28 * DAY))
    return 28.0 / max(1, runs)


def _made_there(plan: Plan, job: Job) -> list[_Idea]:
    """One full for ever, in place of a full a week."""
    rule = job.retention
    if job.chain != "incremental" or job.synthetic_full or rule.weekly or rule.monthly:
        return []
    if rule.yearly or not (rule.points or rule.days):
        return []
    if any(plan.repository_by_id[home].sequential for home in job.repositories):
        return []
    return [
        _Idea(
            (change_job(job.id, chain="forever"),),
            f"{job.name}: one full for ever, changes merged into it",
            (
                "no more fulls are read; every run ends with merges inside the repository",
                _chain_in_words(rule),
                "a point that goes bad may take all later ones with it",
            ),
        )
    ]


def _chain_in_words(rule: Retention) -> str:
    if rule.points is not None:
        return f"a restore needs the full and up to {count(rule.points - 1, 'point')} after it"
    return f"a restore needs the full and up to all points of {number(rule.days or 0)} days"


def _spread(job: Job) -> list[_Idea]:
    """Fulls of the machines on different days: not all old and new ones stand side by side."""
    if job.spread_fulls > 1 or job.after is not None:
        return []
    if not any(schedule.kind == "full" for schedule in job.schedules):
        return []
    return [
        _Idea(
            (change_job(job.id, spread_fulls=days),),
            f"{job.name}: fulls spread over {days} days",
            (f"each machine has its full within {days} days, not all in one night",),
        )
        for days in (3, 7)
    ]


def _elsewhere(plan: Plan, job: Job) -> Iterator[_Idea]:
    """Another repository of the site."""
    home = plan.repository_by_id[job.repository]
    for other in plan.repositories:
        if other.site != home.site or other.id in job.places:
            continue
        held = sum(
            p.stored_bytes for p in plan.state.points if (p.job, p.repository) == (job.id, home.id)
        )
        yield _Idea(
            (change_job(job.id, repository=other.id),),
            f"{job.name}: to {other.id}",
            (
                f"the {size(held)} that it has in {home.id} stay until somebody deletes them; "
                "what is said here counts without them",
                "every machine begins with a full",
            ),
            without_points_of=job.id,
            also=other.id,
        )


def _without_copy(job: Job, copy: int) -> _Idea:
    copies = [*job.copies[:copy], *job.copies[copy + 1 :]]
    there = job.copies[copy].repository
    return _Idea(
        (change_job(job.id, copies=JOB.values["copies"].write(tuple(copies))),),
        f"{job.name}: no copies in {there}",
        (
            f"with {' or '.join(job.repositories)} lost, its machines are lost",
            f"its points in {there} stay until somebody deletes them; what is said here counts "
            "without them",
        ),
        loses_days=0.0,
        without_points_of=job.id,
    )
