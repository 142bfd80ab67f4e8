"""Forecasters that are kept, and made once however many ask for them at the same time."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import pytest
from estates import young_larkmoor

from gambrel.store.plans import NotFound, store_plan
from gambrel.work import planning as module
from gambrel.work.planning import Planning


@pytest.fixture(scope="module")
def stored(maker):
    with maker.begin() as db:
        return store_plan(db, "larkmoor", young_larkmoor(), actor="test").adopted_version


@pytest.fixture
def loads(monkeypatch):
    """The versions that were read from the store, each a while after it was asked for."""
    read, done = module.version_plan, []

    def slowly(session, version):
        time.sleep(0.05)
        done.append(version)
        return read(session, version)

    monkeypatch.setattr(module, "version_plan", slowly)
    return done


def test_many_that_ask_at_once_share_one_forecaster(maker, stored, loads):
    planning = Planning(maker)
    with ThreadPoolExecutor(6) as threads:
        found = list(threads.map(lambda _: planning.version(stored), range(6)))
    assert loads == [stored]
    assert all(each is found[0] for each in found)


def test_what_cannot_be_made_is_told_to_everybody_and_kept_from_nobody(maker, stored, loads):
    planning = Planning(maker)

    def ask(_):
        with pytest.raises(NotFound):
            planning.version(stored + 1)

    with ThreadPoolExecutor(3) as threads:
        list(threads.map(ask, range(3)))
    made = planning.plan(stored)
    # A forecast says since when disks grow; everything else is as it was stored.
    assert replace(made, state=replace(made.state, sizes_as_of=None)) == young_larkmoor()
