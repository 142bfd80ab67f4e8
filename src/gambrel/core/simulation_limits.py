"""How much one simulation takes on, and how it says that it will not go on."""

MOST_OCCURRENCES = 250_000
"""Occurrences of one schedule in one horizon."""
MOST_RULE_STEPS = 300_000
"""Dates of a recurrence rule that are looked at to find those of a horizon."""
MOST_RUNS = 500_000
MOST_TRANSFERS = 10_000_000
"""Disks, copies, transforms and merges that may move in one simulation."""


class TooMuch(ValueError):
    """A plan or horizon that is too large to simulate; the text names the limit and the place."""


class Cancelled(Exception):
    """A simulation that was no longer wanted."""
