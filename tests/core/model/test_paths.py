"""Routes, who may read a disk and how, and what a stream uses."""

import pytest
from plans import small_file

from gambrel.core.model.paths import Routes, Topology
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.units import MBIT, MIB


def plan_with_sites(*links):
    sites = sorted({site for link in links for site in link[1:]})
    return read_plan(
        {
            "format": "gambrel-plan/1",
            "sites": [{"id": site, "time_zone": "UTC"} for site in sites],
            "links": [
                {"id": ident, "between": [one, other], "mbit_per_s": 1}
                for ident, one, other in links
            ],
        }
    )


def route(links, start, end):
    plan = plan_with_sites(*links)
    found = Routes(plan).route(start, end)
    return None if found is None else [plan.links[position].id for position in found]


def test_the_fewest_links_win():
    links = [("ab", "a", "b"), ("bc", "b", "c"), ("ac", "a", "c")]
    assert route(links, "a", "c") == ["ac"]
    assert route(links, "c", "a") == ["ac"]


def test_among_as_few_the_smallest_positions_win_in_the_direction_of_travel():
    links = [("by", "b", "y"), ("ax", "a", "x"), ("ay", "a", "y"), ("bx", "b", "x")]
    assert route(links, "a", "b") == ["ax", "bx"]
    assert route(links, "b", "a") == ["by", "ay"]


def test_links_go_both_ways_and_there_may_be_no_way():
    links = [("ab", "a", "b"), ("cd", "c", "d")]
    assert route(links, "b", "a") == ["ab"]
    assert route(links, "a", "d") is None


def test_within_a_site_its_own_first_link_or_none():
    links = [("ab", "a", "b"), ("own", "a", "a"), ("second", "a", "a")]
    assert route(links, "a", "a") == ["own"]
    assert route(links, "b", "b") == []
    assert route(links, "a", "b") == ["ab"]


def estate(**job):
    """A VM on a host of a cluster of two; proxies of every kind; a second site over a link."""
    file = small_file(
        sites=[{"id": s, "time_zone": "UTC"} for s in ("quay", "hill")],
        links=[
            {"id": "lan", "between": ["quay", "quay"], "mbit_per_s": 1000},
            {"id": "wan", "between": ["quay", "hill"], "mbit_per_s": 100},
        ],
        hosts=[
            {"id": "h1", "site": "quay", "nic_mbit_per_s": 500},
            {"id": "h2", "site": "quay"},
        ],
        datastores=[{"id": "store", "hosts": ["h1", "h2"]}],
        proxies=[
            {"id": "far", "site": "hill", "slots": 1},
            {"id": "near", "site": "quay", "slots": 1},
            {"id": "hot", "site": "quay", "slots": 1, "on_host": "h2"},
            {"id": "direct", "site": "quay", "slots": 1, "direct_datastores": ["store"]},
            {"id": "hotter", "site": "quay", "slots": 1, "on_host": "h1"},
        ],
    )
    file["jobs"][0].update(job)
    return read_plan(file)


def candidates(plan):
    machine = plan.machines[0]
    found = Topology(plan).candidates(plan.jobs[0], machine, machine.disks[0])
    return [(plan.proxies[c.proxy].id, c.transport, c.ceiling / MIB) for c in found]


@pytest.mark.parametrize(
    ("job", "expected"),
    [
        ({}, [("direct", "direct", 400)]),
        ({"transport": "hot_add"}, [("hot", "hot_add", 250), ("hotter", "hot_add", 250)]),
        ({"proxies": ["hotter", "near"]}, [("hotter", "hot_add", 250)]),
        ({"proxies": ["near", "far"]}, [("near", "network", 110)]),
        ({"proxies": ["far"]}, [("far", "network", 110)]),
        ({"proxies": ["direct"], "transport": "network"}, [("direct", "network", 110)]),
        ({"proxies": ["near"], "transport": "direct"}, []),
        ({"proxies": []}, []),
    ],
)
def test_the_best_rank_that_is_allowed(job, expected):
    assert candidates(estate(**job)) == expected


def used(plan, omega):
    machine = plan.machines[0]
    topology = Topology(plan)
    (candidate,) = topology.candidates(plan.jobs[0], machine, machine.disks[0])
    return {topology.resource_names[r]: use for r, use in candidate.uses(omega)}


def test_a_network_reader_elsewhere_loads_the_link_both_ways():
    uses = used(estate(proxies=["far"]), 0.5)
    assert uses == {
        "datastore:store": 1,
        "host_nic:h1": 1,
        "proxy:far": 1,
        "link:wan": 1.5,
        "repository:vault": 0.5,
        "job:nightly": 0.5,
    }


def test_a_reader_at_the_datastore_sends_compressed_bytes_only():
    uses = used(estate(), 0.5)
    assert (uses["link:lan"], uses["datastore:store"]) == (0.5, 1)
    assert "host_nic:h1" not in uses


def test_a_server_reads_for_itself():
    file = small_file()
    file["machines"] = [
        {
            "id": "gate",
            "kind": "server",
            "site": "quay",
            "nic_mbit_per_s": 100,
            "disks": [
                {"id": "c", "provisioned_gib": 9, "used_gib": 9, "read_mib_per_s": 60},
            ],
        }
    ]
    file["jobs"][0]["machines"] = {"ids": ["gate"]}
    file["jobs"][0]["transport"] = "direct"
    file["jobs"][0]["proxies"] = []
    plan = read_plan(file)
    assert used(plan, 0.25) == {
        "server_disk:gate/c": 1,
        "server_nic:gate": 0.25,
        "link:lan": 0.25,
        "repository:vault": 0.25,
        "job:nightly": 0.25,
    }
    topology = Topology(plan)
    assert topology.capacity[topology.resource("server_nic:gate")] == 100 * MBIT
    assert topology.capacity[topology.resource("server_disk:gate/c")] == 60 * MIB
    assert topology.slots[topology.pool("agent:gate")] == 2


def test_what_has_no_capacity_is_no_constraint():
    topology = Topology(estate())
    assert topology.resource("proxy:far") not in topology.capacity
    assert topology.limited_pools("repository:vault", "proxy:far", "host:h1") == (
        topology.pool("proxy:far"),
    )


# --- pins of hosts, zoning, proxies that are machines, encryption -------------------------------


def with_keys(**keys):
    """The estate with more keys for entries: `h1={...}`, `store={...}` and so on."""
    file = write_plan(estate())
    for entry in (*file["hosts"], *file["datastores"], *file["proxies"], *file["links"]):
        entry.update(keys.get(entry["id"], {}))
    return read_plan(file)


def readers(plan):
    return [(proxy, transport) for proxy, transport, _ in candidates(plan)]


@pytest.mark.parametrize(
    ("keys", "expected"),
    [
        ({"h1": {"proxies": ["near", "far"]}}, [("near", "network")]),
        ({"h1": {"proxies": []}}, []),
        ({"h2": {"proxies": ["far"]}}, [("direct", "direct")]),
        ({"store": {"zoned_proxies": ["near"]}}, [("near", "direct"), ("direct", "direct")]),
        (
            {"store": {"zoned_proxies": ["near"]}, "near": {"left_out_datastores": ["store"]}},
            [("direct", "direct")],
        ),
        (
            {"direct": {"left_out_datastores": ["store"]}},
            [("hot", "hot_add"), ("hotter", "hot_add")],
        ),
    ],
)
def test_pins_of_hosts_and_zoning_decide_who_reads(keys, expected):
    assert readers(with_keys(**keys)) == expected


def test_a_proxy_that_is_a_machine_runs_where_the_machine_runs():
    name = estate().machines[0].id
    keys = {"direct": {"left_out_datastores": ["store"]}, "near": {"on_machine": name}}
    assert ("near", "hot_add") in readers(with_keys(**keys))


def test_an_encrypted_link_carries_its_factor_limits_included():
    limit = {"days": ["fri"], "from": "12:00", "to": "18:00", "mbit_per_s": 40}
    plain = {"mbit_per_s": 100, "limits": [limit], "encryption_factor": 0.5}
    link = with_keys(wan={**plain, "encrypted": True}).links[1]
    assert (link.carried(100), link.carried(40)) == (50, 20)
    assert with_keys(wan=plain).links[1].carried(100) == 100
    topology = Topology(with_keys(wan={**plain, "encrypted": True}))
    assert topology.capacity[topology.resource("link:wan")] == 50 * MBIT
