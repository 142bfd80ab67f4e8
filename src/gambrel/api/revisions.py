"""The revision that a caller has seen of what is edited, out of If-Match."""

from __future__ import annotations

from flask import request

from gambrel.api.problems import ProblemError


def seen_revision() -> int:
    """The revision that the caller based the request on."""
    tags = list(request.if_match)
    if len(tags) != 1 or not tags[0].isdigit():
        raise ProblemError(
            428,
            "Which revision was this based on?",
            "Send the revision that you have seen as If-Match. Nothing was changed.",
        )
    return int(tags[0])
