"""Values that were taken over from the ledger stay told apart from those that somebody stated."""

from busy_plans import busy_plan

from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.edits.operations import SetTransports
from gambrel.core.edits.plan_diff import compare
from gambrel.core.plan.learned import stated_before

PLAN = busy_plan(3)
PROXY = next(proxy for proxy in PLAN.proxies if proxy.mib_per_s)
JOB = PLAN.jobs[0]


def taken(key, value, stated):
    return {key: value, "learned": [{"key": key, "value": value, "stated": stated}]}


def proxy_of(plan):
    return next(proxy for proxy in plan.proxies if proxy.id == PROXY.id)


def test_what_was_stated_is_known_until_somebody_states_anew():
    take = ChangeItem("proxies", PROXY.id, taken("mib_per_s", 55.5, PROXY.mib_per_s))
    plan = take.apply(PLAN)
    assert stated_before(proxy_of(PLAN), "mib_per_s") is None
    assert proxy_of(plan).mib_per_s == 55.5
    assert stated_before(proxy_of(plan), "mib_per_s") == PROXY.mib_per_s
    assert take.describe(PLAN).endswith(", as the nights show it")
    anew = ChangeItem("proxies", PROXY.id, {"mib_per_s": 60}).apply(plan)
    assert stated_before(proxy_of(anew), "mib_per_s") is None


def test_going_back_leaves_the_plan_as_it_was():
    plan = ChangeItem("proxies", PROXY.id, taken("mib_per_s", 55.5, PROXY.mib_per_s)).apply(PLAN)
    back = ChangeItem("proxies", PROXY.id, {"mib_per_s": PROXY.mib_per_s, "learned": []})
    assert back.apply(plan) == PLAN
    assert back.describe(plan).endswith(", as stated before")


def test_ceilings_of_streams_and_times_of_jobs_are_told_likewise():
    was = PLAN.transports.agent_mib_per_s
    streams = SetTransports(taken("agent_mib_per_s", 42.0, was))
    after = streams.apply(PLAN)
    assert stated_before(after.transports, "agent_mib_per_s") == was
    assert stated_before(after.transports, "network_mib_per_s") is None
    assert streams.describe(PLAN).endswith("as the nights show it")
    quiet = ChangeItem("jobs", JOB.id, taken("quiesce_s", JOB.quiesce_s + 20, JOB.quiesce_s))
    plan = quiet.apply(PLAN)
    assert stated_before(plan.job_by_id[JOB.id], "quiesce_s") == JOB.quiesce_s
    assert quiet.describe(PLAN).endswith("as the nights show it")
    (told,) = compare(PLAN, plan)
    assert told.lines[-1] == "as the nights show it"
