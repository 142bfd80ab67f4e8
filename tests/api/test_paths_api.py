"""Paths, reach, windows, calendars and sizing through the API."""

import io

import pytest

FRIDAY = "2026-11-06"


def by_id(items):
    return {item["id"]: item for item in items}


def preview(client, plan_url, *operations):
    body = {"operations": list(operations), "night": FRIDAY}
    return client.post(f"{plan_url}/preview", body)


def change(kind, ident, **changes):
    return {"operation": "ChangeItem", "list": kind, "id": ident, "changes": changes}


# --- the map ----------------------------------------------------------------------------------


def test_the_map_tells_what_everything_is_and_who_uses_it(client, plan_url):
    body = client.get(f"{plan_url}/paths/{FRIDAY}").json
    p2 = by_id(body["proxies"])["quay-p2"]
    assert p2["value"]["slots"] == 8
    assert "job ticketing-web" in p2["used_by"]
    assert p2["loads"] == ["slots:proxy:quay-p2", "proxy:quay-p2"]
    assert by_id(body["links"])["quay-hill"]["notes"] == [
        "What it carries leaves a site unencrypted."
    ]
    assert by_id(body["links"])["quay-lan"]["notes"] == []
    disk = by_id(body["repositories"])["quay-disk"]
    assert disk["points"] > 0
    assert disk["used_bytes"] > 2**40
    flow = {(f["from"], f["to"]): f for f in body["flows"]}
    assert flow["datastore:qb-main", "proxy:quay-p2"]["by"] == "direct"
    assert flow["proxy:quay-p2", "repository:quay-disk"]["over"] == ["quay-lan"]
    assert flow["repository:quay-disk", "repository:hill-disk"]["by"] == "copy"


def test_loads_of_a_night_come_in_quarters_of_an_hour(client, plan_url):
    body = client.get(f"{plan_url}/paths/{FRIDAY}/loads").json
    load = next(entry for entry in body["loads"] if entry["name"] == "link:quay-hill")
    assert len(load["total"]) == len(load["capacity"]) == len(load["waiting"]) == 96
    assert set(load["capacity"]) == {400, 2000}
    assert load["capacity"][0] == 400
    assert max(load["total"]) == pytest.approx(load["peak"], abs=0.01)


def test_loads_with_an_edit_that_is_not_saved(client, plan_url):
    def peak(*operations):
        body = {"night": FRIDAY, "operations": list(operations)}
        loads = client.post(f"{plan_url}/paths/loads", body).json["loads"]
        return next(entry["peak"] for entry in loads if entry["name"] == "proxy:quay-p2")

    assert peak() == pytest.approx(720)
    assert 720 < peak(change("proxies", "quay-p2", mib_per_s=900)) <= 900.001


def test_the_week_of_a_load_says_who_makes_it(client, plan_url):
    url = f"{plan_url}/paths/{FRIDAY}/week?name=link:quay-hill"
    body = client.get(url).json
    assert len(body["nights"]) == 7
    amounts = [user["amount"] for user in body["users"]]
    assert amounts == sorted(amounts, reverse=True)
    assert amounts[0] > 2**30
    assert client.get(f"{plan_url}/paths/{FRIDAY}/week?name=link:none").status_code == 422


# --- edits ------------------------------------------------------------------------------------


def test_an_edit_of_a_proxy_is_previewed_and_saved_in_a_draft(client, plan_url):
    edit = change("proxies", "quay-p2", slots=4)
    seen = preview(client, plan_url, edit).json
    assert seen["words"] == ["proxy quay-p2: slots 4 (was 8)"]
    draft = client.post(f"{plan_url}/drafts", {"name": "less"}).json
    saved = client.post(
        f"/api/v1/drafts/{draft['id']}/operations", {"operations": [edit]}, If_Match='"1"'
    )
    assert saved.status_code == 200, saved.json
    body = client.get(f"{plan_url}/paths/{FRIDAY}?draft={draft['id']}").json
    assert by_id(body["proxies"])["quay-p2"]["value"]["slots"] == 4


@pytest.mark.parametrize(
    ("operation", "field"),
    [
        (change("proxies", "quay-p2", slots=0), "slots"),
        (change("links", "quay-hill", mbit_per_s=0), "mbit_per_s"),
        (change("links", "quay-hill", between=["quay", "nowhere"]), "between[1]"),
        (change("links", "quay-hill", mbit_per_s=300), "limits[0].mbit_per_s"),
        (change("windows", "night", open=[], exceptions=[]), "open"),
        (change("repositories", "quay-disk", capacity_gib=0), "capacity_gib"),
        (change("repositories", "quay-disk", colour="red"), "colour"),
        (change("proxies", "quay-p1", on_host="ha-h1"), "on_host"),
        (change("proxies", "quay-p9", slots=1), "id"),
        (change("proxies", "quay-p1", id="other"), "id"),
        (change("machines", "mail-01", folder=""), "list"),
        ({"operation": "RemoveItem", "list": "proxies", "id": "quay-p2"}, "id"),
        ({"operation": "RemoveItem", "list": "repositories", "id": "quay-disk"}, "id"),
        (
            {"operation": "AddItem", "list": "proxies",
             "value": {"id": "quay-p1", "site": "quay", "slots": 1}},
            "id",
        ),
        (
            {"operation": "AddItem", "list": "proxies", "value": {"id": "new", "site": "quay"}},
            "slots",
        ),
        ({"operation": "AddItem", "list": "proxies", "value": "no"}, "operations.0.value"),
        ({"operation": "ChangeItem", "list": "proxies", "id": "quay-p1"}, "operations[0].changes"),
        (
            {"operation": "SetWindow", "job": "mail", "window": "never", "at_window_end": "stop"},
            "window",
        ),
    ],
)  # fmt: skip
def test_what_cannot_be_is_refused_by_name_and_nothing_is_lost(client, plan_url, operation, field):
    answer = preview(client, plan_url, operation)
    assert answer.status_code == 422
    error = answer.json["errors"][0]
    assert error["field"] == field
    assert error["reason"]


# --- reach ------------------------------------------------------------------------------------


def test_the_reach_table_says_by_which_transport_and_why(client, plan_url):
    body = client.get(f"{plan_url}/reach?by=datastore").json
    row = next(row for row in body["rows"] if row["name"] == "qb-main")
    cell = {cell["proxy"]: cell for cell in row["cells"]}
    assert cell["quay-p2"]["best"] == "direct"
    assert cell["quay-p3"]["best"] == "hot_add"
    assert cell["quay-p1"]["best"] == "network"
    assert cell["quay-p2"]["jobs"]
    why = client.get(f"{plan_url}/reach/why?by=datastore&group=qb-main&proxy=quay-p1").json
    assert why["reasons"][0]["why"] == [
        "direct: no, it is not connected to qb-main",
        "hot-add: no, it runs on no host",
        "network: yes, both stand at quay",
    ]
    assert client.get(f"{plan_url}/reach/why?group=x&proxy=none").status_code == 404


# --- windows and calendars --------------------------------------------------------------------


def test_windows_tell_what_happens_at_their_end(client, plan_url):
    body = client.get(f"{plan_url}/windows/{FRIDAY}").json
    night = by_id(body["windows"])["night"]
    assert night["openings"][0]["opens"].startswith("2026-11-06")
    assert {abs(change["clock_moves_s"]) for change in night["clock_changes"]} == {3600}
    assert night["jobs"]
    assert night["touching"][0]["left_s"] < 0
    assert [touch["left_s"] for touch in night["touching"]] == sorted(
        touch["left_s"] for touch in night["touching"]
    )


def send_ics(client, plan_url, content):
    return client.http.post(
        f"{plan_url}/calendars/read",
        data={"file": (io.BytesIO(content), "holidays.ics")},
        headers={"X-CSRF-Token": client.token},
    )


def test_holidays_are_read_from_a_calendar_file(client, plan_url):
    event = "BEGIN:VEVENT\r\nSUMMARY:Harbour day\r\nDTSTART;VALUE=DATE:20200317\r\n{}END:VEVENT\r\n"
    file = "BEGIN:VCALENDAR\r\n{}END:VCALENDAR\r\n"
    good = send_ics(
        client, plan_url, file.format(event.format("RRULE:FREQ=YEARLY\r\n")).encode()
    ).json
    assert good["problems"] == []
    assert [entry["date"][5:] for entry in good["dates"]] == ["03-17"] * 3
    bad = send_ics(client, plan_url, file.format(event.format("RRULE:FREQ=ODD\r\n")).encode()).json
    assert (bad["dates"], bad["problems"][0]["event"]) == ([], "Harbour day")
    refused = send_ics(client, plan_url, b"hello")
    assert refused.status_code == 422
    assert refused.json["errors"][0]["value"] == "holidays.ics"


# --- sizing -----------------------------------------------------------------------------------


def test_sizing_advice_was_simulated_and_does_what_it_says(client, plan_url):
    asked = {"night": FRIDAY}
    body = client.post(f"{plan_url}/sizing", asked).json
    assert body["state"]["verdict"] == "over"
    assert "Proxy quay-p2" in body["pressed"]
    assert all(need["share"] < 1 for need in body["needs"])
    keys = [remedy["key"] for remedy in body["remedies"]]
    helped = client.post(f"{plan_url}/sizing/try", {**asked, "key": "proxy like quay-p2"}).json
    assert helped["helps"]
    assert helped["after"]["over_s"] < body["state"]["over_s"]
    seen = client.post(f"{plan_url}/sizing", {**asked, "operations": helped["operations"]}).json
    assert seen["state"] == helped["after"]
    spare = client.post(f"{plan_url}/sizing/try", {**asked, "key": "without quay-p4"}).json
    assert (spare["helps"], spare["operations"]) == (False, [])
    assert "slots at quay-p2" in keys
    missing = client.post(f"{plan_url}/sizing/try", {**asked, "key": "none"})
    assert missing.status_code == 404


# --- drafts of items --------------------------------------------------------------------------


def test_edits_of_different_keys_of_one_proxy_do_not_undo_one_another(client, plan_url):
    url = f"/api/v1/drafts/{client.post(f'{plan_url}/drafts', {'name': 'two'}).json['id']}"

    def save(edit, revision):
        body = {"operations": [edit]}
        return client.post(f"{url}/operations", body, If_Match=f'"{revision}"')

    first = save(change("proxies", "quay-p2", slots=6), 1).json
    late = save(change("proxies", "quay-p2", cores=6), 1)
    assert late.status_code == 412
    assert late.json["now"]["revision"] == first["revision"]
    both = save(change("proxies", "quay-p2", cores=6), first["revision"]).json
    assert [entry["words"] for entry in both["changes"]] == [
        "proxy quay-p2: slots 6 (was 8)",
        "proxy quay-p2: cores 6 (was not known)",
    ]
    paths = f"{plan_url}/paths/{FRIDAY}?draft={both['id']}"
    shown = by_id(client.get(paths).json["proxies"])["quay-p2"]
    assert (shown["value"]["slots"], shown["value"]["cores"]) == (6, 6)
    assert (shown["advised_slots"], shown["advised_by"]) == (6, "6 cores")
    undone = client.post(f"{url}/undo", If_Match=f'"{both["revision"]}"').json
    assert len(undone["changes"]) == 1


def test_a_pool_of_volumes_shows_what_is_on_each(client, plan_url):
    draft = client.post(f"{plan_url}/drafts", {"name": "pool"}).json
    volumes = [{"id": f"shelf-{i}", "capacity_gib": 50_000} for i in range(3)]
    edit = change("repositories", "quay-disk", capacity_gib=None, volumes=volumes)
    client.post(f"/api/v1/drafts/{draft['id']}/operations", {"operations": [edit]}, If_Match='"1"')
    body = client.get(f"{plan_url}/paths/{FRIDAY}?draft={draft['id']}").json
    shown = by_id(body["repositories"])["quay-disk"]["volumes"]
    assert [v["volume"] for v in shown] == ["shelf-0", "shelf-1", "shelf-2"]
    used = [v["used_bytes"] for v in shown]
    assert max(used) - min(used) < 0.35 * max(used)
    assert all(v["full_at"] is None for v in shown)


def test_a_link_and_a_site_are_added_and_the_night_is_simulated_with_them(client, plan_url):
    site = {"operation": "AddItem", "list": "sites", "value": {"id": "isle", "time_zone": "UTC"}}
    link = {
        "operation": "AddItem", "list": "links",
        "value": {"id": "cable", "between": ["quay", "isle"], "mbit_per_s": 50},
    }  # fmt: skip
    seen = preview(client, plan_url, site, link)
    assert seen.json["words"] == ["site isle is new", "link cable is new"]
    assert preview(client, plan_url, link).status_code == 422


def test_nobody_sees_paths_without_signing_in(stranger, plan_url):
    for path in (f"paths/{FRIDAY}", f"paths/{FRIDAY}/loads", "reach", f"windows/{FRIDAY}"):
        assert stranger.get(f"{plan_url}/{path}").status_code == 401
    assert stranger.post(f"{plan_url}/sizing", {"night": FRIDAY}).status_code == 401
