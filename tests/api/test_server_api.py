"""Who looks after the server sees what is kept in its memory."""


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
