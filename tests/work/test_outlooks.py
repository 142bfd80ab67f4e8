"""Outlooks are drawn beside the requests, once for each state of a night, and never pile up."""

import threading
import time
from types import SimpleNamespace

import pytest

from gambrel.work import outlooks as module
from gambrel.work.outlooks import Outlooks


@pytest.fixture
def drawn(monkeypatch):
    """What was drawn, in turn; draws and help are made up."""
    made = []

    def outlook(rest, enough):
        made.append(rest)
        return SimpleNamespace(at=rest, draws=100)

    monkeypatch.setattr(module, "outlook", outlook)
    monkeypatch.setattr(module, "what_would_help", lambda rest, *_, **__: [f"help of {rest}"])
    monkeypatch.setattr(module, "EVERY_S", 0.0)
    monkeypatch.setattr(module, "REST_TIMES", 0.0)
    return made


def settled(found, *asked):
    """Ask until nothing is under way."""
    for _ in range(200):
        told = found.latest(*asked)
        if told is not None and told.current and told.helps_at is not None:
            return told
        time.sleep(0.01)
    raise AssertionError(told)


def test_a_state_is_drawn_once(drawn):
    found = Outlooks()
    assert found.latest(1, "a", lambda: ("rest a", ())) is None, "nobody waits for it"
    told = settled(found, 1, "a", lambda: ("rest a", ()))
    assert (told.outlook.at, told.helps) == ("rest a", ("help of rest a",))
    for _ in range(5):
        found.latest(1, "a", lambda: ("rest a", ()))
    assert drawn == ["rest a"]
    settled(found, 2, "a", lambda: ("rest of another plan", ()))
    assert drawn == ["rest a", "rest of another plan"]


def test_what_is_old_says_so_until_it_is_drawn_anew(drawn, monkeypatch):
    found = Outlooks()
    settled(found, 1, "a", lambda: ("rest a", ()))
    go_on = threading.Event()

    def helping(rest, *_, **__):
        go_on.wait(10)
        return [f"help of {rest}"]

    monkeypatch.setattr(module, "what_would_help", helping)
    assert found.latest(1, "b", lambda: ("rest b", ())).current is False
    for _ in range(200):
        told = found.latest(1, "b", lambda: ("rest b", ()))
        if told.current:
            break
        time.sleep(0.01)
    assert (told.outlook.at, told.helps, told.helps_at) == ("rest b", ("help of rest a",), "rest a")
    go_on.set()
    assert settled(found, 1, "b", lambda: ("rest b", ())).outlook.at == "rest b"


def test_nothing_piles_up_and_an_error_ends_nothing(drawn, monkeypatch):
    found, at_once, most = Outlooks(), [0], [0]

    def slow():
        at_once[0] += 1
        most[0] = max(most[0], at_once[0])
        time.sleep(0.02)
        at_once[0] -= 1
        return "rest", ()

    for i in range(40):
        found.latest(1, i, slow)
    settled(found, 1, "last", slow)
    assert most == [1]

    def broken():
        raise ValueError("machines have changed")

    for _ in range(200):
        told = found.latest(1, "broken", broken)
        if told.current:
            break
        time.sleep(0.01)
    assert (told.outlook, told.helps) == (None, ())
    assert settled(found, 1, "well", lambda: ("rest", ())).outlook.at == "rest"


def test_others_get_their_turn(drawn, monkeypatch):
    monkeypatch.setattr(module, "EVERY_S", 60.0)
    found = Outlooks()
    found.latest(1, "a", lambda: ("rest a", ()))
    settled(found, 1, "a", lambda: ("rest a", ()))
    for _ in range(20):
        assert found.latest(1, "b", lambda: ("rest b", ())).current is False
        time.sleep(0.005)
    assert drawn == ["rest a"], "not again so soon"
