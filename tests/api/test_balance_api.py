"""Balance, what-if and confidence through the API."""

import time
from datetime import datetime

import pytest
from balances import crowded_file

from gambrel.api.app import current_sessions
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.how_sure import draw
from gambrel.core.questions.what_if import happening_from
from gambrel.core.simulation.varying import Spread
from gambrel.store import computations as store
from gambrel.store.plans import store_plan

WEEK = "2026-11-02"
NARROW = {"day": WEEK, "kinds": ["night"], "most_moves": 2, "most_evaluations": 20}


@pytest.fixture
def running(app):
    computations = app.extensions["gambrel-computations"]
    yield computations
    computations.cancel_all()


@pytest.fixture(scope="module")
def crowded(app):
    """The id of a plan whose Friday is over, and whose other nights have room."""
    app.extensions["gambrel"].now = lambda: datetime.fromisoformat(f"{WEEK}T09:00+00:00")
    with current_sessions(app).begin() as db:
        return store_plan(db, "crowded", read_plan(crowded_file(gib=600.0)), actor="test").id


@pytest.fixture
def crowded_url(crowded):
    return f"/api/v1/plans/{crowded}"


@pytest.fixture
def tiny_url(client):
    found = next(plan for plan in client.get("/api/v1/plans").json if plan["name"] == "tiny")
    return f"/api/v1/plans/{found['id']}"


def ended(client, running, begun):
    assert begun.status_code == 201, begun.json
    running.wait(begun.json["id"])
    return client.get(f"/api/v1/computations/{begun.json['id']}").json


def test_a_proposal_is_searched_told_and_taken(client, crowded_url, running):
    asked = {"day": WEEK, "seconds": 600, "most_moves": 15, "most_evaluations": 60}
    found = ended(client, running, client.post(f"{crowded_url}/balances", asked))
    assert found["state"] == "done", found["message"]
    result = found["result"]
    before, after = result["before"], result["after"]
    assert [night["verdict"] for night in before["nights"]][4] == "over"
    assert "over" not in {night["verdict"] for night in after["nights"]}
    assert 0 < len(result["moves"]) <= 15
    assert all(move["words"] and move["reason"].endswith(".") for move in result["moves"])
    assert result["bound"]["over_s"] == 0 <= after["score"]["over_s"]
    # What was proposed is an edit like any other, and the preview says the same.
    operations = [move["operation"] for move in result["moves"]]
    preview = client.post(
        f"{crowded_url}/preview", {"night": "2026-11-06", "operations": operations}
    )
    assert "over" not in {night["verdict"] for night in preview.json["nights"]}
    # Beside these moves nothing has to be bought; what would do without any is found as well.
    as_it_is, with_moves = (result["purchase"][key] for key in ("as_it_is", "with_moves"))
    fitting = min(
        len(rung["moves"])
        for rung in result["rungs"]
        if "over" not in {night["verdict"] for night in rung["after"]["nights"]}
    )
    assert (with_moves["items"], with_moves["fits"], with_moves["moves"]) == ([], True, fitting)
    assert as_it_is["fits"] and as_it_is["items"] and not as_it_is["operations"]
    bought = [each for item in as_it_is["items"] for each in item["operations"]]
    preview = client.post(f"{crowded_url}/preview", {"night": "2026-11-06", "operations": bought})
    assert "over" not in {night["verdict"] for night in preview.json["nights"]}
    assert found["id"] in [c["id"] for c in client.get(f"{crowded_url}/computations").json]


def test_rules_of_the_house_are_kept_and_told(client, crowded_url, running):
    rules = [{"rule": "apart", "jobs": ["j0", "j1"]}, {"rule": "last", "job": "j2"}]
    asked = {"day": WEEK, "seconds": 600, "most_evaluations": 60, "rules": rules}
    found = ended(client, running, client.post(f"{crowded_url}/balances", asked))
    assert found["asked"]["rules"] == rules
    apart, last = found["result"]["rules"]
    # All three have their full on Friday at 21:00.
    assert apart["words"] == "Fulls of Job 0 and Job 1: never in one night"
    assert (apart["nights"], apart["jobs"]) == (["2026-11-06"], ["Job 0", "Job 1"])
    assert (last["words"], last["nights"]) == ("Job 2: the last to begin", [])
    others = [
        move["operation"]["start_time"]
        for move in found["result"]["moves"]
        if move["operation"]["operation"] == "MoveStart" and move["operation"]["job"] != "j2"
    ]
    assert all("12:00" < start <= "21:00" for start in others)


def test_moves_taken_in_part_tell_which_rules_they_break(client, crowded_url):
    def broken(*moves):
        asked = {
            "day": WEEK,
            "rules": [{"rule": "last", "job": "j2"}, {"rule": "not before", "time": "20:00"}],
            "operations": [
                {"operation": "MoveStart", "job": job, "schedule": 0, "start_time": start}
                for job, start in moves
            ],
        }
        asked["rules"][1]["jobs"] = ["j0"]
        answer = client.post(f"{crowded_url}/broken-rules", asked)
        assert answer.status_code == 200, answer.json
        return [(rule["words"], rule["nights"], rule["jobs"]) for rule in answer.json]

    # Both jobs move together, so that the one stays behind the other.
    assert broken(("j1", "22:00"), ("j2", "22:00")) == []
    assert broken() == []
    alone = broken(("j1", "22:00"))
    assert alone == [("Job 2: the last to begin", ["2026-11-06"], ["Job 1"])]
    assert [words for words, *_ in broken(("j1", "22:00"), ("j0", "19:00"))] == [
        "Job 2: the last to begin", "Job 0: never before 20:00",
    ]  # fmt: skip


@pytest.mark.parametrize(
    ("wrong", "field"),
    [
        ({"rules": [{"rule": "last", "job": "none"}]}, "job"),
        ({"weeks": 9}, "weeks"),
        ({"day": "tomorrow"}, "day"),
        ({"operations": [{"operation": "Nothing"}]}, "operation"),
    ],
)
def test_rules_that_cannot_be_looked_at_are_refused_by_name(client, crowded_url, wrong, field):
    answer = client.post(f"{crowded_url}/broken-rules", {"day": WEEK, "rules": [], **wrong})
    assert answer.status_code == 422
    assert field in str(answer.json)


def test_where_moves_are_not_enough_the_purchase_beside_them_is(
    client, crowded_url, running, monkeypatch
):
    noted, note = [], running._note

    def noting(job, progress, **how):
        noted.append(dict(progress))
        note(job, progress, **how)

    monkeypatch.setattr(running, "_note", noting)
    asked = {
        "day": WEEK, "seconds": 60, "most_moves": 1, "most_evaluations": 25, "kinds": ["order"],
    }  # fmt: skip
    found = ended(client, running, client.post(f"{crowded_url}/balances", asked))
    assert found["state"] == "done", found["message"]
    # What was found stays on the screen while it is asked what to buy.
    buying = [progress for progress in noted if progress["phase"] == "buying"]
    assert len(buying) > 1 and all(p["result"]["before"] for p in buying)
    assert "over" in {night["verdict"] for night in found["result"]["after"]["nights"]}
    bought = found["result"]["purchase"]["with_moves"]
    assert bought["fits"] and bought["items"] and bought["moves"] <= 1
    operations = [each for item in bought["items"] for each in item["operations"]]
    preview = client.post(
        f"{crowded_url}/preview",
        {"night": "2026-11-06", "operations": [*operations, *bought["operations"]]},
    )
    assert "over" not in {night["verdict"] for night in preview.json["nights"]}


@pytest.mark.parametrize("stands", [[], pytest.param(["proxies", "weeks"], marks=pytest.mark.long)])
def test_what_is_said_of_a_rung_is_what_its_draft_shows(client, crowded_url, running, stands):
    asked = {"day": WEEK, "seconds": 600, "most_evaluations": 60, "stands": stands, "seed": 5}
    found = ended(client, running, client.post(f"{crowded_url}/balances", asked))
    assert found["state"] == "done", found["message"]
    rungs = found["result"]["rungs"]
    assert rungs and [len(rung["moves"]) for rung in rungs] == sorted(
        {len(rung["moves"]) for rung in rungs}
    )
    assert found["result"]["moves"] == rungs[-1]["moves"]
    for rung in (rungs[0], rungs[-1]):
        moves = sorted(rung["moves"], key=lambda move: move["turn"])
        draft = client.post(f"{crowded_url}/drafts", {"name": f"{len(moves)} {stands}"}).json
        saved = client.post(
            f"/api/v1/drafts/{draft['id']}/operations",
            {"operations": [move["operation"] for move in moves]},
            If_Match=f'"{draft["revision"]}"',
        )
        assert saved.status_code == 200, saved.json
        week = client.get(f"{crowded_url}/weeks/{WEEK}?draft={draft['id']}").json
        shown = {night["date"]: night for night in week["nights"]}
        for night in rung["after"]["nights"]:
            now = shown[night["date"]]
            assert (night["verdict"], night["last_end"]) == (now["verdict"], now["last_end"])
        # The chance is that of the same weeks drawn for the draft.
        drawn = ended(
            client, running,
            client.post(f"{crowded_url}/confidences",
                        {"day": WEEK, "draft": draft["id"], "samples": rung["draws"], "seed": 7}),
        )  # fmt: skip
        assert rung["draws"] == 64 and rung["chances"] == drawn["result"]["nights"]
        assert 0 <= rung["chance"] <= min(night["holds"] for night in rung["chances"])
        # What breaks it is what happens to the draft.
        proxies = [loss for loss in rung["losses"] if loss["words"].startswith("proxy")]
        assert proxies
        for loss in proxies:
            lost = {"happens": "LoseProxy", "proxy": loss["words"].split()[1]}
            after = client.post(
                f"{crowded_url}/what-if",
                {"day": WEEK, "draft": draft["id"], "happens": [lost]},
            ).json["nights"]
            assert loss["fits"] == ("over" not in {night["verdict"] for night in after})
    file = client.get(f"{crowded_url}/tables/moves.csv?computation={found['id']}")
    lines = file.get_data(as_text=True).splitlines()
    assert len(lines) == 1 + len(rungs[-1]["moves"])


def test_what_a_plan_cannot_be_asked_to_stand_is_named(client, crowded_url):
    refused = client.post(f"{crowded_url}/balances", {"day": WEEK, "stands": ["floods"]})
    assert refused.status_code == 422
    assert refused.json["errors"][0]["field"].startswith("stands")


def test_it_stops_with_the_best_so_far(client, crowded_url, running):
    begun = client.post(f"{crowded_url}/balances", {"day": WEEK, "seconds": 600})
    told = {}
    while "score" not in told:
        told = client.get(f"/api/v1/computations/{begun.json['id']}").json["progress"]
        time.sleep(0.05)
    assert told["evaluations"] > 0
    assert told["curve"][-1]["grades"][0] == told["score"]["lost"]
    client.post(f"/api/v1/computations/{begun.json['id']}/stop")
    found = ended(client, running, begun)
    assert (found["state"], found["result"]["ended"]) == ("done", "stopped")


def test_it_is_cancelled_without_a_result(client, crowded_url, running):
    begun = client.post(f"{crowded_url}/balances", {"day": WEEK, "seconds": 600})
    client.post(f"/api/v1/computations/{begun.json['id']}/cancel")
    found = ended(client, running, begun)
    assert (found["state"], found["result"]) == ("cancelled", None)


def test_what_was_interrupted_goes_on_from_its_best(client, crowded_url, running, app):
    move = {"operation": "MoveFull", "job": "j0", "schedule": 0, "days": -1}
    plan_id = int(crowded_url.rsplit("/", 1)[1])
    asked = {
        **NARROW, "seconds": 30, "draft": None, "happens": [], "weeks": 1, "jobs": None,
        "comfort": 0.85, "seed": 1,
    }  # fmt: skip
    with app.extensions["gambrel"].sessions.begin() as db:
        ident = store.begin(db, plan_id, "balance", asked, actor="test", progress={"best": [move]})
        store.interrupt(db)
    was = client.get(f"/api/v1/computations/{ident}").json
    assert was["state"] == "interrupted"
    found = ended(client, running, client.post(f"/api/v1/computations/{ident}/resume"))
    assert found["state"] == "done"
    assert len(found["result"]["moves"]) <= 2


@pytest.mark.parametrize(
    ("wrong", "field"),
    [
        ({"jobs": ["nobody"]}, "jobs"),
        ({"comfort": 0}, "comfort"),
        ({"kinds": ["magic"]}, "kinds"),
        ({"weeks": 9}, "weeks"),
        ({"day": "soon"}, "day"),
        ({"most_moves": 0}, "most_moves"),
        ({"happens": [{"happens": "Flood"}]}, "happens"),
        ({"happens": [{"happens": "LoseProxy", "proxy": "nobody"}]}, "proxy"),
        ({"rules": [{"rule": "never"}]}, "rule"),
        ({"rules": [{"rule": "last", "job": "nobody"}]}, "jobs"),
        ({"rules": [{"rule": "not before", "time": "8 pm", "tag": "db"}]}, "time"),
    ],
)
def test_what_cannot_be_asked_is_refused_by_name(client, plan_url, wrong, field):
    answer = client.post(f"{plan_url}/balances", {"day": WEEK, **wrong})
    assert answer.status_code == 422
    assert any(field in error["field"] for error in answer.json["errors"]), answer.json


def test_a_night_before_all_forecasts_is_refused(client, plan_url):
    assert client.post(f"{plan_url}/balances", {"day": "2026-01-05"}).status_code == 404


def test_strangers_compute_nothing(stranger, plan_url):
    assert stranger.post(f"{plan_url}/balances", NARROW).status_code == 401
    assert stranger.post(f"{plan_url}/what-if", {"day": WEEK}).status_code == 401


@pytest.mark.parametrize(
    ("happens", "words", "friday"),
    [
        ([], [], "over"),
        ([{"happens": "LoseProxy", "proxy": "quay-p2"}], ["proxy quay-p2 is lost"], "over"),
        (
            [
                {"happens": "AddSlots", "proxy": "quay-p2", "slots": 4},
                {"happens": "CloseNight", "night": "2026-11-06"},
            ],
            ["4 more slots at quay-p2", "the night of Fri 6 Nov is closed"],
            "over",
        ),
    ],
)
def test_what_if_tells_the_nights(client, plan_url, happens, words, friday):
    answer = client.post(f"{plan_url}/what-if", {"day": WEEK, "happens": happens})
    assert answer.json["words"] == words
    assert answer.json["nights"][4]["verdict"] == friday
    assert len(answer.json["nights"]) == 7


def test_a_scenario_can_be_balanced(client, crowded_url, running):
    asked = {**NARROW, "happens": [{"happens": "AddSlots", "proxy": "p1", "slots": 2}]}
    found = ended(client, running, client.post(f"{crowded_url}/balances", asked))
    assert found["state"] == "done"
    assert found["result"]["after"]["score"]["lost"] <= found["result"]["before"]["score"]["lost"]


def test_confidence_of_a_week(client, tiny_url, running):
    asked = {"day": WEEK, "samples": 25, "seed": 4}
    found = ended(client, running, client.post(f"{tiny_url}/confidences", asked))
    assert found["state"] == "done", found["message"]
    nights = found["result"]["nights"]
    assert found["result"]["samples"] == 25
    assert all(0 <= night["holds"] <= 1 for night in nights)
    again = ended(client, running, client.post(f"{tiny_url}/confidences", asked))
    assert again["result"]["nights"] == nights
    assert all(night["whole"] is None for night in nights)
    failing = client.post(f"{tiny_url}/confidences", asked | {"failures": True})
    told = ended(client, running, failing)["result"]["nights"]
    assert [night["holds"] for night in told] == [night["holds"] for night in nights]
    assert all(night["whole"] <= night["holds"] for night in told)


def test_a_sweep_says_how_often_each_single_loss_is_stood(client, crowded, crowded_url, running):
    asked = {"day": WEEK, "samples": 6, "seed": 3, "losses": ["proxies", "links"]}
    found = ended(client, running, client.post(f"{crowded_url}/sweeps", asked))
    assert found["state"] == "done", found["message"]
    nothing, *losses = found["result"]["losses"]
    assert nothing["words"] == "nothing happens" and nothing["happens"] is None
    assert [loss["holds"] for loss in losses] == sorted(loss["holds"] for loss in losses)
    assert {loss["happens"]["happens"] for loss in losses} >= {"LoseProxy"}
    # What a row says is what its weeks drawn plainly say.
    problem = running.problem(crowded, {"day": WEEK, "draft": None, "happens": []})
    spread = Spread(**found["result"]["spread"])
    for row in (nothing, *losses):
        lost = problem
        if row["happens"] is not None:
            lost = problem.with_loss(happening_from(row["happens"]))
        weeks = draw(lost, spread, 3, range(6))
        assert row["samples"] == 6
        assert row["holds"] == sum(not any(week.over) for week in weeks) / 6
        for i, night in enumerate(row["nights"]):
            assert night["holds"] == 1 - sum(week.over[i] for week in weeks) / 6
    # Each can be asked about, and balanced, as it stands there.
    what_if = {"day": WEEK, "happens": [losses[0]["happens"]]}
    assert client.post(f"{crowded_url}/what-if", what_if).json["words"] == [losses[0]["words"]]


def test_a_sweep_of_nothing_is_refused(client, crowded_url):
    for wrong in ({"losses": []}, {"losses": ["moons"]}, {"samples": 0}, {"samples": 10_000}):
        refused = client.post(f"{crowded_url}/sweeps", {"day": WEEK, **wrong})
        assert refused.status_code == 422
        assert refused.json["errors"][0]["field"].startswith(next(iter(wrong)))
