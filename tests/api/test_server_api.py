"""Who looks after the server sees what is kept in its memory; monitoring sees the plans."""

import pytest
from prometheus_client.parser import text_string_to_metric_families

from gambrel.api.app import create_app
from gambrel.core.plan.instants import parse_instant
from gambrel.store.housekeeping import Keep
from gambrel.store.sealing import Sealer

ORDER = ("plan", "date", "ahead", "repository", "machine", "cache", "endpoint", "method")


def test_memory_and_caches_are_told_with_their_limits(client, plan_url):
    client.get(f"{plan_url}/weeks/2026-11-06")
    told = client.get("/api/v1/server").json
    assert told["resident_bytes"] > 50 * 2**20
    caches = {cache["name"]: cache for cache in told["caches"]}
    assert caches["forecasts"]["entries"] >= 1
    assert caches["forecasts"]["bytes"] > 0
    assert caches["plans, drafts and previews"]["entries"] >= 1
    assert all(cache["bytes"] >= 0 and cache["most_bytes"] > 0 for cache in told["caches"])


def test_nobody_looks_at_it_without_signing_in(app):
    assert app.test_client().get("/api/v1/server").status_code == 401


def test_the_process_is_alive_and_ready(app):
    http = app.test_client()
    assert http.get("/healthz").json == {"status": "alive"}
    assert http.get("/readyz").status_code == 200
    gone = create_app("mariadb+pymysql://x@127.0.0.1:1/none", "k", Sealer.new_key(), TESTING=True,
                      KEEP=Keep(versions=7))  # fmt: skip
    assert gone.config["KEEP"].versions == 7
    assert gone.test_client().get("/readyz").status_code == 503
    assert gone.test_client().get("/healthz").status_code == 200


def test_monitoring_is_told_what_the_screens_say(app, client):
    http = app.test_client()
    assert http.get("/metrics").status_code == 401
    secret = client.post("/api/v1/tokens", {"name": "monitoring", "role": "read"}).json["secret"]
    # The first to ask waits for a while; on a slow machine the plans are told to a later one.
    for _ in range(20):
        answer = http.get("/metrics", headers={"Authorization": f"Bearer {secret}"})
        assert answer.status_code == 200
        if "gambrel_night_verdict{" in answer.text:
            break
    told = {}
    for family in text_string_to_metric_families(answer.text):
        for sample in family.samples:
            told[(sample.name, *(sample.labels[k] for k in ORDER if k in sample.labels))] = (
                sample.value
            )
    plan = next(p for p in client.get("/api/v1/plans").json if p["name"] == "larkmoor")
    url = f"/api/v1/plans/{plan['id']}"
    shown = client.get(url).json["first_night"]
    nights = {k[3]: k for k in told if k[0] == "gambrel_night_verdict" and k[1] == "larkmoor"}
    assert sorted(nights) == [str(ahead) for ahead in range(7)]
    for ahead, key in nights.items():
        day = key[2]
        assert day >= shown
        week = client.get(f"{url}/weeks/{day}").json
        night = next(n for n in week["nights"] if n["date"] == day)
        assert ["fits", "tight", "over"][int(told[key])] == night["verdict"]
        last = told[("gambrel_night_last_end_timestamp_seconds", "larkmoor", day, ahead)]
        assert last == pytest.approx(parse_instant(night["last_end"]), abs=1)
    runway = client.post(f"{url}/runway", {"months": 24}).json
    for life in runway["repositories"]:
        at = told[("gambrel_repository_full_timestamp_seconds", "larkmoor", life["id"])]
        ends = [life["full_at"], *(volume["full_at"] for volume in life["volumes"])]
        known = [parse_instant(end) for end in ends if end]
        assert at == pytest.approx(min(known, default=float("inf")), abs=1)
    assert told[("gambrel_machines_without_good_point", "larkmoor")] >= 0
    assert any(key[0] == "gambrel_request_seconds_count" for key in told)
    assert any(key[0] == "gambrel_cache_bytes" for key in told)


def test_own_data_are_told_by_kind(client):
    told = client.get("/api/v1/server/data").json
    kinds = [each["kind"] for each in told["taken"]]
    assert "versions of plans" in kinds
    assert "the audit trail" in kinds
    assert sum(each["bytes"] for each in told["taken"]) > 0
    assert told["keep"]["versions"] == 100
