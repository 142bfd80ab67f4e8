"""Runs through the API: the runner protocol, tonight, past nights, orders, the report."""

import json
import math
import os
import shutil
import subprocess
import time
from dataclasses import replace
from datetime import date, timedelta
from threading import Thread

import pytest
from api_client import Runner
from plans import DAY, small_plan
from runs_told import as_planned
from werkzeug.serving import make_server

from gambrel.api.app import current_planning, current_sessions
from gambrel.commands.places import PROJECT
from gambrel.core.ledger.learned_spreads import LEAST_SPREAD
from gambrel.core.ledger.night_spreads import USUAL_NIGHTS
from gambrel.core.nights.nights import night_of
from gambrel.core.plan.instants import format_instant
from gambrel.core.plan.reading import read_plan
from gambrel.standins.runner import Client as RunnerClient
from gambrel.standins.runner import StandInRunner
from gambrel.store import ledger
from gambrel.store.plans import store_plan, version_plan
from gambrel.store.point_owners import owned_as_in

EXAMPLE = PROJECT / "docs" / "examples" / "report-run.sh"
PLAN = small_plan()
NIGHT = night_of(date(2026, 11, 6), "Europe/Dublin")


@pytest.fixture
def played(runner):
    """A night that is half over: the runner's clock stands at 20:03 of the plan's zone."""
    performance = as_planned(PLAN, NIGHT.start)
    at = NIGHT.start + 9.03 * 3600
    runner.post([], clock=NIGHT.start)
    answer = runner.post([*performance.advance(at), *performance.progress()], clock=at)
    assert answer.json["refused"] == []
    return performance


# --- the protocol -------------------------------------------------------------------------------


def test_a_runner_needs_its_token(app, runner):
    for headers in ({}, {"Authorization": "Bearer wrong"}, {"Authorization": runner.token}):
        for path in ("plan", "state", "orders"):
            assert app.test_client().get(f"/api/v1/runner/{path}", headers=headers).status_code in (
                401,
                429,
            )
        # Before anything that was sent is looked into.
        answer = app.test_client().post("/api/v1/runner/events", json=[1], headers=headers)
        assert answer.status_code in (401, 429)


def test_a_session_is_no_runner_and_a_token_no_session(client, runner, url):
    assert client.http.get("/api/v1/runner/plan").status_code in (401, 429)
    assert runner.http.get(url, headers=runner.headers).status_code == 401


def test_the_plan_is_read_once_for_each_adoption(runner):
    first = runner.get("/plan")
    assert read_plan(first.json).jobs[0].id == "nightly"
    again = runner.get("/plan", **{"If-None-Match": first.headers["ETag"]})
    assert again.status_code == 304


def test_every_event_is_answered_for(runner):
    good = as_planned(PLAN, NIGHT.start).advance(NIGHT.start + 9.02 * 3600)
    bad = [
        {},
        7,
        {**good[0], "id": "x1", "job": "ghost"},
        {**good[0], "id": "x2", "wings": 1},
        {**good[-1], "id": "x3", "at": "2027-11-06T12:00:00Z"},
        None,
    ]
    answer = runner.post([*bad, *good], clock=NIGHT.start + 9.02 * 3600)
    assert answer.status_code == 200
    assert answer.json["new"] == len(good)
    assert [(r["id"], r["field"]) for r in answer.json["refused"]] == [
        ("events[0]", "id"), ("events[1]", ""), ("x1", "job"), ("x2", "wings"), ("x3", "at"),
        ("events[5]", ""),
    ]  # fmt: skip
    assert runner.post(good, clock=NIGHT.start + 9.02 * 3600).json["known"] == len(good)
    assert runner.post(good, clock=None, speed=-1).status_code == 422
    answer = runner.http.post(
        "/api/v1/runner/events", json={"events": [], "clock": "noon"}, headers=runner.headers
    )
    assert answer.json["errors"][0]["field"] == "clock"


def test_a_clock_that_is_off_is_corrected_for(app, client, plan, url):
    runner = Runner(app, plan, "runner")
    now = time.time()
    due = now - 600
    told = {
        "id": "1", "what": "run began", "at": format_instant(now + 3600), "job": "nightly",
        "occurrence": format_instant(due), "kind": "full",
    }  # fmt: skip
    answer = runner.post([told], clock=now + 3600)
    assert answer.json["clock_offset_s"] == pytest.approx(3600, abs=30)
    found = client.get(f"{url}/ledger/runs/nightly/{format_instant(due)}").json
    began = found["run"]["began"]
    assert abs(time.time() - _seconds(began)) < 60
    shown = client.get(f"{url}/runners").json["runners"]
    assert max(r["clock_offset_s"] for r in shown) > 3000


def _seconds(text):
    from gambrel.core.plan.instants import parse_instant

    return parse_instant(text)


def test_two_runners_at_once_are_told_apart(app, runner, plan):
    assert runner.post([], clock=NIGHT.start).status_code == 200
    other = Runner(app, plan, "runner", "other")
    answer = other.post([])
    assert answer.status_code == 409 and "test" in answer.json["detail"]
    assert Runner(app, plan, "script", "cron").post([]).status_code == 200


# --- tonight and after --------------------------------------------------------------------------


def test_tonight_says_what_ran_and_how_it_goes_on(client, url, played):
    tonight = client.get(f"{url}/tonight").json
    assert tonight["summary"]["total"] == 4
    assert tonight["summary"]["done"] == 2 and tonight["summary"]["moving"] == 2
    assert "2 of 4 machines done, 2 moving" in tonight["words"]
    run = next(r for r in tonight["runs"] if r["state"] == "under way")
    # All goes as planned, so what is ahead is what was predicted.
    assert _seconds(run["ahead_end"]) == pytest.approx(_seconds(run["predicted_ended"]), abs=2)
    sheet = client.get(f"{url}/ledger/runs/{run['job']}/{run['occurrence']}").json
    assert {m["step"] for m in sheet["machines"]} == {"moving"}
    assert sheet["events"][0]["what"] == "run began"


def test_the_morning_after(app, client, url, plan, runner, played):
    runner.post(played.advance(NIGHT.end), clock=NIGHT.end)
    nights = client.get(f"{url}/past-nights").json["nights"]
    assert [n["date"] for n in nights] == ["2026-11-06"]
    assert nights[0]["done"] == nights[0]["total"] == 4
    night = client.get(f"{url}/past-nights/2026-11-06").json
    assert {r["outcome"] for r in night["runs"]} == {"done"}
    assert not night["troubles"] and not night["differences"]
    report = client.get(f"{url}/past-nights/2026-11-06/report").json
    assert report["needs_hand"] == [] and report["left"] == []
    assert report["tonight"]["date"] == "2026-11-07"
    page = client.get(f"{url}/ledger?most=3").json
    assert len(page["lines"]) == 3
    rest = client.get(f"{url}/ledger?before={page['before']}").json
    assert len(rest["lines"]) == 1 and rest["before"] is None
    # Forecasts begin with the night that has begun, from the points that really exist.
    forecaster = current_planning(app).version(
        next(p for p in client.get("/api/v1/plans").json if p["id"] == plan)["adopted_version"]
    )
    assert forecaster.origin.date == date(2026, 11, 7)
    assert len(forecaster.plan.state.points) == 4


def test_the_ledger_brings_findings_of_its_own(client, url, runner):
    assert client.get(f"{url}/standing").json == {"findings": []}
    for back in (2, 1):
        due = NIGHT.start - back * DAY + 8 * 3600
        run = {"job": "nightly", "occurrence": format_instant(due)}
        runner.post(
            [
                {"id": f"b{back}", "what": "run began", "at": run["occurrence"],
                 "machines": ["gate"], **run},
                {"id": f"e{back}", "what": "machine ended", "at": format_instant(due + 60),
                 "machine": "gate", "outcome": "failed", "reason": "it was locked", **run},
                {"id": f"r{back}", "what": "run ended", "at": format_instant(due + 61), **run},
            ],
            clock=due + 61,
        )  # fmt: skip
    found = client.get(f"{url}/standing").json["findings"]
    assert [f["kind"] for f in found] == ["no good point", "failed in a row"]
    assert {"kind": "machine", "id": "gate"} in found[1]["subjects"]


def test_a_rehearsal_runs_apart(client, url, plan, runner):
    trouble = {"kind": "access", "subject": "gate", "after_h": 0, "hours": 24}
    night = client.get(url).json["first_night"]
    body = {"night": night, "seed": 3, "troubles": [trouble]}
    played = client.post(f"{url}/rehearsals", body)
    assert played.status_code == 200
    assert [t["machine"] for t in played.json["troubles"]] == ["gate"]
    assert played.json["world"][0]["words"].startswith("gate: access denied")
    run = next(r for r in played.json["runs"] if r["failed"])
    asked = {**body, "job": run["job"], "occurrence": run["occurrence"]}
    sheet = client.post(f"{url}/rehearsals/run", asked).json
    assert sheet["run"] == run
    assert any("access denied" in event["words"] for event in sheet["events"])
    # Nothing of it is written down.
    assert client.get(f"{url}/ledger").json["lines"] == []
    assert client.get(f"{url}/past-nights").json["nights"] == []
    # A draft is rehearsed as it is saved.
    draft = client.post(f"{url}/drafts", {"name": "later"}).json
    told = client.post(f"{url}/rehearsals", {**body, "draft": draft["id"]}).json
    assert told["summary"] == played.json["summary"]


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"troubles": [{"kind": "access", "subject": "x", "after_h": 0, "hours": 1}]},
         "troubles[0].subject"),
        ({"troubles": [{"kind": "flood", "subject": "gate", "after_h": 0, "hours": 1}]},
         "troubles.0.kind"),
        ({"seed": -1}, "seed"),
        ({"night": "someday"}, "day"),
    ],
)  # fmt: skip
def test_what_cannot_be_rehearsed_is_named(client, url, change, field):
    answer = client.post(f"{url}/rehearsals", {"night": "2026-11-09", **change})
    assert answer.status_code == 422
    assert field in json.dumps(answer.json)


def test_a_night_beyond_the_forecast_is_not_rehearsed(client, url):
    for night in ("2020-01-01", "2040-01-01"):
        answer = client.post(f"{url}/rehearsals", {"night": night})
        assert answer.status_code in (404, 409, 422), answer.json


def test_what_the_ledger_lacks_is_not_found(client, url):
    for path in ("past-nights/2026-01-01", "past-nights/2026-01-01/report",
                 "ledger/runs/nightly/2026-01-01T00:00:00Z"):  # fmt: skip
        assert client.get(f"{url}/{path}").status_code == 404
    for query in ("before=x", "most=0", "from=soon", "before=1.2.3"):
        assert client.get(f"{url}/ledger?{query}").status_code == 422


def test_how_good_the_forecasts_were(client, url, runner, played):
    none = client.get(f"{url}/forecast-errors").json
    assert (none["nights"], none["median_s"]) == ([], None), "the night is not over"
    runner.post(played.advance(NIGHT.end), clock=NIGHT.end)
    runner.post([], clock=NIGHT.end + 60)
    (night,) = client.get(f"{url}/past-nights").json["nights"]
    found = client.get(f"{url}/forecast-errors").json
    (error,) = found["nights"]
    # The same two instants as in the list of past nights.
    assert (error["predicted_end"], error["last_end"]) == (
        night["predicted_end"], night["last_end"],
    )  # fmt: skip
    assert error["error_s"] == pytest.approx(
        _seconds(night["last_end"]) - _seconds(night["predicted_end"]), abs=0.01
    )
    assert not error["trouble"] and found["median_s"] == abs(error["error_s"])


def test_the_ledger_as_files(client, url, runner, played):
    runner.post(played.advance(NIGHT.end), clock=NIGHT.end)
    csv = client.get(f"{url}/ledger.csv").get_data(as_text=True).splitlines()
    assert csv[0].startswith("job,occurrence,machine,outcome") and len(csv) == 5
    lines = client.get(f"{url}/ledger.jsonl").get_data(as_text=True).splitlines()
    assert json.loads(lines[0]) == {"format": "gambrel-ledger/1"}
    assert {json.loads(line)["outcome"] for line in lines[1:]} == {"done"}


def test_news_comes_with_what_happened(app, client, url, plan, runner, played):
    seen = client.get(f"{url}/tonight").json["news"]
    answer = client.http.get(f"{url}/news?seen={seen - 1}")
    assert answer.mimetype == "text/event-stream"
    assert f"id: {seen}\n" in answer.get_data(as_text=True)
    runner.post(played.advance(NIGHT.end), clock=NIGHT.end)
    answer = client.http.get(f"{url}/news", headers={"Last-Event-ID": str(seen)})
    assert f"id: {seen}\n" not in answer.get_data(as_text=True)


# --- orders -------------------------------------------------------------------------------------


def test_an_order_is_simulated_given_and_taken_back(client, url, runner, played):
    order = {"kind": "stop", "job": "nightly", "machines": []}
    effect = client.post(f"{url}/orders/preview", order).json
    assert effect["possible"] and effect["words"] == "Stop Nightly"
    refused = client.post(f"{url}/orders", {**order, "kind": "run"})
    assert refused.status_code == 409 and "running" in refused.json["detail"]
    assert client.post(f"{url}/orders", {**order, "job": "ghost"}).status_code == 422
    given = client.post(f"{url}/orders", order)
    assert given.status_code == 201
    told = runner.get("/orders").json["orders"]
    assert [(o["kind"], o["job"]) for o in told] == [("stop", "nightly")]
    back = client.http.delete(
        f"{url}/orders/{given.json['id']}", headers={"X-CSRF-Token": client.token}
    )
    assert back.json["state"] == "taken back"
    assert runner.get("/orders").json["orders"] == []
    again = client.http.delete(
        f"{url}/orders/{given.json['id']}", headers={"X-CSRF-Token": client.token}
    )
    assert again.status_code == 409


def test_an_order_waits_for_a_second_person(client, person, url, runner, played):
    def rule(on):
        answer = client.http.put(
            "/api/v1/rules", json={"second_person": False, "second_person_for_orders": on},
            headers={"X-CSRF-Token": client.token},
        )  # fmt: skip
        assert answer.status_code == 200

    order = {"kind": "stop", "job": "nightly", "machines": []}
    one, other, reader = person("plan"), person("plan", "Second"), person("read")
    before = runner.get("/orders").json["orders"]
    rule(True)
    try:
        given = one.post(f"{url}/orders", order).json
        assert given["state"] == "to be confirmed"
        assert runner.get("/orders").json["orders"] == before
        confirm = f"{url}/orders/{given['id']}/confirmation"
        for nobody in (one, reader):
            assert nobody.post(confirm).status_code in (403, 409)
        assert runner.get("/orders").json["orders"] == before
        # A runner that has been told of later orders is told of this one all the same.
        rule(False)
        later = client.post(f"{url}/orders", {**order, "kind": "hold"}).json
        confirmed = other.post(confirm)
        assert confirmed.status_code == 201
        assert (confirmed.json["state"], confirmed.json["seconded_by"]) == ("open", "Second")
        told = runner.get(f"/orders?after={later['id']}").json["orders"]
        assert [(o["id"], o["kind"]) for o in told] == [(confirmed.json["id"], "stop")]
        assert other.post(confirm).status_code == 404
        # One that waits can be taken back like any other.
        rule(True)
        waiting = one.post(f"{url}/orders", order).json
        back = one.http.delete(f"{url}/orders/{waiting['id']}", headers={"X-CSRF-Token": one.token})
        assert back.json["state"] == "taken back"
        gone = other.post(f"{url}/orders/{waiting['id']}/confirmation")
        assert gone.status_code == 409 and "taken back" in gone.json["detail"]
    finally:
        rule(False)


def outlook_of(client, url):
    """The outlook once it is drawn, with what would help."""
    for _ in range(200):
        found = client.get(f"{url}/tonight/outlook").json
        if found["current"] and not found["looking"]:
            return found
        time.sleep(0.05)
    raise AssertionError(found)


def test_the_rest_of_the_night_is_drawn_beside_the_requests(client, url, runner, played):
    found = outlook_of(client, url)
    tonight = client.get(f"{url}/tonight").json
    assert found["draws"] == 100
    assert found["at"] == tonight["clock"]
    ahead = {(r["job"], r["occurrence"]): r["ahead_end"] for r in tonight["runs"] if not r["ended"]}
    told = {(run["job"], run["occurrence"]): run for run in found["runs"]}
    assert set(ahead) <= set(told)
    for key, expected in ahead.items():
        assert told[key]["early"] <= told[key]["middle"] <= told[key]["late"]
        assert abs(_seconds(expected) - _seconds(told[key]["middle"])) < 1800
    assert found["words"].startswith("In ")
    # Nothing was reported since: it is not drawn again.
    assert client.get(f"{url}/tonight/outlook").json == found


def test_no_rest_of_a_night_without_a_runner(client, url):
    found = client.get(f"{url}/tonight/outlook").json
    assert (found["draws"], found["runs"], found["help"]) == (0, [], [])


def test_what_is_ordered_for_tonight_holds_until_noon(client, url, runner):
    proxy = PLAN.proxies[0]
    stand_in = StandInRunner(Through(runner), NIGHT.start, _world_of, speed=3600.0)
    while stand_in.clock < NIGHT.start + 9.03 * 3600:
        stand_in.tick(0.2)
    asked = {"kind": "more slots", "proxy": proxy.id, "slots": 3}
    for bad, field in (({"slots": 0}, "slots"), ({"proxy": "ghost"}, "proxy")):
        answer = client.post(f"{url}/orders", {**asked, **bad})
        assert answer.status_code == 422
        assert answer.json["errors"][0]["field"] == field
    made = client.post(f"{url}/orders", asked)
    assert made.json["detail"] == {"proxy": proxy.id, "slots": 3}
    assert made.json["words"] == f"Let {proxy.id} read 3 disks more at once tonight"
    assert client.post(f"{url}/orders", {"kind": "let pass", "job": "nightly"}).status_code == 201

    def slots():
        return runner.get("/state").json["proxies"][0]["slots"]

    assert slots() == proxy.slots, "nobody has taken it"
    stand_in.tick(1.0)
    assert slots() == proxy.slots + 3
    kinds = [order["kind"] for order in runner.get("/orders?after=0").json["orders"]]
    assert kinds == ["more slots", "let pass"], "who begins anew is told again"
    again = StandInRunner(Through(runner), NIGHT.start, _world_of, speed=3600.0)
    again.tick(1.0)
    assert [order.kind for order in again.performance.lasting] == kinds
    assert again.performance.plan.proxies[0].slots == proxy.slots + 3
    while again.clock < NIGHT.end + 3600:
        again.tick(1.0)
    assert again.performance.lasting == []
    assert slots() == proxy.slots
    assert runner.get("/orders?after=0").json["orders"] == []


def test_nothing_can_be_ordered_without_a_runner(client, url):
    answer = client.post(f"{url}/orders", {"kind": "run", "job": "nightly"})
    assert answer.status_code == 409 and "No runner" in answer.json["title"]
    assert client.post(f"{url}/clock", {"speed": 60}).status_code == 409


def test_runners_are_added_and_revoked(app, client, url):
    token = client.post(f"{url}/runners", {"name": "night", "kind": "runner"}).json["token"]
    headers = {"Authorization": f"Bearer {token}"}
    assert app.test_client().get("/api/v1/runner/plan", headers=headers).status_code == 200
    number = client.get(f"{url}/runners").json["runners"][0]["id"]
    gone = client.http.delete(f"{url}/runners/{number}", headers={"X-CSRF-Token": client.token})
    assert gone.status_code == 204
    assert app.test_client().get("/api/v1/runner/plan", headers=headers).status_code == 401


# --- the stand-in against the application -------------------------------------------------------


class Through(RunnerClient):
    """The stand-in's client, through the test client instead of a socket."""

    def __init__(self, runner):
        super().__init__("", runner.token)
        self.http = runner.http
        self.fails = 0

    def _ask(self, path, body=None, headers=None):
        if self.fails:
            self.fails -= 1
            raise OSError("not there")
        headers = {"Authorization": f"Bearer {self.token}", **(headers or {})}
        path = f"/api/v1/runner{path}"
        answer = (
            self.http.get(path, headers=headers)
            if body is None
            else self.http.post(path, json=body, headers=headers)
        )
        assert answer.status_code in (200, 304), answer.get_data(as_text=True)
        return (answer.json if answer.status_code == 200 else None), answer.headers


def _world_of(plan):
    return as_planned(plan, NIGHT.start).world, {NIGHT.date: ("quiesce:gate:0:24",)}


def test_the_stand_in_plays_a_night_and_a_retry_brings_it_back(client, url, runner):
    through = Through(runner)
    stand_in = StandInRunner(through, NIGHT.start, _world_of, speed=600.0)
    for _ in range(200):
        stand_in.tick(1.0)
        if stand_in.clock >= NIGHT.start + 14 * 3600:
            break
    tonight = client.get(f"{url}/tonight").json
    assert {t["machine"] for t in tonight["troubles"]} == {"gate"}
    effect = {"kind": "retry", "job": "nightly", "machines": ["fares"]}
    assert client.post(f"{url}/orders", effect).status_code == 201
    for _ in range(6):
        stand_in.tick(1.0)
    tonight = client.get(f"{url}/tonight").json
    assert [o["state"] for o in tonight["orders"]] == ["done"]
    ordered = next(r for r in tonight["runs"] if r["order"])
    assert (ordered["total"], ordered["done"], ordered["outcome"]) == (1, 1, "done")


def test_nothing_is_lost_or_counted_twice_where_the_application_is_away(client, url, runner):
    through = Through(runner)
    stand_in = StandInRunner(through, NIGHT.start, _world_of, speed=3600.0)
    for i in range(60):
        through.fails = i % 3
        try:
            stand_in.tick(1.0)
        except OSError:
            continue
        if stand_in.clock >= NIGHT.end:
            break
    through.fails = 0
    while stand_in.clock < NIGHT.start + DAY:
        stand_in.tick(1.0)
    night = client.get(f"{url}/past-nights/2026-11-06").json
    assert {r["outcome"] for r in night["runs"]} == {"incomplete"}
    assert night["summary"]["total"] == 4 and night["summary"]["done"] == 2


def test_a_stand_in_that_is_started_again_goes_on(client, url, runner):
    first = StandInRunner(Through(runner), NIGHT.start, _world_of, speed=3600.0)
    while first.clock < NIGHT.start + 9.03 * 3600:
        first.tick(min(1.0, (NIGHT.start + 9.03 * 3600 - first.clock) / 3600))
    second = StandInRunner(Through(runner), NIGHT.start, _world_of, speed=3600.0)
    assert second.clock == pytest.approx(first.clock, abs=1e-3)
    while second.clock < NIGHT.end:
        second.tick(1.0)
    night = client.get(f"{url}/past-nights/2026-11-06").json
    done = [r for r in night["runs"] if r["ended"]]
    assert len(done) == 2 and all(r["done"] == 1 for r in done)


def test_the_clock_of_a_stand_in_can_be_set(client, url, runner):
    stand_in = StandInRunner(Through(runner), NIGHT.start, _world_of)
    stand_in.tick(1.0)
    assert client.post(f"{url}/clock", {"speed": 600}).status_code == 201
    stand_in.tick(1.0)
    assert stand_in.speed == 600
    client.post(f"{url}/clock", {"to_next": "morning"})
    for _ in range(60):
        stand_in.tick(0.1)
        if not stand_in.hurries:
            break
    assert format_instant(stand_in.clock).startswith("2026-11-07T07:30:00")
    client.post(f"{url}/clock", {"speed": 0})
    stand_in.tick(1.0)
    before = stand_in.clock
    stand_in.tick(5.0)
    assert stand_in.clock == before


# --- a script on a server -----------------------------------------------------------------------


@pytest.mark.skipif(shutil.which("curl") is None, reason="there is no curl")
def test_a_cron_job_reports_with_the_shell_function(app, client, plan, url):
    script = Runner(app, plan, "script", "cron")
    serving = make_server("127.0.0.1", 0, app, threaded=True)
    thread = Thread(target=serving.serve_forever, daemon=True)
    thread.start()
    try:
        for command, status in (("true", 0), ("false", 1)):
            done = subprocess.run(
                ["sh", "-c", f". {EXAMPLE}; report_run nightly gate full {command}"],
                env={
                    "PATH": os.environ["PATH"],
                    "GAMBREL_URL": f"http://127.0.0.1:{serving.server_port}",
                    "GAMBREL_TOKEN": script.token,
                },
                capture_output=True,
                text=True,
                check=False,
            )
            assert done.returncode == status, done.stderr
            time.sleep(1.1)
    finally:
        serving.shutdown()
        thread.join()
    lines = client.get(f"{url}/ledger").json["lines"]
    assert [(line["machine"], line["outcome"]) for line in lines] == [
        ("gate", "failed"),
        ("gate", "done"),
    ]
    assert lines[0]["reason"] == "the command ended with status 1"


def test_a_backup_does_not_fail_because_nobody_listens():
    done = subprocess.run(
        ["sh", "-c", f". {EXAMPLE}; report_run nightly gate full true"],
        env={"PATH": os.environ["PATH"], "GAMBREL_URL": "http://127.0.0.1:9", "GAMBREL_TOKEN": "x"},
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0


# --- mail ---------------------------------------------------------------------------------------


def put(client, path, body):
    return client.http.put(path, json=body, headers={"X-CSRF-Token": client.token})


def test_mail_is_set_and_its_password_never_shown(client, url):
    server = {
        "host": "mail.example.org", "port": 587, "sender": "g@example.org", "user": "g",
        "starttls": True, "password": "secret",
    }  # fmt: skip
    for body in (server, {**server, "password": None}):
        answer = put(client, "/api/v1/mail", body)
        assert answer.json == {k: v for k, v in server.items() if k != "password"}
    assert client.app.extensions["gambrel-mailing"].server().password == "secret"
    assert "secret" not in client.get("/api/v1/mail").get_data(as_text=True)
    wrong = put(client, "/api/v1/mail", {**server, "sender": "nobody"})
    assert wrong.status_code == 422 and wrong.json["errors"][0]["field"] == "sender"
    put(client, "/api/v1/mail", {**server, "host": ""})
    outbox = client.post("/api/v1/mail/test", {"to": "me@example.org"})
    assert outbox.status_code == 202 and outbox.json["mails"][0]["state"] == "waiting"


def test_run_settings_are_checked_and_kept(client, url):
    said = {"report_at": "06:45", "report_to": ["a@example.org"], "addresses": {"ops": "o@x.org"}}
    assert put(client, f"{url}/run-settings", said).json == {**said, "phones": {}}
    called = {**said, "phones": {"ops": "ext. 4100"}}
    assert put(client, f"{url}/run-settings", called).json == called
    assert client.get(f"{url}/run-settings").json == called
    for wrong in (
        {**said, "report_at": "25:00"},
        {**said, "report_to": ["nobody"]},
        {**said, "addresses": {"ops": "x"}},
    ):
        assert put(client, f"{url}/run-settings", wrong).status_code == 422
    assert client.get(f"{url}/run-settings").json == called


# --- past runs from files -----------------------------------------------------------------------

PAST = """job,machine,start,duration,kind,read (GiB),status
Nightly,gate,2026-10-02 21:00:03,20 min,full,40,success
Nightly,fares,2026-10-02 21:00:04,0:15:00,full,38.5,success
Nightly,ghost,2026-10-02 21:00:05,0:15:00,full,1,success
Old job,gate,2026-10-03 20:00:00,0:05:00,incremental,2,failed
"""


def past(client, url, **more):
    return client.post(f"{url}/ledger/imports", {"name": "past.csv", "text": PAST, **more})


def test_past_runs_are_looked_at_mapped_and_written_once(client, url):
    first = past(client, url, write=True).json
    assert not first["written"] and first["problems"] == []
    assert first["unknown_jobs"] == {"Old job": 1} and first["unknown_machines"] == {"ghost": 1}
    assert client.get(f"{url}/ledger").json["lines"] == []
    mapped = {"jobs": {"Old job": "nightly"}, "machines": {"ghost": ""}}
    look = past(client, url, **mapped).json
    assert (look["new"], look["known"], look["written"]) == (3, 0, False)
    done = past(client, url, write=True, **mapped).json
    assert (done["new"], done["written"]) == (3, True)
    again = past(client, url, write=True, **mapped).json
    assert (again["new"], again["known"]) == (0, 3)
    lines = client.get(f"{url}/ledger").json["lines"]
    assert [(x["machine"], x["outcome"]) for x in lines] == [
        ("gate", "failed"), ("fares", "done"), ("gate", "done"),
    ]  # fmt: skip
    # The plan's own schedule says when they were due.
    assert lines[2]["occurrence"] == "2026-10-02T20:00:00.000Z"


def test_sizes_in_another_unit_are_asked_about_before_anything_is_written(client, url):
    lines = ["job,machine,start,duration,kind,read,status"]
    for day in (1, 2, 3, 4):
        for machine in ("gate", "fares"):
            lines.append(f"Nightly,{machine},2026-10-0{day} 21:00,20 min,full,40960,success")
    asked = {"name": "past.csv", "text": "\n".join(lines), "write": True, "only_good": True}
    look = client.post(f"{url}/ledger/imports", asked).json
    assert not look["written"] and client.get(f"{url}/ledger").json["lines"] == []
    odd = look["odd_sizes"]
    assert (odd["steps"], odd["runs"], odd["of"]) == (-1, 8, 8)
    assert odd["told_bytes"] / odd["expected_bytes"] == pytest.approx(1024, rel=1e-6)
    right = client.post(f"{url}/ledger/imports", {**asked, "unit": "MiB", "write": False}).json
    assert right["odd_sizes"] is None
    done = client.post(f"{url}/ledger/imports", {**asked, "size_steps": -1}).json
    assert (done["written"], done["odd_sizes"]) == (True, None)
    lines = client.get(f"{url}/ledger").json["lines"]
    assert {line["source_bytes"] for line in lines} == {40.0 * 2**30}
    wrong = client.post(f"{url}/ledger/imports", {**asked, "size_steps": 3})
    assert wrong.status_code == 422


def write_past_runs(client, url, lines):
    """Import past runs from the lines of a CSV file."""
    body = {"name": "past.csv", "text": "\n".join(lines), "write": True}
    assert client.post(f"{url}/ledger/imports", body).json["written"]


def test_the_daily_change_is_learned_from_what_was_stored(client, url, runner):
    runner.post([], clock=NIGHT.start)
    assert client.get(f"{url}/learned-changes").json["machines"] == []
    lines = ["job,machine,start,duration,kind,stored (GiB),status"]
    for back in range(12, 0, -1):
        day = NIGHT.date - timedelta(days=back)
        stored = 2000 if back == 5 else 2
        lines.append(f"Nightly,gate,{day} 21:00:00,20 min,incremental,{stored},success")
    write_past_runs(client, url, lines)
    (row,) = client.get(f"{url}/learned-changes").json["machines"]
    assert (row["machine"], row["runs"], row["since"]) == ("gate", 11, None)
    plan = client.get(f"{url}/file").json
    gate = next(m for m in plan["machines"] if m["id"] == "gate")
    used = sum(disk["used_gib"] for disk in gate["disks"])
    ceiling, ratio = gate.get("churn_ceiling", 0.4), gate.get("compress_ratio", 1.6)
    expected = -ceiling * math.log(1 - 2 * ratio / used / ceiling)
    assert row["learned"] == pytest.approx(expected, rel=0.01), "one odd night does not count"
    assert row["stated"] == gate.get("daily_change", 0.02)


def test_the_compress_ratio_is_learned_from_what_was_sent_and_taken_over(client, url, runner):
    runner.post([], clock=NIGHT.start)
    assert client.get(f"{url}/learned-ratios").json["machines"] == []
    lines = ["job,machine,start,duration,kind,read (GiB),sent (GiB),stored (GiB),status"]
    for back in range(12, 0, -1):
        day = NIGHT.date - timedelta(days=back)
        read = 9000 if back == 5 else 5
        lines.append(f"Nightly,gate,{day} 21:00:00,20 min,incremental,{read},2,2,success")
    write_past_runs(client, url, lines)
    (row,) = client.get(f"{url}/learned-ratios").json["machines"]
    assert (row["machine"], row["runs"], row["left_out"]) == ("gate", 11, 1)
    assert (row["learned"], row["otherwise"]) == (pytest.approx(2.5), True)
    told = {
        "machines": ["gate"], "state": {"compress_ratio": row["learned"]}, "source": "learned",
    }  # fmt: skip
    assert client.post(f"{url}/estate/facts", told).status_code == 200
    (now,) = client.get(f"{url}/learned-ratios").json["machines"]
    assert (now["stated"], now["otherwise"]) == (pytest.approx(2.5), False)


def test_how_often_machines_fail_is_told_with_the_reason(client, url, runner):
    runner.post([], clock=NIGHT.start)
    assert client.get(f"{url}/failure-rates").json["machines"] == []
    lines = ["job,machine,start,duration,kind,stored (GiB),status"]
    for back in range(12, 0, -1):
        day = NIGHT.date - timedelta(days=back)
        status = "failed" if back in (3, 7) else "success"
        lines.append(f"Nightly,gate,{day} 21:00:00,20 min,incremental,2,{status}")
        lines.append(f"Nightly,fares,{day} 21:00:00,20 min,incremental,2,success")
    write_past_runs(client, url, lines)
    told = client.get(f"{url}/failure-rates").json
    (row,) = told["machines"]
    assert (row["machine"], row["runs"], row["failed"]) == ("gate", 12, 2)
    assert told["overall"] == pytest.approx(2.5 / 25)
    assert row["low"] < row["rate"] < row["high"]


def test_rates_are_learned_from_the_nights_that_are_over(app, client, url, plan, runner):
    proxy, job = PLAN.proxies[0], PLAN.jobs[0]
    rate = proxy.mib_per_s or 100.0
    with current_sessions(app).begin() as db:
        for back in range(1, 8):
            night = night_of(NIGHT.date - timedelta(days=back), "Europe/Dublin")
            ledger.predict_night(db, plan, night.date, 1, (), night.zone, night.start)
            told = {
                f"proxy:{proxy.id}": (math.log(0.9) + 0.01 * (back - 4), 20, rate),
                "stream:agent": (math.log(0.8), 9, PLAN.transports.agent_mib_per_s),
                "proxy:gone": (0.0, 9, 100.0),
            }
            times = {f"preparing:{job.id}": (60.0, 21.0 + 0.1 * back, 12, job.quiesce_s)}
            mark = {
                "verdict": "fits", "done": 1, "total": 1, "why": "", "rates": told, "times": times,
            }  # fmt: skip
            ledger.keep_summary(db, plan, night.date, mark)
    runner.post([], clock=NIGHT.start)
    found = {each["what"]: each for each in client.get(f"{url}/learned-rates").json["rates"]}
    agent = found.pop("stream:agent")
    assert agent["learned"] == pytest.approx(0.8 * PLAN.transports.agent_mib_per_s)
    assert (agent["list"], agent["key"], agent["nights"]) == (None, "agent_mib_per_s", 7)
    if proxy.mib_per_s is not None:
        own = found.pop(f"proxy:{proxy.id}")
        assert own["learned"] == pytest.approx(0.9 * rate)
        assert (own["list"], own["id"], own["key"]) == ("proxies", proxy.id, "mib_per_s")
        assert own["low"] < own["learned"] < own["high"]
    assert found == {}
    # How much tonight varies is learned once, from the nights before it.
    shared = app.extensions["gambrel-runs"]
    adopted = shared.planning.plan(1)
    assert shared.learning.spreads_known(plan, NIGHT) == USUAL_NIGHTS
    assert shared.learning.learn_spreads(plan, 1, adopted, NIGHT)
    assert not shared.learning.learn_spreads(plan, 1, adopted, NIGHT)
    varies = shared.learning.spreads_known(plan, NIGHT)
    # It is stated too high by a fifth.
    assert varies.of("stream:agent") == pytest.approx(-math.log(0.8), abs=0.01)
    tomorrow = night_of(NIGHT.date + timedelta(days=1), NIGHT.zone)
    assert shared.learning.spreads_known(plan, tomorrow) == USUAL_NIGHTS
    # What was taken over says so, with what was stated before.
    assert (agent["now"], agent["stated_before"], agent["taken"]) == (
        PLAN.transports.agent_mib_per_s, None, [],
    )  # fmt: skip
    mark = {"key": "agent_mib_per_s", "value": 77.0, "stated": agent["now"]}
    changes = {"agent_mib_per_s": 77.0, "learned": [mark]}
    take = {"operation": "SetTransports", "changes": changes}
    draft = f"/api/v1/drafts/{client.post(f'{url}/drafts', {'name': 'as shown'}).json['id']}"
    client.post(f"{draft}/operations", {"operations": [take]}, If_Match='"1"')
    assert client.post(f"{draft}/adopt", {"note": ""}, If_Match='"2"').status_code == 200
    again = client.get(f"{url}/learned-rates").json["rates"]
    agent = next(each for each in again if each["what"] == "stream:agent")
    assert (agent["now"], agent["taken"]) == (77.0, [mark])
    assert agent["stated_before"] == PLAN.transports.agent_mib_per_s
    (time,) = client.get(f"{url}/learned-times").json["times"]
    assert (time["job"], time["step"], time["key"]) == (job.id, "preparing", "quiesce_s")
    assert time["learned_s"] == pytest.approx(81.0, abs=1.0) and time["differs"]
    assert time["value"] == pytest.approx(job.quiesce_s + 21.0, abs=1.0)
    spread = client.get(f"{url}/learned-spread").json
    assert spread["nights"] == 7
    assert spread["stream"] == LEAST_SPREAD, "nights that are all alike are few nights"
    assert spread["rate"] is None, "one rate alone tells nothing of the others"


def test_a_file_with_a_bad_row_is_written_only_when_asked(client, url):
    bad = PAST.replace("20 min", "long").replace("ghost", "gate").replace("Old job", "Nightly")
    look = client.post(f"{url}/ledger/imports", {"name": "x.csv", "text": bad, "write": True}).json
    assert not look["written"] and look["problems"][0]["line"] == 2
    asked = {"name": "x.csv", "text": bad, "write": True, "only_good": True}
    assert client.post(f"{url}/ledger/imports", asked).json["written"]
    wrong = client.post(f"{url}/ledger/imports", {**asked, "time_zone": "Mars/Base"})
    assert wrong.status_code == 422
    assert client.post(f"{url}/ledger/imports", {**asked, "text": ""}).status_code == 422


def test_what_one_ledger_gives_another_takes(app, client, url, runner, played):
    runner.post(played.advance(NIGHT.end), clock=NIGHT.end)
    text = client.get(f"{url}/ledger.jsonl").get_data(as_text=True)
    with current_sessions(app).begin() as db:
        other = store_plan(db, "takes the ledger", PLAN, actor="test").id
    there = f"/api/v1/plans/{other}"
    asked = {"name": "l.jsonl", "text": text, "write": True}
    assert client.post(f"{there}/ledger/imports", asked).json["new"] == 4
    # In the ledger that it came from, nothing changes.
    assert client.post(f"{url}/ledger/imports", asked).json["new"] == 0
    key = ("job", "occurrence", "machine", "outcome", "source_bytes", "ended")
    one, two = (
        [{k: x[k] for k in key} for x in client.get(f"{u}/ledger").json["lines"]]
        for u in (url, there)
    )
    order = lambda x: (x["occurrence"], x["machine"])  # noqa: E731
    assert sorted(one, key=order) == sorted(two, key=order)


# --- whose points are ---------------------------------------------------------------------------


@pytest.fixture
def morning_after(runner):
    """A night that is over: each machine has points that only the ledger knows."""
    performance = as_planned(PLAN, NIGHT.start)
    at = NIGHT.start + DAY + 3600
    runner.post([], clock=NIGHT.start)
    answer = runner.post([*performance.advance(at), *performance.progress()], clock=at)
    assert answer.json["refused"] == []
    return performance


def _ends(client, url, draft=None):
    """When the runs of each night to come end, and what they read."""
    more = "" if draft is None else f"?draft={draft}"
    nights = [client.get(f"{url}/nights/2026-11-{day:02}{more}").json for day in range(8, 12)]
    return [
        (night["last_end"], sum(run["source_bytes"] for run in night["run_list"]))
        for night in nights
    ]


def _split(client, url):
    draft = client.post(f"{url}/drafts", {"name": "two jobs"}).json
    part = {"id": "gates", "name": "Gates", "machines": ["gate"], "repository": None}
    operation = {"operation": "SplitJob", "job": "nightly", "parts": [part]}
    return client.post(
        f"/api/v1/drafts/{draft['id']}/operations",
        {"operations": [operation]},
        If_Match=f'"{draft["revision"]}"',
    ).json


def _adopt(client, draft):
    tag = f'"{draft["revision"]}"'
    answer = client.post(f"/api/v1/drafts/{draft['id']}/adopt", {"note": ""}, If_Match=tag)
    assert answer.status_code == 200, answer.json
    return answer.json


def test_what_a_split_promised_holds_when_it_is_adopted(client, url, morning_after, app, plan):
    before = _ends(client, url)
    draft = _split(client, url)
    promised = _ends(client, url, draft["id"])
    _adopt(client, draft)
    assert _ends(client, url) == promised
    # Two jobs make two runs, but no second full: the week moves what it moved.
    assert [moved for *_, moved in promised] == pytest.approx([m for *_, m in before], rel=0.01)
    with current_sessions(app)() as db:
        owners = {(p.job, p.machine) for p in ledger.points_at(db, plan, NIGHT.end + 3600)}
        # For whoever compares with it, the version before has its points as it had them.
        was = client.get(f"{url}/adoptions").json[0]["before_version"]
        points = ledger.points_at(db, plan, NIGHT.end + 3600)
        old = owned_as_in(db, plan, was, version_plan(db, was), points)
    assert owners == {("gates", "gate"), ("nightly", "fares")}
    assert {(p.job, p.machine) for p in old} == {("nightly", "gate"), ("nightly", "fares")}


def test_going_back_gives_the_points_back(client, url, morning_after, app, plan):
    before = _ends(client, url)
    _adopt(client, _split(client, url))
    adoption = client.get(f"{url}/adoptions").json[0]["id"]
    client.post(f"{url}/adoptions/{adoption}/back", {"note": "one job again"})
    assert _ends(client, url) == before
    with current_sessions(app)() as db:
        assert {p.job for p in ledger.points_at(db, plan, NIGHT.end + 3600)} == {"nightly"}


def test_the_runner_goes_on_from_points_that_changed_hands(client, url, runner, morning_after):
    _adopt(client, _split(client, url))
    morning_after.adopt(read_plan(runner.get("/plan").json))
    at = morning_after.clock + DAY
    events = morning_after.advance(at)
    kinds = {(e["job"], e["machine"]): e["kind"] for e in events if e["what"] == "machine started"}
    assert kinds == {("gates", "gate"): "incremental", ("nightly", "fares"): "incremental"}
    assert runner.post(events, clock=at).json["refused"] == []


def test_what_is_known_of_a_point_goes_along(client, url, morning_after, app, plan):
    with current_sessions(app)() as db:
        point = next(p for p in ledger.points_at(db, plan, NIGHT.end + 3600) if p.machine == "gate")
    checked = {
        "machine": "gate", "job": "nightly", "repository": point.repository, "source": "hand",
        "at": format_instant(point.at), "good": False, "note": "does not open",
    }  # fmt: skip
    answer = client.post(f"{url}/point-checks", checked)
    assert answer.status_code == 201, answer.json
    _adopt(client, _split(client, url))
    with current_sessions(app)() as db:
        bad = {p.job for p in ledger.points_at(db, plan, NIGHT.end + 3600) if p.bad_since}
    assert bad == {"gates"}


# --- learned change by itself -------------------------------------------------------------------


def _told_for_a_week(runner, changes=1.0, compresses=1.0):
    """A week of runs of machines that are otherwise than is stated; the clock after it."""
    machines = (
        replace(
            m,
            daily_change=m.daily_change * changes,
            compress_ratio=m.compress_ratio * compresses,
        )
        for m in PLAN.machines
    )
    true = replace(PLAN, machines=tuple(machines))
    performance = as_planned(true, NIGHT.start)
    runner.post([], clock=NIGHT.start)
    at = NIGHT.start
    for _ in range(8):
        at += DAY
        answer = runner.post(performance.advance(at), clock=at)
        assert answer.json["refused"] == []
    return at


def _changes(client, url):
    found = client.get(f"{url}/learned-changes").json
    return found, {row["machine"]: row for row in found["machines"]}


def test_learned_ratio_is_taken_over_at_noon_by_a_rule_of_its_own(client, url, runner):
    at = _told_for_a_week(runner, changes=3.0, compresses=1.5)
    found = client.get(f"{url}/learned-ratios").json
    row = next(each for each in found["machines"] if each["machine"] == "gate")
    assert (row["otherwise"], found["by_itself"]) == (True, False)
    answer = client.http.put(
        f"{url}/standing-rules",
        json={"kind": "learned ratio", "action": "accept"},
        headers={"X-CSRF-Token": client.token},
    )
    assert answer.status_code == 200
    runner.post([], clock=at + DAY)
    found = client.get(f"{url}/learned-ratios").json
    row = next(each for each in found["machines"] if each["machine"] == "gate")
    assert (row["otherwise"], found["by_itself"]) == (False, True)
    assert row["stated"] == pytest.approx(1.5 * PLAN.machine_by_id["gate"].compress_ratio, rel=0.01)
    # Nothing was said of what changes.
    machine = client.get(f"{url}/estate/machines/gate?night=2026-11-16").json
    assert machine["change_from"] == "stated"
    assert _changes(client, url)[1]["gate"]["otherwise"]


@pytest.mark.parametrize("by_itself", [True, False])
def test_learned_change_is_taken_over_at_noon_where_a_rule_says_so(client, url, runner, by_itself):
    at = _told_for_a_week(runner, 3.0)
    found, rows = _changes(client, url)
    assert rows["gate"]["otherwise"]
    assert found["by_itself"] is False
    if by_itself:
        rule = {"kind": "learned change", "action": "accept"}
        for kind, status in (("learned change", 200), ("guess", 422)):
            answer = client.http.put(
                f"{url}/standing-rules",
                json={**rule, "kind": kind},
                headers={"X-CSRF-Token": client.token},
            )
            assert answer.status_code == status
    before = len(client.get(f"{url}/acceptances").json["acceptances"])
    runner.post([], clock=at + DAY)
    runner.post([], clock=at + DAY + 60)  # Once a night, and not at every word.
    taken = client.get(f"{url}/acceptances").json["acceptances"][: None if by_itself else 0]
    machine = client.get(f"{url}/estate/machines/gate?night=2026-11-16").json
    if not by_itself:
        assert machine["change_from"] == "stated"
        return
    assert len(taken) == before + 1
    assert taken[0]["actor"] == "standing rule"
    assert "as learned" in " ".join(taken[0]["words"])
    assert machine["change_from"] == "learned"
    assert machine["daily_change"] == pytest.approx(rows["gate"]["learned"], abs=5e-4)
    found, rows = _changes(client, url)
    assert found["by_itself"] is True
    assert not rows["gate"]["otherwise"]
    # It can go back to what was stated.
    client.post(f"{url}/estate/facts", {"machines": ["gate"], "revert": ["daily_change"]})
    machine = client.get(f"{url}/estate/machines/gate?night=2026-11-16").json
    assert machine["daily_change"] == PLAN.machine_by_id["gate"].daily_change
    assert machine["change_from"] != "learned"
