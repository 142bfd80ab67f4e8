"""People, roles, passwords, sessions, tokens, the identity provider and the audit trail."""

from __future__ import annotations

import json
import re
import threading
from types import SimpleNamespace
from urllib.parse import parse_qs, urlsplit

import pytest
from api_client import Client
from authlib.common.security import generate_token
from flask import Flask, jsonify, request
from joserfc import jwt
from joserfc.jwk import RSAKey
from sqlalchemy import text
from werkzeug.serving import make_server

from gambrel.api.app import current_sessions
from gambrel.api.provider import role_of
from gambrel.api.rights import OPEN, RIGHTS, WITH_OWN_TOKENS
from gambrel.store.people import ROLES, add_person
from gambrel.store.tokens import new_token

PASSWORD = "a barn stands on four posts"


def errors(answer):
    return [(error["field"], error["reason"]) for error in answer.json["errors"]]


# --- rights -------------------------------------------------------------------------------------


def routes(app):
    """(endpoint, method, address) of everything under /api, with numbers that lead nowhere."""
    for rule in app.url_map.iter_rules():
        if rule.rule.startswith("/api/"):
            address = re.sub(r"<int:\w+>", "987654", rule.rule)
            address = re.sub(r"<\w+:?day>|<day>", "2026-11-06", address)
            address = re.sub(r"<[^>]+>", "none", address)
            for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
                yield rule.endpoint, method, address


def test_every_route_has_a_right(app):
    known = {endpoint for endpoint, _, _ in routes(app)}
    without = {e for e in known if e not in RIGHTS and not e.startswith(f"{WITH_OWN_TOKENS}.")}
    assert without == set(), "give it a right in api/rights.py"
    assert set(RIGHTS) <= known, "a right of a route that is gone"


@pytest.mark.parametrize("role", ROLES)
def test_every_route_and_method_against_every_role(app, role):
    with current_sessions(app).begin() as db:
        _, secret = new_token(db, f"matrix {role}", role, 1, actor="test")
    http = app.test_client()
    asked = 0
    for endpoint, method, address in routes(app):
        if endpoint.startswith(f"{WITH_OWN_TOKENS}.") or RIGHTS[endpoint] == OPEN:
            continue
        may = ROLES.index(role) >= ROLES.index(RIGHTS[endpoint])
        answer = http.open(
            address, method=method, json={}, headers={"Authorization": f"Bearer {secret}"}
        )
        refused = answer.status_code == 403 and "right" in answer.json.get("title", "")
        assert refused is not may, (endpoint, method, role, answer.status_code)
        asked += 1
    assert asked > 100


def test_nobody_and_a_wrong_token_get_in_nowhere(app):
    http = app.test_client()
    for endpoint, method, address in routes(app):
        if endpoint.startswith(f"{WITH_OWN_TOKENS}.") or RIGHTS[endpoint] == OPEN:
            continue
        for headers in ({}, {"Authorization": "Bearer gt_guess"}, {"Authorization": "Basic eDp5"}):
            answer = http.open(address, method=method, json={}, headers=headers)
            # Without a token of a session it is 400, before anybody looks who asks.
            assert answer.status_code in (400, 401, 403), (endpoint, method)
            assert "signed_in" not in (answer.json or {})


def test_the_first_one_administers_and_brings_a_colleague_in(app, client, stranger):
    added = client.post("/api/v1/people", {"name": "Orla", "role": "read"})
    assert added.status_code == 201
    link = added.json["link"]
    assert "/sign-in#" in link
    token = link.partition("#")[2]
    came = stranger.post("/api/v1/session", {"token": token})
    assert (came.json["name"], came.json["role"]) == ("Orla", "read")
    stranger.token = came.json["csrf_token"]
    assert stranger.get("/api/v1/plans").status_code == 200
    refused = stranger.post("/api/v1/plans/1/drafts", {"name": "mine"})
    assert refused.status_code == 403
    assert refused.json["right"] == "plan"
    assert "yours is to read" in refused.json["detail"]
    assert stranger.get("/api/v1/people").status_code == 403
    again = Client(app).post("/api/v1/session", {"token": token})
    assert again.status_code == 403
    # Who gets another role has it from the next request on.
    made = client.http.patch(
        f"/api/v1/people/{added.json['person']['id']}", json={"role": "plan"},
        headers={"X-CSRF-Token": client.token},
    )  # fmt: skip
    assert made.json["role"] == "plan"
    assert stranger.post("/api/v1/plans/987654/drafts", {"name": "mine"}).status_code == 404


def patch(client, address, body):
    return client.http.patch(address, json=body, headers={"X-CSRF-Token": client.token})


def delete(client, address):
    return client.http.delete(address, headers={"X-CSRF-Token": client.token})


def put(client, address, body):
    return client.http.put(address, json=body, headers={"X-CSRF-Token": client.token})


def test_who_is_barred_is_out_at_once_and_the_last_administrator_stays(client, person):
    out = person("read", "Con")
    people = {p["name"]: p for p in client.get("/api/v1/people").json["people"]}
    assert people["Con"]["seen_at"] is not None
    barred = patch(client, f"/api/v1/people/{people['Con']['id']}", {"barred": True})
    assert barred.json["barred_at"] is not None
    assert out.get("/api/v1/plans").status_code == 401
    invited = client.post(f"/api/v1/people/{people['Con']['id']}/invitations")
    assert errors(invited) == [("barred", "comes first: let them in again")]
    mine = f"/api/v1/people/{people['Planner']['id']}"
    others = [p for p in people.values() if p["role"] == "administer" and p["name"] != "Planner"]
    for other in others:
        patch(client, f"/api/v1/people/{other['id']}", {"role": "plan"})
    for change in ({"role": "plan"}, {"barred": True}):
        refused = patch(client, mine, change)
        assert refused.status_code == 422
        assert "nobody who administers" in errors(refused)[0][1]
    assert client.get("/api/v1/people").status_code == 200
    names = client.post("/api/v1/people", {"name": "Con ", "role": "read"})
    assert errors(names) == [("name", "is taken by somebody else")]


# --- passwords and sessions ---------------------------------------------------------------------


def test_a_password_signs_in_and_its_change_ends_the_others(app, person):
    here = person("plan", "Aoife")
    for wrong, reason in (
        ("short", "has not 12 to 200 characters"),
        ("I am aoife, let me in", "is too easy to guess"),
        ("aaaaaaaaaaaaaaaa", "is too easy to guess"),
    ):
        refused = put(here, "/api/v1/session/password", {"password": wrong})
        assert errors(refused) == [("password", reason)]
    assert put(here, "/api/v1/session/password", {"password": PASSWORD}).json["has_password"]
    there = Client(app)
    login = {"name": "Aoife", "password": PASSWORD}
    told = there.post("/api/v1/session/password", login)
    assert told.json["role"] == "plan"
    there.token = told.json["csrf_token"]
    sessions = here.get("/api/v1/session/all").json
    assert [s["this"] for s in sessions].count(True) == 1
    assert len(sessions) == 2
    refused = put(here, "/api/v1/session/password", {"old": "no", "password": PASSWORD + "!"})
    assert errors(refused) == [("old", "is not the password that you have now")]
    done = put(here, "/api/v1/session/password", {"old": PASSWORD, "password": PASSWORD + "!"})
    assert done.status_code == 200
    assert there.get("/api/v1/plans").status_code == 401
    assert here.get("/api/v1/plans").status_code == 200
    assert Client(app).post("/api/v1/session/password", login).status_code == 403


def test_one_session_is_ended_from_another(app, person):
    here, there = person("read", "Fiadh"), person("read", "Fiadh")
    other = next(s for s in here.get("/api/v1/session/all").json if not s["this"])
    assert delete(here, f"/api/v1/session/all/{other['id']}").status_code == 204
    assert there.get("/api/v1/plans").status_code == 401
    assert delete(here, f"/api/v1/session/all/{other['id']}").status_code == 404
    stranger = person("read", "Somebody else")
    mine = next(s for s in here.get("/api/v1/session/all").json if s["this"])
    assert delete(stranger, f"/api/v1/session/all/{mine['id']}").status_code == 404
    assert here.get("/api/v1/plans").status_code == 200


def test_who_guesses_shuts_out_themselves_only(app, person):
    victim = person("read", "Niamh")
    put(victim, "/api/v1/session/password", {"password": PASSWORD})
    attacker = Client(app)
    answers = []
    for i in range(8):
        wrong = {"name": "Niamh", "password": f"a wrong password {i}"}
        answers.append(
            attacker.http.post(
                "/api/v1/session/password", json=wrong,
                headers={"X-CSRF-Token": attacker.token},
                environ_base={"REMOTE_ADDR": "203.0.113.9"},
            )
        )  # fmt: skip
    assert [answer.status_code for answer in answers] == [403] * 5 + [429] * 3
    assert int(answers[-1].headers["Retry-After"]) > 0
    right = Client(app).post("/api/v1/session/password", {"name": "Niamh", "password": PASSWORD})
    assert right.status_code == 200
    nobody = Client(app).post("/api/v1/session/password", {"name": "nobody", "password": PASSWORD})
    assert nobody.json["title"] == answers[0].json["title"], "a name is not told from a password"


# --- tokens -------------------------------------------------------------------------------------


def test_a_token_asks_without_cookie_and_ends(app, client):
    made = client.post("/api/v1/tokens", {"name": "pipeline", "role": "plan", "days": 30})
    secret = made.json["secret"]
    http = app.test_client()
    headers = {"Authorization": f"Bearer {secret}"}
    assert http.get("/api/v1/plans", headers=headers).status_code == 200
    plan = http.get("/api/v1/plans", headers=headers).json[0]["id"]
    begun = http.post(f"/api/v1/plans/{plan}/drafts", json={"name": "by a program"},
                      headers=headers)  # fmt: skip
    assert begun.status_code == 201, begun.json
    listed = client.get("/api/v1/tokens").json["tokens"]
    mine = next(token for token in listed if token["name"] == "pipeline")
    assert mine["used_at"] is not None
    assert secret not in json.dumps(listed)
    assert errors(client.post("/api/v1/tokens", {"name": "pipeline", "role": "read"})) == [
        ("name", "is the name of another token")
    ]
    # A session beside a token that is wrong does not help: who sends a token is nobody else.
    both = client.http.get("/api/v1/plans", headers={"Authorization": "Bearer gt_wrong"})
    assert both.status_code == 401
    assert delete(client, f"/api/v1/tokens/{mine['id']}").status_code == 204
    assert http.get("/api/v1/plans", headers=headers).status_code == 401


def test_a_token_expires(app, client):
    secret = client.post("/api/v1/tokens", {"name": "old", "role": "read", "days": 1}).json[
        "secret"
    ]
    with current_sessions(app).begin() as db:
        db.execute(text("UPDATE tokens SET expires_at = '2020-01-01' WHERE name = 'old'"))
    answer = app.test_client().get("/api/v1/plans", headers={"Authorization": f"Bearer {secret}"})
    assert answer.status_code == 401


# --- the identity provider ----------------------------------------------------------------------


@pytest.fixture(scope="module")
def provider():
    """A small OpenID Connect provider on loopback: whoever comes is `who`."""
    app = Flask("provider")
    key = RSAKey.generate_key(2048, {"kid": "one"})
    state = SimpleNamespace(who={}, codes={}, nonce=None, changes={})

    @app.get("/.well-known/openid-configuration")
    def metadata():
        base = state.issuer
        return {
            "issuer": base, "authorization_endpoint": f"{base}/go",
            "token_endpoint": f"{base}/token", "jwks_uri": f"{base}/keys",
        }  # fmt: skip

    @app.get("/keys")
    def keys():
        return {"keys": [key.as_dict(private=False)]}

    @app.post("/token")
    def token():
        asked = state.codes.pop(request.form["code"], None)
        if asked is None or request.authorization is None:
            return jsonify(error="invalid_grant"), 400
        assert request.authorization.username == "gambrel"
        assert request.authorization.password == "the secret"
        assert request.form["code_verifier"]
        claims = {
            "iss": state.issuer, "aud": "gambrel", "nonce": asked["nonce"][0],
            "exp": 4_000_000_000, "iat": 1_700_000_000, **state.who, **state.changes,
        }  # fmt: skip
        signed = jwt.encode({"alg": "RS256", "kid": "one"}, claims, key)
        return {"access_token": "x", "token_type": "Bearer", "id_token": signed}

    server = make_server("127.0.0.1", 0, app, threaded=True)
    state.issuer = f"http://127.0.0.1:{server.port}"
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield state
    server.shutdown()


@pytest.fixture
def through_provider(app, client, provider):
    """Go through the provider as somebody; returns where that leads, and the browser."""
    setting = {
        "label": "Larkmoor account", "issuer": provider.issuer, "client_id": "gambrel",
        "client_secret": "the secret",
        "roles": {"read": ["staff"], "plan": ["backup"], "administer": ["ops"]},
    }  # fmt: skip
    assert put(client, "/api/v1/identity-provider", setting).status_code == 200
    provider.changes = {}

    def go(**who):
        provider.who = who
        browser = Client(app)
        sent = browser.http.get("/api/v1/session/provider")
        asked = parse_qs(urlsplit(sent.headers["Location"]).query)
        assert asked["code_challenge_method"] == ["S256"]
        code = generate_token(10)
        provider.codes[code] = asked
        back = f"/api/v1/session/provider/back?code={code}&state={asked['state'][0]}"
        return browser.http.get(back).headers["Location"], browser

    return go


def test_groups_of_the_provider_give_the_role(client, through_provider):
    where, browser = through_provider(sub="17", name="Ciara Quinn", groups=["staff", "backup"])
    assert where == "/"
    told = browser.get("/api/v1/session").json
    assert (told["name"], told["role"], told["has_password"]) == ("Ciara Quinn", "plan", False)
    assert told["provider"] == "Larkmoor account"
    # The same subject is the same person, whatever they are called and may do now.
    where, browser = through_provider(sub="17", name="Ciara Burke", groups=["ops"])
    told = browser.get("/api/v1/session").json
    assert (told["name"], told["role"]) == ("Ciara Quinn", "administer")
    # Another one of the same name is another person.
    _, other = through_provider(sub="18", name="Ciara Quinn", groups="staff")
    assert other.get("/api/v1/session").json["name"] == "Ciara Quinn 2"
    shown = client.get("/api/v1/identity-provider").json
    assert "the secret" not in json.dumps(shown)
    assert shown["redirect_uri"].endswith("/api/v1/session/provider/back")


@pytest.mark.parametrize(
    ("groups", "changes", "why"),
    [
        (["guests"], {}, "groups"),
        ([], {}, "groups"),
        (["staff"], {"aud": "another"}, "provider"),
        (["staff"], {"iss": "http://elsewhere"}, "provider"),
        (["staff"], {"nonce": "replayed"}, "provider"),
        (["staff"], {"exp": 1_000_000_000}, "provider"),
    ],
)
def test_a_word_of_the_provider_that_does_not_hold(
    provider, through_provider, groups, changes, why
):
    provider.changes = changes
    where, browser = through_provider(sub="99", name="Mal", groups=groups)
    assert where == f"/sign-in?why={why}"
    assert not browser.get("/api/v1/session").json["signed_in"]


def test_a_way_back_that_nobody_began(app, through_provider):
    answer = app.test_client().get("/api/v1/session/provider/back?code=x&state=y")
    assert answer.headers["Location"] == "/sign-in?why=begun"


def test_without_a_provider_there_is_none(app, client):
    off = put(client, "/api/v1/identity-provider", {"issuer": ""})
    assert off.status_code == 200
    assert client.get("/api/v1/session").json["provider"] is None
    where = app.test_client().get("/api/v1/session/provider").headers["Location"]
    assert where == "/sign-in?why=provider"
    lacking = put(client, "/api/v1/identity-provider", {"issuer": "https://id.example.org"})
    assert errors(lacking)[0][0] == "client_id"


def test_the_highest_role_counts():
    roles = {"read": ["a", "b"], "administer": ["b"]}
    assert role_of(["a", "b"], roles) == "administer"
    assert role_of("a", roles) == "read"
    assert role_of(None, roles) is None


# --- the audit trail ----------------------------------------------------------------------------


def test_the_trail_says_who_what_from_where_and_what_was(app, client):
    with current_sessions(app).begin() as db:
        added = add_person(db, "Sorcha", "read", actor="test")
    patch(client, f"/api/v1/people/{added.id}", {"role": "plan"})
    told = client.get(f"/api/v1/audit?subject=person {added.id}").json
    change, first = told["entries"]
    assert (change["actor"], change["action"]) == ("Planner", "change person")
    assert change["address"] == "127.0.0.1"
    assert change["detail"]["was"]["role"] == "read"
    assert change["detail"]["now"]["role"] == "plan"
    assert first["action"] == "add person"
    assert "change person" in told["actions"]
    only = client.get("/api/v1/audit?said=sorcha&action=change person").json["entries"]
    assert [entry["id"] for entry in only] == [change["id"]]
    assert client.get("/api/v1/audit?until=2020-01-01").json["entries"] == []
    assert client.get("/api/v1/audit?since=yesterday").status_code == 422


def test_the_trail_is_read_in_pages_and_as_files(app, client):
    seen, before = [], ""
    while True:
        page = client.get(f"/api/v1/audit?most=7{before}").json
        seen += [entry["id"] for entry in page["entries"]]
        if page["next"] is None:
            break
        before = f"&before={page['next']}"
    assert seen == sorted(seen, reverse=True)
    assert len(set(seen)) == len(seen)
    lines = client.get("/api/v1/audit/trail.jsonl").text.splitlines()
    assert [json.loads(line)["id"] for line in lines] == seen
    table = client.get("/api/v1/audit/trail.csv").text.splitlines()
    assert len(table) == len(seen) + 1


def test_no_secret_is_in_the_trail(app, client, person):
    made = client.post("/api/v1/tokens", {"name": "secret one", "role": "read"}).json["secret"]
    here = person("read", "Muireann")
    put(here, "/api/v1/session/password", {"password": PASSWORD})
    mail = {"host": "mail.example.org", "port": 25, "sender": "a@b", "password": "mail secret"}
    put(client, "/api/v1/mail", mail)
    trail = client.get("/api/v1/audit/trail.jsonl").text
    for secret in (made, PASSWORD, "mail secret", "argon2"):
        assert secret not in trail


def test_entries_are_neither_changed_nor_soon_deleted(app):
    for statement in ("UPDATE audit_entries SET actor = 'x'", "DELETE FROM audit_entries"):
        with pytest.raises(Exception, match="audit trail"), current_sessions(app).begin() as db:
            db.execute(text(statement))


# --- a second person ----------------------------------------------------------------------------


def test_who_changed_a_draft_does_not_adopt_it_where_two_are_asked_for(app, client, person):
    plan = next(p for p in client.get("/api/v1/plans").json if p["name"] == "tiny")
    url = f"/api/v1/plans/{plan['id']}"
    job = client.get(url).json["jobs"][0]["id"]
    change = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": {"priority": 5}}

    def saved(by):
        draft = by.post(f"{url}/drafts", {"name": "mine"}).json
        answer = by.post(
            f"/api/v1/drafts/{draft['id']}/operations", {"operations": [change]},
            If_Match=f'"{draft["revision"]}"',
        )  # fmt: skip
        assert answer.status_code == 200, answer.json
        return answer.json

    def adopt(by, draft, **headers):
        return by.post(
            f"/api/v1/drafts/{draft['id']}/adopt", {"note": ""},
            If_Match=f'"{draft["revision"]}"', **headers,
        )  # fmt: skip

    assert put(client, "/api/v1/rules", {"second_person": True}).json == {
        "second_person": True, "second_person_for_orders": False,
    }  # fmt: skip
    one, other = person("plan", "Eimear"), person("plan", "Ronan")
    draft = saved(one)
    refused = adopt(one, draft)
    assert refused.status_code == 409
    assert "Somebody else" in refused.json["title"]
    secret = client.post("/api/v1/tokens", {"name": "adopter", "role": "plan"}).json["secret"]
    by_token = app.test_client().post(
        f"/api/v1/drafts/{draft['id']}/adopt", json={"note": ""},
        headers={"Authorization": f"Bearer {secret}", "If-Match": f'"{draft["revision"]}"'},
    )  # fmt: skip
    assert by_token.status_code == 409
    assert client.get(url).json["adopted_version"] == plan["adopted_version"]
    assert adopt(other, draft).status_code == 409, "it is Eimear's own"
    draft = put(one, f"/api/v1/drafts/{draft['id']}/sharing", {"shared": True}).json
    assert adopt(other, draft).status_code == 200
    assert put(client, "/api/v1/rules", {"second_person": False}).status_code == 200
    assert put(one, "/api/v1/rules", {"second_person": False}).status_code == 403


def test_a_draft_is_its_owners_until_it_is_shared(client, person):
    plan = next(p for p in client.get("/api/v1/plans").json if p["name"] == "tiny")
    url = f"/api/v1/plans/{plan['id']}"
    job = client.get(url).json["jobs"][0]["id"]
    one, other = person("plan", "Sadhbh"), person("plan", "Odhran")
    draft = one.post(f"{url}/drafts", {"name": "hers"}).json
    address = f"/api/v1/drafts/{draft['id']}"
    assert (draft["owner"], draft["shared"]) == ("Sadhbh", False)

    def seen():
        return {"If_Match": f'"{client.get(address).json["revision"]}"'}

    def writes(by):
        """Every way to change it, but for discarding and adopting it."""
        changes = {"priority": 2 if by is one else 4}
        change = {"operation": "ChangeItem", "list": "jobs", "id": job, "changes": changes}
        yield by.post(f"{address}/operations", {"operations": [change]}, **seen())
        yield by.post(f"{address}/undo", **seen())
        yield by.post(f"{address}/redo", **seen())
        yield by.post(f"{address}/carry-over", **seen())

    for answer in writes(other):
        assert answer.status_code == 409 and "Sadhbh" in answer.json["title"]
    assert other.post(f"{address}/adopt", {"note": ""}, **seen()).status_code == 409
    assert put(other, f"{address}/sharing", {"shared": True}).status_code == 409
    assert client.get(address).json["changes"] == []
    # To look at and to copy it is everybody's.
    copy = other.post(f"{address}/copies", {"name": "his"})
    assert (copy.status_code, copy.json["owner"]) == (201, "Odhran")

    assert put(one, f"{address}/sharing", {"shared": True}).json["shared"]
    for by in (other, one):
        assert [answer.status_code for answer in writes(by)] == [200] * 4
    # Its owner keeps it to herself again; an administrator opens it where she has left.
    assert not put(one, f"{address}/sharing", {"shared": False}).json["shared"]
    assert other.post(f"{address}/undo", **seen()).status_code == 409
    assert put(client, f"{address}/sharing", {"shared": True}).json["shared"]
    assert other.post(f"{address}/undo", **seen()).status_code == 200


def test_who_is_there_is_seen_by_others(client, person):
    plan = next(p for p in client.get("/api/v1/plans").json if p["name"] == "tiny")
    url = f"/api/v1/plans/{plan['id']}/presence"
    one, other = person("plan", "Fionn"), person("read", "Gobnait")

    def tell(by, window="1", **more):
        body = {"window": window, "view": "board", "draft": None, "editing": "", **more}
        answer = by.post(url, body)
        assert answer.status_code == 200, answer.json
        return [(o["name"], o["view"], o["editing"]) for o in answer.json["others"]]

    assert ("Gobnait", "board", "") not in tell(one, editing="job Nightly")
    assert tell(other) == [("Fionn", "board", "job Nightly")]
    # Of several windows of a person, the one that is editing counts.
    tell(one, window="2", view="runs")
    assert tell(other) == [("Fionn", "board", "job Nightly")]
    assert tell(one) == [("Gobnait", "board", "")]
    # Nobody closes the window of somebody else.
    assert other.http.delete(
        f"{url}?window=1", headers={"X-CSRF-Token": other.token}
    ).status_code == 204  # fmt: skip
    assert tell(one) == []
    for window in ("1", "2"):
        one.http.delete(f"{url}?window={window}", headers={"X-CSRF-Token": one.token})
    assert tell(other) == []
    assert one.post(url.replace(str(plan["id"]), "99999"), {
        "window": "1", "view": "board", "draft": None, "editing": "",
    }).status_code == 404  # fmt: skip
    assert one.post(url, {"window": "", "view": "x", "draft": None, "editing": ""}).json[
        "errors"
    ][0]["field"].endswith("window")  # fmt: skip
