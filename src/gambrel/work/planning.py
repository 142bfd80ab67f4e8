"""The forecasters of plans and drafts that are in use, kept from one request to the next."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from datetime import date
from threading import Lock

from gambrel.core.caches import MIB, ByteCache
from gambrel.core.operations import Operation, apply_all, operation_to_dict
from gambrel.core.plan import Plan
from gambrel.store.database import Sessions
from gambrel.store.plans import Draft, PlanHead, version_plan
from gambrel.work.forecast_cache import ForecastCache
from gambrel.work.forecaster import Forecaster, origin_night

MOST_BYTES = 64 * MIB
"""What plans, drafts and previews may take beside their forecasts."""


class Planning:
    """Hands out one Forecaster for each plan version, draft revision and preview."""

    def __init__(self, sessions: Sessions, today: Callable[[], date] = date.today) -> None:
        self.sessions = sessions
        self.today = today
        self.forecasts = ForecastCache()
        self._lock = Lock()
        self._kept = ByteCache("plans, drafts and previews", MOST_BYTES, Forecaster.nbytes)
        self._making: dict[str, Lock] = {}

    def _get(self, key: str, make: Callable[[], Forecaster]) -> Forecaster:
        """What is kept under a key, made where it is not; whoever asks meanwhile waits for it."""
        known = self._kept.get(key)
        if known is not None:
            self._kept.measure(key)
            return known
        with self._lock:
            making = self._making.setdefault(key, Lock())
        with making:
            try:
                return self._kept.once(key, make)
            finally:
                with self._lock:
                    self._making.pop(key, None)

    def version(self, version_id: int) -> Forecaster:
        """The forecaster of a stored version. Raises NotFound."""

        def make() -> Forecaster:
            with self.sessions() as session:
                plan = version_plan(session, version_id)
            return Forecaster(plan, origin_night(plan, self.today()), kept=self.forecasts)

        return self._get(f"version {version_id}", make)

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
        key = f"version {draft.base_version}"
        return self.changed(base, key, draft.operations, passing=False)

    def preview(
        self, head: PlanHead, draft: Draft | None, operations: Sequence[Operation]
    ) -> Forecaster:
        """The forecaster of a plan, or of a draft of it, with unsaved operations on top."""
        version = head.adopted_version if draft is None else draft.base_version
        saved = () if draft is None else draft.operations
        base = self.version(version) if draft is None else self.draft(draft)
        said = json.dumps([operation_to_dict(operation) for operation in saved])
        return self.changed(base, f"version {version} {said}", operations)
