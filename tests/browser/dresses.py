"""How a page is looked at for accessibility: by theme and size."""

from __future__ import annotations

import pytest

DRESSES = [
    ("paper", (1280, 800)),
    # The board is looked at in the night theme in each run, the other views on demand.
    pytest.param("night", (1600, 1000), marks=pytest.mark.long),
]
