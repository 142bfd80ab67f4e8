"""Instants as a plan file and the API write them: ISO 8601 in UTC, ending in "Z"."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from functools import lru_cache

_EPOCH = datetime(1970, 1, 1)


def parse_instant(text: str) -> float:
    """Seconds of an ISO 8601 instant in UTC, such as 2026-11-06T21:00:00Z.

    Raises:
        ValueError: where the text is no such instant.
    """
    if not re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d(:\d\d(\.\d{1,6})?)?Z", text, re.ASCII):
        raise ValueError(f"{text!r} is not an instant like 2026-11-06T21:00:00Z")
    return datetime.fromisoformat(text[:-1]).replace(tzinfo=UTC).timestamp()


@lru_cache(maxsize=1 << 14)  # the same instants are asked for again with every look at a night
def format_instant(instant: float) -> str:
    """ISO 8601 in UTC, rounded to milliseconds, with "Z"."""
    at = _EPOCH + timedelta(milliseconds=round(instant * 1000))
    return at.isoformat(timespec="milliseconds") + "Z"


def format_known(instant: float | None) -> str | None:
    """As `format_instant`; None for what did not happen or is not known."""
    return None if instant is None else format_instant(instant)


def format_exact_instant(instant: float) -> str:
    """ISO 8601 in UTC to the microsecond, with "Z": what a plan file holds."""
    text = datetime.fromtimestamp(instant, UTC).isoformat().removesuffix("+00:00")
    return text + "Z"
