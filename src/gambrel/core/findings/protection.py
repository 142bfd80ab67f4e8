"""Findings about what would be there if it were needed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from zoneinfo import ZoneInfo

from gambrel.core.findings.model import Finding, Look, Subject
from gambrel.core.model.destinations import machines_by_destination
from gambrel.core.model.paths import Routes
from gambrel.core.model.restore import newest_restore, rto_met
from gambrel.core.model.restore_points import PointRecord, linked_records
from gambrel.core.model.retention import wanted_points
from gambrel.core.plan.objects import Job, Machine
from gambrel.core.units import GIB, HOUR
from gambrel.core.words import count, duration, hours, moment, size


def rpo_missed(look: Look) -> Iterator[Finding]:
    """More work would be lost at some time than a machine's RPO allows."""
    for machine, exposure in zip(look.plan.machines, look.exposure, strict=True):
        if exposure.rpo_met is not False or exposure.worst_s is None or machine.gone:
            continue
        assert machine.rpo_hours is not None
        jobs = look.jobs_of[machine.id]
        kept = f"{jobs[0].name} makes its points" if jobs else "no job protects it any more"
        yield Finding(
            "RPO missed",
            "risks",
            (Subject("machine", machine.id),),
            f"{machine.id}: up to {duration(exposure.worst_s)} of work would be lost; "
            f"its RPO is {hours(machine.rpo_hours)}.",
            f"That is the longest time between two points of it that exist; {kept}.",
            exposure.worst_s - machine.rpo_hours * HOUR,
            {"worst_s": exposure.worst_s, "rpo_s": machine.rpo_hours * HOUR},
        )


def rto_missed(look: Look) -> Iterator[Finding]:
    """A machine would take longer to come back than its RTO allows, even alone."""
    routes = Routes(look.plan)
    for machine in look.plan.machines:
        points = look.points_at_the_end.get(machine.id)
        if machine.rto_hours is None or machine.gone or not points:
            continue
        restore = newest_restore(look.plan, machine, points, look.end, routes)
        if restore is None or rto_met(machine, restore) is not False:
            continue
        yield Finding(
            "RTO missed",
            "risks",
            (Subject("machine", machine.id),),
            f"{machine.id}: {duration(restore.full_s)} until it would be back from its newest "
            f"point; its RTO is {hours(machine.rto_hours)}.",
            f"{size(restore.read_bytes)} in {count(restore.points, 'point')} would be read, "
            f"{size(restore.written_bytes)} written. Recovery says what limits it.",
            restore.full_s - machine.rto_hours * HOUR,
            {"full_s": restore.full_s, "rto_s": machine.rto_hours * HOUR},
        )


def unprotected(look: Look) -> Iterator[Finding]:
    """No job protects a machine, or none of its jobs has made a point by the end."""
    for machine, exposure in zip(look.plan.machines, look.exposure, strict=True):
        jobs = look.jobs_of[machine.id]
        if jobs and exposure.worst_s is not None:
            continue
        if machine.gone or machine.facts.left_out is not None:
            continue
        used = sum(disk.used_gib for disk in machine.disks) * GIB
        if jobs:
            why = f"{jobs[0].name} selects it, but no point of it comes to exist in this time."
        elif exposure.worst_s is not None:
            why = f"No job selects it. Its newest point is {duration(exposure.worst_s)} old."
        else:
            why = "No job selects it, and no point of it exists."
        yield Finding(
            "unprotected",
            "risks",
            (Subject("machine", machine.id),),
            f"{machine.id} ({size(used)}) is not protected.",
            why,
            used,
            {"used_bytes": used},
        )


def protected_twice(look: Look) -> Iterator[Finding]:
    """Several jobs read the same machine."""
    twice = [machine for machine in look.plan.machines if len(look.jobs_of[machine.id]) > 1]
    sharing = {job.id for machine in twice for job in look.jobs_of[machine.id]}
    read: dict[tuple[str, str], float] = defaultdict(float)
    for run in look.runs:
        for entry in run.machines if run.job in sharing else ():
            read[entry.machine, run.job] += entry.source_bytes
    for machine in twice:
        jobs = look.jobs_of[machine.id]
        volumes = [read[machine.id, job.id] for job in jobs]
        again = sum(volumes) - max(volumes)
        names = " and ".join(job.name for job in jobs)
        yield Finding(
            "protected twice",
            "wastes",
            (Subject("machine", machine.id), *(Subject("job", job.id) for job in jobs)),
            f"{machine.id} is in {count(len(jobs), 'job')}: {names}.",
            f"That reads {size(again)} more than once in this time, and the two never run at once.",
            max(again, 1.0),
            {"jobs": len(jobs), "read_again_bytes": again},
        )


def _failing_parts(look: Look, job: Job) -> list[str]:
    """What lacks of three copies on two media, one of them elsewhere (the original counts).

    Of a job whose machines go to several repositories, what lacks for those of any of them.
    """
    found: dict[str, None] = {}
    for home, its in machines_by_destination(look.plan, job).items():
        found |= dict.fromkeys(_failing_from(look, job, home, its))
    return list(found)


def _failing_from(look: Look, job: Job, home_of: str, machines: list[Machine]) -> list[str]:
    repositories = [home_of, *(copy.repository for copy in job.copies)]
    places = {look.plan.repository_by_id[name].site for name in repositories}
    home = {look.plan.site_of(machine) for machine in machines}
    wanted = look.thresholds
    failing = []
    if 1 + len(repositories) < wanted.copies:
        failing.append(f"{1 + len(repositories)} copies instead of {wanted.copies}")
    if len(set(repositories)) < wanted.media:
        kept = count(len(set(repositories)), "repository")
        failing.append(f"{kept} instead of {wanted.media}")
    if any(places <= {site} for site in home):
        failing.append("none at another site")
    return failing


def no_copy_elsewhere(look: Look) -> Iterator[Finding]:
    """The rule of three copies, two media and one off-site fails; it says which part."""
    for job in look.plan.jobs:
        machines = look.machines_of[job.id]
        failing = _failing_parts(look, job)
        if not failing:
            continue
        yield Finding(
            "no copy elsewhere",
            "risks",
            (Subject("job", job.id),),
            f"{job.name}: {', '.join(failing)}.",
            f"{count(len(machines), 'machine')} would go with the site or the repository; "
            "a copy to a repository elsewhere mends it.",
            float(len(machines)),
            {"machines": len(machines), "parts": len(failing)},
        )


def backup_disk(look: Look) -> Iterator[Finding]:
    """A job reads a disk that itself holds backups."""
    words = look.thresholds.backup_disk_words
    for job in look.plan.jobs:
        for machine in look.machines_of[job.id]:
            for disk in look.disks(job, machine):
                named = any(word in disk.id.casefold() for word in words)
                if not (named or disk.holds_backups):
                    continue
                used = disk.used_gib * GIB
                yield Finding(
                    "backup disk as a source",
                    "wastes",
                    (
                        Subject("job", job.id),
                        Subject("machine", machine.id),
                        Subject("disk", disk.id),
                    ),
                    f"{job.name} reads {disk.id} of {machine.id}, which seems to hold backups.",
                    f"{size(used)} of it are backed up again with every full; leave the disk out.",
                    used,
                    {"used_bytes": used},
                    known_by=3,
                )


# --- retention --------------------------------------------------------------------------------


def held_by_the_chain(look: Look) -> Iterator[Finding]:
    """Retention wants points gone that later ones need, so that it cannot delete them."""
    chains: dict[tuple[str, str, str], list[PointRecord]] = defaultdict(list)
    for records in look.points_at_the_end.values():
        for record in records:
            chains[record.job, record.repository, record.machine].append(record)
    sums: dict[tuple[str, str], list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0, 0.0])
    for (job_id, repository_id, _), records in chains.items():
        job = look.plan.job_by_id[job_id]
        repository = look.plan.repository_by_id[repository_id]
        copies = {copy.repository: copy.retention for copy in job.copies}
        rule = job.retention if repository_id in job.repositories else copies.get(repository_id)
        if rule is None or rule.keeps_everything or job.chain == "forever":
            continue
        zone = ZoneInfo(look.plan.site_by_id[repository.site].time_zone)
        points = [point for _, point in linked_records(records)]
        now = look.end
        wanted = {id(p) for p in wanted_points(points, rule, now, repository.immutable_days, zone)}
        held = [point for point in points if id(point) not in wanted]
        entry = sums[job_id, repository_id]
        entry[0] += sum(point.stored_bytes for point in held)
        entry[1] += sum(point.stored_bytes for point in points)
        entry[2] += len(held)
        entry[3] += len(points)
    for (job_id, repository_id), (held_bytes, all_bytes, held_n, all_n) in sums.items():
        if all_n == 0 or held_n / all_n < look.thresholds.held_share:
            continue
        yield Finding(
            "retention cannot delete",
            "wastes",
            (Subject("job", job_id), Subject("repository", repository_id)),
            f"{look.name(job_id)}: {held_n:.0f} of {all_n:.0f} points on {repository_id} are past "
            "their retention and stay.",
            f"Later points need them down to their full: {size(held_bytes)} of "
            f"{size(all_bytes)}. A full more often, or a longer retention, fits the chain.",
            held_bytes,
            {"held_bytes": held_bytes, "points": held_n},
            known_by=2,
        )


def repository_fills(look: Look) -> Iterator[Finding]:
    """A repository holds more at some time than it can."""
    for position, repository in enumerate(look.plan.repositories):
        if repository.space_gib is None:
            continue
        capacity = repository.space_gib * GIB
        space = look.forecast.history.fullest(position, look.start, look.end)
        if space.bytes <= capacity:
            continue
        over = space.bytes - capacity
        zone = look.plan.site_by_id[repository.site].time_zone
        yield Finding(
            "repository fills",
            "breaks",
            (Subject("repository", repository.id),),
            f"{repository.id} needs {size(space.bytes)} and has {size(capacity)}.",
            f"{size(over)} do not fit on {moment(space.at, zone)}; "
            "keep less there, or give it more space.",
            over,
            {"peak_bytes": space.bytes, "capacity_bytes": capacity},
            space.at,
        )


RULES = {
    "RPO missed": rpo_missed,
    "RTO missed": rto_missed,
    "unprotected": unprotected,
    "protected twice": protected_twice,
    "no copy elsewhere": no_copy_elsewhere,
    "backup disk as a source": backup_disk,
    "retention cannot delete": held_by_the_chain,
    "repository fills": repository_fills,
}
