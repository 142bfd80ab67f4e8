"""The forecasters of plans and drafts that are in use, kept from one request to the next."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import UTC, date, datetime
from threading import Lock
from typing import TypeVar

from sqlalchemy.orm import Session

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.edits.operations import Operation, apply_all, operation_to_dict
from gambrel.core.nights.nights import Night, night_of, today_of
from gambrel.core.plan.objects import Plan
from gambrel.core.plan.values import Problem
from gambrel.core.simulation.known_points import PlaceOfPoint, with_points, with_what_is_bad
from gambrel.store import ledger, point_checks
from gambrel.store.database import Sessions, in_transaction
from gambrel.store.plan_tables import Unreadable
from gambrel.store.plans import Draft, PlanHead, last_readable, plan_of_version, version_plan
from gambrel.store.point_owners import owned_as_in, plans_whose_points_changed
from gambrel.store.sign_in import identity
from gambrel.work.forecast_cache import ForecastCache
from gambrel.work.forecaster import Forecaster, origin_night

T = TypeVar("T")

MOST_BYTES = 40 * MIB
"""What plans, drafts and previews may take beside their forecasts."""


def _now() -> datetime:
    return datetime.now(UTC)


def growing_from(plan: Plan, instant: float) -> Plan:
    """A plan whose disks have their sizes at an instant, and grow from then on."""
    return replace(plan, state=replace(plan.state, sizes_as_of=instant))


class PlanUnreadable(Exception):
    """A stored plan that cannot be opened.

    Attributes:
        problems: the entries that cannot be read, and why.
        good: the newest version that can be, and when it was written; None where there is none.
    """

    def __init__(
        self, plan_id: int, problems: Sequence[Problem], good: tuple[int, datetime] | None
    ) -> None:
        self.plan_id = plan_id
        self.problems = tuple(problems)
        self.good = good
        super().__init__(f"plan {plan_id} cannot be read")


class Planning:
    """Hands out one Forecaster for each plan version, draft revision and preview."""

    def __init__(self, sessions: Sessions, now: Callable[[], datetime] = _now) -> None:
        self.sessions = sessions
        self.now = now
        self.forecasts = ForecastCache()
        self._lock = Lock()
        self._looking = Lock()
        self._kept = ByteCache(
            "plans, drafts and previews", MOST_BYTES, Forecaster.nbytes, grows=True
        )
        self._identity: str | None = None
        self._making: dict[str, Lock] = {}
        self._noons: dict[int, Night | None] = {}
        self._plans: dict[int, int] = {}
        self._bad: dict[int, dict[PlaceOfPoint, float]] = {}

    def identity(self) -> str:
        """What tells the database from any other."""
        if self._identity is None:
            with self.sessions() as session:
                self._identity = identity(session)
        return self._identity

    def today(self, plan: Plan) -> date:
        """The date that it is where a plan's nights are counted."""
        return today_of(plan, self.now())

    def write(self, work: Callable[[Session], T]) -> T:
        """Run a change as one transaction, see `store.database.in_transaction`."""
        changed: set[int] = set()

        def noting(session: Session) -> T:
            done = work(session)
            changed.update(plans_whose_points_changed(session))
            return done

        done = in_transaction(self.sessions, noting)
        for plan_id in changed:
            self.forget_bad_points(plan_id)
        return done

    def _get(self, key: str, make: Callable[[], Forecaster]) -> Forecaster:
        """What is kept under a key, made where it is not; whoever asks meanwhile waits for it."""
        known = self._kept.get(key)
        if known is not None:
            return known
        with self._lock:
            making = self._making.setdefault(key, Lock())
        with making:
            try:
                return self._kept.once(key, make)
            finally:
                with self._lock:
                    self._making.pop(key, None)

    def night_begun(self, plan_id: int) -> Night | None:
        """The newest night of a plan that the ledger knows; None where it has no ledger.

        Forecasts begin with it, from the restore points that really existed then.
        """
        # Under the lock, so that what was read before a change is not kept after it.
        with self._looking:
            if plan_id not in self._noons:
                with self.sessions() as session:
                    rows = ledger.nights_known(session, plan_id)[:1]
                    zone = rows[0].zone if rows else ""
                self._noons[plan_id] = night_of(rows[0].night, zone) if rows else None
            return self._noons[plan_id]

    def forget_night(self, plan_id: int) -> None:
        """Have the newest night of a plan looked up again: another one has begun."""
        with self._looking:
            self._noons.pop(plan_id, None)

    def bad_points(self, plan_id: int) -> dict[PlaceOfPoint, float]:
        """Since when each bad point of a plan is known to be so."""
        with self._looking:
            if plan_id not in self._bad:
                with self.sessions() as session:
                    self._bad[plan_id] = point_checks.bad_points(session, plan_id)
            return self._bad[plan_id]

    def forget_bad_points(self, plan_id: int) -> None:
        """Have the bad points of a plan looked up again: one was checked or has another name."""
        with self._looking:
            self._bad.pop(plan_id, None)

    def _plan_of(self, version_id: int) -> int | None:
        """The plan of a version; None where there is no such version."""
        if version_id not in self._plans:
            with self.sessions() as session:
                found = plan_of_version(session, version_id)
            if found is None:
                return None
            self._plans[version_id] = found
        return self._plans[version_id]

    def _key(self, version_id: int, bad: dict[PlaceOfPoint, float] | None = None) -> str:
        """What a forecaster of a version depends on."""
        plan_id = self._plan_of(version_id)
        if plan_id is None:
            return f"version {version_id}"
        night = self.night_begun(plan_id)
        key = f"version {version_id}" + ("" if night is None else f" from {night.date}")
        bad = self.bad_points(plan_id) if bad is None else bad
        return f"{key} without {sorted(bad.items())}" if bad else key

    def version(self, version_id: int) -> Forecaster:
        """The forecaster of a stored version. Raises NotFound or PlanUnreadable."""
        plan_id = self._plan_of(version_id)
        # Looked up once: the key and the points are of the same marks.
        bad = {} if plan_id is None else self.bad_points(plan_id)
        key = self._key(version_id, bad)

        def make() -> Forecaster:
            with self.sessions() as session:
                try:
                    plan = version_plan(session, version_id)
                except Unreadable as error:
                    plan_id = self._plans[version_id]
                    good = last_readable(session, plan_id)
                    raise PlanUnreadable(plan_id, error.problems, good) from error
                night = self.night_begun(self._plans[version_id])
                if night is not None:
                    points = ledger.points_at(
                        session, self._plans[version_id], night.start, bad=bad
                    )
                    points = owned_as_in(session, self._plans[version_id], version_id, plan, points)
                    plan = with_points(plan, points)
                elif bad:
                    plan = with_points(plan, [with_what_is_bad(p, bad) for p in plan.state.points])
            origin = origin_night(plan, self.today(plan)) if night is None else night
            return Forecaster(growing_from(plan, origin.start), origin, kept=self.forecasts)

        return self._get(key, make)

    def plan(self, version_id: int) -> Plan:
        """The plan of a stored version. Raises NotFound."""
        return self.version(version_id).plan

    def changed(
        self, base: Forecaster, key: str, operations: Sequence[Operation], *, passing: bool = True
    ) -> Forecaster:
        """The forecaster of a plan with operations applied. Raises OperationError.

        Args:
            key: says all of what the base is made.
            passing: whether it is for one look only, and not to be changed further.
        """
        if not operations:
            return base
        said = json.dumps([operation_to_dict(operation) for operation in operations])

        def make() -> Forecaster:
            changed = apply_all(base.plan, operations)
            return Forecaster(changed, base.origin, base, passing=passing)

        return self._get(f"{key} {said}", make)

    def draft(self, draft: Draft) -> Forecaster:
        """The forecaster of a draft as it is saved."""
        base = self.version(draft.base_version)
        key = self._key(draft.base_version)
        return self.changed(base, key, draft.operations, passing=False)

    def preview(
        self, head: PlanHead, draft: Draft | None, operations: Sequence[Operation]
    ) -> Forecaster:
        """The forecaster of a plan, or of a draft of it, with unsaved operations on top."""
        version = head.adopted_version if draft is None else draft.base_version
        saved = () if draft is None else draft.operations
        base = self.version(version) if draft is None else self.draft(draft)
        said = json.dumps([operation_to_dict(operation) for operation in saved])
        return self.changed(base, f"{self._key(version)} {said}", operations)
