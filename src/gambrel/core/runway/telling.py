"""What a look ahead says in words: the next date that matters, what moves it, what to know."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from zoneinfo import ZoneInfo

from gambrel.core.plan.objects import Assumption, Plan
from gambrel.core.runway.expecting import Expected
from gambrel.core.runway.projection import Projection
from gambrel.core.runway.space import Life, shortest
from gambrel.core.schedules.spread_fulls import job_dues
from gambrel.core.schedules.words import listed, number
from gambrel.core.simulation.engine.layout import layout_of
from gambrel.core.units import DAY, GIB
from gambrel.core.words import count, rule_in_words, size

MOVERS = 2
"""How many jobs are named that add most."""
CLEARLY = 0.005 * GIB


def day_in_words(instant: float, zone: str) -> str:
    """A date as "24 April 2027"."""
    at = datetime.fromtimestamp(instant, ZoneInfo(zone))
    return f"{at.day} {at:%B %Y}"


def next_date(projection: Projection, lives: tuple[Life, ...]) -> str:
    """The next date that matters and what moves it."""
    plan = projection.plan
    zone = plan.sites[0].time_zone
    first = shortest(lives)
    if first is None:
        if not any(life.capacity_bytes for life in lives):
            return "No repository has a stated space, so none of them can be full."
        until = day_in_words(projection.to, zone)
        return f"Every repository has room until {until}, as far as this looks."
    volume = next((v for v in first.volumes if v.full_at == first.ends_at), None)
    what = first.repository
    if volume is not None and first.full_at != first.ends_at:
        what = f"volume {volume.volume} of {first.repository}"
    assert first.ends_at is not None
    if first.ends_at <= projection.from_ + DAY:
        said = f"{what} is full already."
    else:
        said = f"{what} is full on {day_in_words(first.ends_at, zone)}."
    return f"{said} {_movers(projection, first)}".strip()


def _movers(projection: Projection, life: Life) -> str:
    """Which jobs add most up to the date: peak against peak of the first four weeks."""
    plan = projection.plan
    position = next(i for i, r in enumerate(plan.repositories) if r.id == life.repository)
    until = life.ends_at or projection.to
    added = []
    for job in projection.jobs_of(position):
        space = projection.space_of_job(position, job)
        begin = float(space.until(projection.from_ + 28 * DAY).bytes.max())
        end = float(space.until(until + 1).at([until])[0])
        added.append((end - begin, plan.jobs[job].name))
    most = sorted((each for each in added if each[0] > CLEARLY), reverse=True)[:MOVERS]
    if not most:
        return ""
    told = listed([f"{name} ({size(by)})" for by, name in most])
    return f"Most of what comes on top until then: {told}."


def notes(projection: Projection, expected: Expected) -> Iterator[str]:
    """What a planner must know to read the curves right."""
    plan, zone = projection.plan, projection.plan.sites[0].time_zone
    yield from _calendars(plan, projection.from_, projection.to, zone)
    keeping = [
        job.name
        for job in plan.jobs
        if job.retention.keeps_everything or any(c.retention.keeps_everything for c in job.copies)
    ]
    if keeping:
        yield f"Kept for ever, so that the space only grows: {listed(keeping[:4])}" + (
            f" and {len(keeping) - 4} more." if len(keeping) > 4 else "."
        )
    unknown = [r.id for r in plan.repositories if r.space_gib is None]
    if unknown:
        yield f"Without a stated space, so never full: {listed(unknown[:4])}."
    years = max(0.0, projection.to - (plan.state.sizes_as_of or projection.from_)) / (365 * DAY)
    beyond = shrinking = 0
    for machine in plan.machines:
        growth = machine.facts.growth_per_year
        shrinking += growth < 0
        factor = (1 + growth) ** years
        beyond += any(d.used_gib * factor > d.provisioned_gib > 0 for d in machine.disks)
    if beyond and projection.provisioned_grows:
        yield (
            f"By then the disks of {count(beyond, 'machine')} would use more than is provisioned "
            "for them today; it is taken that they are enlarged."
        )
    elif beyond:
        yield f"The disks of {count(beyond, 'machine')} fill up and grow no more."
    if shrinking:
        yield f"{count(shrinking, 'machine')} of the estate shrink by what is stated."
    rest = sum(steps.bytes[-1] for steps in projection.rest)
    if rest > 0:
        yield f"{size(float(rest))} are points that no job looks after: no rule ever deletes them."
    missing = _without_a_path(plan)
    if missing:
        yield f"{count(missing, 'machine')} of jobs cannot be read by any proxy and take no space."
    for assumption in plan.assumptions:
        if assumption.active and not expected.meant.get(assumption.id):
            yield f"The assumption {assumption.id} means no machine that is there today."


def _calendars(plan: Plan, from_: float, to: float, zone: str) -> Iterator[str]:
    end = datetime.fromtimestamp(to, ZoneInfo(zone)).date()
    for calendar in plan.calendars:
        users = [j.name for j in plan.jobs for s in j.schedules if calendar.id in s.skip]
        last = max(calendar.dates, default=None)
        if users and (last is None or last < end):
            until = "has no dates" if last is None else f"ends on {last.day} {last:%B %Y}"
            yield (
                f"Calendar {calendar.id} {until}; beyond that nothing is skipped "
                f"({count(len(set(users)), 'job')})."
            )
    for job in plan.jobs:
        runs = job.after is None and job.schedules and not job.on_hold
        if runs and not job_dues(job, plan.calendar_by_id, max(from_, to - 62 * DAY), to):
            yield f"{job.name} does not run any more by the end of this look ahead."


def _without_a_path(plan: Plan) -> int:
    """How many machines of jobs have a disk that nothing can read."""
    member = layout_of(plan).member
    return len({int(machine) for machine in member["machine"][member["path"] == 0]})


def assumption_in_words(assumption: Assumption) -> str:
    """An assumption as a sentence without a full stop."""
    named = " or ".join(rule_in_words(rule) for rule in assumption.rules)
    who = f"machines {named}"
    if assumption.kind == "grows":
        growth = (assumption.growth_per_year or 0.0) * 100
        verb = "grow by" if growth >= 0 else "shrink by"
        return f"{who} {verb} {number(abs(round(growth, 2)))} % a year"
    assert assumption.on is not None
    on = f"on {assumption.on.day} {assumption.on:%B %Y}"
    if assumption.kind == "leaves":
        stay = "their points stay"
        if assumption.points_kept_days is not None:
            stay = f"their points go {number(assumption.points_kept_days)} days later"
        return f"{who} leave {on}; {stay}"
    many = "as many" if assumption.count is None else count(assumption.count, "machine")
    return f"{many} like {who} join {on}"
