"""Calendars: what a calendar program reads is what the screens say, and updates in place."""

from __future__ import annotations

import io
import zipfile
from datetime import UTC, date, datetime, timedelta

import pytest
from icalendar import Calendar

from gambrel.api.app import current_planning, current_sessions
from gambrel.core.nights.nights import night_of, runs_of
from gambrel.core.plan.instants import parse_instant
from gambrel.store.plans import plan_head


def events(content):
    found = Calendar.from_ical(content)
    return {str(event["UID"]): event for event in found.walk("VEVENT")}


def test_nights_of_the_file_are_those_of_the_screens(app, client, plan_url):
    answer = client.get(f"{plan_url}/calendar.ics?what=nights and runs&nights=7")
    assert answer.status_code == 200
    assert answer.content_type.startswith("text/calendar")
    assert all(len(line) <= 75 for line in answer.data.split(b"\r\n")), "lines are folded"
    found = events(answer.data)
    shown = int(plan_url.rpartition("/")[2])
    with current_sessions(app)() as db:
        version = plan_head(db, shown).adopted_version
    forecaster = current_planning(app).version(version)
    nights = {uid: event for uid, event in found.items() if uid.startswith("night-")}
    assert len(nights) == 7
    for uid, event in nights.items():
        day = uid[len("night-") :].partition("@")[0]
        week = client.get(f"{plan_url}/weeks/{day}").json
        night = next(n for n in week["nights"] if n["date"] == day)
        assert f"Backups: {night['verdict']}" in str(event["SUMMARY"])
        ends = event["DTEND"].dt
        assert ends.utcoffset() == timedelta(0)
        assert abs(ends.timestamp() - parse_instant(night["last_end"])) <= 1
        whole = night_of(date.fromisoformat(day), forecaster.origin.zone)
        runs = [r for r in runs_of(forecaster.night(whole), whole) if r.began is not None]
        told = [uid for uid, event in found.items() if uid.startswith("run-") and _in(uid, whole)]
        assert len(told) == len(runs) > 0
    assert all(event["DTEND"].dt > event["DTSTART"].dt for event in found.values())


def _in(uid, night):
    """Whether the UID is of a run that is due in a night."""
    return night.holds(parse_instant(uid.partition("@")[0].split("-", 2)[2]))


def test_a_feed_is_read_without_signing_in_updates_and_ends(app, client, plan_url):
    made = client.post(f"{plan_url}/feeds", {"name": "phone", "what": "nights"})
    assert made.status_code == 201
    path = "/feeds/" + made.json["address"].rpartition("/")[2]
    http = app.test_client()
    first = http.get(path)
    assert first.status_code == 200
    again = http.get(path, headers={"If-None-Match": first.headers["ETag"]})
    assert again.status_code == 304
    before = events(first.data)
    # Another plan is adopted: the same nights, changed in place.
    draft = client.post(f"{plan_url}/drafts", {"name": "later"}).json
    job = client.get(plan_url).json["jobs"][0]["id"]
    change = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": {"priority": 5}}
    added = client.post(
        f"/api/v1/drafts/{draft['id']}/operations", {"operations": [change]},
        If_Match=f'"{draft["revision"]}"',
    )  # fmt: skip
    adopted = client.post(
        f"/api/v1/drafts/{draft['id']}/adopt", {"note": "for the feed"},
        If_Match=f'"{added.json["revision"]}"',
    )  # fmt: skip
    assert adopted.status_code == 200
    after = events(http.get(path).data)
    assert after.keys() == before.keys()
    for uid, event in after.items():
        assert event["SEQUENCE"] > before[uid]["SEQUENCE"]
    listed = client.get(f"{plan_url}/feeds").json["feeds"]
    assert listed[-1]["used_at"] is not None
    gone = client.http.delete(
        f"{plan_url}/feeds/{made.json['feed']['id']}", headers={"X-CSRF-Token": client.token}
    )
    assert gone.status_code == 204
    assert http.get(path).status_code == 404
    assert http.get("/feeds/guess.ics").status_code == 404


def test_a_feed_says_nothing_else(app, client, plan_url):
    address = client.post(f"{plan_url}/feeds", {"name": "one"}).json["address"]
    secret = address.rpartition("/")[2].removesuffix(".ics")
    http = app.test_client()
    for headers in (
        {"Authorization": f"Bearer {secret}"},
        {"Authorization": f"Bearer gt_{secret}"},
    ):
        assert http.get("/api/v1/plans", headers=headers).status_code == 401


@pytest.mark.parametrize("query", ["nights=0", "nights=99", "what=everything"])
def test_a_wrong_question_is_refused(client, plan_url, query):
    assert client.get(f"{plan_url}/calendar.ics?{query}").status_code == 422


def test_stamps_are_of_the_adoption_so_that_nothing_changes_by_itself(client, plan_url):
    one = client.get(f"{plan_url}/calendar.ics").data
    assert client.get(f"{plan_url}/calendar.ics").data == one
    for event in events(one).values():
        assert event["DTSTAMP"].dt <= datetime.now(UTC)


def test_scripts_of_servers_come_as_one_file(client, plan_url):
    answer = client.get(f"{plan_url}/server-scripts.zip")
    assert answer.status_code == 200
    with zipfile.ZipFile(io.BytesIO(answer.data)) as archive:
        names = archive.namelist()
        crontabs = [name for name in names if name.endswith("/crontab")]
        assert crontabs
        text = archive.read(crontabs[0]).decode()
    assert "GAMBREL_URL=http://localhost" in text
    assert "report_run" in text
