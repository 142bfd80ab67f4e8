"""Restore tests over the API: the rota, orders to the runner, results, marks on points."""

from datetime import date

import pytest
from plans import DAY, small_plan
from runs_told import as_planned

from gambrel.core.nights.nights import night_of
from gambrel.core.plan.instants import format_instant, parse_instant

PLAN = small_plan()
NIGHT = night_of(date(2026, 11, 6), "Europe/Dublin")
ROTA = {
    "rules": [{"tier": "no tier", "every_days": 7}],
    "at_once": 1,
    "days": ["mon", "tue", "wed", "thu", "fri", "sat", "sun"],
}


@pytest.fixture
def played(runner):
    """Two nights are over, and the runner's clock stands at noon."""
    performance = as_planned(PLAN, NIGHT.start)
    runner.post([], clock=NIGHT.start)
    for at in (NIGHT.end, NIGHT.end + DAY):
        answer = runner.post(performance.advance(at), clock=at)
        assert answer.json["refused"] == []
    return performance


def set_rota(client, url, **more):
    return client.http.put(
        f"{url}/restore-tests/rota", json={**ROTA, **more},
        headers={"X-CSRF-Token": client.token},
    )  # fmt: skip


def points(client, url, machine="gate"):
    at = format_instant(NIGHT.end + DAY + 60)
    return client.get(f"{url}/machines/{machine}/points?at={at}").json["points"]


def mark(client, url, point, machine="gate", **more):
    body = {
        "machine": machine, "good": False, "note": "does not boot",
        **{key: point[key] for key in ("job", "repository", "at")},
    }  # fmt: skip
    return client.post(f"{url}/point-checks", {**body, **more})


def errors(answer):
    return [(error["field"], error["reason"]) for error in answer.json["errors"]]


def test_without_a_rota_nothing_is_laid_out(client, url):
    found = client.get(f"{url}/restore-tests").json
    assert (found["rota"], found["days"], found["record"]) == (None, [], [])
    assert found["tiers"] == ["no tier"]


def test_a_rota_lays_tests_out_in_free_hours(client, url, played):
    answer = set_rota(client, url)
    assert answer.status_code == 200, answer.json
    found = client.get(f"{url}/restore-tests").json
    assert found["rota"]["rules"] == ROTA["rules"]
    tests = [(day, test) for day in found["days"] for test in day["tests"]]
    assert {test["machine"] for _, test in tests} == {"gate", "fares"}
    for day, test in tests:
        assert day["opens"] <= test["starts"] < test["ends"] <= day["closes"]
        assert any(f["start"] <= test["starts"] and test["ends"] <= f["end"] for f in day["free"])


@pytest.mark.parametrize(
    ("more", "field"),
    [
        ({"opens": "16:00", "closes": "09:00"}, "closes"),
        ({"host": "nowhere"}, "host"),
        ({"rules": ROTA["rules"] * 2}, "rules[1].tier"),
        ({"rules": [{"tier": "gold", "every_days": 0}]}, "rules.0.every_days"),
    ],
)
def test_a_rota_that_cannot_be_is_refused_by_name(client, url, more, field):
    answer = set_rota(client, url, **more)
    assert answer.status_code == 422
    assert [error[0] for error in errors(answer)] == [field]
    assert client.get(f"{url}/restore-tests").json["rota"] is None


def test_a_test_is_ordered_run_and_recorded(client, url, runner, played):
    set_rota(client, url)
    answer = client.post(f"{url}/restore-tests/orders", {"machines": ["gate"]})
    assert answer.status_code == 201, answer.json
    again = client.post(f"{url}/restore-tests/orders", {"machines": ["gate"]})
    assert [error[0] for error in errors(again)] == ["machines[0]"]
    order = runner.get("/orders").json["orders"][0]
    assert (order["kind"], order["machines"]) == ("test", ["gate"])
    detail = order["detail"]
    taken = played.test(order["id"], order["job"], "gate", detail)
    runner.post(taken, clock=played.clock)
    assert runner.get(f"/orders?after={order['id']}").json["orders"] == []
    # A runner that begins anew is told of it again.
    assert [o["id"] for o in runner.get("/orders").json["orders"]] == [order["id"]]
    end = detail["starts"] + 2 * detail["seconds"]
    runner.post(played.advance(end), clock=end)
    found = client.get(f"{url}/restore-tests").json
    assert found["ordered"] == []
    record = found["record"][0]
    assert record["machine"] == "gate" and record["source"] == "test"
    assert record["predicted_s"] == pytest.approx(detail["seconds"])
    assert 0.8 < record["took_s"] / record["predicted_s"] < 1.6
    due = next(
        test["due"] for day in found["days"] for test in day["tests"] if test["machine"] == "gate"
    )
    assert parse_instant(due) == pytest.approx(parse_instant(record["checked_at"]) + 7 * DAY, abs=1)


def test_nothing_is_ordered_without_a_runner_or_a_test(client, url):
    set_rota(client, url)
    answer = client.post(f"{url}/restore-tests/orders", {"machines": ["gate"]})
    assert answer.status_code == 409


def test_a_machine_without_a_test_cannot_be_ordered(client, url, played):
    set_rota(client, url, rules=[])
    answer = client.post(f"{url}/restore-tests/orders", {"machines": ["gate"]})
    assert errors(answer) == [("machines[0]", "has no test in the coming days")]


def test_a_bad_point_falls_with_what_needs_it_and_forecasts_leave_it_out(client, url, played):
    before = points(client, url)
    full = [point for point in before if point["kind"] == "full"][-1]
    assert full["exists"] and full["usable"] and full["checks"] == []
    week = client.get(f"{url}/promises/2026-11-08").json
    answer = mark(client, url, full)
    assert answer.status_code == 201
    after = points(client, url)
    fallen = [p["at"] for p in after if not p["usable"]]
    assert fallen == [p["at"] for p in before if full["at"] in (p["at"], p["base_at"])]
    assert len(fallen) == 2
    marked = next(point for point in after if point["at"] == full["at"])
    assert marked["bad_since"] and marked["checks"][0]["note"] == "does not boot"
    later = client.get(f"{url}/promises/2026-11-08").json
    assert later != week
    # It was a mistake: all is as it was.
    assert mark(client, url, full, good=True, note="the wrong one").status_code == 201
    again = points(client, url)
    assert [p["usable"] for p in again] == [p["usable"] for p in before]
    assert client.get(f"{url}/promises/2026-11-08").json == week


def test_what_does_not_exist_cannot_be_marked(client, url, played):
    point = {**points(client, url)[0], "at": "2026-12-01T20:00:00.000Z"}
    assert errors(mark(client, url, point)) == [("at", "does not exist yet")]


def test_a_failed_test_marks_its_point_and_the_report_names_the_machine(
    client, url, runner, played
):
    first, full = (point for point in points(client, url) if point["kind"] == "full")
    clock = NIGHT.end + DAY + 600
    event = {
        "id": "t1", "what": "point checked", "at": format_instant(clock), "machine": "gate",
        "job": full["job"], "repository": full["repository"], "at_point": full["at"],
        "check": "test", "outcome": "failed", "reason": "no heartbeat",
    }  # fmt: skip
    mount = {
        "id": "t2", "what": "left behind", "at": format_instant(clock), "machine": "gate",
        "left": "mount",
    }  # fmt: skip
    assert runner.post([event, mount], clock=clock).json["refused"] == []
    assert not next(p for p in points(client, url) if p["at"] == full["at"])["usable"]
    found = client.get(f"{url}/restore-tests").json
    assert [(m["machine"], m["what"]) for m in found["mounted"]] == [("gate", "mount")]
    assert client.post(
        f"{url}/left-overs/cleaned", {"machine": "gate", "what": "mount"}
    ).status_code == 204  # fmt: skip
    assert client.get(f"{url}/restore-tests").json["mounted"] == []
    again = client.post(f"{url}/left-overs/cleaned", {"machine": "gate", "what": "mount"})
    assert [error[0] for error in errors(again)] == ["machine"]
    assert mark(client, url, first).status_code == 201
    standing = client.get(f"{url}/standing").json["findings"]
    assert ("no good point", "gate") in [(f["kind"], f["subjects"][0]["id"]) for f in standing]
