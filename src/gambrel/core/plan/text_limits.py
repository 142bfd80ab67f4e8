"""How long the texts of a plan are, how large its numbers, wherever they come from."""

from __future__ import annotations

MOST_CHARACTERS = 2000
MOST_OF_AN_ID = 190
LARGEST = 1e18
"""No number of a plan is larger; the largest are bytes."""


def text_problem(value: str, most: int = MOST_CHARACTERS) -> str | None:
    """Why a text cannot be part of a plan; None where it can."""
    if len(value) > most:
        return f"is longer than {most} characters"
    if any("\ud800" <= character <= "\udfff" for character in value):
        # Half a character: no file, table or page could hold it.
        return "holds a character that does not exist"
    return None
