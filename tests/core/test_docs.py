"""Numbers that the documentation quotes are those of the code."""

import re
from dataclasses import astuple
from pathlib import Path

import pytest

from gambrel.core import constants
from gambrel.core.balance.search import BATCH, PATIENCE, SHAKES
from gambrel.core.findings.help import MOST_SUGGESTIONS, MOST_TRIED
from gambrel.core.runway.purchase_with_moves import MOST_SEARCHES
from gambrel.core.simulation.varying import USUAL_SPREAD
from gambrel.core.simulation_limits import MOST_OCCURRENCES, MOST_RUNS, MOST_TRANSFERS
from gambrel.core.units import DAY
from gambrel.work.computations import SEARCHED_BESIDE, WEIGHED_UP_TO
from gambrel.work.forecaster import WEEKS_AHEAD

PAGE = Path(__file__).parents[2] / "docs" / "how-it-computes.md"
WORDS = {3: "three", 16: "sixteen"}


@pytest.mark.parametrize(
    "quoted",
    [
        f"up to {SHAKES} times, until {PATIENCE} in a row",
        f"batches of {BATCH} moves",
        "({}, {}, {} of the logarithm)".format(*astuple(USUAL_SPREAD)),
        f"At most {WORDS[MOST_TRIED]} are tried and {WORDS[MOST_SUGGESTIONS]} offered",
        f"at most {MOST_OCCURRENCES:,} occurrences",
        f"at most {MOST_RUNS:,} runs",
        f"{MOST_TRANSFERS:,} transfers",
        f"reach {WEEKS_AHEAD} weeks ahead",
        f"({SEARCHED_BESIDE} simulations each, {MOST_SEARCHES} searches at most)",
        f"Plans of more than {WEIGHED_UP_TO:,} machines are not asked",
        f"{constants.FOLLOWED_AFTER_END / DAY:.0f} days after the horizon is cut off",
    ],
)
def test_the_page_quotes_what_the_code_has(quoted):
    text = re.sub(r"\s+", " ", PAGE.read_text())
    assert quoted in text
