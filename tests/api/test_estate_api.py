"""The estate through the API: sources, discovery, the inbox, going back, facts, imports."""

import csv
import io
import json
import logging
import time
from dataclasses import replace
from functools import partial

import pytest
from api_client import Client
from estates import larkmoor_file, service_of, young_larkmoor
from sqlalchemy import event, text

from gambrel.api.app import create_app, current_sessions
from gambrel.core.plan.reading import read_plan
from gambrel.demo import large
from gambrel.standins.world import World
from gambrel.store import sources
from gambrel.store.plans import store_plan
from gambrel.store.sealing import SealBroken, Sealer

NIGHT = "2026-11-06"


@pytest.fixture
def world():
    return World(larkmoor_file())


@pytest.fixture
def address(world):
    with service_of(world) as at:
        yield at


@pytest.fixture
def plan(app, request):
    """A plan of larkmoor of this test's own."""
    with current_sessions(app).begin() as db:
        name = f"larkmoor for {request.node.name}"[:190]
        return store_plan(db, name, young_larkmoor(), actor="test").id


@pytest.fixture
def url(plan):
    return f"/api/v1/plans/{plan}"


def add_sources(client, url, world, address, *names):
    ids = {}
    for name in names:
        sample = world.sources[name].sample
        answer = client.post(
            f"{url}/sources",
            {
                "name": name, "kind": sample.kind, "make": sample.make, "site": sample.site,
                "address": f"{address}/{name}",
                "accounts": [
                    {"scope": a.scope, "user": a.user, "secret": a.secret} for a in sample.accounts
                ],
            },
        )  # fmt: skip
        assert answer.status_code == 201, answer.json
        ids[name] = answer.json["id"]
    return ids


def discovered(client, url, ids, within_s=20):
    """Read sources and wait; returns them."""
    answer = client.post(f"{url}/discoveries", {"sources": list(ids)})
    assert answer.status_code == 202, answer.json
    deadline = time.monotonic() + within_s
    while time.monotonic() < deadline:
        found = [s for s in client.get(f"{url}/sources").json["sources"] if s["id"] in ids]
        if all(s["last_discovery"]["state"] != "running" for s in found):
            return found
        time.sleep(0.05)
    raise AssertionError("the discovery does not end")


def inbox(client, url):
    return client.get(f"{url}/inbox").json["differences"]


def machine(client, url, name):
    return client.get(f"{url}/estate/machines/{name}?night={NIGHT}")


@pytest.fixture
def filled(client, url, world, address):
    """An inbox with all that happened first."""
    world.begin()
    ids = add_sources(client, url, world, address, "quay-a", "quay-b", "hill-a")
    discovered(client, url, list(ids.values()))
    return inbox(client, url)


def test_a_dismissed_host_stops_no_discovery_that_accepts_what_is_new(client, url, world, address):
    world.begin()
    ids = add_sources(client, url, world, address, "quay-a")
    discovered(client, url, list(ids.values()))
    source = world.sources["quay-a"]
    host = next(iter(source.hosts.values()))
    model = next(m for m in source.machines.values() if m.host == host.uid)
    source.hosts["h-late"] = replace(host, uid="h-late", name="late-host")
    for uid, at in (("m-late", "h-late"), ("m-other", host.uid)):
        source.put(replace(model, uid=uid, name=uid, host=at))
    [found] = discovered(client, url, list(ids.values()))
    late = next(
        d
        for d in inbox(client, url)
        if "late-host" in d["words"] or d["subject"].get("name") == "late-host"
    )
    assert client.post(f"{url}/inbox/dismiss", {"ids": [late["id"]]}).status_code == 204
    rule = {"kind": "new", "action": "accept"}
    answer = client.http.put(
        f"{url}/standing-rules", json=rule, headers={"X-CSRF-Token": client.token}
    )
    assert answer.status_code == 200
    [found] = discovered(client, url, list(ids.values()))
    assert found["last_discovery"]["state"] == "done", found["last_discovery"]["message"]
    assert any("m-late" in json.dumps(d) for d in inbox(client, url))
    assert machine(client, url, "m-other").status_code == 200
    assert machine(client, url, "m-late").status_code == 404


# --- the table --------------------------------------------------------------------------------


def test_the_first_page_says_what_is_not_protected_and_since_when(client, plan_url):
    page = client.get(f"{plan_url}/estate").json
    assert page["total"] == page["all"] == len(larkmoor_file()["machines"])
    bare = next(s for s in page["coverage"] if s["state"] == "not protected")
    assert (bare["machines"], bare["since"]) == (10, "2026-05-07")
    first = page["rows"][0]
    assert (first["coverage"], first["since"]) == ("not protected", "2026-05-07")
    assert page["to_review"] == ["staging-trial-12"]
    order = [row["coverage"] for row in page["rows"]]
    assert order == sorted(
        order, key=["not protected", "stale", "twice", "protected", "left out", "gone"].index
    )


def test_filters_groups_and_pages(client, plan_url):
    def ask(query):
        return client.get(f"{plan_url}/estate?{query}").json

    assert {row["folder"] for row in ask("where=folder:lab")["rows"]} == {"lab"}
    assert ask("where=folder:lab&where=host:qb-h1")["total"] == 4
    assert ask("search=db gold quay")["total"] == 0
    assert {row["role"] for row in ask("search=db gold")["rows"]} >= {"db"}
    assert {row["coverage"] for row in ask("coverage=twice&coverage=left out")["rows"]} == {
        "twice", "left out",
    }  # fmt: skip
    assert all(row["hazards"] for row in ask("hazards=true")["rows"])
    grouped = ask("group=site&limit=500")
    assert [g["name"] for g in grouped["groups"]] == ["hill", "norrvik", "quay"]
    assert sum(g["machines"] for g in grouped["groups"]) == grouped["total"]
    assert [row["group"] for row in grouped["rows"]] == sorted(r["group"] for r in grouped["rows"])
    used = [row["used_gib"] for row in ask("sort=used&descending=true&limit=30")["rows"]]
    assert used == sorted(used, reverse=True)
    pages = [ask(f"sort=name&limit=100&offset={at}")["rows"] for at in (0, 100, 200)]
    names = [row["name"] for rows in pages for row in rows]
    assert names == sorted(names)
    assert len(set(names)) == ask("limit=1")["total"]


@pytest.mark.parametrize("query", ["sort=colour", "group=x", "coverage=x", "limit=0", "where=lab"])
def test_a_filter_that_makes_no_sense_is_named(client, plan_url, query):
    answer = client.get(f"{plan_url}/estate?{query}")
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"].startswith(query.partition("=")[0])


def test_csv_of_what_is_shown(client, plan_url):
    answer = client.get(f"{plan_url}/estate.csv?where=folder:lab")
    rows = list(csv.DictReader(io.StringIO(answer.text)))
    assert len(rows) == 16
    assert {row["folder"] for row in rows} == {"lab"}
    assert "attachment" in answer.headers["Content-Disposition"]


def test_a_name_cannot_become_a_formula(client, app):
    text_of = json.dumps(larkmoor_file()).replace("lab-build-01", "=1+2")
    with current_sessions(app).begin() as db:
        made = store_plan(db, "formula", read_plan(json.loads(text_of)), actor="t")
    answer = client.get(f"/api/v1/plans/{made.id}/estate.csv?search==1%2B2")
    assert next(csv.DictReader(io.StringIO(answer.text)))["name"] == "'=1+2"


def test_the_sheet_of_a_machine(client, plan_url):
    found = machine(client, plan_url, "ticketing-db-06").json
    assert [by["job"] for by in found["protected_by"]] == ["ticketing-databases", "ticket-journal"]
    assert [by["how"] for by in found["protected_by"]] == [
        "folder ticketing and tagged db",
        "listed by its name",
    ]
    assert found["worst_exposure_s"] > 0
    assert found["next_runs"]
    assert sum(d["used_gib"] for d in found["disk_list"]) == pytest.approx(found["used_gib"])
    assert machine(client, plan_url, "ghost").status_code == 404


def test_a_machine_without_a_job_is_offered_the_likeliest(client, plan_url):
    offers = machine(client, plan_url, "staging-trial-04").json["offers"]
    assert offers[0]["alike"] >= offers[-1]["alike"]
    assert offers[0]["job"] in ("fleet-planning", "hill-branch")


def test_the_exposure_of_all(client, plan_url):
    worst = client.get(f"{plan_url}/estate/exposure/{NIGHT}").json["worst_s"]
    assert len(worst) == len(larkmoor_file()["machines"])
    assert worst["staging-trial-04"] is None


def count_queries(app, work):
    """How many statements a piece of work sends to the database."""
    engine = current_sessions(app).kw["bind"]
    sent = []

    def note(_connection, _cursor, statement, *_rest):
        sent.append(statement)

    event.listen(engine, "before_cursor_execute", note)
    try:
        work()
    finally:
        event.remove(engine, "before_cursor_execute", note)
    return len(sent)


def test_no_query_count_grows_with_machines(app, client):
    counts = []
    for machines in (100, 1000):
        with current_sessions(app).begin() as db:
            plan = read_plan(large(machines, 2))
            made = store_plan(db, f"large {machines}", plan, actor="test")
        url = f"/api/v1/plans/{made.id}"
        counts.append(
            [
                count_queries(app, partial(client.get, f"{url}{path}"))
                for path in ("/estate", "/estate", "/sources", "/inbox", "/estate.csv")
            ]
        )
    assert counts[0] == counts[1]
    assert counts[0][1] <= 4


# --- sources and access -----------------------------------------------------------------------


def test_secrets_go_in_and_never_come_out(client, app, url, world, address, caplog):
    caplog.set_level(logging.DEBUG)
    add_sources(client, url, world, address, "quay-a")
    secret = world.sources["quay-a"].sample.accounts[0].secret
    told = client.get(f"{url}/sources")
    account = told.json["sources"][0]["credentials"][0]
    assert not {"secret", "sealed_secret"} & set(account)
    discovered(client, url, [told.json["sources"][0]["id"]])
    assert secret not in told.text
    assert secret not in caplog.text
    with current_sessions(app)() as db:
        rows = db.execute(text("select sealed_secret from credentials")).scalars().all()
        trail = str(db.execute(text("select detail from audit_entries")).scalars().all())
    assert secret not in str(rows)
    assert secret not in trail


def test_a_secret_opens_with_its_own_key_only():
    sealer = Sealer(Sealer.new_key())
    sealed = sealer.seal("hunter2")
    assert sealer.open(sealed) == "hunter2"
    with pytest.raises(SealBroken):
        Sealer(Sealer.new_key()).open(sealed)
    assert "hunter2" not in repr(sealer)


def test_all_accounts_are_tried_at_once_and_each_is_told(client, url, world, address):
    ids = add_sources(client, url, world, address, "quay-a", "quay-b", "radar-04")
    for name in ids:
        world.sources[name].latency_s = 0.2
    answer = client.post(f"{url}/access-checks", {"sources": list(ids.values())})
    found = {source["name"]: source for source in answer.json["sources"]}
    assert {name: s["access"] for name, s in found.items()} == {
        "quay-a": "works for most",
        "quay-b": "works",
        "radar-04": "works for most",
    }
    failing = [c for c in found["quay-a"]["credentials"] if c["outcome"] == "fails"]
    assert [c["scope"] for c in failing] == ["host qa-h4", "role db"]
    assert all(c["failure"] and c["advice"] for c in failing)


def test_a_secret_entered_anew_counts_as_not_tried(client, url, world, address):
    add_sources(client, url, world, address, "nk-h1")
    source = client.get(f"{url}/sources").json["sources"][0]
    account = source["credentials"][0]["id"]
    client.post(f"{url}/access-checks", {"sources": [source["id"]]})
    answer = client.http.put(
        f"/api/v1/accounts/{account}/secret",
        json={"user": "gambrel", "secret": "wrong"},
        headers={"X-CSRF-Token": client.token},
    )
    assert answer.json["access"] == "not tried"
    checked = client.post(f"{url}/access-checks", {"sources": [source["id"]]}).json
    assert checked["sources"][0]["access"] == "fails"


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"address": "ftp://x.example"}, "address"),
        ({"site": "mars"}, "site"),
        ({"make": "Z"}, "make"),
        ({"kind": "cloud"}, "kind"),
        ({"interval_min": 1}, "interval_min"),
        ({"accounts": []}, "accounts"),
    ],
)
def test_a_source_that_cannot_be_is_refused_by_field(client, url, change, field):
    body = {
        "name": "x", "kind": "host", "make": "A", "site": "quay", "address": "http://127.0.0.1:9",
        "accounts": [{"user": "a", "secret": "b"}], **change,
    }  # fmt: skip
    answer = client.post(f"{url}/sources", body)
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"] == field
    assert client.get(f"{url}/sources").json["sources"] == []


def test_two_sources_cannot_have_one_name(client, url, world, address):
    add_sources(client, url, world, address, "nk-h1")
    body = {
        "name": "nk-h1", "kind": "host", "make": "A", "site": "quay",
        "address": "http://127.0.0.1:9", "accounts": [{"user": "a", "secret": "b"}],
    }  # fmt: skip
    assert client.post(f"{url}/sources", body).status_code == 409


def test_a_lost_race_over_a_source_is_told(client, url, world, address):
    add_sources(client, url, world, address, "nk-h1")
    source = client.get(f"{url}/sources").json["sources"][0]

    def patch(revision, minutes):
        return client.http.patch(
            f"/api/v1/sources/{source['id']}",
            json={"interval_min": minutes},
            headers={"X-CSRF-Token": client.token, "If-Match": f'"{revision}"'},
        )

    assert patch(source["revision"], 60).json["interval_min"] == 60
    late = patch(source["revision"], 15)
    assert (late.status_code, late.json["now"]["interval_min"]) == (412, 60)


# --- discovery --------------------------------------------------------------------------------


def test_discovery_finds_what_happened_and_changes_no_plan(client, url, filled):
    assert len(filled) == 14
    assert client.get(f"{url}/acceptances").json["acceptances"] == []
    new = next(d for d in filled if d["words"].startswith("office-desk"))
    assert [job["words"] for job in new["jobs"]] == ["joins Office machines by rule"]


def test_reading_again_tells_nothing_twice(client, url, filled):
    ids = [source["id"] for source in client.get(f"{url}/sources").json["sources"]]
    discovered(client, url, ids)
    assert [d["id"] for d in inbox(client, url)] == [d["id"] for d in filled]


@pytest.mark.parametrize("fault", ["down", "half"])
def test_a_discovery_that_fails_changes_nothing(client, url, world, address, fault):
    world.begin()
    ids = add_sources(client, url, world, address, "quay-a")
    world.sources["quay-a"].fault = fault
    (source,) = discovered(client, url, list(ids.values()))
    assert source["last_discovery"]["state"] == "failed"
    assert source["last_discovery"]["message"]
    assert inbox(client, url) == []


def test_a_discovery_can_be_cancelled(client, url, world, address):
    world.begin()
    ids = add_sources(client, url, world, address, "quay-a")
    world.sources["quay-a"].latency_s = 0.3
    client.post(f"{url}/discoveries", {"sources": list(ids.values())})
    running = client.get(f"{url}/sources").json["sources"][0]["last_discovery"]
    assert running["state"] == "running"
    client.http.delete(
        f"/api/v1/discoveries/{running['id']}", headers={"X-CSRF-Token": client.token}
    )
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline and running["state"] == "running":
        time.sleep(0.05)
        running = client.get(f"{url}/sources").json["sources"][0]["last_discovery"]
    assert running["state"] == "cancelled"
    assert inbox(client, url) == []


def test_what_was_running_when_the_application_ended_is_interrupted(
    app, client, url, world, address
):
    ids = add_sources(client, url, world, address, "nk-h1")
    with current_sessions(app).begin() as db:
        sources.start_discovery(db, ids["nk-h1"], actor="test")
        sources.interrupt_discoveries(db)
    last = client.get(f"{url}/sources").json["sources"][0]["last_discovery"]
    assert last["state"] == "interrupted"


def test_sources_are_due_when_their_interval_has_passed(app, client, url, world, address):
    from datetime import timedelta

    from gambrel.store.models import now_utc

    ids = add_sources(client, url, world, address, "nk-h1", "nk-h2")
    with current_sessions(app).begin() as db:
        found = sources.source(db, ids["nk-h1"])
        sources.change_source(db, found.id, found.revision, {"interval_min": 60}, actor="test")
    with current_sessions(app)() as db:
        assert ids["nk-h1"] in sources.due_sources(db, now_utc())
        assert ids["nk-h2"] not in sources.due_sources(db, now_utc())
    discovered(client, url, [ids["nk-h1"]])
    with current_sessions(app)() as db:
        assert ids["nk-h1"] not in sources.due_sources(db, now_utc())
        assert ids["nk-h1"] in sources.due_sources(db, now_utc() + timedelta(hours=2))


# --- the inbox --------------------------------------------------------------------------------


def test_the_effect_of_a_difference_on_the_week(client, url, filled):
    grown = [d["id"] for d in filled if d["kind"] in ("grown", "new")]
    found = client.post(f"{url}/inbox/effect", {"ids": grown, "night": NIGHT}).json
    assert {job["machine"] for job in found["jobs"]} == {"office-desk-69", "ticketing-web-10-clone"}
    friday = next(night for night in found["nights"] if night["date"] == NIGHT)
    assert friday["end_before"] != friday["end_after"]
    assert len(inbox(client, url)) == len(filled)


def test_taking_all_makes_the_plan_what_the_sources_say(client, url, filled):
    answer = client.post(f"{url}/inbox/accept", {"ids": [d["id"] for d in filled]})
    assert answer.status_code == 200
    assert len(answer.json["words"]) == 14
    assert inbox(client, url) == []
    ids = [source["id"] for source in client.get(f"{url}/sources").json["sources"]]
    discovered(client, url, ids)
    assert inbox(client, url) == []
    gone = machine(client, url, "lab-build-10").json
    assert (gone["coverage"], gone["protected_by"]) == ("gone", [])
    assert gone["newest"] is not None


def test_one_can_be_taken_and_undone(client, url, filled):
    moved = next(d for d in filled if d["kind"] == "moved")
    name = moved["subject"]["id"]
    before = machine(client, url, name).json["host"]
    made = client.post(f"{url}/inbox/accept", {"ids": [moved["id"]]}).json
    assert machine(client, url, name).json["host"] != before
    assert len(inbox(client, url)) == 13
    assert client.post(f"/api/v1/acceptances/{made['id']}/undo").status_code == 200
    assert machine(client, url, name).json["host"] == before
    assert len(inbox(client, url)) == 14
    again = client.post(f"/api/v1/acceptances/{made['id']}/undo")
    assert again.status_code == 404


def test_an_earlier_estate_can_be_looked_at_and_brought_back(client, url, filled):
    first = client.post(f"{url}/inbox/accept", {"ids": [filled[0]["id"]]}).json
    rest = [d["id"] for d in filled[1:]]
    client.post(f"{url}/inbox/accept", {"ids": rest})
    then = client.get(f"{url}/estate?as_of={first['after_version']}&search=web-15-old").json
    assert then["total"] == 0
    assert client.get(f"{url}/estate?search=web-15-old").json["total"] == 1
    client.post(f"/api/v1/acceptances/{first['id']}/bring-back")
    assert client.get(f"{url}/estate?search=web-15-old").json["total"] == 0
    told = [a["what"] for a in client.get(f"{url}/acceptances").json["acceptances"]]
    assert told == ["bring back", "accept", "accept"]
    assert client.get(f"{url}/estate?as_of=999999").status_code == 404


def test_what_is_left_stays_left_until_the_source_says_more(client, url, world, filled):
    grown = next(d for d in filled if d["kind"] == "grown" and "staging-trial-08" in d["words"])
    client.post(f"{url}/inbox/dismiss", {"ids": [grown["id"]]})
    ids = [source["id"] for source in client.get(f"{url}/sources").json["sources"]]
    discovered(client, url, ids)
    assert grown["words"] not in [d["words"] for d in inbox(client, url)]
    dismissed = client.get(f"{url}/inbox?state=dismissed").json["differences"]
    assert [d["words"] for d in dismissed] == [grown["words"]]
    source = world.sources["hill-a"]
    now = next(m for m in source.machines.values() if m.name == "staging-trial-08")
    *rest, last = now.disks
    source.put(replace(now, disks=(*rest, replace(last, used_gib=last.provisioned_gib))))
    discovered(client, url, ids)
    assert any("staging-trial-08" in d["words"] for d in inbox(client, url))


def test_what_was_left_can_come_back_to_the_inbox(client, url, filled):
    client.post(f"{url}/inbox/dismiss", {"ids": [filled[0]["id"]]})
    client.post(f"{url}/inbox/reopen", {"ids": [filled[0]["id"]]})
    assert len(inbox(client, url)) == 14


def test_standing_rules_act_as_soon_as_something_is_found(client, url, world, address):
    def rule(kind, action):
        answer = client.http.put(
            f"{url}/standing-rules",
            json={"kind": kind, "action": action},
            headers={"X-CSRF-Token": client.token},
        )
        assert answer.status_code == 200, answer.json

    rule("moved", "accept")
    rule("grown", "dismiss")
    world.begin()
    ids = add_sources(client, url, world, address, "quay-a", "quay-b", "hill-a")
    discovered(client, url, list(ids.values()))
    found = client.get(f"{url}/inbox").json
    assert {d["kind"] for d in found["differences"]} == {"new", "gone", "renamed", "changed"}
    assert found["dismissed"] == 4
    assert found["rules"] == {"moved": "accept", "grown": "dismiss"}
    told = client.get(f"{url}/acceptances").json["acceptances"]
    assert {a["actor"] for a in told} == {"standing rule"}
    assert sum(len(a["words"]) for a in told) == 3


def test_what_is_not_open_any_more_is_refused_and_nothing_is_taken(client, url, filled):
    first, second = filled[0]["id"], filled[1]["id"]
    client.post(f"{url}/inbox/dismiss", {"ids": [first]})
    answer = client.post(f"{url}/inbox/accept", {"ids": [second, first]})
    assert answer.status_code == 404
    assert len(inbox(client, url)) == 13


def test_open_drafts_move_along_with_the_estate(client, url, filled):
    draft = client.post(f"{url}/drafts", {"name": "spring"}).json
    move = {
        "operation": "MoveStart", "job": "office-files", "schedule": 1, "start_time": "20:00",
        "day_shift": 0,
    }  # fmt: skip
    saved = client.post(
        f"/api/v1/drafts/{draft['id']}/operations", {"operations": [move]}, If_Match='"1"'
    ).json
    client.post(f"{url}/inbox/accept", {"ids": [d["id"] for d in filled]})
    (now,) = client.get(url).json["open_drafts"]
    assert now["revision"] == saved["revision"] + 1
    adopted = client.post(
        f"/api/v1/drafts/{draft['id']}/adopt", {"note": ""}, If_Match=f'"{now["revision"]}"'
    )
    assert adopted.status_code == 200


# --- facts ------------------------------------------------------------------------------------


def test_facts_are_stated_for_many_and_brought_back(client, url):
    names = ["lab-build-01", "lab-build-02"]
    before = [machine(client, url, name).json["daily_change"] for name in names]
    answer = client.post(
        f"{url}/estate/facts", {"machines": names, "state": {"daily_change": 0.25}}
    )
    assert answer.json["words"] == ["2 machines: daily change 25 %"]
    for name in names:
        found = machine(client, url, name).json
        assert (found["daily_change"], found["change_from"]) == (0.25, "stated")
        assert found["overridden"] == ["daily_change"]
    client.post(f"{url}/estate/facts", {"machines": names, "revert": ["daily_change"]})
    assert [machine(client, url, name).json["daily_change"] for name in names] == before


def test_a_machine_is_left_out_with_a_reason_and_a_date(client, url):
    body = {
        "machines": ["staging-trial-04"],
        "leave_out": {"reason": "a toy", "review": "2026-10-01"},
    }
    client.post(f"{url}/estate/facts", body)
    assert machine(client, url, "staging-trial-04").json["coverage"] == "left out"
    page = client.get(f"{url}/estate").json
    assert page["to_review"] == ["staging-trial-04", "staging-trial-12"]


def test_a_fact_that_cannot_be_is_named(client, url):
    answer = client.post(
        f"{url}/estate/facts", {"machines": ["mail-01"], "state": {"compress_ratio": 0}}
    )
    assert answer.status_code == 422
    assert answer.json["errors"][0]["field"] == "compress_ratio"


def test_words_flags_and_snapshots_are_stated(client, url):
    shots = [{"name": "before the update", "taken_at": "2026-10-30T12:00:00Z", "gib": 4}]
    answer = client.post(
        f"{url}/estate/facts",
        {
            "machines": ["mail-01"],
            "state": {"role": "mail", "quiesces": False, "*/holds_backups": True},
            "snapshots": shots,
        },
    )
    assert answer.status_code == 200
    found = machine(client, url, "mail-01").json
    assert (found["role"], found["quiesces"]) == ("mail", False)
    assert all(disk["holds_backups"] for disk in found["disk_list"])
    assert [shot["name"] for shot in found["snapshots"]] == ["before the update"]
    wrong = {"machines": ["mail-01"], "snapshots": [{**shots[0], "taken_at": "yesterday"}]}
    refused = client.post(f"{url}/estate/facts", wrong)
    assert (refused.status_code, refused.json["errors"][0]["field"]) == (422, "snapshots")


# --- imports ----------------------------------------------------------------------------------


def test_a_file_may_be_as_large_as_is_said(client, url):
    """The token is looked for in the header, so nothing is read of what is sent before."""
    large = b"name;host;size\n" + b"x" * (9 * 2**20)
    answer = send(client, f"{url}/imports/preview", large)
    assert answer.status_code == 200
    assert answer.json["problems"]


def send(client, path, content, **form):
    return client._described(
        client.http.post(
            path,
            data={"files": (io.BytesIO(content), "m.csv"), **form},
            headers={"X-CSRF-Token": client.token},
        )
    )


GOOD = b"name;host;size\nprint-01;qb-h1;12,5\n"
MIXED = GOOD + b"print-02;nowhere;5\n"


def test_an_import_is_previewed_then_taken_and_can_be_undone(client, url):
    seen = send(client, f"{url}/imports/preview", GOOD).json
    assert seen["lines"] == ["print-01 is new on qb-h1: 1 disk, 12.5 GiB used"]
    assert seen["files"][0]["mapping"] == {"name": "name", "host": "host", "provisioned": "size"}
    assert machine(client, url, "print-01").status_code == 404
    made = send(client, f"{url}/imports", GOOD, base_version=seen["base_version"]).json
    assert machine(client, url, "print-01").json["coverage"] == "not protected"
    client.post(f"/api/v1/acceptances/{made['id']}/undo")
    assert machine(client, url, "print-01").status_code == 404


def test_hosts_that_an_import_adds_go_when_it_is_undone(client, url):
    content = b"name;host;size\nprint-01;new-h1;12,5\n"
    seen = send(client, f"{url}/imports/preview", content).json
    assert (seen["hosts_not_there"], seen["lines"]) == (["new-h1"], [])
    site = client.get(url).json["site_ids"][0]
    made = send(client, f"{url}/imports", content, new_hosts_at=site).json
    assert "new-h1" in client.get(url).json["host_ids"]
    client.post(f"/api/v1/acceptances/{made['id']}/undo")
    assert "new-h1" not in client.get(url).json["host_ids"]


def test_an_import_is_all_or_nothing_unless_the_good_rows_are_chosen(client, url):
    refused = send(client, f"{url}/imports", MIXED)
    assert refused.status_code == 422
    (error,) = refused.json["errors"]
    assert error == {
        "field": "m.csv, line 3, host",
        "value": "nowhere",
        "reason": "is not the name of a host of the plan",
    }
    assert machine(client, url, "print-01").status_code == 404
    assert send(client, f"{url}/imports", MIXED, good_rows="true").status_code == 200
    assert machine(client, url, "print-01").status_code == 200


def test_an_import_on_a_plan_that_changed_is_refused(client, url):
    seen = send(client, f"{url}/imports/preview", GOOD).json
    client.post(f"{url}/estate/facts", {"machines": ["mail-01"], "state": {"rpo_hours": 4}})
    late = send(client, f"{url}/imports", GOOD, base_version=seen["base_version"])
    assert late.status_code == 412


def test_too_large_an_upload_is_refused_clearly(client, url):
    answer = send(client, f"{url}/imports/preview", b"x" * (49 * 2**20))
    assert answer.status_code == 413
    assert "Nothing was read" in answer.json["detail"]


def test_a_mapping_that_is_none_is_refused(client, url):
    for mapping in ("[1]", '{"colour": "x"}', "{"):
        answer = send(client, f"{url}/imports/preview", GOOD, mapping=mapping)
        assert answer.status_code == 422
        assert answer.json["errors"][0]["field"] == "mapping"


def test_words_that_are_no_words_are_refused(client, url):
    for words in ("[1]", '{"colour": {"x": "y"}}', '{"role": {"x": 1}}', "{"):
        answer = send(client, f"{url}/imports/preview", GOOD, words=words)
        assert answer.status_code == 422
        assert answer.json["errors"][0]["field"] == "words"


def test_an_import_says_what_becomes_of_the_week(client, url):
    """The same as the inbox would say of the plan with what is imported."""
    plan = client.get(url).json
    night = plan["first_night"]
    disks = machine(client, url, "mail-01").json["disk_list"]
    rows = "".join(f"mail-01;{disk['id']};9000;9000\n" for disk in disks)
    file = f"name;disk;provisioned;used\n{rows}".encode()
    seen = send(client, f"{url}/imports/preview", file, night=night).json
    assert seen["lines"] and not seen["problems"]
    before = client.get(f"{url}/nights/{night}").json
    told = {each["date"]: each for each in seen["nights"]}
    assert told
    if night in told:
        assert told[night]["end_before"] == before["last_end"]
    send(client, f"{url}/imports", file, base_version=seen["base_version"])
    for date, each in told.items():
        after = client.get(f"{url}/nights/{date}").json
        assert (each["end_after"], each["verdict_after"]) == (after["last_end"], after["verdict"])


def test_nothing_to_import_is_said(client, url):
    answer = send(client, f"{url}/imports", b"name\nmail-01\n")
    assert (answer.status_code, "nothing" in answer.json["title"]) == (422, True)


def test_another_key_asks_for_the_secret_again(database_url, client, url, world, address):
    add_sources(client, url, world, address, "nk-h1")
    other = create_app(database_url, "a key for tests", Sealer.new_key(), TESTING=True)
    mine = Client(other)
    mine.sign_in()
    source = mine.get(f"{url}/sources").json["sources"][0]
    found = mine.post(f"{url}/access-checks", {"sources": [source["id"]]}).json["sources"][0]
    assert "another key" in found["credentials"][0]["failure"]
    (read,) = discovered(mine, url, [source["id"]])
    assert "another key" in read["last_discovery"]["message"]
