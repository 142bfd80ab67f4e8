"""Rates learned from nights whose truth is known."""

import math
from dataclasses import replace

import numpy as np
import pytest
from estates import larkmoor_plan
from test_as_it_goes import FRIDAY, machine_run, run_of

from gambrel.core.ledger.learned_rates import (
    LEAST_NIGHTS,
    learned_rates,
    night_rates,
    stated_rate,
)
from gambrel.core.plan.learned import Learned
from gambrel.demo.larkmoor import larkmoor
from gambrel.standins.history import History
from gambrel.standins.true_world import STREAMS

PLAN = larkmoor_plan()
VMS = [m.id for m in PLAN.machines if m.kind == "vm"]


def night(ratio, machines=6, limited="transport"):
    return night_rates(
        PLAN, [run_of(*(machine_run(m, ratio, limited=limited) for m in VMS[:machines]))], 1e4
    )


def test_the_median_of_nights_is_the_rate_and_their_spread_how_it_varies():
    random = np.random.default_rng(5)
    ratios = 0.9 * np.exp(random.normal(0.0, 0.05, 200))
    (found,) = learned_rates(PLAN, [night(float(ratio)) for ratio in ratios])
    assert found.what == "stream:hot_add"
    assert found.stated == PLAN.transports.hot_add_mib_per_s
    assert found.learned == pytest.approx(0.9 * found.stated, rel=0.01)
    assert found.spread == pytest.approx(0.05, rel=0.25)
    assert found.error == pytest.approx(found.spread / math.sqrt(200))
    assert (found.nights, found.runs) == (200, 1200)


def test_few_nights_and_single_runs_tell_nothing():
    assert learned_rates(PLAN, [night(0.5)] * (LEAST_NIGHTS - 1)) == []
    assert learned_rates(PLAN, [night(0.5)] * LEAST_NIGHTS) != []
    assert learned_rates(PLAN, [night(0.5, machines=1)] * 30) == []


def test_a_bad_night_moves_little():
    usual = [night(0.95)] * 9
    (found,) = learned_rates(PLAN, [*usual, night(0.3)])
    assert found.factor == pytest.approx(0.95, abs=0.01)


def test_nights_of_another_stated_rate_do_not_count():
    what = "proxy:quay-p2"
    nights = [night(0.8, limited=what)] * 8
    (found,) = learned_rates(PLAN, nights)
    assert found.what == what
    taken = replace(
        PLAN,
        proxies=tuple(
            replace(p, mib_per_s=found.learned) if p.id == "quay-p2" else p for p in PLAN.proxies
        ),
    )
    assert stated_rate(taken, what) == pytest.approx(found.learned)
    assert learned_rates(taken, nights) == [], "what was taken over is not taken over again"


def test_nights_from_before_a_rate_was_taken_over_still_show_it():
    what = "proxy:quay-p2"
    nights = [night(0.8, limited=what)] * 8
    (found,) = learned_rates(PLAN, nights)
    mark = Learned("mib_per_s", found.learned, found.stated)
    taken = replace(
        PLAN,
        proxies=tuple(
            replace(p, mib_per_s=found.learned, learned=(mark,)) if p.id == "quay-p2" else p
            for p in PLAN.proxies
        ),
    )
    (again,) = learned_rates(taken, nights)
    assert again.stated == found.learned
    assert again.learned == pytest.approx(found.learned)
    assert (again.nights, again.spread) == (found.nights, pytest.approx(found.spread))


def test_what_the_plan_does_not_state_is_not_learned():
    assert stated_rate(PLAN, "proxy:nobody") is None
    assert stated_rate(PLAN, "server_nic:old-vault-01") is None
    assert stated_rate(PLAN, "stream:pigeon") is None
    assert learned_rates(PLAN, [{"proxy:nobody": (0.1, 5, 100.0)}] * 9) == []
    odd = [{"stream:agent": (math.nan, 5, PLAN.transports.agent_mib_per_s)}] * 9
    assert learned_rates(PLAN, odd) == []


@pytest.mark.long
def test_the_stand_ins_world_is_learned():
    """What twenty nights show of streams by agents is what is true in that world."""
    history = History(larkmoor(), FRIDAY, nights=20)
    nights = [night_rates(history.plan, past.runs, past.night.end) for past in history]
    found = {each.what: each for each in learned_rates(history.plan, nights)}
    agent = found["stream:agent"]
    assert agent.factor == pytest.approx(STREAMS["agent"], abs=0.04)
    assert found["proxy:quay-p2"].factor == pytest.approx(0.96, abs=0.05)
