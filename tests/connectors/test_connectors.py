"""The connectors of three makes against the simulated sources, in good days and bad."""

import threading
from http.server import BaseHTTPRequestHandler, HTTPServer

import pytest
from estates import larkmoor_file, larkmoor_plan, service_of

from gambrel.connectors import MAKES, Account, Place, SourceError
from gambrel.connectors.asking import Cancelled
from gambrel.core.estate.differences import differences
from gambrel.standins.world import FIRST_EVENTS, World

ONE_OF_EACH = ["quay-a", "quay-b", "hill-a", "qs-h1", "radar-01"]


@pytest.fixture(scope="module")
def world():
    return World(larkmoor_file())


@pytest.fixture(scope="module")
def address(world):
    with service_of(world) as at:
        yield at


def connector(world, address, name):
    sample = world.sources[name].sample
    place = Place(name, f"{address}/{name}", sample.site, sample.kind)
    account = sample.accounts[0]
    return MAKES[sample.make](place), Account(account.scope, account.user, account.secret)


def nothing(_read, _expected):
    """Nobody wants to know how far it is."""


@pytest.mark.parametrize("name", ONE_OF_EACH)
def test_every_make_tells_the_estate_as_the_plan_has_it(world, address, name):
    asked, account = connector(world, address, name)
    found = asked.read(account, nothing)
    assert differences(larkmoor_plan(), found) == []
    source = world.sources[name]
    assert len(found.machines) == len(source.machines)
    for machine in found.machines:
        said = source.machines[machine.uid]
        assert (machine.name, machine.tags, machine.folder) == (said.name, said.tags, said.folder)
        for disk, told in zip(machine.disks, said.disks, strict=True):
            assert disk.used_gib == pytest.approx(told.used_gib, abs=0.01)


def test_what_happened_is_found_by_whoever_reads():
    world = World(larkmoor_file())
    world.begin()
    with service_of(world) as address:
        found = []
        for name in world.sources:
            asked, account = connector(world, address, name)
            found += differences(larkmoor_plan(), asked.read(account, nothing))
    assert len(found) == len(FIRST_EVENTS)
    assert {d.kind for d in found} == {"new", "gone", "moved", "grown", "renamed", "changed"}


def test_the_same_seed_gives_the_same_life():
    one, other = World(larkmoor_file(), 3), World(larkmoor_file(), 3)
    for world in (one, other):
        world.begin()
        for _ in range(20):
            world.step()
    assert one.happened == other.happened
    assert [s.machines for s in one.sources.values()] == [
        s.machines for s in other.sources.values()
    ]


def test_progress_is_told_and_can_end_the_reading(world, address):
    asked, account = connector(world, address, "hill-a")
    told = []
    asked.read(account, lambda read, expected: told.append((read, expected)))
    assert told[-1][0] == told[-1][1] == len(world.sources["hill-a"].changes)

    def unwanted(_read, _expected):
        raise Cancelled

    with pytest.raises(Cancelled):
        asked.read(account, unwanted)


@pytest.mark.parametrize("name", ONE_OF_EACH)
def test_a_wrong_secret_is_refused_with_advice(world, address, name):
    asked, account = connector(world, address, name)
    wrong = Account(account.scope, account.user, "not the secret")
    found = asked.check(wrong, 3)
    assert (found.works, found.failure) == (False, "The user or the secret is wrong.")
    assert found.advice
    assert asked.check(account, 3).works
    with pytest.raises(SourceError, match="wrong"):
        asked.read(wrong, nothing)


def test_each_account_of_a_source_is_told_its_own_trouble(world, address):
    sample = world.sources["quay-a"].sample
    asked, _ = connector(world, address, "quay-a")
    outcomes = {
        a.scope: asked.check(Account(a.scope, a.user, a.secret), 3) for a in sample.accounts
    }
    assert "expired" in outcomes["host qa-h4"].failure
    assert "may not" in outcomes["role db"].failure
    assert sum(found.works for found in outcomes.values()) == len(outcomes) - 2


@pytest.mark.parametrize("name", ONE_OF_EACH)
def test_a_source_that_is_down_or_slow_is_named_as_such(world, address, name):
    asked, account = connector(world, address, name)
    source = world.sources[name]
    try:
        source.fault = "down"
        assert "status 503" in asked.check(account, 3).failure
        source.fault, source.latency_s = "", 1.0
        assert "No answer within 0.2 s" in asked.check(account, 0.2).failure
    finally:
        source.fault, source.latency_s = "", 0.0


def test_a_source_that_breaks_off_half_way_gives_nothing(world, address):
    asked, account = connector(world, address, "quay-a")
    world.sources["quay-a"].fault = "half"
    try:
        with pytest.raises(SourceError, match="status 500"):
            asked.read(account, nothing)
    finally:
        world.sources["quay-a"].fault = ""


@pytest.mark.parametrize("make", MAKES)
def test_nobody_there(make):
    place = Place("x", "http://127.0.0.1:9", "quay", "host")
    found = MAKES[make](place).check(Account("source", "a", "b"), 1)
    assert found.failure == "It cannot be reached."


@pytest.mark.parametrize("make", MAKES)
@pytest.mark.parametrize(
    ("status", "body"),
    [
        (200, b"<html>not this</html>"),
        (200, b"[]"),
        (200, b"{}"),
        (200, b'{"items": 3, "pages": 99999999, "ticket": 4, "changes": 5, "upto": 1, "rest": 1}'),
        (302, b"{}"),
        (404, b"{}"),
        (500, b"oh"),
    ],
)
def test_an_answer_of_another_kind_is_an_error_and_never_a_crash(make, status, body):
    class Odd(BaseHTTPRequestHandler):
        def do_GET(self):
            self.send_response(status)
            self.send_header("Location", "http://127.0.0.1:1/elsewhere")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        do_POST = do_GET  # noqa: N815

        def log_message(self, *_args):
            """Say nothing."""

    server = HTTPServer(("127.0.0.1", 0), Odd)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        place = Place("x", f"http://127.0.0.1:{server.server_port}", "quay", "host")
        with pytest.raises(SourceError) as caught:
            MAKES[make](place).read(Account("source", "a", "b"), nothing)
        assert caught.value.failure and caught.value.advice
    finally:
        server.shutdown()
        server.server_close()


def test_a_secret_is_in_no_text():
    assert "hunter2" not in repr(Account("source", "a", "hunter2"))
