"""Whether somebody still waits for an answer: a client that hung up does not.

The time limit frees the thread of a request whose simulations take too long.
"""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from gambrel.core.simulation.turns import while_wanted

if TYPE_CHECKING:
    from _typeshed.wsgi import StartResponse, WSGIApplication, WSGIEnvironment

ANSWER_WITHIN_S = 90.0
"""The simulations of a request that are not done by then are given up."""
HUNG_UP = "waitress.client_disconnected"
"""Key of the WSGI environment: a function that says whether the client hung up."""


def _never() -> bool:
    return False


class WhileSomebodyWaits:
    """Runs a WSGI application so that simulations end when their client is gone."""

    def __init__(self, app: WSGIApplication) -> None:
        self.app = app

    def __call__(self, environ: WSGIEnvironment, start: StartResponse) -> Iterable[bytes]:
        hung_up: Any = environ.get(HUNG_UP, _never)
        latest = time.monotonic() + ANSWER_WITHIN_S

        def unwanted() -> bool:
            return bool(hung_up()) or time.monotonic() > latest

        with while_wanted(unwanted):
            return self.app(environ, start)
