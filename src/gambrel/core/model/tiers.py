"""Colder tiers of a repository: where a point lies, and from when on."""

from __future__ import annotations

from gambrel.core.plan.objects import Job, Repository, Tier
from gambrel.core.units import DAY, MINUTE, SAME_INSTANT


def cold_after(job: Job | None, repository: Repository) -> float | None:
    """The age in days at which a copy's own key sends points to the first colder tier, if any."""
    if job is None:
        return None
    found = [
        copy.cold_after_days
        for copy in job.copies
        if copy.repository == repository.id and copy.cold_after_days is not None
    ]
    return min(found, default=None)


def tier_ages(repository: Repository, job: Job | None) -> list[float]:
    """The age in seconds at which a job's points come to each tier; infinite for never.

    A copy that says when its points go to the colder tier decides about the first one; the tiers
    after it come no sooner.
    """
    own = cold_after(job, repository)
    ages: list[float] = []
    for i, tier in enumerate(repository.tiers):
        days = own if i == 0 and own is not None else tier.after_days
        ages.append(max(days * DAY, ages[-1] if ages else 0.0))
    return ages


def tier_at(repository: Repository, job: Job | None, age_s: float) -> Tier | None:
    """The tier in which a point of an age lies; None: in none of the colder ones."""
    found = None
    for tier, age in zip(repository.tiers, tier_ages(repository, job), strict=True):
        if age_s >= age - SAME_INSTANT:
            found = tier
    return found


def chain_delay_s(repository: Repository, job: Job | None, now: float, oldest_at: float) -> float:
    """How long a restore that starts at `now` waits for the points of a chain in colder tiers.

    It waits for the coldest of them, which is the oldest: colder tiers wait no less.
    """
    if not repository.tiers:
        return 0.0
    tier = tier_at(repository, job, now - oldest_at)
    return 0.0 if tier is None else tier.delay_min * MINUTE
