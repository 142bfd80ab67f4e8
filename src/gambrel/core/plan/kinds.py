"""The kinds of value that keys of the plan file have, as types to annotate fields with."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from gambrel.core.plan import values as v

Ident = Annotated[str, v.IDENT]
"""A text with at least one character."""
Zone = Annotated[str, v.ZONE]
"""The name of an IANA time zone."""
Instant = Annotated[float, v.INSTANT]
"""UTC seconds; in the file ISO 8601 with "Z"."""
Capacity = Annotated[float, v.CAPACITY]
"""Above 0."""
Amount = Annotated[float, v.AMOUNT]
"""At least 0."""
Span = Annotated[float, v.SPAN]
"""At least 1."""
Count = Annotated[int, v.COUNT]
"""A whole number of at least 1."""
Tally = Annotated[int, v.TALLY]
"""A whole number of at least 0."""
Fraction = Annotated[float, v.FRACTION]
"""From 0 to 1."""
Factor = Annotated[float, v.FACTOR]
"""Above 0, at most 1."""
Growth = Annotated[float, v.number(least=-1, most=100)]
"""By what share something grows in a year; below 0 it shrinks."""
Weekday = Annotated[int, v.WEEKDAY]
"""0 for Monday; in the file "mon" to "sun"."""

SiteId = Annotated[str, v.reference("sites")]
HostId = Annotated[str, v.reference("hosts")]
DatastoreId = Annotated[str, v.reference("datastores")]
ProxyId = Annotated[str, v.reference("proxies")]
RepositoryId = Annotated[str, v.reference("repositories")]
MachineId = Annotated[str, v.reference("machines")]
WindowId = Annotated[str, v.reference("windows")]
CalendarId = Annotated[str, v.reference("calendars")]
JobId = Annotated[str, v.reference("jobs")]

Kind = Literal["full", "incremental", "differential"]
"""What a run does."""
KINDS: tuple[Kind, ...] = get_args(Kind)
