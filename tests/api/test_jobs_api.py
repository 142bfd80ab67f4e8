"""Jobs, drafts side by side, comparisons and adoptions through the API."""

import pytest
from sqlalchemy import event

from gambrel.api.app import current_sessions

FRIDAY = "2026-11-06"
JOB = "office-files"


def ask(client, plan_url, what, job=JOB, *operations, **more):
    body = {"job": job, "operations": list(operations), **more}
    return client.post(f"{plan_url}/jobs/{what}", body)


def change(job=JOB, **changes):
    return {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": changes}


def look(client, plan_url, *operations, job=JOB):
    return ask(client, plan_url, "look", job, *operations, night=FRIDAY)


def draft_of(client, plan_url, name, *operations):
    made = client.post(f"{plan_url}/drafts", {"name": name}).json
    return saved(client, made, *operations).json if operations else made


def saved(client, draft, *operations):
    url = f"/api/v1/drafts/{draft['id']}/operations"
    return client.post(url, {"operations": list(operations)}, If_Match=f'"{draft["revision"]}"')


def request(client, method, path, draft=None, body=None):
    headers = {"X-CSRF-Token": client.token}
    if draft is not None:
        headers["If-Match"] = f'"{draft["revision"]}"'
    return client.http.open(path, method=method, json=body, headers=headers)


# --- the list and the sentence ----------------------------------------------------------------


def test_jobs_are_listed_found_and_ordered(client, plan_url):
    every = client.get(f"{plan_url}/jobs").json
    assert every["total"] == len(every["jobs"]) == 24
    found = client.get(f"{plan_url}/jobs?q=file+office").json
    assert [row["id"] for row in found["jobs"]] == [JOB]
    assert found["jobs"][0]["selects"] == "folder office and tagged files"
    largest = client.get(f"{plan_url}/jobs?sort=size&limit=2").json
    assert (largest["total"], len(largest["jobs"])) == (24, 2)
    assert largest["jobs"][0]["used_gib"] >= largest["jobs"][1]["used_gib"]
    assert client.get(f"{plan_url}/jobs?sort=colour").status_code == 422


def test_some_machines_of_a_job_go_elsewhere(client, plan_url):
    """What is said of its points follows each machine; a copy to where some go is refused."""
    before = look(client, plan_url).json
    assert {row["repository"] for row in before["selected"]} == {"quay-disk"}
    named = [[{"field": "name", "op": "is", "value": "office-files-05"}]]
    apart = change(destinations=[{"repository": "quay-dedupe", "rules": named}])
    told = look(client, plan_url, apart).json
    places = {row["machine"]: row["repository"] for row in told["selected"]}
    assert places.pop("office-files-05") == "quay-dedupe"
    assert set(places.values()) == {"quay-disk"}
    (elsewhere,) = told["points_elsewhere"]
    assert (elsewhere["machines"], elsewhere["carried"]) == (1, True)
    assert told["points_before"] == before["points_before"] - elsewhere["points"]
    carry = {"operation": "CarryPoints", "job": JOB, "from_repository": "quay-disk"}
    carried = look(client, plan_url, apart, carry).json
    assert carried["points_elsewhere"] == []
    assert carried["points_before"] == before["points_before"]
    refused = look(client, plan_url, apart, change(copies=[{"repository": "quay-dedupe"}]))
    assert refused.status_code == 422
    assert "copies[0].repository" in refused.get_data(as_text=True)


def test_the_list_asks_the_database_no_more_for_more_jobs(client, plan_url, app):
    client.get(f"{plan_url}/jobs")
    seen = []
    engine = current_sessions(app).kw["bind"]
    event.listen(engine, "before_cursor_execute", lambda *args: seen.append(args[2]))
    client.get(f"{plan_url}/jobs?sort=name")
    few = len(seen)
    assert few <= 4
    client.get(f"{plan_url}/jobs?limit=1")
    assert len(seen) - few == few


def test_weeks_of_all_jobs_tell_each_night(client, plan_url):
    weeks = {
        w["job"]: w["nights"] for w in client.get(f"{plan_url}/jobs/week/{FRIDAY}").json["jobs"]
    }
    friday = weeks[JOB][4]
    assert (friday["verdict"], friday["kinds"], friday["runs"]) == ("over", ["full"], 1)
    assert weeks["ticket-journal"][0]["runs"] == 71


def test_a_job_is_looked_at_with_all_that_follows(client, plan_url):
    found = look(client, plan_url).json
    assert found["machines"] == 6
    assert found["text"].startswith("Office file servers: Back up 6 machines")
    assert [c["key"] for c in found["clauses"]][:4] == ["machines", "to", "runs", "window"]
    assert [s["words"] for s in found["schedules"]] == [
        "every day but Friday at 20:00", "on Friday at 21:00",
    ]  # fmt: skip
    assert len(found["schedules"][0]["upcoming"]) == 10
    assert found["nights"][4]["verdict"] == "over"
    assert found["points_before"] > 0
    assert found["value"]["exclude_disk_rules"] == []


def test_what_is_typed_shows_at_once_and_writes_nothing(client, plan_url):
    rule = [{"field": "name", "op": "is", "value": "office-files-01"}]
    found = look(client, plan_url, change(machines={"rules": [rule]}, verify="boot")).json
    assert found["machines"] == 1
    assert found["nights"][4]["end"] != look(client, plan_url).json["nights"][4]["end"]
    empty = look(client, plan_url, change(machines={})).json
    assert empty["problems"][0] == {
        "job": JOB, "clause": "machines", "weight": "stops", "words": "No machine is selected.",
    }  # fmt: skip
    assert look(client, plan_url).json["machines"] == 6


def test_a_value_that_cannot_be_is_named(client, plan_url):
    answer = look(client, plan_url, change(retention={"until": "31.1.2027"}))
    assert answer.json["errors"][0]["field"].endswith("retention.until")
    answer = look(client, plan_url, change(retention={"days": 0}))
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"].endswith("retention.days")
    assert look(client, plan_url, job="ghost").status_code == 404


def test_schedules_are_heard_and_answered(client, plan_url):
    def say(text):
        body = {"text": text, "day": FRIDAY}
        return client.post(f"{plan_url}/jobs/say", body).json

    heard = say("second Saturday at 21:00, not on holidays")
    assert heard["schedule"]["rrule"] == "FREQ=MONTHLY;BYDAY=2SA"
    assert heard["words"] == "on the second Saturday of the month at 21:00, not on holidays"
    deaf = say("whenever")
    assert deaf["schedule"] is None
    assert "say the time" in deaf["reason"]
    assert deaf["examples"]


def test_a_new_job_begins_from_a_default_machines_a_job_or_a_template(client, plan_url):
    def begin(**more):
        return client.post(f"{plan_url}/jobs/begin", {"name": "Twin gates", "day": FRIDAY, **more})

    value = begin(machines=["office-files-01"]).json["value"]
    assert (value["id"], value["machines"]) == ("twin-gates", {"ids": ["office-files-01"]})
    assert value["exclude_paths"] == []
    assert begin(like=JOB).json["value"]["retention"] == {"days": 5}
    assert begin(machines=["ghost"]).status_code == 422
    assert begin(template=999).status_code == 404
    kept = client.post(f"{plan_url}/templates", {"name": "Files", "value": value}).json
    assert "machines" not in kept["value"]
    assert client.post(f"{plan_url}/templates", {"name": "files", "value": {}}).status_code == 422
    assert [t["name"] for t in client.get(f"{plan_url}/templates").json] == ["Files"]
    assert begin(template=kept["id"]).json["value"]["repository"] == value["repository"]
    gone = request(client, "DELETE", f"{plan_url}/templates/{kept['id']}")
    assert gone.status_code == 204
    assert client.get(f"{plan_url}/templates").json == []
    add = {"operation": "AddItem", "list": "jobs", "value": value}
    assert look(client, plan_url, add, job="twin-gates").json["machines"] == 1


def test_questions_about_a_job_are_answered(client, plan_url):
    ways = ask(client, plan_url, "tradeoffs").json
    assert (len(ways["ways"]), ways["largest"]) == (5, "office-files-01")
    costs = ask(client, plan_url, "costs", JOB, change(verify="boot", quiesce_s=60)).json["costs"]
    by = {cost["option"]: cost for cost in costs}
    assert by["verify"]["seconds"] == pytest.approx(7 * 360, rel=0.01)
    assert by["compress"]["wire_bytes"] < 0
    points = ask(client, plan_url, "points", day="2026-12-07").json
    assert points["machine"] == "office-files-01"
    assert points["points"][-1]["kept_by"]
    assert ask(client, plan_url, "points", day="2030-01-01").status_code == 422
    split = ask(client, plan_url, "split", groups=3).json
    assert [len(g["machines"]) for g in split["groups"]]
    assert max(g["full_s"] for g in split["groups"]) <= max(split["by_count"])
    assert split["groups"][0]["id"] == JOB
    assert ask(client, plan_url, "split", "mail-server", groups=5).status_code in (404, 422)
    choices = client.get(f"{plan_url}/jobs/choices").json
    assert "gold" in choices["values"]["tag"]


def test_room_is_tried_night_by_night(client, plan_url):
    found = ask(client, plan_url, "room", kind="full", night="2026-11-08").json
    assert found["forecast"]
    assert len(found["starts"]) == 48
    assert {s["verdict"] for s in found["starts"]} >= {"fits", "over"}
    past = ask(client, plan_url, "room", kind="full", night="2026-10-01").json
    assert past == {"forecast": False, "starts": []}


# --- drafts side by side ----------------------------------------------------------------------


def test_drafts_are_renamed_copied_and_thrown_away(client, plan_url):
    draft = draft_of(client, plan_url, "one", change(priority=4))
    url = f"/api/v1/drafts/{draft['id']}"
    renamed = request(client, "PATCH", url, draft, {"name": "spring"}).json
    assert (renamed["name"], renamed["revision"]) == ("spring", draft["revision"] + 1)
    assert request(client, "PATCH", url, draft, {"name": "late"}).status_code == 412
    copy = client.post(f"{url}/copies", {"name": "another way"}).json
    assert [c["words"] for c in copy["changes"]] == [c["words"] for c in draft["changes"]]
    assert request(client, "DELETE", url, draft).status_code == 412
    assert request(client, "DELETE", url, renamed).status_code == 204
    assert client.get(url).status_code == 404
    assert client.get(f"/api/v1/drafts/{copy['id']}").status_code == 200


def test_who_saves_second_is_told_what_met(client, plan_url):
    draft = draft_of(client, plan_url, "shared")
    theirs = saved(client, draft, change(priority=5, verify="boot"), change("mail", priority=1))
    assert theirs.status_code == 200
    answer = saved(client, draft, change(priority=1, share=2), change("ticketing-web", share=3))
    assert answer.status_code == 412
    body = answer.json
    assert [c["actor"] for c in body["theirs"]] == ["Planner", "Planner"]
    assert len(body["conflicts"]) == 1
    met = body["conflicts"][0]
    assert (met["index"], met["key"], met["id"]) == (0, "priority", JOB)
    assert "priority 5" in met["theirs"][0]
    again = saved(client, body["now"], change(share=2), change("ticketing-web", share=3))
    assert again.status_code == 200


def test_what_was_undone_meanwhile_is_told_too(client, plan_url):
    draft = draft_of(client, plan_url, "undone", change(priority=5))
    url = f"/api/v1/drafts/{draft['id']}/undo"
    assert client.post(url, If_Match=f'"{draft["revision"]}"').json["undone"]
    answer = saved(client, draft, change(share=2))
    assert [c["undone"] for c in answer.json["theirs"]] == [True]


def test_two_plans_are_compared_in_words_nights_and_findings(client, plan_url):
    move = {"operation": "MoveFull", "job": JOB, "schedule": 1, "days": 2}
    draft = draft_of(client, plan_url, "sunday", move)
    found = client.get(f"{plan_url}/compare/{FRIDAY}?other=draft:{draft['id']}").json
    assert [c["name"] for c in found["changes"]] == ["Office file servers"]
    assert "full on Sunday at 21:00" in found["changes"][0]["lines"][0]
    assert (found["one"]["name"], found["other"]["name"]) == ("Adopted plan", "sunday")
    ends = [side["nights"][4]["last_end"] for side in (found["one"], found["other"])]
    assert ends[1] < ends[0]
    assert found["came"] or found["went"]
    same = client.get(f"{plan_url}/compare/{FRIDAY}?other=adopted").json
    assert (same["changes"], same["came"], same["went"]) == ([], [], [])
    assert client.get(f"{plan_url}/compare/{FRIDAY}?other=mine").status_code == 422
    assert client.get(f"{plan_url}/compare/{FRIDAY}?other=version:99").status_code == 404


def test_what_can_never_work_is_not_adopted_by_accident(client, plan_url):
    draft = draft_of(client, plan_url, "broken", change(machines={}))
    found = client.get(f"{plan_url}/validation/{FRIDAY}?draft={draft['id']}").json
    assert [p["words"] for p in found["stops"]] == ["No machine is selected."]
    assert found["breaks"]
    url = f"/api/v1/drafts/{draft['id']}/adopt"
    tag = f'"{draft["revision"]}"'
    refused = client.post(url, {"note": ""}, If_Match=tag)
    assert refused.status_code == 422
    assert refused.json["errors"][0]["field"] == f"jobs.{JOB}.machines"
    assert client.post(url, {"despite": True}, If_Match=tag).status_code == 422
    assert client.get(f"/api/v1/drafts/{draft['id']}").status_code == 200


def test_what_was_adopted_is_kept_with_its_note_and_can_be_gone_back_from(client, plan_url):
    before = client.get(plan_url).json
    other = draft_of(client, plan_url, "waits", change("mail", share=2))
    draft = draft_of(client, plan_url, "spring", change(priority=5))
    url = f"/api/v1/drafts/{draft['id']}/adopt"
    head = client.post(url, {"note": "files first"}, If_Match=f'"{draft["revision"]}"').json
    first = client.get(f"{plan_url}/adoptions").json[0]
    assert (first["note"], first["in_force"], first["actor"]) == ("files first", True, "Planner")
    assert first["version"] == head["adopted_version"]
    late = f"/api/v1/drafts/{other['id']}"
    tag = f'"{other["revision"]}"'
    assert client.post(f"{late}/adopt", {}, If_Match=tag).status_code == 412
    carried = client.post(f"{late}/carry-over", If_Match=tag).json
    assert carried["base_version"] == head["adopted_version"]
    sides = f"one=version:{first['before_version']}&other=version:{first['version']}"
    compared = client.get(f"{plan_url}/compare/{FRIDAY}?{sides}").json
    assert compared["changes"][0]["lines"] == ["with priority 5 (was priority 2)"]
    back = client.post(f"{plan_url}/adoptions/{first['id']}/back", {"note": "too much"}).json
    after = client.get(plan_url).json
    assert after["adopted_version"] == back["adopted_version"] > head["adopted_version"]
    assert after["jobs"] == before["jobs"]
    assert client.get(f"{plan_url}/adoptions").json[0]["note"] == "too much"
    assert client.post(f"{plan_url}/adoptions/999/back", {}).status_code == 404


def test_nobody_without_a_session_edits_jobs(stranger, plan_url):
    assert stranger.get(f"{plan_url}/jobs").status_code == 401
    assert stranger.post(f"{plan_url}/jobs/look", {}).status_code == 401
    assert stranger.post(f"{plan_url}/templates", {"name": "x", "value": {}}).status_code == 401
