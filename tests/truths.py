"""What the tests under tests/truth share."""

from __future__ import annotations

import pytest


def seeds(request: pytest.FixtureRequest, few: int, many: int) -> range:
    """Numbers of generated plans: few in each test run, many with --long."""
    first = request.config.getoption("--seed")
    return range(first, first + (many if request.config.getoption("--long") else few))
