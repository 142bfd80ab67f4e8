"""How good forecasts were, on nights made up to be off by known amounts."""

from __future__ import annotations

from datetime import date, timedelta

import pytest

from gambrel.core.ledger.forecast_errors import forecast_errors
from gambrel.core.ledger.records import MachineRecord, RunRecord

FIRST = date(2026, 10, 1)
HOUR = 3600.0


def run(job, night, *, late=0.0, window=True, outcome="done", order=None, predicted=True):
    """A run of 20:00 to 22:00 that ends later than predicted."""
    begin = (night - FIRST).days * 86400 + 20 * HOUR
    end = begin + 2 * HOUR
    return RunRecord(
        job, begin, "incremental", began=begin, ended=end + late,
        window_end=begin + 10 * HOUR if window else None, order=order,
        predicted={"ended": end} if predicted else None,
        machines={"m": MachineRecord("m", outcome=outcome, ended=end + late)},
    )  # fmt: skip


def nights(*runs_of):
    return {
        FIRST + timedelta(days=i): [make(FIRST + timedelta(days=i)) for make in makes]
        for i, makes in enumerate(runs_of)
    }


def test_the_last_end_of_each_night_is_measured():
    found = forecast_errors(
        nights(
            [lambda n: run("a", n, late=600.0), lambda n: run("b", n, late=-600.0)],
            [lambda n: run("a", n, late=1200.0)],
            [lambda n: run("a", n, late=-300.0)],
        )
    )
    assert [error.error_s for error in found.nights] == [-300.0, 1200.0, 600.0]
    assert [error.night for error in found.nights] == [FIRST + timedelta(days=i) for i in (2, 1, 0)]
    assert found.nights[2].share == pytest.approx(600 / (2 * HOUR + 600))
    assert found.median_s == 600.0
    assert found.median_share == pytest.approx(600 / (2 * HOUR + 600))
    assert [(j.job, j.runs, j.median_s, j.tenth_s) for j in found.jobs] == [("a", 3, 600, 1200)]


def test_nights_with_trouble_are_told_and_do_not_count():
    found = forecast_errors(
        nights(
            [lambda n: run("a", n, late=60.0)],
            [lambda n: run("a", n, late=9000.0, outcome="failed")],
            [lambda n: run("a", n, late=60.0), lambda n: run("b", n, late=9000.0, order=7)],
        )
    )
    assert [error.trouble for error in found.nights] == [True, True, False]
    assert found.median_s == 60.0


def test_what_was_not_predicted_says_nothing():
    found = forecast_errors(
        nights(
            [lambda n: run("a", n, predicted=False)],
            [],
            [lambda n: run("a", n, late=30.0), lambda n: run("x", n, window=False, late=HOUR)],
        )
    )
    assert (len(found.nights), found.without) == (1, 2)
    # A run without a window does not make the night longer while others have one.
    assert found.nights[0].error_s == 30.0
    assert found.jobs == ()
    empty = forecast_errors({})
    assert (empty.nights, empty.median_share, empty.without) == ((), None, 0)


def test_nine_of_ten():
    found = forecast_errors(
        nights(*[[lambda n, i=i: run("a", n, late=float(i))] for i in range(1, 11)])
    )
    assert found.jobs[0].tenth_s == 9.0
    assert found.jobs[0].median_s == 5.5
