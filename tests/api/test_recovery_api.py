"""Recovery over the API: a loss, better ways, recoveries by name, points, promises."""

from __future__ import annotations

import pytest

AT = "2026-11-07T02:00:00.000Z"
LOSS = {"at": AT, "clusters": ["quay-a"]}


def errors(response):
    return [(error["field"], error["reason"]) for error in response.json["errors"]]


def simulate(client, plan_url, loss=LOSS, way=None, **more):
    body = {"loss": loss, "way": way or {"at_once": 2}, **more}
    return client.post(f"{plan_url}/recoveries/simulated", body)


def delete(client, path):
    answer = client.http.delete(path, headers={"X-CSRF-Token": client.token})
    return answer.status_code


def test_what_can_be_lost_is_listed_with_its_machines(client, plan_url):
    found = client.get(f"{plan_url}/recoveries/subjects").json["subjects"]
    by_name = {(each["kind"], each["id"]): each for each in found}
    assert by_name["sites", "quay"]["machines"] == 181
    assert by_name["clusters", "quay-a"]["machines"] == 76
    assert by_name["repositories", "quay-disk"]["machines"] == 0


def test_a_cluster_is_lost_and_comes_back(client, plan_url):
    found = simulate(client, plan_url).json
    assert found["words"] == "cluster quay-a: 76 machines"
    rows = found["machines"]
    assert len(rows) == 76 and all(row["outcome"] == "done" for row in rows)
    late = [row for row in rows if row["promise"] == "missed"]
    assert late and all(row["back"] > row["promised_by"] and row["late_s"] > 0 for row in late)
    for row in rows:
        assert AT <= row["start"] < row["ready"] <= row["back"] <= row["whole"]
    tiers = {tier["tier"]: tier for tier in found["tiers"]}
    assert sum(tier["late"] for tier in tiers.values()) == len(late)
    for tier in tiers.values():
        assert tier["bound"] <= tier["last_back"] and tier["bound_by"]
    assert found["loads"] and all(
        part["purpose"] == "restore" for load in found["loads"] for part in load["parts"]
    )


def test_a_recovery_is_rehearsed_and_looked_at_on_its_way(client, plan_url):
    asked = {"loss": LOSS, "way": {"at_once": 2}}
    whole = client.post(f"{plan_url}/recoveries/rehearsed", asked).json
    assert len(whole["machines"]) == 76 and {m["stage"] for m in whole["machines"]} == {"whole"}
    planned = simulate(client, plan_url).json["machines"]
    assert {m["machine"]: m["planned"] for m in whole["machines"]} == {
        m["machine"]: m["back"] for m in planned
    }
    early = client.post(f"{plan_url}/recoveries/rehearsed", {**asked, "at": AT}).json
    assert early["at"] == AT and "whole" not in {m["stage"] for m in early["machines"]}
    other = client.post(f"{plan_url}/recoveries/rehearsed", {**asked, "seed": 2}).json
    assert other["ends"] != whole["ends"]
    bad = client.post(f"{plan_url}/recoveries/rehearsed", {**asked, "seed": -1})
    assert bad.status_code == 422


def test_a_loss_of_a_site_says_what_was_never_copied(client, plan_url):
    found = simulate(client, plan_url, {"at": AT, "sites": ["quay"]}).json
    outcomes = {row["outcome"] for row in found["machines"]}
    assert outcomes == {"done", "no point"}
    assert "ticketing-apps" in found["copies_missing"]
    assert "ticketing-db" not in found["copies_missing"]


def test_copies_are_found_that_would_have_saved_what_is_lost(client, plan_url):
    loss = {"at": AT, "sites": ["quay"]}
    answer = client.post(f"{plan_url}/recoveries/copies", {"loss": loss})
    assert answer.status_code == 200, answer.json
    found = answer.json
    before = simulate(client, plan_url, loss, {"at_once": None}).json
    assert {each["job"] for each in found["copies"]} == set(before["copies_missing"])
    quay = {"quay-disk", "quay-dedupe", "quay-tape"}
    assert all(each["repository"] not in quay for each in found["copies"])
    back = sum(row["back"] is not None for row in before["machines"])
    assert found["back"] == back < found["back_then"]
    assert found["nights"], "copies cost the week something"
    # What it says is what a draft with these copies comes to.
    draft = client.post(f"{plan_url}/drafts", {"name": "copies that help"}).json
    saved = client.post(
        f"/api/v1/drafts/{draft['id']}/operations",
        {"operations": found["operations"]},
        If_Match=f'"{draft["revision"]}"',
    )
    assert saved.status_code == 200, saved.json
    with_it = simulate(client, plan_url, loss, {"at_once": None}, draft=draft["id"]).json
    assert sum(row["back"] is not None for row in with_it["machines"]) == found["back_then"]
    none = client.post(f"{plan_url}/recoveries/copies", {"loss": LOSS}).json
    assert (none["copies"], none["operations"], none["nights"]) == ([], [], [])
    assert none["back"] == none["back_then"] == 76


def test_a_draft_with_a_copy_saves_what_the_adopted_plan_loses(client, plan_url):
    draft = client.post(f"{plan_url}/drafts", {"name": "copies"}).json
    job = next(
        each for each in client.get(f"{plan_url}/file").json["jobs"]
        if each["id"] == "ticketing-apps"
    )  # fmt: skip
    copies = [{"repository": "hill-disk", "retention": job["retention"]}]
    change = {
        "operation": "ChangeItem", "list": "jobs", "id": "ticketing-apps",
        "changes": {"copies": copies},
    }  # fmt: skip
    made = client.post(
        f"/api/v1/drafts/{draft['id']}/operations",
        {"operations": [change]},
        If_Match=f'"{draft["revision"]}"',
    )
    assert made.status_code == 200, made.json
    loss = {"at": "2026-11-10T02:00:00Z", "sites": ["quay"]}
    was = simulate(client, plan_url, loss).json
    now = simulate(client, plan_url, loss, draft=draft["id"]).json

    def back(found):
        return {row["machine"] for row in found["machines"] if row["back"]}

    assert back(was) < back(now)
    assert "ticketing-apps" in was["copies_missing"]
    assert "ticketing-apps" not in now["copies_missing"]


@pytest.mark.parametrize(
    ("loss", "way", "field"),
    [
        ({"at": AT}, {}, "loss"),
        ({"at": "tomorrow", "sites": ["quay"]}, {}, "loss.at"),
        ({"at": "2031-01-01T02:00:00Z", "sites": ["quay"]}, {}, "loss.at"),
        ({"at": AT, "hosts": ["ghost"]}, {}, "loss.hosts[0]"),
        ({"at": AT, "sites": ["quay"]}, {"to_site": "quay"}, "to_site"),
        ({"at": AT, "sites": ["quay"]}, {"begins": "2026-11-01T00:00:00Z"}, "begins"),
        ({"at": AT, "sites": ["quay"]}, {"at_once": 0}, "way.at_once"),
        ({"at": AT, "sites": ["quay"]}, {"targets": {"gate-01": "qa-h1"}}, "targets.gate-01"),
    ],
)
def test_what_cannot_be_is_refused_by_name(client, plan_url, loss, way, field):
    found = simulate(client, plan_url, loss, way)
    assert found.status_code == 422
    assert errors(found)[0][0] == field


def test_losing_everything_is_answered(client, plan_url):
    sites = [site["id"] for site in client.get(f"{plan_url}/file").json["sites"]]
    found = simulate(client, plan_url, {"at": AT, "sites": sites}).json
    assert {row["outcome"] for row in found["machines"]} == {"no target"}
    assert all(row["back"] is None for row in found["machines"])


def test_better_ways_are_told_with_what_they_bring(client, plan_url):
    body = {"loss": LOSS, "way": {"at_once": 2}}
    found = client.post(f"{plan_url}/recoveries/proposals", body).json["proposals"]
    best = found[0]
    assert best["late"] < best["late_before"]
    again = simulate(client, plan_url, way=best["way"]).json
    late = sum(row["promise"] == "missed" for row in again["machines"])
    assert late == best["late"]
    assert max(row["back"] for row in again["machines"]) == best["last_back"]


def test_recoveries_are_kept_by_name_replaced_and_forgotten(client, plan_url):
    url = f"{plan_url}/recoveries"
    made = client.post(url, {"name": "Cluster", "loss": LOSS, "way": {"at_once": 2}})
    assert made.status_code == 201
    again = client.post(url, {"name": "cluster ", "loss": LOSS, "way": {"at_once": 8}})
    assert again.json["id"] == made.json["id"]
    (kept,) = client.get(url).json
    assert (kept["name"], kept["way"]["at_once"]) == ("cluster", 8)
    assert kept["loss"]["clusters"] == ["quay-a"]
    bad = client.post(url, {"name": " ", "loss": LOSS, "way": {}})
    assert bad.status_code == 422 and errors(bad)[0][0] == "name"
    assert delete(client, f"{url}/{kept['id']}") == 204
    assert client.get(url).json == []
    assert delete(client, f"{url}/{kept['id']}") == 404


def test_points_of_a_machine_and_a_restore_in_the_night(client, plan_url):
    url = f"{plan_url}/machines/ticketing-db-06"
    found = client.get(f"{url}/points?at={AT}").json["points"]
    newest = max(found, key=lambda point: point["at"])
    assert newest["way"]["full_s"] > newest["way"]["instant_s"] > 0
    elsewhere = client.get(f"{url}/points?at={AT}&to_host=nk-h1").json["points"]
    slower = max(elsewhere, key=lambda point: point["at"])
    assert slower["way"]["full_s"] > newest["way"]["full_s"]
    asked = {"night": "2026-11-06", "at": AT, "method": "instant",
             "point": {key: newest[key] for key in ("job", "repository", "at")}}  # fmt: skip
    tried = client.post(f"{url}/restore-in-a-night", asked).json
    assert tried["outcome"] == "done"
    assert AT <= tried["start"] < tried["back"] < tried["whole"]
    assert tried["was"]["date"] == tried["night"]["date"] == "2026-11-06"
    outside = client.post(f"{url}/restore-in-a-night", {**asked, "night": "2026-11-05"})
    assert outside.status_code == 422 and errors(outside)[0][0] == "at"
    assert client.get(f"{plan_url}/machines/ghost/points?at={AT}").status_code == 404


def test_promises_of_a_week(client, plan_url):
    found = client.get(f"{plan_url}/promises/2026-11-06").json
    assert found["dates"][0] == "2026-11-02" and len(found["dates"]) == 7
    machines = {each["machine"]: each for each in found["machines"]}
    assert len(machines) == 237
    friday = machines["ticketing-db-01"]["nights"][4]
    assert friday["rpo_met"] is True and friday["exposure_s"] > 24 * 3600
    assert friday["rto_met"] is True
    late = [m for m in machines.values() if m["nights"][4]["rto_met"] is False]
    assert late and all(
        m["nights"][4]["restore_s"] is None or m["nights"][4]["restore_s"] > m["rto_s"]
        for m in late
    )


def test_nobody_sees_a_recovery_without_signing_in(stranger, plan_url):
    assert stranger.get(f"{plan_url}/recoveries").status_code == 401
    assert simulate(stranger, plan_url).status_code in (400, 401)
