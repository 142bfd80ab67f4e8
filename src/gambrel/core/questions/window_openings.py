"""When windows open next, which openings a clock change bends, and which runs touch their edges."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from gambrel.core.model.job_windows import window_id_of
from gambrel.core.nights.nights import TIGHT_MARGIN_S
from gambrel.core.plan.objects import Plan, Window
from gambrel.core.schedules.calendars import local_of, open_intervals
from gambrel.core.simulation.forecast import Forecast
from gambrel.core.units import DAY, SAME_INSTANT


@dataclass(frozen=True, slots=True)
class Opening:
    """One time for which a window is open.

    Attributes:
        opens, closes: UTC seconds.
        clock_moves_s: by how much the clock is put forward (above 0) or back while it is open.
        exception: whether an exception begins on the date on which it opens.
    """

    opens: float
    closes: float
    clock_moves_s: float
    exception: bool


def next_openings(window: Window, from_: float, days: int, *, most: int = 60) -> Sequence[Opening]:
    """Openings of a window that end after an instant, over some days from then; some at most."""
    zone = ZoneInfo(window.time_zone)
    dates = {exception.date for exception in window.exceptions}
    until = from_ + days * DAY
    found = []
    for opens, closes in open_intervals(window, from_, until + 3 * DAY):
        if closes <= from_ or opens >= until:
            continue
        first = local_of(opens, zone)
        wall = (local_of(closes, zone) - first).total_seconds()
        moved = round(wall - (closes - opens))
        found.append(Opening(opens, closes, float(moved), first.date() in dates))
    return tuple(found[:most])


@dataclass(frozen=True, slots=True)
class Touch:
    """A run that comes near the end of its window, or past it.

    Attributes:
        left_s: from the run's end to the window's end; below 0 where it ended after.
        lost: its machine-runs that did not get done.
    """

    job: str
    occurrence: float
    ended: float
    left_s: float
    lost: int


def touching(forecast: Forecast, window: str, start: float, end: float) -> Sequence[Touch]:
    """Runs inside a window that end within 45 minutes of its end or later, the worst first."""
    plan: Plan = forecast.plan
    inside = {job.id for job in plan.jobs if window_id_of(plan, job) == window}
    found = []
    for run in forecast.runs:
        if not start <= run.occurrence < end or run.job not in inside:
            continue
        if run.window_end is None or run.ended is None:
            continue
        lost = run.outcomes["missed"] + run.outcomes["cut off"]
        left = run.window_end - run.ended
        if left < TIGHT_MARGIN_S - SAME_INSTANT or lost:
            found.append(Touch(run.job, run.occurrence, run.ended, left, lost))
    return tuple(sorted(found, key=lambda touch: (touch.left_s, -touch.lost)))
