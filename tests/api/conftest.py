"""The application on a test database, with a client that is signed in."""

from __future__ import annotations

import pytest
from api_client import Client, Runner
from plans import small_plan

from gambrel.api.app import create_app, current_sessions
from gambrel.core.plan.reading import read_plan
from gambrel.demo import larkmoor, tiny
from gambrel.store.plans import store_plan
from gambrel.store.sealing import Sealer
from gambrel.store.sign_in import new_link


@pytest.fixture(scope="module")
def app(database_url):
    app = create_app(database_url, "a key for tests", Sealer.new_key(), TESTING=True)
    with current_sessions(app).begin() as db:
        for name, make in (("tiny", tiny), ("larkmoor", larkmoor)):
            store_plan(db, name, read_plan(make()), actor="test")
    yield app
    app.extensions["gambrel-computations"].close()


@pytest.fixture
def stranger(app):
    return Client(app)


@pytest.fixture
def client(app):
    made = Client(app)
    made.sign_in()
    return made


@pytest.fixture
def plan_url(client):
    plans = client.get("/api/v1/plans").json
    found = next(plan for plan in plans if plan["name"] == "larkmoor")
    return f"/api/v1/plans/{found['id']}"


@pytest.fixture
def plan(app, request):
    """The number of a small plan of the test's own."""
    with current_sessions(app).begin() as db:
        return store_plan(db, request.node.name[:90], small_plan(), actor="test").id


@pytest.fixture
def url(plan):
    return f"/api/v1/plans/{plan}"


@pytest.fixture
def runner(app, plan):
    return Runner(app, plan)


@pytest.fixture
def person(app, request):
    """A client signed in as somebody new of a role, by an invitation as a colleague gets one."""

    def make(role, name=None):
        client = Client(app)
        with current_sessions(app).begin() as db:
            link = new_link(db, name or f"{request.node.name[:60]} {role}", role)
        answer = client.post("/api/v1/session", {"token": link})
        assert answer.json["role"] == role
        client.token = answer.json["csrf_token"]
        return client

    return make
