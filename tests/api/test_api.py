"""The API: who may ask, what is answered, and how errors look."""

import json
from dataclasses import fields
from datetime import datetime
from typing import get_args

import pytest

from gambrel.api.app import CONTENT_SECURITY_POLICY
from gambrel.api.problems import ProblemError
from gambrel.api.revisions import seen_revision
from gambrel.api.schemas import OperationSchema
from gambrel.core.edits.operations import Operation
from gambrel.demo import tiny

FRIDAY = "2026-11-06"
MOVE = {
    "operation": "MoveStart",
    "job": "office-files",
    "schedule": 1,
    "start_time": "20:00",
    "day_shift": 0,
}


def assert_problem(answer, status, title):
    assert answer.status_code == status
    assert answer.content_type == "application/problem+json"
    assert answer.json["status"] == status
    assert title in answer.json["title"]
    return answer.json


# --- who may ask ------------------------------------------------------------------------------


def test_a_link_works_once(app, stranger):
    stranger.sign_in()
    assert stranger.get("/api/v1/session").json["name"] == "Planner"
    answer = stranger.post("/api/v1/session", {"token": "used or made up"})
    assert_problem(answer, 403, "does not work any more")


def test_signing_out_ends_the_session(client):
    client.http.delete("/api/v1/session", headers={"X-CSRF-Token": client.token})
    assert client.get("/api/v1/plans").status_code == 401


def test_unsafe_requests_need_the_token_of_the_session(client, plan_url):
    answer = client.post(f"{plan_url}/drafts", {"name": "x"}, token=False)
    assert_problem(answer, 403, "no valid token")


def test_a_forged_cookie_is_nobody(app):
    forged = app.test_client()
    forged.set_cookie("gambrel", "eyJuYW1lIjoiUGxhbm5lciJ9.forged.signature")
    assert forged.get("/api/v1/plans").status_code == 401


def test_every_answer_carries_the_policy_and_the_cookie_is_closed_to_scripts(app):
    answer = app.test_client().get("/api/v1/session")
    assert answer.headers["Content-Security-Policy"] == CONTENT_SECURITY_POLICY
    assert "unsafe" not in CONTENT_SECURITY_POLICY
    assert answer.headers["X-Content-Type-Options"] == "nosniff"
    assert "HttpOnly" in answer.headers["Set-Cookie"]
    assert "SameSite=Lax" in answer.headers["Set-Cookie"]


# --- plan, week, night ------------------------------------------------------------------------


def test_a_plan_lists_its_jobs_as_sentences(client, plan_url):
    plan = client.get(plan_url).json
    assert (plan["name"], plan["machines"], plan["sites"]) == ("larkmoor", 237, 3)
    assert (plan["first_night"], plan["time_zone"]) == ("2026-11-02", "Europe/Dublin")
    job = next(job for job in plan["jobs"] if job["id"] == "office-files")
    assert job["clauses"][0] == {
        "key": "machines",
        "lead": "Back up",
        "text": "6 machines: folder office and tagged files",
        "plain": False,
    }
    assert job["schedules"][1]["start_time"] == "21:00"


def test_the_week_says_which_night_is_over_and_why(client, plan_url):
    week = client.get(f"{plan_url}/weeks/{FRIDAY}").json
    assert week["monday"] == "2026-11-02"
    verdicts = {night["date"][-2:]: night["verdict"] for night in week["nights"]}
    assert (verdicts["06"], verdicts["02"]) == ("over", "fits")
    friday = week["nights"][4]
    assert friday["reasons"][0]["job"] == "office-files"
    assert friday["reasons"][0]["squeeze"] == "proxy:quay-p2"
    assert len(friday["silhouette"]["load"]) == 96
    assert max(friday["silhouette"]["load"]) == 1


def test_a_week_before_the_first_night_has_no_forecast(client, plan_url):
    nights = client.get(f"{plan_url}/weeks/2026-10-28").json["nights"]
    assert {night["forecast"] for night in nights} == {False}
    answer = client.get(f"{plan_url}/nights/2026-10-28")
    assert "2026-11-02" in assert_problem(answer, 404, "no forecast")["detail"]


def test_a_night_has_runs_windows_copies_and_loads(client, plan_url):
    night = client.get(f"{plan_url}/nights/{FRIDAY}").json
    run = next(r for r in night["run_list"] if r["job"] == "office-files")
    assert (run["runs_as"], run["machines"], run["done"]) == ("full", 6, 6)
    assert run["over_s"] == night["over_s"] > 0
    assert run["squeezes"][0]["label"] == "Proxy quay-p2"
    assert [load["name"].partition(":")[0] for load in night["loads"]] == [
        "slots",
        "link",
        "repository",
    ]
    assert {copy["repository"] for copy in night["copies"]} == {"hill-disk"}
    assert {w["job"] for w in night["windows"]} >= {"office-files", "norrvik-to-quay"}


def test_the_loads_of_a_night_can_be_chosen(client, plan_url):
    query = "load=slots:proxy:quay-p1&load=link:quay-hill"
    night = client.get(f"{plan_url}/nights/{FRIDAY}?{query}").json
    assert [load["name"] for load in night["loads"]] == ["slots:proxy:quay-p1", "link:quay-hill"]
    capacity = night["loads"][1]["capacity"]
    assert capacity == [[0.0, 400.0], [7 * 3600.0, 2000.0]]


def test_a_run_lists_its_machines(client, plan_url):
    night = client.get(f"{plan_url}/nights/{FRIDAY}").json
    run = next(r for r in night["run_list"] if r["job"] == "lab-builds")
    url = f"{plan_url}/nights/{FRIDAY}/runs/lab-builds/{run['occurrence']}"
    machines = client.get(url).json["machines"]
    assert len(machines) == 16
    assert {machine["outcome"] for machine in machines} == {"missed"}
    missing = client.get(f"{plan_url}/nights/{FRIDAY}/runs/lab-builds/2026-11-06T00:00:00.000Z")
    assert_problem(missing, 404, "no such run")


def test_the_plan_file_can_be_had(client, plan_url):
    file = client.get(f"{plan_url}/file").json
    assert file["format"] == "gambrel-plan/1"
    assert len(file["jobs"]) == 24


def test_what_has_not_changed_is_not_sent_again(client, plan_url):
    for path in (plan_url, f"{plan_url}/weeks/{FRIDAY}", f"{plan_url}/nights/{FRIDAY}"):
        tag = client.get(path).headers["ETag"]
        assert client.http.get(path, headers={"If-None-Match": tag}).status_code == 304


# --- bad input --------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("path", "status", "field"),
    [
        ("/weeks/someday", 422, "day"),
        ("/nights/2026-02-30", 422, "day"),
        (f"/nights/{FRIDAY}?load=link:nowhere", 422, "load"),
        (f"/nights/{FRIDAY}?draft=soon", 422, "draft"),
    ],
)
def test_a_bad_query_names_its_field(client, plan_url, path, status, field):
    problem = assert_problem(client.get(plan_url + path), status, "")
    assert [error["field"] for error in problem["errors"]] == [field]


@pytest.mark.parametrize("path", ["/api/v1/plans/999", "/api/v1/drafts/999", "/api/v1/nothing"])
def test_what_is_not_there_is_not_found(client, path):
    assert_problem(client.get(path), 404, "Not")


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"start_time": "25:00"}, "start_time"),
        ({"start_time": "soon"}, "start_time"),
        ({"job": "ghost"}, "job"),
        ({"schedule": 9}, "schedule"),
        ({"operation": "Explode"}, "operations[0].operation"),
        ({"colour": "red"}, "operations[0].colour"),
        ({"schedule": "first"}, "operations.0.schedule"),
    ],
)
def test_a_bad_operation_names_its_field_and_changes_nothing(client, plan_url, change, field):
    body = {"operations": [{**MOVE, **change}], "night": FRIDAY}
    problem = assert_problem(client.post(f"{plan_url}/preview", body), 422, "")
    assert [error["field"] for error in problem["errors"]] == [field]


def test_a_number_of_any_size_is_told_back_whole(client, plan_url):
    body = {"operations": [{**MOVE, "schedule": 10**30}], "night": FRIDAY}
    problem = assert_problem(client.post(f"{plan_url}/preview", body), 422, "")
    assert [(e["field"], e["value"]) for e in problem["errors"]] == [("schedule", 10**30)]


@pytest.mark.parametrize("body", [None, [], "x", {"operations": []}, {"night": FRIDAY}])
def test_a_body_that_is_none_is_a_problem(client, plan_url, body):
    answer = client.post(f"{plan_url}/preview", body)
    assert 400 <= answer.status_code < 500
    assert answer.content_type == "application/problem+json"


# --- preview, drafts --------------------------------------------------------------------------


def test_a_preview_says_what_a_move_would_do_and_writes_nothing(client, plan_url):
    before = client.get(f"{plan_url}/nights/{FRIDAY}").json
    for scope, nights in (("night", 1), ("week", 7)):
        body = {"operations": [MOVE], "night": FRIDAY, "scope": scope}
        answer = client.post(f"{plan_url}/preview", body).json
        assert answer["words"] == ["Office file servers: full starts Fri 20:00 (was Fri 21:00)"]
        assert len(answer["nights"]) == nights
        assert answer["night"]["over_s"] < before["over_s"]
    assert client.get(f"{plan_url}/nights/{FRIDAY}").json == before
    assert client.get(plan_url).json["open_drafts"] == []


def test_a_large_estate_is_told_by_threads_and_says_the_same(client, plan_url, monkeypatch):
    def told(start):
        move = {**MOVE, "start_time": start}
        body = {"operations": [move], "night": FRIDAY, "scope": "week"}
        return client.post(f"{plan_url}/preview", body).json

    moved = {"20:10": told("20:10"), "20:20": told("20:20")}
    monkeypatch.setattr("gambrel.api.serialize.LARGE", 0)
    # Asked in between, so that the others are simulated anew and not only remembered.
    for start in ("20:30", "20:40", "20:50", "21:10"):
        nights = told(start)["nights"]
        assert [night["date"] for night in nights] == [f"2026-11-0{day}" for day in range(2, 9)]
    for start, answer in moved.items():
        assert told(start) == answer


def test_the_first_night_that_changes_can_be_asked_for_before_the_week(client, plan_url):
    changes = {"quiesce_s": 300}
    every_night = {
        "operation": "ChangeItem", "list": "jobs", "id": "office-files", "changes": changes,
    }  # fmt: skip
    for operation, first in ((MOVE, FRIDAY), (every_night, "2026-11-02")):
        body = {"operations": [operation], "night": FRIDAY}
        early = client.post(f"{plan_url}/preview", {**body, "scope": "first"}).json
        whole = client.post(f"{plan_url}/preview", {**body, "scope": "week"}).json
        assert [night["date"] for night in early["nights"]] == [first]
        assert early["nights"][0] in whole["nights"]
        assert early["words"] == whole["words"]
        assert early["night"] == (whole["night"] if first == FRIDAY else None)


def test_saved_operations_are_there_for_whoever_comes_next(app, client, plan_url):
    draft = client.post(f"{plan_url}/drafts", {"name": "spring fulls"})
    assert (draft.status_code, draft.headers["ETag"]) == (201, '"1"')
    url = f"/api/v1/drafts/{draft.json['id']}"
    saved = client.post(f"{url}/operations", {"operations": [MOVE]}, If_Match='"1"').json
    assert saved["revision"] == 2
    other = type(client)(app)
    other.sign_in()
    assert other.get(url).json == saved
    query = f"draft={saved['id']}"
    shown = other.get(f"{plan_url}?{query}").json
    job = next(job for job in shown["jobs"] if job["id"] == "office-files")
    assert job["schedules"][1]["start_time"] == "20:00"
    body = {"operations": [MOVE], "night": FRIDAY}
    previewed = client.post(f"{plan_url}/preview", body).json["night"]
    drafted = other.get(f"{plan_url}/nights/{FRIDAY}?{query}").json
    assert drafted["run_list"] == previewed["run_list"]


def test_a_lost_race_is_told_with_both_versions(client, plan_url):
    draft = client.post(f"{plan_url}/drafts", {"name": "race"}).json
    url = f"/api/v1/drafts/{draft['id']}/operations"
    client.post(url, {"operations": [MOVE]}, If_Match='"1"')
    problem = assert_problem(
        client.post(url, {"operations": [MOVE]}, If_Match='"1"'), 412, "changed this draft"
    )
    assert (problem["yours"], problem["now"]["revision"]) == (1, 2)
    assert_problem(client.post(url, {"operations": [MOVE]}), 428, "Which revision")
    assert_problem(client.post(url, {"operations": [MOVE]}, If_Match='"x"'), 428, "Which revision")


def test_undo_redo_and_adopt(client):
    plans = client.get("/api/v1/plans").json
    small = next(plan for plan in plans if plan["name"] == "tiny")
    url = f"/api/v1/plans/{small['id']}"
    draft = client.post(f"{url}/drafts", {"name": "a"}).json
    move = {"operation": "MoveStart", "job": "office", "schedule": 1, "start_time": "22:00"}
    path = f"/api/v1/drafts/{draft['id']}"
    client.post(f"{path}/operations", {"operations": [move]}, If_Match='"1"')
    undone = client.post(f"{path}/undo", If_Match='"2"').json
    assert (undone["changes"], undone["can_redo"]) == ([], True)
    redone = client.post(f"{path}/redo", If_Match='"3"').json
    assert len(redone["changes"]) == 1
    head = client.post(f"{path}/adopt", {"note": "agreed"}, If_Match='"4"').json
    assert head["adopted_version"] > small["adopted_version"]
    shown = client.get(url).json
    assert shown["open_drafts"] == []
    job = next(job for job in shown["jobs"] if job["id"] == "office")
    assert job["schedules"][1]["start_time"] == "22:00"
    assert_problem(client.get(path), 404, "Not found")


def test_a_draft_of_another_plan_is_not_found(client, plan_url):
    plans = client.get("/api/v1/plans").json
    small = next(plan for plan in plans if plan["name"] == "tiny")
    draft = client.post(f"/api/v1/plans/{small['id']}/drafts", {"name": "b"}).json
    assert_problem(client.get(f"{plan_url}?draft={draft['id']}"), 404, "Not found")


def test_the_description_is_served(stranger):
    spec = stranger.get("/api/v1/openapi.json").json
    assert spec["info"]["title"] == "Gambrel"
    assert "/api/v1/plans/{plan_id}/preview" in spec["paths"]


# --- findings and accounts --------------------------------------------------------------------


def test_the_findings_of_a_week_come_with_what_was_tried_and_helps(client, plan_url):
    found = client.get(f"{plan_url}/findings/{FRIDAY}").json["findings"]
    first = found[0]
    assert (first["gravity"], first["kind"]) == ("breaks", "over the window")
    assert first["subjects"] == [{"kind": "job", "id": "office-files"}]
    kinds = {finding["kind"] for finding in found}
    assert kinds >= {
        "missed", "skipped", "unprotected", "protected twice", "fulls clumped",
        "squeeze with idle peers", "backup disk as a source", "retention cannot delete",
    }  # fmt: skip
    help_ = client.http.get(
        f"{plan_url}/findings/{FRIDAY}/help", query_string={"key": first["key"]}
    ).json
    assert help_["tried"] >= len(help_["suggestions"]) > 0
    for suggestion in help_["suggestions"]:
        assert suggestion["after"] < suggestion["before"]
        assert suggestion["over_s_after"] <= suggestion["over_s_before"] + 60
    gone = client.http.get(f"{plan_url}/findings/{FRIDAY}/help", query_string={"key": "x"})
    assert_problem(gone, 404, "no such finding")


def test_a_suggestion_can_be_put_into_a_draft_and_the_finding_is_gone(client, plan_url):
    before = client.get(f"{plan_url}/findings/{FRIDAY}").json["findings"]
    disk = next(f for f in before if f["kind"] == "backup disk as a source")
    help_ = client.http.get(
        f"{plan_url}/findings/{FRIDAY}/help", query_string={"key": disk["key"]}
    ).json
    draft = client.post(f"{plan_url}/drafts", {"name": "less"})
    saved = client.post(
        f"/api/v1/drafts/{draft.json['id']}/operations",
        {"operations": help_["suggestions"][0]["operations"]},
        If_Match=draft.headers["ETag"],
    )
    assert saved.status_code == 200, saved.json
    assert saved.json["changes"][0]["words"] == (
        "Server room leftovers: disk backup-disk of old-vault-01 is left out"
    )
    after = client.get(f"{plan_url}/findings/{FRIDAY}?draft={draft.json['id']}").json["findings"]
    assert disk["key"] not in {finding["key"] for finding in after}


def test_the_account_of_each_machine_run_adds_up(client, plan_url):
    night = client.get(f"{plan_url}/nights/{FRIDAY}").json
    run = next(r for r in night["run_list"] if r["job"] == "office-files")
    path = f"{plan_url}/nights/{FRIDAY}/runs/{run['job']}/{run['occurrence']}"
    for machine in client.get(path).json["machines"]:
        parts = machine["account"]
        assert parts[0]["kind"] == "slot"
        assert parts[0]["label"] == "Proxy quay-p2, slots"
        assert sum(part["seconds"] for part in parts) == pytest.approx(
            machine["waiting_s"] + elapsed(machine), abs=0.01
        )


def elapsed(machine):
    start, ended = (datetime.fromisoformat(machine[key]) for key in ("start", "ended"))
    return (ended - start).total_seconds()


def test_every_argument_of_every_operation_passes_the_api():
    """A field that the schema does not know would be lost on its way out."""
    known = set(OperationSchema().fields)
    for kind in get_args(Operation):
        assert {field.name for field in fields(kind)} <= known, kind.name


# --- lanes of places --------------------------------------------------------------------------


def begins(answer, lane, job):
    """When a job is first busy at a place, in milliseconds from the start of what was asked for."""
    rows = next(each["rows"] for each in answer.json["lanes"] if each["id"] == lane)
    return min(row[3] for row in rows if row[0] == answer.json["jobs"].index(job))


def test_lanes_show_what_is_tried_beside_what_is_saved(client, plan_url):
    asked = {"night": FRIDAY, "by": "proxy"}
    was = client.post(f"{plan_url}/lanes", asked)
    tried = client.post(f"{plan_url}/lanes", {**asked, "operations": [MOVE]})
    moved = begins(tried, "quay-p2", "office-files")
    assert 8 * 3_600_000 <= moved < begins(was, "quay-p2", "office-files")
    assert client.post(f"{plan_url}/lanes", asked).json == was.json
    week = client.post(f"{plan_url}/lanes", {**asked, "span": "week", "by": "host"}).json
    assert (week["start"], len(week["lanes"]) > 3) == ("2026-11-02T12:00:00.000Z", True)


@pytest.mark.parametrize(
    ("wrong", "field"),
    [({"by": "colour"}, "by"), ({"span": "year"}, "span"), ({"night": "soon"}, "night")],
)
def test_lanes_that_cannot_be_are_refused_by_name(client, plan_url, wrong, field):
    answer = client.post(f"{plan_url}/lanes", {"night": FRIDAY, **wrong})
    assert answer.status_code == 422
    assert [error["field"] for error in answer.json["errors"]] == [field]


def test_a_wrong_method_is_told_the_right_ones(client):
    answer = client.http.put("/api/v1/session", headers={"X-CSRF-Token": client.token})
    assert answer.status_code == 405
    assert {"GET", "POST", "DELETE"} <= set(answer.headers["Allow"].split(", "))
    assert answer.content_type == "application/problem+json"


@pytest.mark.parametrize("tag", ["\u00b2", "\u0663", "9" * 50, "-1", "x"])
def test_a_revision_that_is_no_number_is_refused(app, tag):
    with (
        app.test_request_context(environ_overrides={"HTTP_IF_MATCH": f'"{tag}"'}),
        pytest.raises(ProblemError) as error,
    ):
        seen_revision()
    assert error.value.status == 428
    with app.test_request_context(environ_overrides={"HTTP_IF_MATCH": '"7"'}):
        assert seen_revision() == 7


# --- a plan is begun --------------------------------------------------------------------------


def test_an_empty_plan_can_be_looked_at_everywhere(client):
    begun = client.post(
        "/api/v1/plans", {"name": "from nothing", "site": "barn", "time_zone": "Europe/Oslo"}
    )
    assert begun.status_code == 201
    url = f"/api/v1/plans/{begun.json['id']}"
    shown = client.get(url).json
    assert (shown["jobs"], shown["machines"], shown["windows"]) == ([], 0, 0)
    assert shown["time_zone"] == "Europe/Oslo"
    day = shown["first_night"]
    for part in (
        f"/weeks/{day}", f"/nights/{day}", f"/findings/{day}", "/estate", f"/paths/{day}",
        f"/windows/{day}", "/reach", "/jobs", "/jobs/choices", f"/jobs/week/{day}", "/ledger",
        "/tonight", "/past-nights", "/restore-tests", f"/promises/{day}", "/recoveries/subjects",
        "/runway/growth", "/sources", "/inbox", f"/validation/{day}", "/calendar.ics",
    ):  # fmt: skip
        assert client.get(f"{url}{part}").status_code == 200, part
    assert client.post(f"{url}/runway", {"months": 12}).status_code == 200


def test_a_plan_is_begun_from_a_file_or_the_sample(client):
    whole = json.dumps(tiny())
    begun = client.post("/api/v1/plans", {"name": "by file", "begins": "file", "file": whole})
    assert begun.status_code == 201
    stored = client.get(f"/api/v1/plans/{begun.json['id']}/file").json
    assert (stored["jobs"], stored["machines"]) == (tiny()["jobs"], tiny()["machines"])
    sample = client.post("/api/v1/plans", {"name": "the sample", "begins": "sample"})
    assert len(client.get(f"/api/v1/plans/{sample.json['id']}").json["jobs"]) == 24


@pytest.mark.parametrize(
    ("body", "field"),
    [
        ({"name": "larkmoor"}, "name"),
        ({"name": "   "}, "name"),
        ({"name": "x", "time_zone": "Mars/Base"}, "sites[0].time_zone"),
        ({"name": "x", "begins": "file"}, "file"),
        ({"name": "x", "begins": "file", "file": "{"}, "line 1, column 2"),
        ({"name": "x", "begins": "file", "file": '{"format": "gambrel-plan/1", "jobs": 3}'},
         "jobs"),
    ],
)  # fmt: skip
def test_a_plan_that_cannot_be_begun_names_why_and_is_not_stored(client, body, field):
    before = client.get("/api/v1/plans").json
    answer = client.post("/api/v1/plans", body)
    assert answer.status_code == 422
    assert any(error["field"].startswith(field) for error in answer.json["errors"]), answer.json
    assert client.get("/api/v1/plans").json == before
