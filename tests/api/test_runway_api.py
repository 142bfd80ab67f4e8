"""The months ahead over the API: space, what keeps it below, tiers, occupancy, growth, purchase."""

from __future__ import annotations

import csv
import io
from concurrent.futures import ThreadPoolExecutor

import pytest
from api_client import Client
from openpyxl import load_workbook

from gambrel.api.app import current_sessions
from gambrel.core.plan.reading import read_plan
from gambrel.core.runway.occupancy import GROUPINGS
from gambrel.core.units import GIB
from gambrel.demo import larkmoor


def ask(client, plan_url, **more):
    answer = client.post(f"{plan_url}/runway", {"months": 18, **more})
    assert answer.status_code == 200, answer.json
    return answer.json


def by_id(told):
    return {repository["id"]: repository for repository in told["repositories"]}


def errors(response):
    return [(error["field"], error["reason"]) for error in response.json["errors"]]


def wait_for(app, client, begun):
    app.extensions["gambrel-computations"].wait(begun["id"])
    return client.get(f"/api/v1/computations/{begun['id']}").json


def test_space_by_job_the_roof_and_the_date(client, plan_url):
    told = ask(client, plan_url, feared=0.6)
    disk = by_id(told)["quay-disk"]
    assert disk["full_at"] is not None
    assert disk["feared_full_at"] < disk["full_at"]
    assert told["sentence"].startswith("quay-disk is full on ")
    for repository in told["repositories"]:
        parts = [*(job["gib"] for job in repository["jobs"]), repository["rest_gib"]]
        for i, total in enumerate(repository["gib"]):
            assert sum(part[i] for part in parts) == pytest.approx(total, abs=0.2)
    assert any("Calendar holidays ends on 26 December 2026" in note for note in told["notes"])
    assert [a["active"] for a in told["assumptions"]] == [False, False]


def test_an_unsaved_retention_moves_the_date(client, plan_url):
    before = by_id(ask(client, plan_url))["quay-disk"]
    change = {
        "operation": "ChangeItem", "list": "jobs", "id": "cctv-store",
        "changes": {"retention": {"points": 30}},
    }  # fmt: skip
    after = by_id(ask(client, plan_url, operations=[change]))["quay-disk"]
    assert after["full_at"] < before["full_at"]
    switched = {
        "operation": "ChangeItem", "list": "assumptions", "id": "Spring fleet",
        "changes": {"active": True},
    }  # fmt: skip
    more = ask(client, plan_url, operations=[switched])
    assert by_id(more)["quay-disk"]["full_at"] < before["full_at"]
    (spring,) = [a for a in more["assumptions"] if a["id"] == "Spring fleet"]
    assert spring["machines"] == 10
    assert spring["words"] == ("40 machines like machines tagged telemetry join on 1 March 2027")


def test_what_would_keep_it_below(client, plan_url):
    answer = client.post(
        f"{plan_url}/runway/below", {"months": 12, "repository": "quay-disk", "part": 0.9}
    )
    told = answer.json
    assert told["peak_gib"] > told["most_gib"]
    enough = [c for c in told["candidates"] if c["enough"]]
    assert enough and told["candidates"][0]["enough"]
    for candidate in enough:
        assert candidate["peak_gib"] <= told["most_gib"]
        assert candidate["costs"] and candidate["operations"]
        if not candidate["drops_points"]:
            # What is offered is what the plan then does.
            after = ask(client, plan_url, months=12, operations=candidate["operations"])
            assert by_id(after)["quay-disk"]["peak_gib"] == pytest.approx(
                candidate["peak_gib"], abs=0.1
            )


@pytest.mark.parametrize(
    ("body", "field"),
    [
        ({"repository": "no such"}, "repository"),
        ({"repository": "quay-disk", "part": 0}, "part"),
        ({"repository": "quay-disk", "months": 60}, "months"),
        ({"repository": "quay-disk", "feared_growth": -2}, "feared_growth"),
    ],
)
def test_a_wrong_question_is_refused_by_its_field(client, plan_url, body, field):
    answer = client.post(f"{plan_url}/runway/below", body)
    assert answer.status_code == 422
    assert field in [name for name, _ in errors(answer)]


def test_an_assumption_that_cannot_be_is_refused_by_its_key(client, plan_url):
    rule = [[{"field": "folder", "op": "is", "value": "lab"}]]
    for value, field in (
        ({"kind": "grows", "rules": rule}, "growth_per_year"),
        ({"kind": "joins", "rules": rule}, "on"),
        ({"kind": "joins", "rules": rule, "on": "2027-03-01", "count": 0}, "count"),
        ({"kind": "grows", "rules": rule, "growth_per_year": -3}, "growth_per_year"),
        ({"kind": "leaves", "rules": [], "on": "2027-03-01"}, "rules"),
        ({"kind": "leaves", "rules": rule, "on": "2027-02-30"}, "on"),
    ):
        operation = {
            "operation": "AddItem", "list": "assumptions", "value": {"id": "new", **value},
        }  # fmt: skip
        answer = client.post(f"{plan_url}/runway", {"operations": [operation]})
        assert answer.status_code == 422, value
        assert any(field in name for name, _ in errors(answer)), errors(answer)


def test_tiers_month_by_month_and_what_they_cost(client, plan_url):
    told = client.post(f"{plan_url}/runway/tiers/quay-dedupe", {"months": 24}).json
    first, shelf = told["tiers"]
    assert (first["id"], shelf["id"], shelf["delay_min"]) == ("", "deep shelf", 240)
    months = [month["month"] for month in shelf["months"]]
    assert months == sorted(months) and len(months) >= 24
    last = shelf["months"][-2]
    assert last["gib"] > 0 and last["paid_gib"] >= last["gib"]
    assert last["cost"] == pytest.approx(last["paid_gib"] / 1024 * 2.5, rel=0.05)
    held = client.post(f"{plan_url}/runway/tiers/hill-disk", {}).json
    assert held["immutable_days"] == 7 and held["held_gib"] > 0
    assert held["held_until"] > "2026-11"
    assert client.post(f"{plan_url}/runway/tiers/nowhere", {}).status_code == 404


GROUPS = (
    "machine",
    "folder",
    "tag",
    "tier",
    "role",
    "kind",
    "site",
    "cluster",
    "repository",
    "job",
)


@pytest.mark.parametrize("by", GROUPINGS)
def test_occupancy_matches_the_estate_and_the_points(client, plan_url, by):
    told = client.post(f"{plan_url}/runway/occupancy", {"by": by}).json
    plan = read_plan(larkmoor())
    total = told["total"]
    assert total["machines"] == len(plan.machines)
    used = sum(d.used_gib for m in plan.machines for d in m.disks) * GIB
    provisioned = sum(d.provisioned_gib for m in plan.machines for d in m.disks) * GIB
    assert total["used_bytes"] == pytest.approx(used, rel=1e-12)
    assert total["provisioned_bytes"] == pytest.approx(provisioned, rel=1e-12)
    stored = sum(p.stored_bytes for p in plan.state.points)
    assert total["stored_bytes"] + total["copies_bytes"] == pytest.approx(stored, abs=1)
    if by not in ("tag", "job", "repository"):
        for key in ("machines", "used_bytes", "stored_bytes", "copies_bytes", "read_bytes"):
            parts = sum(group[key] for group in told["groups"])
            assert parts == pytest.approx(total[key], rel=1e-9, abs=1)
    for name, amount in total["repositories"].items():
        points = sum(p.stored_bytes for p in plan.state.points if p.repository == name)
        assert amount == pytest.approx(points, abs=1)


def test_occupancy_of_a_day_to_come_is_that_of_the_curves(client, plan_url):
    day = "2027-03-01"
    told = client.post(f"{plan_url}/runway/occupancy", {"by": "folder", "day": day}).json
    runway = ask(client, plan_url, months=4)
    for repository in runway["repositories"]:
        amount = told["total"]["repositories"].get(repository["id"], 0.0)
        assert amount / GIB <= repository["peak_gib"] + 0.01
    assert told["total"]["read_bytes"] > 0
    assert told["total"]["cost"] is not None
    late = client.post(f"{plan_url}/runway/occupancy", {"by": "folder", "day": "2035-03-01"})
    assert late.status_code == 422 and errors(late)[0][0] == "day"


def test_occupancy_as_files(client, plan_url):
    query = "by=folder&over_months=true&months=3"
    text = client.get(f"{plan_url}/runway/occupancy.csv?{query}").text
    rows = list(csv.DictReader(io.StringIO(text)))
    days = sorted({row["day"] for row in rows})
    assert len(days) == 4 and days[1].endswith("-01")
    for day in days:
        mine = [row for row in rows if row["day"] == day]
        whole = next(row for row in mine if row["folder"] == "all")
        parts = sum(int(row["stored_bytes"]) for row in mine if row["folder"] != "all")
        assert parts == pytest.approx(int(whole["stored_bytes"]), abs=len(mine))
    book = client.get(f"{plan_url}/runway/occupancy.xlsx?{query}")
    sheet = load_workbook(io.BytesIO(book.data)).active
    assert sheet.max_row == len(rows) + 1
    assert sheet["A1"].value == "day"


@pytest.mark.long
def test_nights_of_the_months_and_the_purchase(app, client, plan_url):
    begun = client.post(f"{plan_url}/nights-ahead", {"months": 3}).json
    told = wait_for(app, client, begun)
    assert told["state"] == "done", told
    assert told["result"]["breaks"] == {"night": "2026-11"}
    first = told["result"]["months"][0]
    night = next(w for w in first["windows"] if w["window"] == "night")
    assert night["verdict"] == "over" and night["first_over"] == "2026-11-06"
    assert night["reason"]["job"] and night["over_s"] > 0
    begun = client.post(f"{plan_url}/purchases", {"months": 9, "reserve": 0.1}).json
    bought = wait_for(app, client, begun)
    assert bought["state"] == "done", bought
    result = bought["result"]
    (space,) = [item for item in result["space"] if item["subject"] == "quay-disk"]
    assert space["order_by"] < space["needed_by"] and space["price"] == space["amount"] * 310
    assert result["items"]
    # With what is bought in it, the plan has room and the first month holds.
    operations = [o for item in (*result["space"], *result["items"]) for o in item["operations"]]
    after = by_id(ask(client, plan_url, months=9, operations=operations))["quay-disk"]
    assert after["peak_gib"] <= after["capacity_gib"] * 0.9 + 1
    text = client.get(f"{plan_url}/runway/purchase.csv?computation={begun['id']}").text
    rows = list(csv.DictReader(io.StringIO(text)))
    assert len(rows) == len(result["space"]) + len(result["items"])
    assert [row["order_by"] for row in rows] == sorted(row["order_by"] for row in rows)
    book = client.get(f"{plan_url}/runway/purchase.xlsx?computation={begun['id']}")
    assert load_workbook(io.BytesIO(book.data)).active.max_row == len(rows) + 1
    wrong = client.get(f"{plan_url}/runway/purchase.csv?computation=1000000")
    assert wrong.status_code == 404


def test_volumes_of_a_pool_are_drawn_by_job(client, plan_url):
    def change(repository, **changes):
        return {
            "operation": "ChangeItem",
            "list": "repositories",
            "id": repository,
            "changes": changes,
        }

    pool = [{"id": "left", "capacity_gib": 40_000}, {"id": "right", "capacity_gib": 60_000}]
    split = [change("quay-disk", volumes=pool, capacity_gib=None, placement="most free")]
    life = by_id(ask(client, plan_url, operations=split))["quay-disk"]
    assert [volume["id"] for volume in life["volumes"]] == ["left", "right"]
    now = sum(volume["now_gib"] for volume in life["volumes"])
    assert now == pytest.approx(life["now_gib"], abs=0.01)
    for volume in life["volumes"]:
        parts = [sum(at) for at in zip(*(job["gib"] for job in volume["jobs"]), strict=True)]
        whole = [a + b for a, b in zip(parts, volume["rest_gib"], strict=True)]
        assert whole == pytest.approx(volume["gib"], abs=0.1)
        assert max(volume["gib"]) == pytest.approx(volume["peak_gib"], abs=0.01)


def test_growth_says_where_too_few_fulls_are_known(client, plan_url):
    told = client.get(f"{plan_url}/runway/growth").json
    assert told["machines"] == [] and told["without"] > 200


def test_two_plans_and_two_questions_do_not_mix(client, plan_url, app):
    with current_sessions(app)() as db:
        assert db is not None
    one = by_id(ask(client, plan_url))["quay-disk"]
    other = by_id(ask(client, plan_url, feared_growth=0.5))["quay-disk"]
    again = by_id(ask(client, plan_url))["quay-disk"]
    assert one == again
    assert other["full_at"] < one["full_at"]


def test_many_at_once_are_each_given_their_own_answer(app, client, plan_url):
    def full_at(points, asking):
        change = {
            "operation": "ChangeItem", "list": "jobs", "id": "fleet-telemetry",
            "changes": {"retention": {"points": points}},
        }  # fmt: skip
        return by_id(ask(asking, plan_url, months=12, operations=[change]))["quay-disk"]["peak_gib"]

    kept = [3, 8, 15, 22, 30, 38]
    alone = [full_at(points, client) for points in kept]
    assert len(set(alone)) > 3

    def asked(points):
        mine = Client(app)
        mine.sign_in()
        return full_at(points, mine)

    with ThreadPoolExecutor(3) as pool:
        together = list(pool.map(asked, [*kept, *reversed(kept)]))
    assert together == [*alone, *reversed(alone)]
