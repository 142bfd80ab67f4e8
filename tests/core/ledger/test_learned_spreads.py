"""How much nights vary, from ledgers that were made up with a known spread."""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import replace

import numpy as np
import pytest
from estates import larkmoor_plan

from gambrel.core.ledger.growth import payload_bytes
from gambrel.core.ledger.learned_change import learned_changes, used_bytes
from gambrel.core.ledger.learned_rates import (
    LONGEST_S,
    SHORTEST_S,
    LearnedRate,
    NightRate,
    learned_rates,
    stated_rate,
)
from gambrel.core.ledger.learned_spreads import LEAST_NOISE, LEAST_SPREAD, learned_spreads
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS
from gambrel.core.ledger.robust import shorth
from gambrel.core.ledger.shown_tonight import folder_of
from gambrel.core.model.selection import selected_machines
from gambrel.core.units import DAY, HOUR

PLAN = larkmoor_plan()
NOON = 1_790_000_000.0
WEDNESDAY = 2


def rate(what, *, factor=1.0, error=0.01, spread=0.05, noise=None, nights=28, runs=280, fades=None):
    return LearnedRate(what, 100.0, factor, error, spread, nights, runs, noise, fades)


def spreads(rates=(), changes=None, increments=()):
    return learned_spreads(PLAN, rates, changes or {}, increments, WEDNESDAY)


def test_without_a_ledger_nights_vary_as_usual():
    assert spreads() == USUAL_NIGHTS


def test_a_rate_varies_as_its_nights_do_and_by_what_is_not_sure_of_it():
    told = rate("proxy:quay-p2", factor=0.9, error=0.02, spread=0.05)
    found = spreads([told])
    expected = math.sqrt(0.05**2 + 0.02**2 + math.log(0.9) ** 2)
    assert found.of("proxy:quay-p2") == pytest.approx(expected)
    assert found.of("proxy:quay-p3") == USUAL_NIGHTS.rate, "one rate tells nothing of others"
    assert found.of("stream:agent") == USUAL_NIGHTS.stream


def test_the_silent_are_like_the_middle_of_their_kind():
    told = [rate(f"proxy:quay-p{i}", error=0.0, spread=0.02 * i) for i in (1, 2, 3)]
    found = spreads([*told, rate("stream:agent", error=0.0, spread=0.4)])
    assert found.of("link:quay-norrvik") == pytest.approx(0.04)
    assert found.of("stream:hot_add") == pytest.approx(0.4), "one transport tells of the others"


def test_the_silent_may_be_as_far_off_from_what_was_stated_as_the_others_were():
    told = [rate(f"proxy:quay-p{i}", error=0.0, spread=0.03, factor=0.8) for i in (1, 2, 3)]
    found = spreads(told)
    off = math.log(0.8)
    assert found.of("link:quay-norrvik") == pytest.approx(math.hypot(0.03, off))
    # Taken over, they are no longer off; what nobody has seen still may be.
    taken = [replace(each, stated=80.0, factor=1.0, first_stated=100.0) for each in told]
    found = spreads(taken)
    assert found.of("proxy:quay-p1") == pytest.approx(0.03)
    assert found.of("link:quay-norrvik") == pytest.approx(math.hypot(0.03, off))


def test_where_rates_crowd_together_is_their_middle():
    crowd = [-0.06, -0.058, -0.057, -0.056, -0.055]
    assert shorth([*crowd, 0.1, 0.2, 0.3, -0.4]) == pytest.approx(-0.057, abs=0.001)
    assert shorth([0.5]) == 0.5
    assert shorth([0.0, 1.0]) == 0.5
    random = np.random.default_rng(2)
    middles = [shorth(random.normal(1.0, 0.1, 30).tolist()) for _ in range(200)]
    assert np.mean(middles) == pytest.approx(1.0, abs=0.02)


def test_what_medians_vary_by_chance_is_no_spread_of_nights():
    few = rate("proxy:quay-p2", error=0.0, spread=0.1, noise=0.1, runs=28 * 3)
    many = rate("proxy:quay-p2", error=0.0, spread=0.1, noise=0.1, runs=28 * 300)
    few_found, many_found = (spreads([each]).of("proxy:quay-p2") for each in (few, many))
    assert few_found == pytest.approx(math.sqrt(0.1**2 - math.pi / 2 * 0.1**2 / 3))
    assert few_found < many_found < 0.1
    none = rate("proxy:quay-p2", error=0.0, spread=0.01, noise=0.3, runs=28)
    assert spreads([none]).of("proxy:quay-p2") == LEAST_SPREAD


def test_machine_runs_are_as_far_from_their_night_as_the_ledger_shows():
    found = spreads([rate("proxy:quay-p2", noise=0.08), rate("proxy:quay-p3", noise=0.001)])
    assert found.noise_of("proxy:quay-p2") == 0.08
    assert found.noise_of("proxy:quay-p3") == LEAST_NOISE
    assert found.noise_of("proxy:quay-p4") == USUAL_NIGHTS.rate_noise


def made_up(common, own, nights=28, seed=3):
    """Increments of all machines of the plan, which vary together by folder, and each by itself."""
    random = np.random.default_rng(seed)
    together = defaultdict(lambda: random.normal(0.0, common))
    increments = []
    for job in PLAN.jobs:
        for machine in selected_machines(PLAN, job):
            if machine.daily_change == 0.0 or any(told[0] == machine.id for told in increments):
                continue
            ceiling = machine.churn_ceiling or 1.0
            reduced = payload_bytes(PLAN, job, machine, 1.0)
            for night in range(nights):
                share = ceiling * -math.expm1(-machine.daily_change / ceiling)
                off = together[folder_of(machine), night] + random.normal(0.0, own)
                stored = used_bytes(job, machine) * share * math.exp(off) / reduced
                increments.append((machine.id, job.id, 1.0, stored, NOON + night * DAY))
    return increments


@pytest.mark.parametrize(("common", "own"), [(0.2, 0.1), (0.0, 0.15), (0.1, 0.3)])
def test_what_folders_have_in_common_is_told_from_what_single_machines_do(common, own):
    increments = made_up(common, own)
    found = spreads((), learned_changes(PLAN, increments), increments)
    folders = [s for what, s in found.known.items() if what.startswith("change:")]
    assert len(folders) > 5
    assert float(np.median(folders)) == pytest.approx(max(common, LEAST_SPREAD), abs=0.05)
    assert found.own_change == pytest.approx(own, rel=0.25)
    # What a machine tells of its folder is as far off as the machines are.
    assert found.change_noise == pytest.approx(found.own_change, rel=0.25)


def test_a_folder_that_the_plan_states_otherwise_is_off_by_that():
    increments = [
        (machine, job, days, 2.0 * stored, at)
        for machine, job, days, stored, at in made_up(0.02, 0.05)
    ]
    found = spreads((), learned_changes(PLAN, increments), increments)
    # Near their ceilings machines change by more than twice as much for twice the bytes.
    assert found.change == pytest.approx(math.log(2.0), abs=0.15)
    assert found.own_change < 0.15, "what is common to a folder is no spread of its machines"


# --- how fast a correction fades ----------------------------------------------------------------


def nights_that_drift(tau_s, sigma=0.1, nights=400, apart_s=4 * HOUR, runs=40, noise=0.02, seed=5):
    """Marks of nights whose rate is an Ornstein-Uhlenbeck process of known τ."""
    random = np.random.default_rng(seed)
    kept = math.exp(-apart_s / tau_s)
    for _ in range(nights):
        early = random.normal(0.0, sigma)
        late = kept * early + math.sqrt(1.0 - kept**2) * random.normal(0.0, sigma)
        by_chance = math.sqrt(math.pi / runs) * noise
        early, late = (each + random.normal(0.0, by_chance) for each in (early, late))
        stated = stated_rate(PLAN, "proxy:quay-p2")
        yield {
            "proxy:quay-p2": NightRate(
                (early + late) / 2, runs, stated, noise, late - early, apart_s
            )
        }


@pytest.mark.parametrize("hours", [4.0, 8.0, 24.0])
def test_how_fast_rates_drift_back_is_learned(hours):
    (found,) = learned_rates(PLAN, nights_that_drift(hours * HOUR))
    assert found.noise == pytest.approx(0.02)
    # The middle of a night varies less than its halves, so that the drift seems larger.
    assert 0.4 * hours < found.fades_s / HOUR < 1.25 * hours


def test_what_holds_all_night_hardly_fades_and_chance_is_no_drift():
    (still,) = learned_rates(PLAN, nights_that_drift(1e9, nights=60))
    assert still.fades_s > 3 * DAY
    (wild,) = learned_rates(PLAN, nights_that_drift(60.0, nights=60))
    assert wild.fades_s == SHORTEST_S
    told = [rate("proxy:quay-p2", fades=still.fades_s), rate("proxy:quay-p3", fades=None)]
    assert spreads(told).fades_s == still.fades_s <= LONGEST_S


def test_older_ledgers_do_not_tell_of_drift():
    stated = stated_rate(PLAN, "proxy:quay-p2")
    (found,) = learned_rates(PLAN, [{"proxy:quay-p2": [0.1, 8, stated]}] * 9)
    assert (found.noise, found.fades_s) == (None, None)
    assert spreads([found]).fades_s == USUAL_NIGHTS.fades_s
