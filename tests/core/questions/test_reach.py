"""Which proxy reads which machines, by what, and why."""

import pytest

from gambrel.core.edits.item_edits import ChangeItem
from gambrel.core.model.paths import Topology
from gambrel.core.model.selection import selected_machines
from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.reach import GROUPS, reach_reasons, reach_table
from gambrel.demo import larkmoor

PLAN = read_plan(larkmoor())


@pytest.mark.parametrize("by", GROUPS)
def test_the_jobs_of_a_cell_are_those_whose_candidates_include_the_proxy(by):
    topology = Topology(PLAN)
    used = {
        (PLAN.proxies[candidate.proxy].id, job.id)
        for job in PLAN.jobs
        for machine in selected_machines(PLAN, job)
        for disk in machine.disks
        for candidate in topology.candidates(job, machine, disk)
        if candidate.proxy is not None
    }
    table = reach_table(PLAN, by)
    assert {(c.proxy, job) for row in table for c in row.cells for job in c.jobs} == used


def test_every_disk_of_a_group_is_counted_once_for_each_proxy():
    for row in reach_table(PLAN, "host"):
        disks = sum(len(m.disks) for m in PLAN.machines if m.host == row.name)
        for cell in row.cells:
            assert sum(n for _, n in cell.disks) + cell.unreached == disks


def test_a_pin_of_a_host_takes_other_proxies_away_and_is_told():
    pinned = ChangeItem("hosts", "qb-h1", {"proxies": ["quay-p3"]}).apply(PLAN)
    row = next(row for row in reach_table(pinned, "host") if row.name == "qb-h1")
    cells = {cell.proxy: cell for cell in row.cells}
    assert (cells["quay-p2"].best, cells["quay-p2"].jobs) == (None, ())
    assert cells["quay-p3"].best == "hot_add"
    reason = reach_reasons(pinned, "host", "qb-h1", "quay-p2")[0]
    assert reason.found.pinned
    assert reason.found.why[0] == "not used: host qb-h1 is pinned to quay-p3"


@pytest.mark.parametrize(
    ("proxy", "group", "lines"),
    [
        ("quay-p2", "qb-main", ["direct: yes, it reads qb-main itself (set by hand)"]),
        (
            "hill-p1",
            "ha-main",
            ["direct: yes, it reads ha-main itself (the storage is zoned to it)"],
        ),
        (
            "quay-p3",
            "qb-main",
            [
                "direct: no, it is not connected to qb-main",
                "hot-add: yes, its host qb-h1 mounts qb-main",
            ],
        ),
        (
            "quay-p4",
            "ha-main",
            [
                "direct: no, it is not connected to ha-main",
                "hot-add: no, its host qs-h1 does not mount ha-main",
                "network: yes, from hill to quay over quay-hill",
            ],
        ),
    ],
)
def test_the_reasons_go_from_the_best_transport_to_the_one_that_is_used(proxy, group, lines):
    assert list(reach_reasons(PLAN, "datastore", group, proxy)[0].found.why) == lines


def test_a_proxy_that_is_not_there_has_no_reasons():
    with pytest.raises(KeyError):
        reach_reasons(PLAN, "host", "qb-h1", "nobody")
