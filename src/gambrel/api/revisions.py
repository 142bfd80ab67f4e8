"""The revision that a caller has seen of what is edited, out of If-Match."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any, TypeVar

from flask import request

from gambrel.api.problems import ProblemError

NEEDS_REVISION = "needs_revision"
"""The attribute of a view that must be sent If-Match."""

View = TypeVar("View", bound=Callable[..., Any])


def needs_revision(view: View) -> View:
    """Have the API description say that a view must be sent If-Match."""
    setattr(view, NEEDS_REVISION, True)
    return view


def seen_revision() -> int:
    """The revision that the caller based the request on."""
    tags = list(request.if_match)
    # Digits of other scripts are digits too, and no number.
    if len(tags) != 1 or not re.fullmatch(r"\d{1,9}", tags[0], re.ASCII):
        raise ProblemError(
            428,
            "Which revision was this based on?",
            "Send the revision that you have seen as If-Match. Nothing was changed.",
        )
    return int(tags[0])
