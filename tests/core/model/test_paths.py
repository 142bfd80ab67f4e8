"""Routes, who may read a disk and how, and what a stream uses."""

import pytest
from plans import DAY, FRIDAY_NOON, small_file

from gambrel.core.loads.load_series import measure_of, shown_load_names
from gambrel.core.model.paths import Routes, Topology
from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.core.plan.values import PlanError
from gambrel.core.questions.job_problems import job_problems
from gambrel.core.simulation.reference import simulate as by_the_text
from gambrel.core.simulation.simulate import simulate
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


# --- named networks ---------------------------------------------------------------------------

STORAGE = {"id": "store-net", "between": ["quay", "quay"], "mbit_per_s": 400, "network": "storage"}


def with_storage(job=None, **h1):
    """The estate with a second network at quay, of which host h1 may have a NIC."""
    file = write_plan(estate(**{"proxies": ["near"], **(job or {})}))
    file["links"].insert(0, STORAGE)
    file["hosts"][0].update(h1)
    return read_plan(file)


IN_STORAGE = {"backup_network": "storage", "backup_nic_mbit_per_s": 250}


def test_a_host_sends_by_its_second_nic_and_its_network():
    plan = with_storage(**IN_STORAGE)
    topology = Topology(plan)
    assert topology.capacity[topology.resource("host_nic_2:h1")] == 250 * MBIT
    uses = used(plan, 0.5)
    assert uses["link:store-net"] == uses["host_nic_2:h1"] == 1
    # What the proxy sends is the job's affair: it is not held to a network.
    assert uses["link:lan"] == 0.5
    assert "host_nic:h1" not in uses


def test_a_further_network_is_not_the_own_network_of_its_site():
    uses = used(with_storage(), 0.5)
    assert "link:store-net" not in uses
    assert uses["link:lan"] == 1.5
    assert "host_nic_2:h1" not in Topology(with_storage()).resource_names


@pytest.mark.parametrize(
    ("h1", "shown"), [(IN_STORAGE, True), ({"backup_nic_mbit_per_s": 250}, False), ({}, False)]
)
def test_a_second_nic_is_a_load_where_there_is_one(h1, shown):
    plan = with_storage(**h1)
    forecast = simulate(plan, FRIDAY_NOON, FRIDAY_NOON + DAY)
    names = shown_load_names(plan)
    assert ("host_nic_2:h1" in names) == shown
    for name in names:
        measure_of(forecast, name, FRIDAY_NOON, FRIDAY_NOON + DAY)


def test_a_job_that_is_held_to_a_network_uses_no_other():
    plan = with_storage({"network": "storage"}, **IN_STORAGE)
    uses = used(plan, 0.5)
    assert uses["link:store-net"] == 1.5
    assert "link:lan" not in uses
    assert readers(with_storage({"network": "storage"})) == []
    # Readers that need no NIC of the host go on.
    assert readers(with_storage({"network": "storage", "proxies": ["direct", "near"]})) == [
        ("direct", "direct")
    ]


def server_in(network=None, job=None):
    file = write_plan(with_storage(job))
    nic = {"nic_mbit_per_s": 100, "backup_nic_mbit_per_s": 50, "backup_network": network}
    disks = [{"id": "c", "provisioned_gib": 9, "used_gib": 9}]
    file["machines"] = [{"id": "gate", "kind": "server", "site": "quay", "disks": disks, **nic}]
    file["jobs"][0]["machines"] = {"ids": ["gate"]}
    return read_plan(file)


def test_a_server_sends_by_its_second_nic():
    uses = used(server_in("storage"), 0.5)
    assert uses["server_nic_2:gate"] == uses["link:store-net"] == 0.5
    assert "server_nic:gate" not in uses and "link:lan" not in uses
    uses = used(server_in(), 0.5)
    assert uses["server_nic:gate"] == uses["link:lan"] == 0.5


def test_a_server_outside_of_the_job_s_network_has_no_path():
    held = server_in(job={"network": "storage"})
    machine = held.machines[0]
    assert Topology(held).candidates(held.jobs[0], machine, machine.disks[0]) == ()
    found = job_problems(held, held.jobs[0], 1793469600.0)
    assert any("no second NIC in the network storage" in each.words for each in found)
    inside = server_in("storage", job={"network": "storage"})
    assert used(inside, 0.5)["link:store-net"] == 0.5


def test_a_network_of_a_name_that_no_link_has_is_the_site_s_own():
    assert used(server_in("strage"), 0.5)["link:lan"] == 0.5
    assert server_in("strage").networks == ("storage", "strage")


def test_a_named_network_is_of_one_site():
    file = write_plan(estate())
    file["links"][1]["network"] = "storage"
    with pytest.raises(PlanError, match="is for a link of a site with itself"):
        read_plan(file)


def test_a_full_over_the_second_nic_takes_as_long_as_its_rate_says():
    """9 GiB, ω = 1/1.6, 50 Mbit/s: 9 · 2^30 / 1.6 / 6.25e6 = 966.4 s."""
    plan = server_in("storage")
    for engine in (simulate, by_the_text):
        run = engine(plan, FRIDAY_NOON, FRIDAY_NOON + 7 * DAY).runs[0].machines[0]
        assert run.moved - run.start == pytest.approx(9 * 2**30 / 1.6 / 6.25e6 + 5)
