"""The ledger in the database: events come in, runs and machine-runs are kept, pages are read."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from sqlalchemy import Row, delete, func, select, tuple_, update
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from gambrel.core.ledger.events import Event, EventRefused, event_to_dict
from gambrel.core.ledger.records import (
    DiskRecord,
    MachineRecord,
    RunKey,
    RunRecord,
    apply_event,
    claim_prediction,
    run_outcome,
)
from gambrel.core.ledger.report import LeftOver
from gambrel.core.nights.nights import night_at
from gambrel.core.plan.objects import ExistingPoint
from gambrel.core.simulation.known_points import PlaceOfPoint, usable_of, with_what_is_bad
from gambrel.store.audit import audit
from gambrel.store.ledger_models import (
    LedgerEventRow,
    LedgerMachineRow,
    LedgerNightRow,
    LedgerPointRow,
    LedgerRunRow,
    LeftOverRow,
    OrderRow,
    in_us,
)
from gambrel.store.models import now_utc
from gambrel.store.point_checks import add_checks, bad_points, check_of
from gambrel.store.point_owners import ledger_points
from gambrel.store.runners import note_order

ROWS_AT_ONCE = 500


# --- what was said of each event ----------------------------------------------------------------


@dataclass(slots=True)
class Taken:
    """What became of a batch of events.

    Attributes:
        new: how many were written. `known`: how many had been written before.
        refused: (event id, key at fault, reason) of those that were not taken.
    """

    new: int = 0
    known: int = 0
    refused: list[tuple[str, str, str]] = field(default_factory=list)


def take_events(
    session: Session,
    plan_id: int,
    runner_id: int,
    events: Sequence[Event],
    zone: str,
    window_ends: Mapping[RunKey, float | None],
    *,
    followers: Collection[str] = (),
    origin: str,
) -> Taken:
    """Write events of a plan and what they say of its runs; the plan's row must be locked.

    Args:
        zone: in which nights are counted.
        window_ends: when the window of a run closes that is not known yet.
        followers: jobs that fall due when another ends; their predictions are taken in turn.
        origin: "runner", "script" or "import".
    """
    taken = Taken()
    ids = [event.id for event in events]
    known: set[str] = set()
    for first in range(0, len(ids), ROWS_AT_ONCE):
        known |= set(
            session.scalars(
                select(LedgerEventRow.event_id).where(
                    LedgerEventRow.plan_id == plan_id,
                    LedgerEventRow.event_id.in_(ids[first : first + ROWS_AT_ONCE]),
                )
            )
        )
    fresh: list[Event] = []
    for event in events:
        if event.id in known:
            taken.known += 1
        else:
            known.add(event.id)
            fresh.append(event)
    book = _Book(session, plan_id, zone, window_ends, followers, origin)
    book.load(fresh)
    rows = []
    for event in fresh:
        refused = None
        try:
            book.take(event)
            taken.new += 1
        except EventRefused as error:
            refused = f"{error.key}: {error.reason}" if error.key else error.reason
            taken.refused.append((event.id, error.key, error.reason))
        rows.append(_event_row(plan_id, runner_id, event, refused))
    book.save()
    _insert(session, LedgerEventRow, rows)
    return taken


def _event_row(plan_id: int, runner_id: int, event: Event, refused: str | None) -> dict[str, Any]:
    return {
        "plan_id": plan_id,
        "event_id": event.id,
        "runner_id": runner_id,
        "at": event.at,
        "received_at": now_utc(),
        "what": event.what,
        "job": event.job,
        "occurrence_us": None if event.occurrence is None else in_us(event.occurrence),
        "machine": event.machine,
        "body": event_to_dict(event),
        "refused": refused,
    }


def _insert(
    session: Session, table: Any, rows: Sequence[dict[str, Any]], replaced: Iterable[str] = ()
) -> None:
    """Write rows, many at once; of those that are there the named columns are replaced."""
    statement = insert(table)
    if replaced:
        statement = statement.on_duplicate_key_update(
            {name: statement.inserted[name] for name in replaced}
        )
    for first in range(0, len(rows), ROWS_AT_ONCE):
        session.execute(statement, list(rows[first : first + ROWS_AT_ONCE]))


class _Book:
    """The part of the ledger that some events are about, loaded, changed and written back."""

    def __init__(
        self,
        session: Session,
        plan_id: int,
        zone: str,
        window_ends: Mapping[RunKey, float | None],
        followers: Collection[str],
        origin: str,
    ) -> None:
        self.session = session
        self.plan_id = plan_id
        self.zone = zone
        self.window_ends = window_ends
        self.followers = followers
        self.origin = origin
        self.runs: dict[RunKey, RunRecord] = {}
        self._ids: dict[RunKey, int] = {}
        self._changed: dict[RunKey, set[str]] = {}
        self._claimed: list[int] = []
        self._points: list[Event] = []
        self._left: list[Event] = []
        self._checks: list[Event] = []

    def load(self, events: Iterable[Event]) -> None:
        """Read what the ledger has of the runs and machines of some events."""
        keys: set[RunKey] = set()
        machines: set[str] = set()
        for event in events:
            if event.job is not None and event.occurrence is not None:
                keys.add((event.job, in_us(event.occurrence)))
                machines |= {event.machine or "", *event.machines}
        if not keys:
            return
        rows = self.session.scalars(
            select(LedgerRunRow).where(
                LedgerRunRow.plan_id == self.plan_id,
                tuple_(LedgerRunRow.job, LedgerRunRow.occurrence_us).in_(sorted(keys)),
            )
        ).all()
        by_id = {}
        for row in rows:
            key = (row.job, row.occurrence_us)
            self.runs[key] = by_id[row.id] = _run_record(row)
            self._ids[key] = row.id
        wanted = sorted(machines - {""})
        if not by_id or not wanted:
            return
        for machine in self.session.scalars(
            select(LedgerMachineRow).where(
                LedgerMachineRow.run_id.in_(by_id), LedgerMachineRow.machine.in_(wanted)
            )
        ):
            by_id[machine.run_id].machines[machine.machine] = _machine_record(machine)

    def take(self, event: Event) -> None:
        """Write an event down. Raises EventRefused."""
        if event.what in ("point made", "point gone"):
            self._points.append(event)
            return
        if event.what == "point checked":
            self._checks.append(event)
            return
        if event.what in ("order taken", "order ended"):
            assert event.order is not None
            why = note_order(
                self.session, self.plan_id, event.order, event.what, event.at, event.reason,
                ok=event.outcome in (None, "done"),
            )  # fmt: skip
            if why is not None:
                raise EventRefused("order", why)
            return
        if event.what in ("left behind", "cleaned up"):
            self._left.append(event)
            if event.occurrence is None or event.what == "cleaned up":
                return
        assert event.job is not None and event.occurrence is not None
        key = (event.job, in_us(event.occurrence))
        run = self.runs.get(key)
        if run is None:
            run = RunRecord(event.job, event.occurrence, window_end=self.window_ends.get(key))
            if event.job in self.followers and event.order is None:
                self._claim(run)
        apply_event(run, event)
        self.runs[key] = run
        changed = self._changed.setdefault(key, set())
        changed |= {event.machine, *event.machines} - {None}  # type: ignore[arg-type]

    def _claim(self, run: RunRecord) -> None:
        """Take over the first prediction of the night for a job that follows another."""
        query = select(LedgerRunRow).where(
            LedgerRunRow.plan_id == self.plan_id,
            LedgerRunRow.job == run.job,
            LedgerRunRow.night == night_at(run.occurrence, self.zone).date,
            LedgerRunRow.began.is_(None),
            LedgerRunRow.id.not_in(self._claimed),
        )
        found = self.session.scalars(query.order_by(LedgerRunRow.occurrence_us).limit(1)).all()
        for row in found:
            machines = self.session.scalars(
                select(LedgerMachineRow).where(LedgerMachineRow.run_id == row.id)
            )
            predicted = _run_record(row)
            predicted.machines = {m.machine: _machine_record(m) for m in machines}
            claim_prediction(run, predicted)
            self._claimed.append(row.id)
            key = (run.job, in_us(run.occurrence))
            self._changed.setdefault(key, set()).update(run.machines)

    def save(self) -> None:
        """Write back what has changed."""
        for table, column in ((LedgerMachineRow, "run_id"), (LedgerRunRow, "id")):
            if self._claimed:
                gone = delete(table).where(getattr(table, column).in_(self._claimed))
                self.session.execute(gone)
        self._save_runs()
        self._save_points()
        self._save_left()
        self._save_checks()

    def _save_runs(self) -> None:
        changed = {key: self.runs[key] for key in self._changed}
        if not changed:
            return
        rows = [_run_row(self.plan_id, run, self.zone, self.origin) for run in changed.values()]
        _insert(
            self.session, LedgerRunRow, rows,
            ("kind", "began", "ended", "window_end", "order_id", "origin", "predicted"),
        )  # fmt: skip
        found = self.session.execute(
            select(LedgerRunRow.job, LedgerRunRow.occurrence_us, LedgerRunRow.id).where(
                LedgerRunRow.plan_id == self.plan_id,
                tuple_(LedgerRunRow.job, LedgerRunRow.occurrence_us).in_(sorted(changed)),
            )
        )
        self._ids |= {(job, us): ident for job, us, ident in found}
        machines = [
            _machine_row(self.plan_id, self._ids[key], run, run.machines[name], self.zone)
            for key, run in changed.items()
            for name in sorted(self._changed[key])
        ]
        _insert(self.session, LedgerMachineRow, machines, _MACHINE_COLUMNS)
        self._settle([self._ids[key] for key, run in changed.items() if run.ended is not None])

    def _settle(self, ids: Sequence[int]) -> None:
        """Write the outcomes of runs that have ended, by those of all their machines."""
        if not ids:
            return
        outcomes: dict[int, list[str | None]] = {ident: [] for ident in ids}
        for run_id, outcome in self.session.execute(
            select(LedgerMachineRow.run_id, LedgerMachineRow.outcome).where(
                LedgerMachineRow.run_id.in_(ids)
            )
        ):
            outcomes[run_id].append(outcome)
        for ident, known in outcomes.items():
            self.session.execute(
                update(LedgerRunRow)
                .where(LedgerRunRow.id == ident)
                .values(outcome=run_outcome(known))
            )

    def _save_points(self) -> None:
        rows: dict[tuple[Any, ...], dict[str, Any]] = {}
        for event in self._points:
            assert event.at_point is not None
            kinds = [event.kind] if event.kind else ["full", "incremental", "differential"]
            if event.what == "point gone":
                self.session.execute(
                    update(LedgerPointRow)
                    .where(
                        LedgerPointRow.plan_id == self.plan_id,
                        LedgerPointRow.repository == event.repository,
                        LedgerPointRow.job == event.job,
                        LedgerPointRow.machine == event.machine,
                        LedgerPointRow.at_us == in_us(event.at_point),
                        LedgerPointRow.kind.in_(kinds),
                        LedgerPointRow.gone_at.is_(None),
                    )
                    .values(gone_at=event.at)
                )
                for key, row in rows.items():
                    its = (event.repository, event.job, event.machine, in_us(event.at_point))
                    if key[:4] == its and key[4] in kinds and row["exists_from"] <= event.at:
                        row["gone_at"] = event.at
                continue
            key = (
                event.repository, event.job, event.machine, in_us(event.at_point), event.kind,
            )  # fmt: skip
            rows[key] = {
                "plan_id": self.plan_id,
                "repository": event.repository,
                "job": event.job,
                "machine": event.machine,
                "kind": event.kind,
                "at_us": in_us(event.at_point),
                "exists_from": event.at,
                "stored_bytes": event.stored_bytes or 0.0,
                "gone_at": None,
            }
        _insert(
            self.session, LedgerPointRow, list(rows.values()),
            ("exists_from", "stored_bytes", "gone_at"),
        )  # fmt: skip

    def _save_checks(self) -> None:
        """Write down what the runner found out about points, with what an order predicted."""
        checks = []
        for event in self._checks:
            order = None if event.order is None else self.session.get(OrderRow, event.order)
            checks.append(check_of(event, None if order is None else order.detail.get("seconds")))
        add_checks(self.session, self.plan_id, checks)

    def _save_left(self) -> None:
        for event in self._left:
            key = {"plan_id": self.plan_id, "machine": event.machine, "what": event.left}
            row = self.session.get(LeftOverRow, key)
            if row is None:
                row = LeftOverRow(**key)
                self.session.add(row)
            if event.what == "left behind":
                row.since = max(event.at, row.since or event.at)
            else:
                row.cleaned_at = max(event.at, row.cleaned_at or event.at)
            self.session.flush()


_MACHINE_COLUMNS = (
    "outcome", "reason", "kind", "queued", "start", "prepared", "moved", "released", "ended",
    "end_id", "source_bytes", "wire_bytes", "stored_bytes", "disks", "left", "predicted",
)  # fmt: skip


# --- rows and records ---------------------------------------------------------------------------


def _run_record(row: LedgerRunRow) -> RunRecord:
    return RunRecord(
        row.job,
        row.occurrence_us / 1e6,
        row.kind,  # type: ignore[arg-type]
        row.began,
        row.ended,
        row.window_end,
        row.order_id,
        row.predicted,
    )


def _machine_record(row: LedgerMachineRow | Row[Any]) -> MachineRecord:
    return MachineRecord(
        row.machine,
        row.outcome,  # type: ignore[arg-type]
        row.reason,
        row.kind,  # type: ignore[arg-type]
        row.queued,
        row.start,
        row.prepared,
        row.moved,
        row.released,
        row.ended,
        row.end_id,
        row.source_bytes,
        row.wire_bytes,
        row.stored_bytes,
        {disk[0]: DiskRecord(*disk) for disk in row.disks},
        row.predicted,
        list(row.left),
    )


def _run_row(plan_id: int, run: RunRecord, zone: str, origin: str) -> dict[str, Any]:
    return {
        "plan_id": plan_id,
        "night": night_at(run.occurrence, zone).date,
        "job": run.job,
        "occurrence_us": in_us(run.occurrence),
        "kind": run.kind,
        "outcome": None,
        "began": run.began,
        "ended": run.ended,
        "window_end": run.window_end,
        "order_id": run.order,
        "origin": origin,
        "predicted": run.predicted,
    }


def _machine_row(
    plan_id: int, run_id: int, run: RunRecord, record: MachineRecord, zone: str
) -> dict[str, Any]:
    return {
        "run_id": run_id,
        "plan_id": plan_id,
        "night": night_at(run.occurrence, zone).date,
        "job": run.job,
        "occurrence_us": in_us(run.occurrence),
        "machine": record.machine,
        "outcome": record.outcome,
        "reason": record.reason,
        "kind": record.kind,
        "queued": record.queued,
        "start": record.start,
        "prepared": record.prepared,
        "moved": record.moved,
        "released": record.released,
        "ended": record.ended,
        "end_id": record.end_id,
        "source_bytes": record.source_bytes,
        "wire_bytes": record.wire_bytes,
        "stored_bytes": record.stored_bytes,
        "disks": [
            [d.disk, d.source_bytes, d.wire_bytes, d.proxy, d.transport, d.moved, d.at]
            for d in record.disks.values()
        ],
        "left": record.left,
        "predicted": record.predicted,
    }


def write_runs(
    session: Session, plan_id: int, runs: Sequence[RunRecord], zone: str, *, origin: str
) -> None:
    """Write whole runs with their machines; those that are there are replaced."""
    if not runs:
        return
    rows = []
    for run in runs:
        row = _run_row(plan_id, run, zone, origin)
        row["outcome"] = run.outcome
        rows.append(row)
    columns = (
        "kind", "outcome", "began", "ended", "window_end", "order_id", "origin", "predicted",
    )  # fmt: skip
    _insert(session, LedgerRunRow, rows, columns)
    ids: dict[RunKey, int] = {}
    keys = [(run.job, in_us(run.occurrence)) for run in runs]
    for first in range(0, len(keys), ROWS_AT_ONCE):
        found = session.execute(
            select(LedgerRunRow.job, LedgerRunRow.occurrence_us, LedgerRunRow.id).where(
                LedgerRunRow.plan_id == plan_id,
                tuple_(LedgerRunRow.job, LedgerRunRow.occurrence_us).in_(
                    keys[first : first + ROWS_AT_ONCE]
                ),
            )
        )
        ids |= {(job, us): ident for job, us, ident in found}
    machines = [
        _machine_row(plan_id, ids[key], run, record, zone)
        for key, run in zip(keys, runs, strict=True)
        for record in run.machines.values()
    ]
    _insert(session, LedgerMachineRow, machines, _MACHINE_COLUMNS)


# --- nights -------------------------------------------------------------------------------------


def night_row(session: Session, plan_id: int, night: date) -> LedgerNightRow | None:
    """A night that has begun, or None."""
    return session.get(LedgerNightRow, (plan_id, night))


def predict_night(
    session: Session,
    plan_id: int,
    night: date,
    version_id: int,
    runs: Sequence[RunRecord],
    zone: str,
    at: float,
) -> None:
    """Write down what is predicted for a night; runs that have begun keep what they have.

    Runs of an earlier prediction that are no longer due, and have not begun, go.
    """
    row = session.get(LedgerNightRow, (plan_id, night))
    if row is None:
        row = LedgerNightRow(plan_id=plan_id, night=night, zone=zone)
        session.add(row)
    row.version_id, row.predicted_at = version_id, at
    there = session.execute(
        select(
            LedgerRunRow.job, LedgerRunRow.occurrence_us, LedgerRunRow.began, LedgerRunRow.id
        ).where(LedgerRunRow.plan_id == plan_id, LedgerRunRow.night == night)
    ).all()
    begun = {(job, us) for job, us, began, _ in there if began is not None}
    gone = [ident for job, us, began, ident in there if began is None]
    for first in range(0, len(gone), ROWS_AT_ONCE):
        some = gone[first : first + ROWS_AT_ONCE]
        session.execute(delete(LedgerMachineRow).where(LedgerMachineRow.run_id.in_(some)))
        session.execute(delete(LedgerRunRow).where(LedgerRunRow.id.in_(some)))
    fresh = [run for run in runs if (run.job, in_us(run.occurrence)) not in begun]
    write_runs(session, plan_id, fresh, zone, origin="predicted")
    session.flush()


def runs_of_night(
    session: Session, plan_id: int, night: date, *, done: bool = True
) -> list[RunRecord]:
    """The runs of a night, predicted ones among them, by occurrence and job.

    Args:
        done: whether their machines that were done are read too; most of them were.
    """
    query = select(LedgerRunRow).where(LedgerRunRow.plan_id == plan_id, LedgerRunRow.night == night)
    return _with_machines(session, query, done=done)


def runs_under_way(session: Session, plan_id: int) -> list[RunRecord]:
    """The runs that have begun and have not ended."""
    query = select(LedgerRunRow).where(
        LedgerRunRow.plan_id == plan_id,
        LedgerRunRow.began.is_not(None),
        LedgerRunRow.ended.is_(None),
    )
    return _with_machines(session, query)


def open_runs(session: Session, plan_id: int) -> int:
    """How many runs have begun and have not ended."""
    query = select(func.count()).where(
        LedgerRunRow.plan_id == plan_id,
        LedgerRunRow.began.is_not(None),
        LedgerRunRow.ended.is_(None),
    )
    return int(session.scalar(query) or 0)


def one_run(session: Session, plan_id: int, job: str, occurrence: float) -> RunRecord | None:
    """A run by its job and occurrence, or None."""
    query = select(LedgerRunRow).where(
        LedgerRunRow.plan_id == plan_id,
        LedgerRunRow.job == job,
        LedgerRunRow.occurrence_us == in_us(occurrence),
    )
    return next(iter(_with_machines(session, query)), None)


def runs_by_key(
    session: Session, plan_id: int, keys: Iterable[tuple[str, float]]
) -> dict[RunKey, RunRecord]:
    """The runs of some (job, occurrence) that the ledger has, by job and microseconds."""
    wanted = sorted({(job, in_us(occurrence)) for job, occurrence in keys})
    found: dict[RunKey, RunRecord] = {}
    for first in range(0, len(wanted), ROWS_AT_ONCE):
        query = select(LedgerRunRow).where(
            LedgerRunRow.plan_id == plan_id,
            tuple_(LedgerRunRow.job, LedgerRunRow.occurrence_us).in_(
                wanted[first : first + ROWS_AT_ONCE]
            ),
        )
        for run in _with_machines(session, query):
            found[run.job, in_us(run.occurrence)] = run
    return found


def _with_machines(session: Session, query: Any, *, done: bool = True) -> list[RunRecord]:
    rows = session.scalars(query.order_by(LedgerRunRow.occurrence_us, LedgerRunRow.job)).all()
    by_id = {row.id: _run_record(row) for row in rows}
    if by_id:
        machines = select(LedgerMachineRow).where(LedgerMachineRow.run_id.in_(by_id))
        if not done:
            outcome = LedgerMachineRow.outcome
            machines = machines.where(outcome.is_(None) | (outcome != "done"))
        for row in session.scalars(machines.order_by(LedgerMachineRow.id)):
            by_id[row.run_id].machines[row.machine] = _machine_record(row)
    return list(by_id.values())


def first_night(session: Session, plan_id: int) -> date | None:
    """The first night of which the ledger knows a run."""
    return session.scalar(
        select(func.min(LedgerRunRow.night)).where(LedgerRunRow.plan_id == plan_id)
    )


def nights_known(session: Session, plan_id: int) -> list[LedgerNightRow]:
    """All nights that have begun, the newest first."""
    query = select(LedgerNightRow).where(LedgerNightRow.plan_id == plan_id)
    return list(session.scalars(query.order_by(LedgerNightRow.night.desc())))


def keep_summary(session: Session, plan_id: int, night: date, summary: dict[str, Any]) -> None:
    """Keep how a night went, so that a list of nights need not read all their runs."""
    session.execute(
        update(LedgerNightRow)
        .where(LedgerNightRow.plan_id == plan_id, LedgerNightRow.night == night)
        .values(summary=summary)
    )


def note_mailed(session: Session, plan_id: int, night: date) -> None:
    """Note that the report of a night is on its way."""
    session.execute(
        update(LedgerNightRow)
        .where(LedgerNightRow.plan_id == plan_id, LedgerNightRow.night == night)
        .values(mailed_at=now_utc())
    )


# --- points and what is left --------------------------------------------------------------------


def points_at(
    session: Session,
    plan_id: int,
    instant: float,
    *,
    bad: Mapping[PlaceOfPoint, float] | None = None,
    machines: Collection[str] | None = None,
) -> list[ExistingPoint]:
    """The restore points that existed at an instant.

    Args:
        bad: since when each bad point is known to be so; None: as it is known by now.
        machines: only of these.
    """
    bad = bad_points(session, plan_id) if bad is None else bad
    only = () if machines is None else (LedgerPointRow.machine.in_(machines),)
    found = ledger_points(
        session,
        plan_id,
        LedgerPointRow.exists_from <= instant,
        (LedgerPointRow.gone_at.is_(None)) | (LedgerPointRow.gone_at > instant),
        *only,
    )
    return [with_what_is_bad(point, bad) for point in found]


def newest_points(session: Session, plan_id: int, instant: float) -> dict[str, float]:
    """The start of the newest good restore point of each machine that has one at an instant."""
    rows = session.execute(
        select(LedgerPointRow.machine, func.max(LedgerPointRow.at_us))
        .where(
            LedgerPointRow.plan_id == plan_id,
            LedgerPointRow.exists_from <= instant,
            (LedgerPointRow.gone_at.is_(None)) | (LedgerPointRow.gone_at > instant),
        )
        .group_by(LedgerPointRow.machine)
    )
    newest = {machine: us / 1e6 for machine, us in rows}
    bad = bad_points(session, plan_id)
    doubtful = {place[1] for place in bad} & newest.keys()
    if doubtful:
        found = points_at(session, plan_id, instant, bad=bad, machines=doubtful)
        newest = {machine: at for machine, at in newest.items() if machine not in doubtful}
        for point in usable_of(found):
            newest[point.machine] = max(point.at, newest.get(point.machine, point.at))
    return newest


def write_points(session: Session, plan_id: int, points: Iterable[ExistingPoint]) -> None:
    """Write restore points that exist."""
    rows = [
        {
            "plan_id": plan_id,
            "repository": p.repository,
            "job": p.job,
            "machine": p.machine,
            "kind": p.kind,
            "at_us": in_us(p.at),
            "exists_from": p.exists_from,
            "stored_bytes": p.stored_bytes,
            "gone_at": None,
        }
        for p in points
    ]
    _insert(session, LedgerPointRow, rows, ("exists_from", "stored_bytes", "gone_at"))


def has_points(session: Session, plan_id: int) -> bool:
    """Whether the ledger knows any restore point of a plan."""
    query = select(LedgerPointRow.id).where(LedgerPointRow.plan_id == plan_id).limit(1)
    return session.scalar(query) is not None


def left_overs(session: Session, plan_id: int) -> list[LeftOver]:
    """What runs left behind and nobody has cleaned up."""
    rows = session.scalars(select(LeftOverRow).where(LeftOverRow.plan_id == plan_id))
    return [
        LeftOver(row.machine, row.what, row.since)
        for row in rows
        if row.since is not None and (row.cleaned_at is None or row.cleaned_at < row.since)
    ]


def cleaned_by_hand(
    session: Session, plan_id: int, machine: str, what: str, at: float, *, actor: str
) -> bool:
    """Note that somebody has cleaned up; false where nothing was left there."""
    key = {"plan_id": plan_id, "machine": machine, "what": what}
    row = session.get(LeftOverRow, key, with_for_update=True)
    if row is None or row.since is None:
        return False
    if row.cleaned_at is not None and row.cleaned_at >= row.since:
        return False
    row.cleaned_at = max(at, row.since)
    audit(session, actor, "clean up", f"plan {plan_id}", machine=machine, what=what)
    session.flush()
    return True


def verified_points(session: Session, plan_id: int, machine: str) -> dict[int, float]:
    """When the run of each point of a machine had ended well, by the millisecond of its start.

    One run at a time holds a machine; whose its point is now may be another job.
    """
    rows = session.execute(
        select(LedgerMachineRow.start, LedgerMachineRow.ended).where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.machine == machine,
            LedgerMachineRow.outcome == "done",
            LedgerMachineRow.start.is_not(None),
        )
    )
    return {
        round(start * 1000): ended
        for start, ended in rows
        if start is not None and ended is not None
    }


# --- the table ----------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Filter:
    """Which machine-runs are looked for; None: all."""

    machine: str | None = None
    job: str | None = None
    outcome: str | None = None
    start: float | None = None
    end: float | None = None


@dataclass(frozen=True, slots=True)
class LedgerEntry:
    """A line of the table. `id` tells where the next page begins."""

    id: int
    job: str
    occurrence: float
    record: MachineRecord


def page(
    session: Session, plan_id: int, wanted: Filter, *, before: tuple[int, int] | None, most: int
) -> list[LedgerEntry]:
    """Machine-runs that have begun or ended, the newest first.

    Args:
        before: (occurrence in microseconds, id) of the last entry of the page before.
    """
    row = LedgerMachineRow
    # Plain rows: an object of each takes half of the time of a long file.
    query = select(*LedgerMachineRow.__table__.columns).where(row.plan_id == plan_id)
    if wanted.machine:
        query = query.where(row.machine == wanted.machine)
    if wanted.job:
        query = query.where(row.job == wanted.job)
    if wanted.outcome:
        query = query.where(row.outcome == wanted.outcome)
    else:
        query = query.where((row.outcome.is_not(None)) | (row.start.is_not(None)))
    if wanted.start is not None:
        query = query.where(row.occurrence_us >= in_us(wanted.start))
    if wanted.end is not None:
        query = query.where(row.occurrence_us < in_us(wanted.end))
    if before is not None:
        query = query.where(
            (row.occurrence_us < before[0])
            | ((row.occurrence_us == before[0]) & (row.id < before[1]))
        )
    query = query.order_by(row.occurrence_us.desc(), row.id.desc()).limit(most)
    return [
        LedgerEntry(found.id, found.job, found.occurrence_us / 1e6, _machine_record(found))
        for found in session.execute(query)
    ]


def events_of_run(
    session: Session, plan_id: int, job: str, occurrence: float, most: int = 2000
) -> list[tuple[float, str, str | None, dict[str, Any], str | None]]:
    """(instant, what, machine, body, why refused) of the events of a run, in order."""
    rows = session.execute(
        select(
            LedgerEventRow.at, LedgerEventRow.what, LedgerEventRow.machine, LedgerEventRow.body,
            LedgerEventRow.refused,
        )
        .where(
            LedgerEventRow.plan_id == plan_id,
            LedgerEventRow.job == job,
            LedgerEventRow.occurrence_us == in_us(occurrence),
        )
        .order_by(LedgerEventRow.at, LedgerEventRow.id)
        .limit(most)
    )  # fmt: skip
    return [(at, what, machine, body, refused) for at, what, machine, body, refused in rows]


# --- for looks ahead ----------------------------------------------------------------------------


def bytes_read(
    session: Session, plan_id: int, start: float, end: float
) -> dict[tuple[str, str], float]:
    """Source bytes that runs read from each (job, machine) that started within [start, end)."""
    rows = session.execute(
        select(
            LedgerMachineRow.job, LedgerMachineRow.machine, func.sum(LedgerMachineRow.source_bytes)
        )
        .where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.start >= start,
            LedgerMachineRow.start < end,
        )
        .group_by(LedgerMachineRow.job, LedgerMachineRow.machine)
    )
    return {(job, machine): float(total or 0.0) for job, machine, total in rows}


def increments(
    session: Session, plan_id: int, since: float
) -> list[tuple[str, str, float, float, float]]:
    """(machine, job, start of its run before, start, stored bytes) of every incremental.

    The run before is the machine's last in the same job that was done; both began since an instant.
    """
    rows = session.execute(
        select(
            LedgerMachineRow.machine, LedgerMachineRow.job, LedgerMachineRow.kind,
            LedgerMachineRow.start, LedgerMachineRow.stored_bytes,
        ).where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.outcome == "done",
            LedgerMachineRow.start >= since,
        ).order_by(LedgerMachineRow.machine, LedgerMachineRow.job, LedgerMachineRow.start)
    )  # fmt: skip
    found = []
    before: tuple[str, str, float] | None = None
    for machine, job, kind, start, stored in rows:
        begun = start or 0.0
        if before is not None and before[:2] == (machine, job) and kind == "incremental":
            found.append((machine, job, before[2], begun, stored))
        before = (machine, job, begun)
    return found


def carried(session: Session, plan_id: int, since: float) -> list[tuple[str, str, float, float]]:
    """(machine, job, source bytes, bytes sent) of every incremental since an instant."""
    rows = session.execute(
        select(
            LedgerMachineRow.machine, LedgerMachineRow.job, LedgerMachineRow.source_bytes,
            LedgerMachineRow.wire_bytes,
        ).where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.kind == "incremental",
            LedgerMachineRow.outcome == "done",
            LedgerMachineRow.start >= since,
        )
    )  # fmt: skip
    return [(machine, job, source, wire) for machine, job, source, wire in rows]


def ended_runs(session: Session, plan_id: int, since: float) -> list[tuple[str, bool, str, int]]:
    """(machine, whether it failed, why, how many did so) of runs that were done or failed."""
    rows = session.execute(
        select(
            LedgerMachineRow.machine, LedgerMachineRow.outcome, LedgerMachineRow.reason,
            func.count(),
        ).where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.outcome.in_(("done", "failed")),
            LedgerMachineRow.start >= since,
        ).group_by(LedgerMachineRow.machine, LedgerMachineRow.outcome, LedgerMachineRow.reason)
    )  # fmt: skip
    return [
        (machine, outcome == "failed", reason, count) for machine, outcome, reason, count in rows
    ]


def fulls(session: Session, plan_id: int) -> list[tuple[str, str, float, float]]:
    """(machine, job, start, stored bytes) of every full that was made."""
    rows = session.execute(
        select(
            LedgerMachineRow.machine, LedgerMachineRow.job, LedgerMachineRow.start,
            LedgerMachineRow.stored_bytes,
        ).where(
            LedgerMachineRow.plan_id == plan_id,
            LedgerMachineRow.kind == "full",
            LedgerMachineRow.outcome == "done",
            LedgerMachineRow.start.is_not(None),
        )
    )  # fmt: skip
    return [(machine, job, start or 0.0, stored) for machine, job, start, stored in rows]
