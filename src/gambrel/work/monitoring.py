"""What monitoring asks of the plans: read anew every few minutes, off the path of requests."""

from __future__ import annotations

import logging
import time
from dataclasses import dataclass
from datetime import UTC, date
from threading import Lock, Thread

from gambrel.core.model.selection import selected_machines
from gambrel.core.nights.nights import Verdict, night_outcome
from gambrel.core.runway.space import lives
from gambrel.core.simulation.exposure import exposures
from gambrel.store.plans import PlanHead, plan_heads
from gambrel.store.runners import runner_in_charge
from gambrel.work.forecaster import Forecaster
from gambrel.work.planning import Planning
from gambrel.work.runway import Ahead, projected

log = logging.getLogger(__name__)

ANEW_AFTER_S = 300.0
NIGHTS = 7
"""Tonight and the next six."""
WORST = 5
"""Machines of which the exposure is told, the most exposed first."""


@dataclass(frozen=True, slots=True)
class NightSeen:
    """The forecast of a night. `last_end`: UTC seconds; None where nothing runs."""

    date: date
    verdict: Verdict
    last_end: float | None


@dataclass(frozen=True, slots=True)
class PlanSeen:
    """A plan as monitoring sees it.

    Attributes:
        nights: tonight and the next six.
        exposures: (machine, seconds) of the machines of jobs that are most exposed in these nights.
        rpo_missed: how many machines of jobs pass their RPO in these nights.
        without_good_point: how many machines of jobs have no good point.
        full_at: by repository when it is full, UTC seconds; None: not within two years.
        heard_at: when its runner was heard of last, UTC seconds; None: never.
    """

    name: str
    nights: tuple[NightSeen, ...]
    exposures: tuple[tuple[str, float], ...]
    rpo_missed: int
    without_good_point: int
    full_at: tuple[tuple[str, float | None], ...]
    heard_at: float | None


def plan_seen(name: str, forecaster: Forecaster, today: date, heard_at: float | None) -> PlanSeen:
    """What monitoring is told of a plan. `today`: the date on which tonight begins."""
    plan = forecaster.plan
    seen = []
    worst: dict[str, float] = {}
    missed: set[str] = set()
    taken = {m.id for job in plan.jobs for m in selected_machines(plan, job)}
    for night in forecaster.coming_nights(today, NIGHTS):
        forecast = forecaster.night(night)
        outcome = night_outcome(forecast, night)
        seen.append(NightSeen(night.date, outcome.verdict, outcome.last_end))
        for machine, seconds, met in exposures(forecast, night.start, night.end):
            if machine in taken and seconds is not None:
                worst[machine] = max(seconds, worst.get(machine, 0.0))
                if met is False:
                    missed.add(machine)
    good = {point.machine for point in plan.state.points if point.bad_since is None}
    _, months = projected(forecaster, Ahead())
    return PlanSeen(
        name,
        tuple(seen),
        tuple(sorted(worst.items(), key=lambda pair: (-pair[1], pair[0]))[:WORST]),
        len(missed),
        len(taken - good),
        tuple((life.repository, life.ends_at) for life in lives(months)),
        heard_at,
    )


class Monitoring:
    """The plans as monitoring sees them, and since when that is so."""

    def __init__(self, planning: Planning) -> None:
        self.planning = planning
        self._lock = Lock()
        self._seen: tuple[PlanSeen, ...] = ()
        self._read_at: float | None = None
        self._reading: Thread | None = None

    def seen(self, wait_s: float = 0.0) -> tuple[tuple[PlanSeen, ...], float | None]:
        """What was seen last, and how old that is in seconds; None: nothing was seen yet.

        What is too old is read anew meanwhile; `wait_s`: for so long it is waited for.
        """
        with self._lock:
            now = time.monotonic()
            old = self._read_at is None or now - self._read_at > ANEW_AFTER_S
            if old and (self._reading is None or not self._reading.is_alive()):
                self._reading = Thread(target=self._read, name="monitoring", daemon=True)
                self._reading.start()
            reading = self._reading if old else None
        if reading is not None and wait_s > 0:
            reading.join(wait_s)
        with self._lock:
            age = None if self._read_at is None else time.monotonic() - self._read_at
            return self._seen, age

    def _read(self) -> None:
        try:
            with self.planning.sessions() as db:
                heads = plan_heads(db)
            found = [seen for head in heads if (seen := self._plan(head)) is not None]
        except Exception:
            log.exception("monitoring could not read the plans")
            return
        with self._lock:
            self._seen, self._read_at = tuple(found), time.monotonic()

    def _plan(self, head: PlanHead) -> PlanSeen | None:
        try:
            forecaster = self.planning.version(head.adopted_version)
            with self.planning.sessions() as db:
                runner = runner_in_charge(db, head.id)
            heard = None if runner is None else runner.last_seen_at
            return plan_seen(
                head.name,
                forecaster,
                self.planning.today(forecaster.plan),
                None if heard is None else heard.replace(tzinfo=UTC).timestamp(),
            )
        except Exception:
            # One plan that cannot be read must not keep the others from being watched.
            log.exception("monitoring could not read plan %s", head.name)
            return None
