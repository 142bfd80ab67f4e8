"""Recoveries of a plan: the points that a forecast has at the loss, and what comes of them."""

from __future__ import annotations

from collections.abc import Callable

from gambrel.core.edits.item_edits import OperationError
from gambrel.core.model.restore_points import PointRecord
from gambrel.core.nights.nights import night_at
from gambrel.core.recovery.coming_back import Recovery, Way, recover
from gambrel.core.recovery.loss import Loss
from gambrel.core.recovery.proposing import Proposal, proposals
from gambrel.work.forecaster import Forecaster, OutOfReach


def points_at(forecaster: Forecaster, at: float) -> list[PointRecord]:
    """All restore points that a forecast has at an instant.

    Raises:
        OutOfReach: for an instant that no forecast reaches.
    """
    night = night_at(at, forecaster.origin.zone)
    return list(forecaster.night(night).history.at(at))


def come_back(forecaster: Forecaster, loss: Loss, way: Way) -> Recovery:
    """What comes of a loss in one way.

    Raises:
        OperationError: for a loss or a way that the plan cannot have.
    """
    return _player(forecaster, loss)(way)


def better_ways(forecaster: Forecaster, loss: Loss, way: Way) -> tuple[Recovery, list[Proposal]]:
    """What comes of one way, and better ones, the best first."""
    play = _player(forecaster, loss)
    now = play(way)
    return now, proposals(forecaster.plan, now, play)


def _player(forecaster: Forecaster, loss: Loss) -> Callable[[Way], Recovery]:
    try:
        points = points_at(forecaster, loss.at)
    except OutOfReach as error:
        raise OperationError("loss.at", loss.at, f"cannot be looked at: {error}") from None
    return lambda way: recover(forecaster.plan, points, loss, way)
