"""Units of the planning model (section 0): bytes, bytes per second, seconds."""

GIB = float(2**30)
"""Bytes in one GiB."""
TIB = 1024 * GIB
"""Bytes in one TiB; prices of space are for one."""
MIB = float(2**20)
"""Bytes in one MiB; disk-side rates are in MiB/s."""
MBIT = 125_000.0
"""Bytes in one Mbit (10^6 bits); network rates are in Mbit/s."""
MINUTE = 60.0
HOUR = 3600.0
DAY = 86_400.0
YEAR = 365 * DAY
"""The year of growth (section 16)."""
EPOCH = 1_767_225_600.0
"""2026-01-01 UTC, from which the engine counts seconds. Near to it a float tells instants apart by
some 1e-9 s; it is fixed, so that a simulation that goes on from an earlier one meets the very same
numbers."""
SAME_INSTANT = 1e-6
"""Two instants at most this many seconds apart are the same instant."""
