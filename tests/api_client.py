"""A client of the API as a browser is one: signed in, with its token."""

from __future__ import annotations

from gambrel.api.app import current_sessions
from gambrel.core.plan.instants import format_instant
from gambrel.store import runners
from gambrel.store.sign_in import new_link


class Client:
    """A test client that carries its CSRF token, as a browser does."""

    def __init__(self, app) -> None:
        self.app = app
        self.http = app.test_client()
        self.token = self.http.get("/api/v1/session").json["csrf_token"]

    def sign_in(self) -> None:
        with current_sessions(self.app).begin() as db:
            link = new_link(db, "Planner")
        answer = self.post("/api/v1/session", {"token": link})
        assert answer.status_code == 200
        self.token = answer.json["csrf_token"]

    def get(self, path, **headers):
        return self._described(self.http.get(path, headers=headers))

    def post(self, path, body=None, *, token=True, **headers):
        headers = {key.replace("_", "-"): value for key, value in headers.items()}
        if token:
            headers["X-CSRF-Token"] = self.token
        return self._described(self.http.post(path, json=body, headers=headers))

    def _described(self, answer):
        """An answer, once it was held against what the API's description says of it."""
        if answer.is_json and answer.status_code < 300 and answer.status_code != 204:
            where = self.app.url_map.bind("localhost")
            endpoint, _ = where.match(answer.request.path, answer.request.method)
            said = getattr(self.app.view_functions[endpoint], "_spec", {}).get("response")
            if said:
                schema = said["schema"]
                assert schema.validate(answer.json, many=schema.many) == {}, endpoint
        return answer


class Runner:
    """A runner of a plan that speaks through the test client."""

    def __init__(self, app, plan_id, kind="stand-in", name="test"):
        self.http = app.test_client()
        with current_sessions(app).begin() as db:
            self.token = runners.new_runner(db, plan_id, name, kind, actor="test")
        self.headers = {"Authorization": f"Bearer {self.token}"}

    def post(self, events, clock=None, **more):
        body = {"events": events, "clock": None if clock is None else format_instant(clock)}
        return self.http.post("/api/v1/runner/events", json={**body, **more}, headers=self.headers)

    def get(self, path, **headers):
        return self.http.get(f"/api/v1/runner{path}", headers={**self.headers, **headers})
