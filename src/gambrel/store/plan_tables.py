"""Writing a Plan into the tables of a version, and reading it back: the same Plan."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import fields, replace
from datetime import date, datetime, time
from functools import lru_cache
from itertools import zip_longest
from typing import Any, TypeVar

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from gambrel.core.plan import objects as p
from gambrel.core.plan.conditions import CONDITION
from gambrel.core.plan.reading import FACTS, facts_from
from gambrel.core.plan.shapes import key_of, shape_of
from gambrel.core.plan.values import Problem, Reading
from gambrel.store import models as m

Rows = list[tuple[type[m.Base], list[dict[str, Any]]]]

Made = TypeVar("Made")

_RETENTION = tuple(field.name for field in fields(p.Retention))


class NotStorable(ValueError):
    """A plan that the tables cannot hold: an id is too long, or restores are planned in it."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(problems)
        super().__init__("; ".join(str(problem) for problem in self.problems))


class Unreadable(ValueError):
    """A stored version that does not make a plan: which entries, and why."""

    def __init__(self, version_id: int, problems: Iterable[Problem]) -> None:
        self.version_id = version_id
        self.problems = tuple(problems)
        super().__init__("; ".join(str(problem) for problem in self.problems))


def _check_ids(plan: p.Plan) -> None:
    problems = [
        Problem(f"{name}[{i}].id", item.id, f"is longer than {m.ID_LENGTH} characters")
        for name in ("sites", "links", "hosts", "datastores", "proxies", "repositories",
                     "machines", "windows", "calendars", "jobs", "assumptions")
        for i, item in enumerate(getattr(plan, name))
        if len(item.id) > m.ID_LENGTH
    ]  # fmt: skip
    problems += [
        Problem(f"machines[{i}].disks[{j}].id", disk.id, f"is longer than {m.ID_LENGTH} characters")
        for i, machine in enumerate(plan.machines)
        for j, disk in enumerate(machine.disks)
        if len(disk.id) > m.ID_LENGTH
    ]
    problems += [
        Problem(f"hosts[{i}].cluster", host.cluster, f"is longer than {m.ID_LENGTH} characters")
        for i, host in enumerate(plan.hosts)
        if host.cluster is not None and len(host.cluster) > m.ID_LENGTH
    ]
    state = plan.state
    for key in ("restores", "restores_at_once", "running"):
        if getattr(state, key) not in ((), None):
            reason = "cannot be stored yet; `gambrel simulate` takes it from the file"
            problems.append(Problem(f"state.{key}", None, reason))
    if problems:
        raise NotStorable(problems)


# --- values -----------------------------------------------------------------------------------


def _columns(model: type[m.Base], item: Any) -> dict[str, Any]:
    """The columns of a model that are attributes of an object of the plan by the same name."""
    names = {column.key for column in model.__table__.columns}
    found = {f.name: getattr(item, f.name) for f in fields(item) if f.name in names}
    if "more" in names:
        kind: Any = type(item)
        shape = shape_of(kind)
        found["more"] = {
            key_of(name): shape.values[name].write(getattr(item, name))
            for name in _kept_as_more(kind, model)
            if getattr(item, name) != shape.defaults.get(name)
        }
    return found


_KEPT_APART = {
    m.LinkRow: ("between", "limits"),
    m.HostRow: ("found",),
    m.DatastoreRow: ("hosts", "found"),
    m.ProxyRow: ("direct_datastores",),
    m.WindowRow: ("open", "exceptions"),
    m.MachineRow: ("disks",),
    m.JobRow: ("machines", "exclude_disks", "proxies", "schedules", "retention", "copies"),
    m.JobCopyRow: ("retention",),
}
"""What tables of its own, or several columns, hold of an entry."""


@lru_cache(maxsize=64)
def _kept_as_more(target: type, model: type[m.Base]) -> tuple[str, ...]:
    """The fields of a class that have no column in its table: they are kept as JSON in `more`.

    So an optional key that came later needs no migration.
    """
    held = {column.key for column in model.__table__.columns} | {*_KEPT_APART.get(model, ())}
    return tuple(name for name in shape_of(target).keys if name not in held)


def _more(target: type, raw: dict[str, Any]) -> dict[str, Any]:
    """Fields from the column `more`. Raises ValueError where a key is not one of the class."""
    if not raw:
        return {}
    reading, found = Reading(), {}
    for name, value in shape_of(target).values.items():
        if key_of(name) in raw:
            found[name] = value.read(reading, key_of(name), raw[key_of(name)])
    if len(found) < len(raw):
        raise ValueError(f"unknown keys among {', '.join(raw)}")
    reading.raise_problems()
    return found


def _written(item: Any, name: str) -> Any:
    """A value of an object as the plan file writes it."""
    return shape_of(type(item)).values[name].write(getattr(item, name))


_NO_FACTS = p.Facts()


def _facts(raw: dict[str, Any]) -> p.Facts:
    return facts_from(raw) if raw else _NO_FACTS


def _found_columns(found: p.Found | None) -> dict[str, Any]:
    return {
        "found_source": None if found is None else found.source,
        "found_uid": None if found is None else found.uid,
    }


def _found(row: Any) -> p.Found | None:
    return None if row.found_source is None else p.Found(row.found_source, row.found_uid)


def _retention_columns(retention: p.Retention) -> dict[str, Any]:
    return {f"keep_{name}": getattr(retention, name) for name in _RETENTION}


def _retention(row: Any) -> p.Retention:
    return p.Retention(**{name: getattr(row, f"keep_{name}") for name in _RETENTION})


def _day_names(days: Iterable[int]) -> list[str]:
    return [p.WEEKDAYS[day] for day in days]


def _days(names: Iterable[str]) -> tuple[int, ...]:
    return tuple(p.WEEKDAYS.index(name) for name in names)


def _hours(interval: p.DateInterval) -> list[str]:
    return [f"{interval.from_time:%H:%M}", f"{interval.to_time:%H:%M}"]


def _dates(values: Iterable[str]) -> tuple[date, ...]:
    return tuple(date.fromisoformat(value) for value in values)


def _condition(raw: dict[str, Any]) -> p.Condition:
    value = raw["value"]
    number = isinstance(value, int | float) and not isinstance(value, bool)
    return p.Condition(raw["field"], raw["op"], float(value) if number else value)


# --- writing ----------------------------------------------------------------------------------


def _schedule_columns(schedule: p.Schedule) -> dict[str, Any]:
    columns: dict[str, Any] = dict.fromkeys(
        ("rrule", "start_local", "every_min", "from_time", "to_time", "days", "start_date")
    )
    columns.update(
        kind=schedule.kind,
        time_zone=schedule.time_zone,
        when_skipped=schedule.when_skipped,
        skip_dates=[day.isoformat() for day in schedule.skip_dates],
        extra=[local.isoformat() for local in schedule.extra],
        until=schedule.until,
    )
    if isinstance(schedule, p.RuleSchedule):
        columns.update(rrule=schedule.rrule, start_local=schedule.start)
    else:
        columns.update(
            every_min=schedule.every_min,
            from_time=schedule.from_time,
            to_time=schedule.to_time,
            days=_day_names(schedule.days),
            start_date=schedule.start,
        )
    return columns


def _job_columns(job: p.Job) -> dict[str, Any]:
    return {
        **_columns(m.JobRow, job),
        **_retention_columns(job.retention),
        "rules": [[CONDITION.write(c) for c in rule] for rule in job.machines.rules],
        "exclude_disk_rules": _written(job, "exclude_disk_rules"),
        "exclude_paths": _written(job, "exclude_paths"),
        "notify_to": list(job.notify_to),
        "any_proxy": job.proxies is None,
    }


def _ordered(rows: Iterable[dict[str, Any]], **owner: Any) -> list[dict[str, Any]]:
    return [{**owner, **row, "position": i} for i, row in enumerate(rows)]


def _jobs_in_order_of_need(plan: p.Plan) -> list[dict[str, Any]]:
    """Job rows, those that follow another behind it: a foreign key must find its row."""
    rows = {job.id: {**_job_columns(job), "position": i} for i, job in enumerate(plan.jobs)}
    written: dict[str, dict[str, Any]] = {}

    def write(ident: str) -> None:
        if ident not in written:
            after = plan.job_by_id[ident].after
            if after is not None:
                write(after)
            written[ident] = rows[ident]

    for ident in rows:
        write(ident)
    return list(written.values())


def _rows(plan: p.Plan) -> Rows:
    """All rows of a plan, by table, in an order in which every reference finds its target."""
    children: dict[type[m.Base], list[dict[str, Any]]] = defaultdict(list)
    for link in plan.links:
        children[m.LinkLimitRow] += _ordered(
            ({**_columns(m.LinkLimitRow, x), "days": _day_names(x.days)} for x in link.limits),
            link=link.id,
        )
    for store in plan.datastores:
        hosts = ({"host": host} for host in store.hosts)
        children[m.DatastoreHostRow] += _ordered(hosts, datastore=store.id)
    for proxy in plan.proxies:
        reached = ({"datastore": ident} for ident in proxy.direct_datastores)
        children[m.ProxyDatastoreRow] += _ordered(reached, proxy=proxy.id)
    for machine in plan.machines:
        disks = (_columns(m.DiskRow, disk) for disk in machine.disks)
        children[m.DiskRow] += _ordered(disks, machine=machine.id)
    for window in plan.windows:
        children[m.WindowIntervalRow] += _ordered(
            ({**_columns(m.WindowIntervalRow, x), "days": _day_names(x.days)} for x in window.open),
            window=window.id,
        )
        children[m.WindowExceptionRow] += _ordered(
            ({"date": x.date, "open": [_hours(i) for i in x.open]} for x in window.exceptions),
            window=window.id,
        )
    for job in plan.jobs:
        _add_job_children(children, job)
    clusters = dict.fromkeys(host.cluster for host in plan.hosts if host.cluster is not None)
    return [
        (m.SiteRow, _ordered(_columns(m.SiteRow, x) for x in plan.sites)),
        (
            m.LinkRow,
            _ordered(
                {
                    **_columns(m.LinkRow, link),
                    "site_from": link.between[0],
                    "site_to": link.between[1],
                }
                for link in plan.links
            ),
        ),
        (m.LinkLimitRow, children[m.LinkLimitRow]),
        (m.ClusterRow, _ordered({"id": cluster} for cluster in clusters)),
        (
            m.HostRow,
            _ordered({**_columns(m.HostRow, x), **_found_columns(x.found)} for x in plan.hosts),
        ),
        (
            m.DatastoreRow,
            _ordered(
                {**_columns(m.DatastoreRow, x), **_found_columns(x.found)} for x in plan.datastores
            ),
        ),
        (m.DatastoreHostRow, children[m.DatastoreHostRow]),
        (m.ProxyRow, _ordered(_columns(m.ProxyRow, x) for x in plan.proxies)),
        (m.ProxyDatastoreRow, children[m.ProxyDatastoreRow]),
        (
            m.RepositoryRow,
            _ordered(
                {**_columns(m.RepositoryRow, x), "volumes": _written(x, "volumes")}
                for x in plan.repositories
            ),
        ),
        (
            m.MachineRow,
            _ordered(
                {
                    **_columns(m.MachineRow, x),
                    "tags": list(x.tags),
                    "facts": {} if x.facts == _NO_FACTS else FACTS.write(x.facts),
                }
                for x in plan.machines
            ),
        ),
        (m.DiskRow, children[m.DiskRow]),
        (m.WindowRow, _ordered(_columns(m.WindowRow, x) for x in plan.windows)),
        (m.WindowIntervalRow, children[m.WindowIntervalRow]),
        (m.WindowExceptionRow, children[m.WindowExceptionRow]),
        (
            m.CalendarRow,
            _ordered(
                {"id": x.id, "dates": [day.isoformat() for day in x.dates]} for x in plan.calendars
            ),
        ),
        (m.JobRow, _jobs_in_order_of_need(plan)),
        (m.JobMachineRow, children[m.JobMachineRow]),
        (m.JobExcludedDiskRow, children[m.JobExcludedDiskRow]),
        (m.JobProxyRow, children[m.JobProxyRow]),
        (m.ScheduleRow, children[m.ScheduleRow]),
        (m.ScheduleCalendarRow, children[m.ScheduleCalendarRow]),
        (m.JobCopyRow, children[m.JobCopyRow]),
        (m.AssumptionRow, _ordered(_columns(m.AssumptionRow, x) for x in plan.assumptions)),
        (m.PointRow, _ordered(_columns(m.PointRow, x) for x in plan.state.points)),
    ]


def _add_job_children(children: dict[type[m.Base], list[dict[str, Any]]], job: p.Job) -> None:
    for excluded, machines in ((False, job.machines.ids), (True, job.machines.exclude)):
        listed = ({"machine": ident} for ident in machines)
        children[m.JobMachineRow] += _ordered(listed, job=job.id, excluded=excluded)
    left_out = ({"machine": machine, "disk": disk} for machine, disk in job.exclude_disks)
    children[m.JobExcludedDiskRow] += _ordered(left_out, job=job.id)
    proxies = ({"proxy": ident} for ident in job.proxies or ())
    children[m.JobProxyRow] += _ordered(proxies, job=job.id)
    children[m.ScheduleRow] += _ordered(map(_schedule_columns, job.schedules), job=job.id)
    for i, schedule in enumerate(job.schedules):
        skipped = ({"calendar": ident} for ident in schedule.skip)
        children[m.ScheduleCalendarRow] += _ordered(skipped, job=job.id, schedule=i)
    children[m.JobCopyRow] += _ordered(
        (
            {**_columns(m.JobCopyRow, copy), **_retention_columns(copy.retention)}
            for copy in job.copies
        ),
        job=job.id,
    )


def save_plan(session: Session, plan_id: int, plan: p.Plan, note: str = "") -> int:
    """Write a plan as a new version; returns the version's id.

    What was written is read again as it will be for every later look at it, before anybody can see
    it: a plan that could not be opened is refused now. Since when disks grow is not kept: forecasts
    say it anew each time (`work.planning`).

    Raises:
        NotStorable: where an id is too long for the tables, or something would be read otherwise
            than it was written.
    """
    plan = replace(plan, state=replace(plan.state, sizes_as_of=None))
    _check_ids(plan)
    version = m.VersionRow(plan_id=plan_id, note=note, **_columns(m.VersionRow, plan.transports))
    session.add(version)
    session.flush()
    for model, rows in _rows(plan):
        if rows:
            session.execute(insert(model), [{**row, "version_id": version.id} for row in rows])
    _check_written(session, version.id, plan)
    return version.id


def _check_written(session: Session, version_id: int, plan: p.Plan) -> None:
    try:
        written = load_plan(session, version_id)
    except Unreadable as error:
        raise NotStorable(error.problems) from error
    if written != plan:
        raise NotStorable(_differing(plan, written))


def _differing(plan: p.Plan, found: p.Plan) -> list[Problem]:
    """The first entry of each part of a plan that is another one in what was read."""
    problems = []
    for field in fields(p.Plan):
        wanted, read = getattr(plan, field.name), getattr(found, field.name)
        if wanted == read:
            continue
        value: Any = None
        place = field.name
        if isinstance(wanted, tuple):
            pairs = enumerate(zip_longest(wanted, read))
            i, (value, _) = next((i, pair) for i, pair in pairs if pair[0] != pair[1])
            place = f"{field.name}[{i}]"
        problems.append(
            Problem(place, getattr(value, "id", value), "is read otherwise than it was written")
        )
    return problems


# --- reading ----------------------------------------------------------------------------------


class _Reader:
    """The rows of one version: one query for each table, whatever the size of the plan."""

    def __init__(self, session: Session, version_id: int) -> None:
        self.session = session
        self.version_id = version_id
        self.problems: list[Problem] = []

    def rows(self, model: Any) -> Sequence[Any]:
        # Plain rows: to track thousands of objects that nobody changes takes longer than to read.
        query = select(*model.__table__.columns).where(model.version_id == self.version_id)
        return self.session.execute(query.order_by(model.position)).all()

    def each(self, model: Any, make: Callable[[Any], Made]) -> tuple[Made, ...]:
        """What the rows of a table make; a row that makes nothing is noted in `problems`."""
        found = []
        for row in self.rows(model):
            try:
                found.append(make(row))
            except (ValueError, TypeError, LookupError, AttributeError) as error:
                ident = getattr(row, "id", None) or f"number {row.position + 1}"
                self.problems.append(
                    Problem(f"{model.__tablename__}: {ident}", None, f"cannot be read: {error}")
                )
        return tuple(found)

    def by_owner(self, model: Any, *owner: str) -> dict[Any, list[Any]]:
        groups: dict[Any, list[Any]] = defaultdict(list)
        for row in self.rows(model):
            key = tuple(getattr(row, name) for name in owner)
            groups[key if len(owner) > 1 else key[0]].append(row)
        return groups


def _made(target: type, row: Any, **more: Any) -> Any:
    """An object of the plan from the columns of its name; `more` adds or replaces."""
    columns = {name: getattr(row, name) for name in _shared(target, tuple(row._fields))}
    if "more" in row._fields:
        columns |= _more(target, row.more)
    return target(**columns | more)


@lru_cache(maxsize=256)
def _shared(target: Any, columns: tuple[str, ...]) -> tuple[str, ...]:
    """The names of the columns that are fields of a class of the plan."""
    return tuple(field.name for field in fields(target) if field.name in columns)


def _schedule(row: m.ScheduleRow, calendars: list[m.ScheduleCalendarRow]) -> p.Schedule:
    more = {
        "skip": tuple(entry.calendar for entry in calendars),
        "skip_dates": _dates(row.skip_dates),
        "extra": tuple(datetime.fromisoformat(local) for local in row.extra),
    }
    if row.rrule is not None:
        made: p.Schedule = _made(p.RuleSchedule, row, start=row.start_local, **more)
    else:
        made = _made(
            p.DayRowSchedule, row, days=_days(row.days or ()), start=row.start_date, **more
        )
    return made


def _jobs(read: _Reader) -> tuple[p.Job, ...]:
    machines = read.by_owner(m.JobMachineRow, "job", "excluded")
    left_out = read.by_owner(m.JobExcludedDiskRow, "job")
    proxies = read.by_owner(m.JobProxyRow, "job")
    schedules = read.by_owner(m.ScheduleRow, "job")
    calendars = read.by_owner(m.ScheduleCalendarRow, "job", "schedule")
    copies = read.by_owner(m.JobCopyRow, "job")
    return read.each(
        m.JobRow,
        lambda row: _made(
            p.Job,
            row,
            machines=p.Selection(
                ids=tuple(x.machine for x in machines[row.id, False]),
                rules=tuple(tuple(_condition(c) for c in rule) for rule in row.rules),
                exclude=tuple(x.machine for x in machines[row.id, True]),
            ),
            exclude_disks=tuple((x.machine, x.disk) for x in left_out[row.id]),
            proxies=None if row.any_proxy else tuple(x.proxy for x in proxies[row.id]),
            schedules=tuple(_schedule(x, calendars[row.id, x.position]) for x in schedules[row.id]),
            retention=_retention(row),
            exclude_disk_rules=tuple(map(_condition, row.exclude_disk_rules)),
            exclude_paths=tuple(
                p.ExcludedPath(**{**raw, "gib": float(raw["gib"])}) for raw in row.exclude_paths
            ),
            notify_to=tuple(row.notify_to),
            copies=tuple(_made(p.Copy, x, retention=_retention(x)) for x in copies[row.id]),
        ),
    )


def _windows(read: _Reader) -> tuple[p.Window, ...]:
    intervals = read.by_owner(m.WindowIntervalRow, "window")
    exceptions = read.by_owner(m.WindowExceptionRow, "window")
    return read.each(
        m.WindowRow,
        lambda row: _made(
            p.Window,
            row,
            open=tuple(_made(p.OpenInterval, x, days=_days(x.days)) for x in intervals[row.id]),
            exceptions=tuple(
                p.WindowException(
                    x.date,
                    tuple(p.DateInterval(*map(time.fromisoformat, hours)) for hours in x.open),
                )
                for x in exceptions[row.id]
            ),
        ),
    )


def load_plan(session: Session, version_id: int) -> p.Plan:
    """The plan of a version.

    Raises:
        KeyError: where there is no such version, or it is not kept any more.
        Unreadable: where its rows do not make a plan.
    """
    version = session.get(m.VersionRow, version_id)
    if version is None or version.emptied_at is not None:
        raise KeyError(version_id)
    read = _Reader(session, version_id)
    limits = read.by_owner(m.LinkLimitRow, "link")
    mounts = read.by_owner(m.DatastoreHostRow, "datastore")
    reached = read.by_owner(m.ProxyDatastoreRow, "proxy")
    disks = read.by_owner(m.DiskRow, "machine")
    plan = p.Plan(
        sites=read.each(m.SiteRow, lambda row: _made(p.Site, row)),
        links=read.each(
            m.LinkRow,
            lambda row: _made(
                p.Link,
                row,
                between=(row.site_from, row.site_to),
                limits=tuple(_made(p.LinkLimit, x, days=_days(x.days)) for x in limits[row.id]),
            ),
        ),
        hosts=read.each(
            m.HostRow,
            lambda row: _made(
                p.Host,
                row,
                proxies=None if row.proxies is None else tuple(row.proxies),
                found=_found(row),
            ),
        ),
        datastores=read.each(
            m.DatastoreRow,
            lambda row: _made(
                p.Datastore,
                row,
                hosts=tuple(x.host for x in mounts[row.id]),
                zoned_proxies=tuple(row.zoned_proxies),
                found=_found(row),
            ),
        ),
        proxies=read.each(
            m.ProxyRow,
            lambda row: _made(
                p.Proxy,
                row,
                direct_datastores=tuple(x.datastore for x in reached[row.id]),
                left_out_datastores=tuple(row.left_out_datastores),
            ),
        ),
        repositories=read.each(
            m.RepositoryRow,
            lambda row: _made(
                p.Repository,
                row,
                volumes=tuple(p.Volume(v["id"], float(v["capacity_gib"])) for v in row.volumes),
            ),
        ),
        machines=read.each(
            m.MachineRow,
            lambda row: _made(
                p.Machine,
                row,
                tags=tuple(row.tags),
                facts=_facts(row.facts),
                disks=tuple(_made(p.Disk, x) for x in disks[row.id]),
            ),
        ),
        windows=_windows(read),
        calendars=read.each(m.CalendarRow, lambda row: p.Calendar(row.id, _dates(row.dates))),
        jobs=_jobs(read),
        assumptions=read.each(m.AssumptionRow, lambda row: _made(p.Assumption, row)),
        transports=p.Transports(
            **{
                name: getattr(version, name)
                for name in _shared(p.Transports, tuple(m.VersionRow.__table__.columns.keys()))
            },
            **_more(p.Transports, version.more),
        ),
        state=p.State(read.each(m.PointRow, lambda row: _made(p.ExistingPoint, row))),
    )
    if read.problems:
        raise Unreadable(version_id, read.problems)
    return plan
