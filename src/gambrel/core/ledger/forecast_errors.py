"""How good the forecasts were: predicted against actual for the nights that are over."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from statistics import median

from gambrel.core.ledger.comparing import last_end, last_predicted_end, predicted_end, that_bind
from gambrel.core.ledger.records import RunRecord

LEAST_RUNS = 3
"""With fewer runs a job is left out."""


@dataclass(frozen=True, slots=True)
class NightError:
    """What a night's last end was predicted to be, and was.

    Attributes:
        length_s: from the first begin of a run with a window to the last end.
        error_s: actual less predicted; positive where it ended later.
        trouble: whether a machine failed or a run was ordered by hand, which no forecast knows of.
    """

    night: date
    predicted_end: float
    last_end: float
    length_s: float
    trouble: bool

    @property
    def error_s(self) -> float:
        return self.last_end - self.predicted_end

    @property
    def share(self) -> float:
        """The size of the error as a share of the night's length."""
        return abs(self.error_s) / self.length_s if self.length_s > 0 else 0.0


@dataclass(frozen=True, slots=True)
class JobError:
    """Errors of the ends of a job's runs.

    Attributes:
        median_s: of the signed errors; positive where runs end later than predicted.
        tenth_s: what nine of ten errors are no larger than, in size.
    """

    job: str
    runs: int
    median_s: float
    tenth_s: float


@dataclass(frozen=True, slots=True)
class ForecastErrors:
    """Errors of some nights, and of the jobs in them.

    Attributes:
        median_share, median_s: over nights without trouble; None where there is none.
        without: how many nights have no prediction, or no run that ended.
    """

    nights: tuple[NightError, ...]
    jobs: tuple[JobError, ...]
    median_share: float | None
    median_s: float | None
    without: int


def forecast_errors(nights: Mapping[date, Sequence[RunRecord]]) -> ForecastErrors:
    """The errors of the ends of nights and runs, by what the ledger has of each night.

    Of the machines only those that were not done matter; the others may be missing. Runs that
    nothing was predicted for, by hand or of a plan adopted since, say nothing of a job.
    """
    told = {night: _night_error(night, runs) for night, runs in nights.items()}
    known = tuple(error for error in told.values() if error is not None)
    quiet = [error for error in known if not error.trouble]
    return ForecastErrors(
        nights=tuple(sorted(known, key=lambda error: error.night, reverse=True)),
        jobs=_job_errors([run for runs in nights.values() for run in runs]),
        median_share=median(error.share for error in quiet) if quiet else None,
        median_s=median(abs(error.error_s) for error in quiet) if quiet else None,
        without=len(told) - len(known),
    )


def _night_error(night: date, runs: Sequence[RunRecord]) -> NightError | None:
    bound = that_bind(runs)
    predicted = last_predicted_end(bound)
    ended = last_end(bound)
    if predicted is None or ended is None:
        return None
    begun = min((run.began for run in bound if run.began is not None), default=ended)
    trouble = any(
        run.order is not None or run.outcome not in (None, "done", "empty") for run in runs
    )
    return NightError(night, predicted, ended, ended - begun, trouble)


def _job_errors(runs: Sequence[RunRecord]) -> tuple[JobError, ...]:
    errors: dict[str, list[float]] = defaultdict(list)
    for run in runs:
        predicted = predicted_end(run)
        if predicted is not None and run.ended is not None and run.order is None:
            errors[run.job].append(run.ended - predicted)
    found = [
        JobError(job, len(each), median(each), _nine_of_ten(each))
        for job, each in errors.items()
        if len(each) >= LEAST_RUNS
    ]
    return tuple(sorted(found, key=lambda error: (-abs(error.median_s), error.job)))


def _nine_of_ten(errors: Sequence[float]) -> float:
    sizes = sorted(map(abs, errors))
    # The smallest that at least nine of ten are no larger than (nearest rank).
    return sizes[-(-9 * len(sizes) // 10) - 1]
