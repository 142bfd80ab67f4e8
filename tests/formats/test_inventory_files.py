"""Machines out of CSV, OVF and libvirt XML, and files that mean harm."""

import io
import json
import tarfile
import zipfile
from datetime import date

import pytest
from estates import estate_plan

from gambrel.core.plan.reading import read_plan, write_plan
from gambrel.demo import tiny
from gambrel.formats.inventory_csv import (
    Unreadable,
    guessed_mapping,
    machines_of,
    parsed_number,
    read_table,
)
from gambrel.work import imports
from gambrel.work.imports import Choices, imported, read_files

TODAY = date(2026, 11, 2)


def taken(*files, plan=None, **choices):
    plan = plan or estate_plan()
    how = Choices(**choices)
    return imported(plan, read_files(list(files), how), how, TODAY)


def csv(text, **choices):
    content = text if isinstance(text, bytes) else text.encode()
    return taken(("m.csv", content), **choices)


def told(made):
    return [(p.place.line, p.place.column, p.value, p.reason) for p in made.problems]


# --- numbers and tables -----------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "number", "unit"),
    [
        ("40", 40, ""),
        ("40.5", 40.5, ""),
        ("40,5", 40.5, ""),
        ("1.234,5", 1234.5, ""),
        ("1,234.5", 1234.5, ""),
        ("1 234,5 GB", 1234.5, "gb"),
        ("1'234.5 MiB", 1234.5, "mib"),
        ("1,234", 1234, ""),
        ("0,234", 0.234, ""),
        ("1.234.567", 1234567, ""),
        ("1.234", 1.234, ""),
        ("2,5 %", 2.5, "%"),
        ("-3", -3, ""),
    ],
)
def test_numbers_as_people_write_them(text, number, unit):
    assert parsed_number(text) == (number, unit)


@pytest.mark.parametrize("text", ["", "abc", "1.2.3", "1,2,3,", "--4", "4 5 x 6", "NaN", "1e9"])
def test_what_is_no_number(text):
    with pytest.raises(ValueError, match="is not a number"):
        parsed_number(text)


@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_delimiters_and_encodings(delimiter, encoding):
    text = delimiter.join(["Name", '"Größe, GiB"']) + "\r\n" + delimiter.join(["ä-1", "5"]) + "\r\n"
    table = read_table("m.csv", text.encode(encoding))
    assert table.header == ("Name", "Größe, GiB")
    assert table.rows == ((2, ("ä-1", "5")),)


@pytest.mark.parametrize(
    ("content", "reason"),
    [
        (b"", "is empty"),
        (b"name\nM\xfcller\n", "Line 2 is not UTF-8"),
        (b"name,name\na,b\n", "names 'name' twice"),
        (b'name\n"open\n', "is no CSV"),
        (b"name\n\x00\x01\n", "binary"),
    ],
)
def test_a_file_that_is_no_csv_says_why(content, reason):
    with pytest.raises(Unreadable, match=reason):
        read_table("m.csv", content)


def test_foreign_headers_are_guessed_where_they_can_be():
    header = ("Maschine", "Standort", "Kapazität (GB)", "Belegt [MiB]", "Farbe")
    assert guessed_mapping(header) == {
        "name": "Maschine", "site": "Standort", "provisioned": "Kapazität (GB)",
        "used": "Belegt [MiB]",
    }  # fmt: skip


def test_titles_are_guessed_whatever_their_case():
    header = ("MASCHINE", "Größe", "Anwendung")
    assert guessed_mapping(header) == {
        "name": "MASCHINE", "provisioned": "Größe", "role": "Anwendung",
    }  # fmt: skip


def test_units_come_from_the_cell_then_the_title_then_the_choice():
    text = "name,size (MB),used\na,2000,1\nb,3 GiB,2 TiB\n"
    table = read_table("m.csv", text.encode())
    mapping = {"name": "name", "provisioned": "size (MB)", "used": "used"}
    machines, problems = machines_of(table, mapping, "MiB")
    assert problems == []
    sizes = [(m.disks[0].provisioned_gib, m.disks[0].used_gib) for m in machines]
    assert sizes[0] == (pytest.approx(1.8626), pytest.approx(1 / 1024, abs=1e-4))
    assert sizes[1] == (3, 2048)


def test_every_bad_cell_is_named_with_its_line_column_and_reason():
    made = csv(
        "name,host,used,size,power\n"
        "ok,h1,5,10,on\n"
        "one,h9,5,10,on\n"
        "two,h1,x,10,on\n"
        "three,h1,20,10,maybe\n"
        ",h1,1,2,on\n"
        "short,h1\n"
        "five,h1,20,10,on\n"
        "ok,h1,5,10,on\n"
    )
    assert sorted(told(made), key=str) == sorted(
        [
            (3, "host", "h9", "is not the name of a host of the plan"),
            (4, "used", "x", "is not a number"),
            (5, "power", "maybe", "is neither on nor off"),
            (6, "name", "", "is empty: what is it?"),
            (7, None, "short, h1", "has 2 cells, the header has 5"),
            (8, "used", "20", "is more than the 10 GiB provisioned"),
            (9, "name", "ok", "stands in line 2 already: ok"),
        ],
        key=str,
    )
    assert made.names == ("ok",)
    assert made.plan.machine_by_id["ok"].disks[0].datastore == "store"


def test_several_lines_are_the_disks_of_one_machine():
    made = csv("name,host,disk,size,used\nbig,h1,system,50,20\nbig,h1,data,500,300\n")
    assert [d.id for d in made.plan.machine_by_id["big"].disks] == ["system", "data"]
    twice = csv("name,host,disk,size\nbig,h1,data,50\nbig,h1,data,60\n")
    assert told(twice) == [(3, "name", "big", "stands in line 2 already: disk data of big")]


def test_what_a_file_does_not_say_stays_as_it_is():
    made = csv("name,daily change,rpo\nalpha,5 %,24\n")
    was, now = estate_plan().machine_by_id["alpha"], made.plan.machine_by_id["alpha"]
    assert (now.daily_change, now.rpo_hours, now.facts.change_from) == (0.05, 24, "stated")
    assert (now.host, now.disks, now.folder) == (was.host, was.disks, was.folder)
    assert csv("name,folder\nalpha,a\n").unchanged == 1


def test_a_share_is_a_per_cent_where_its_title_says_so():
    for text in ("name,Change %\nalpha,3\n", "name,daily change per cent\nalpha,3 %\n"):
        assert csv(text).plan.machine_by_id["alpha"].daily_change == pytest.approx(0.03)
    assert csv("name,change\nalpha,0.03\n").plan.machine_by_id["alpha"].daily_change == 0.03


NOT_THERE = """name,host,datastore,size
a,n1,shelf,10
b,n1,shelf,20
c,n2,,30
d,h1,,40
"""


def test_hosts_and_datastores_that_are_not_there_can_be_added():
    assert [line for line, *_ in told(csv(NOT_THERE))] == [2, 3, 4]
    made = csv(NOT_THERE, new_hosts_at="quay")
    assert told(made) == []
    plan = made.plan
    assert [(h.id, h.site) for h in plan.hosts[-2:]] == [("n1", "quay"), ("n2", "quay")]
    mounted = {store.id: store.hosts for store in plan.datastores}
    assert mounted["shelf"] == ("n1",) and mounted["n2-disks"] == ("n2",)
    on = {m: plan.machine_by_id[m].disks[0].datastore for m in "abc"}
    assert on == {"a": "shelf", "b": "shelf", "c": "n2-disks"}
    before = estate_plan()
    assert plan.hosts[: len(before.hosts)] == before.hosts
    assert plan.datastores[: len(before.datastores)] == before.datastores
    assert read_plan(write_plan(plan)) == plan
    assert "is no site" in str(told(csv(NOT_THERE, new_hosts_at="south")))


def test_a_new_host_mounts_the_datastore_that_is_there():
    made = csv("name,host,datastore,size\na,n1,store,10\n", new_hosts_at="quay")
    before = estate_plan().datastore_by_id["store"].hosts
    assert made.plan.datastore_by_id["store"].hosts == (*before, "n1")
    assert [h.id for h in made.plan.hosts if h.id not in estate_plan().host_by_id] == ["n1"]


def test_a_vm_without_a_host_needs_one_for_all():
    assert told(csv("name,size\nnew,10\n"))[0][1] == "host"
    assert csv("name,size\nnew,10\n", host="h2").plan.machine_by_id["new"].host == "h2"
    assert "is no host" in str(told(csv("name,size\nnew,10\n", host="h9")))


def test_a_server_needs_a_site():
    made = csv("name,kind,site,size\ns1,server,quay,10\ns2,physical,mars,10\ns3,server,,10\n")
    assert made.names == ("s1",)
    assert [p[1] for p in told(made)] == ["site", "site"]


def test_a_mapping_can_be_given():
    made = csv("A,B,C\nnew,h1,7\n", mapping={"name": "A", "host": "B", "provisioned": "C"})
    assert made.names == ("new",)
    assert "no column for the name" in str(told(csv("A,B\nnew,h1\n")))


FOREIGN = (
    "name,host,size,power,role,team\n"
    "n1,h1,10,eingeschaltet,Datenbank,cargo\nn2,h1,10,aus,Datenbank,\nn3,h1,10,on,web,cargo\n"
)
MAPPED = {
    "name": "name", "host": "host", "provisioned": "size", "powered_on": "power", "role": "role",
    "owner": "team",
}  # fmt: skip


def test_words_of_a_file_are_told_with_what_they_mean():
    reading = read_files([("m.csv", FOREIGN.encode())], Choices(mapping=MAPPED))
    seen = {(word.field, word.word): (word.meaning, word.rows) for word in reading.files[0].words}
    assert seen == {
        ("powered_on", "eingeschaltet"): (None, 1), ("powered_on", "aus"): (None, 1),
        ("powered_on", "on"): ("on", 1), ("role", "Datenbank"): ("Datenbank", 2),
        ("role", "web"): ("web", 1),
    }  # fmt: skip
    assert told(csv(FOREIGN, mapping=MAPPED)) == [
        (2, "power", "eingeschaltet", "is neither on nor off"),
        (3, "power", "aus", "is neither on nor off"),
    ]


def test_words_that_are_mapped_mean_what_is_said():
    words = {"powered_on": {"eingeschaltet": "on", "aus": "off"}, "role": {"Datenbank": "db"}}
    made = csv(FOREIGN, mapping=MAPPED, words=words)
    assert made.problems == ()
    new = [made.plan.machine_by_id[name] for name in ("n1", "n2", "n3")]
    assert [m.powered_on for m in new] == [True, False, True]
    assert [m.facts.role for m in new] == ["db", "db", "web"]
    assert [m.facts.owner for m in new] == ["cargo", "", "cargo"]
    # What a database changes a day is known by its role.
    assert [m.daily_change for m in new] == [0.04, 0.04, 0.01]


def test_the_owner_of_a_known_machine_changes_and_is_told():
    known = csv("name,host,size\nn3,h1,10\n").plan
    made = taken(("m.csv", b"name,owner\nn3,accounts\n"), plan=known)
    assert made.lines == ("n3: owner accounts",)


# --- XML --------------------------------------------------------------------------------------

OVF = """<?xml version="1.0"?>
<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:ovf="http://schemas.dmtf.org/ovf/envelope/1"
  xmlns:rasd="http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData">
  <DiskSection><Info/>
    <Disk ovf:diskId="d1" ovf:capacity="40" ovf:capacityAllocationUnits="byte * 2^30"
      ovf:populatedSize="10737418240"/>
    <Disk ovf:diskId="d2" ovf:capacity="1048576"/>
  </DiskSection>
  <VirtualSystem ovf:id="web-7"><Info/><Name>web-seven</Name>
    <VirtualHardwareSection><Info/>
      <Item><rasd:ElementName>disk one</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/d1</rasd:HostResource></Item>
      <Item><rasd:ElementName>disk two</rasd:ElementName>
        <rasd:HostResource>ovf:/disk/d2</rasd:HostResource></Item>
      <Item><rasd:ElementName>cd</rasd:ElementName>
        <rasd:HostResource>ovf:/file/f1</rasd:HostResource></Item>
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>"""

DOMAIN = """<domain type="kvm"><name>kv-1</name><devices>
  <disk type="file" device="disk"><source file="/pool/kv-1.qcow2"/><target dev="vda"/></disk>
  <disk type="volume" device="disk"><source pool="p" volume="data"/><target dev="vdb"/></disk>
  <disk type="file" device="cdrom"><source file="/iso/x.iso"/><target dev="sda"/></disk>
</devices></domain>"""
VOLUME = """<volume><name>{name}</name><capacity unit="G">{size}</capacity>
  <allocation unit="bytes">2147483648</allocation><target><path>/pool/{name}</path></target>
</volume>"""


def test_an_ovf_descriptor():
    made = taken(("web.ovf", OVF.encode()), host="h1")
    disks = made.plan.machine_by_id["web-seven"].disks
    assert [(d.id, d.provisioned_gib, d.used_gib) for d in disks] == [
        ("disk one", 40, 10),
        ("disk two", 0.001, 0.001),
    ]


def test_an_ovf_descriptor_with_faults():
    odd = OVF.replace("byte * 2^30", "furlong").replace("disk/d2", "disk/d9")
    reasons = [problem[3] for problem in told(taken(("web.ovf", odd.encode()), host="h1"))]
    assert reasons == [
        "has the unit 'furlong', which is not like byte * 2^30",
        "is no disk that the file describes",
    ]


def test_a_libvirt_domain_with_its_volumes_in_any_order():
    files = [
        ("kv.xml", DOMAIN.encode()),
        ("v1.xml", VOLUME.format(name="kv-1.qcow2", size=20).encode()),
        ("v2.xml", VOLUME.format(name="data", size=100).encode()),
    ]
    for order in (files, files[::-1]):
        disks = taken(*order, host="h1").plan.machine_by_id["kv-1"].disks
        assert [(d.id, d.provisioned_gib, d.used_gib) for d in disks] == [
            ("vda", 20, 2),
            ("vdb", 100, 2),
        ]


def test_a_domain_without_its_volumes_asks_for_the_size():
    assert told(taken(("kv.xml", DOMAIN.encode()), host="h1"))[0][3] == (
        "is missing: how large is disk vda?"
    )


BOMB = """<?xml version="1.0"?><!DOCTYPE b [<!ENTITY a "aaaaaaaaaa">
<!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;&a;&a;">]><domain><name>&b;</name></domain>"""
OUTSIDE = """<?xml version="1.0"?><!DOCTYPE b [<!ENTITY x SYSTEM "file:///etc/passwd">]>
<domain><name>&x;</name></domain>"""


@pytest.mark.parametrize("content", [BOMB, OUTSIDE])
def test_xml_with_entities_is_refused_and_nothing_is_read(content):
    made = taken(("evil.xml", content.encode()), host="h1")
    assert made.names == ()
    assert "document type or entities" in made.problems[0].reason


@pytest.mark.parametrize(
    ("content", "reason"),
    [
        (b"<domain><name>a</domain>", "Line 1, column"),
        (b"<html></html>", "neither an OVF descriptor"),
        (b"<volume><name>x</name></volume>", "has no capacity"),
        (b'{"format": 3}', "is not gambrel-plan/1"),
        (b'{"format":', "is no JSON"),
        (b"[" * 100_000, "a title of more than 200 characters"),
        (b"name,used\na," + b"1" * 100_000, "is not a number"),
        (b'{"a":' * 100_000, "is no JSON"),
    ],
)
def test_files_that_cannot_be_understood(content, reason):
    assert reason in taken(("x", content)).problems[0].reason


# --- packages and plan files ------------------------------------------------------------------


def zipped(**members):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as package:
        for name, content in members.items():
            package.writestr(name, content)
    return out.getvalue()


def test_a_package_of_several_files():
    content = zipped(a="name,host,size\nm1,h1,5\n", b=OVF)
    made = taken(("all.zip", content), host="h2")
    assert made.names == ("m1", "web-seven")


def test_a_package_that_swells_is_refused():
    content = zipped(bomb=b"0" * (imports.MOST_UNPACKED + 10))
    assert len(content) < 200_000
    assert "larger than 64 MiB" in taken(("bomb.zip", content)).problems[0].reason
    inside = zipped(inner=zipped(deep=b"name\n" * 100))
    assert taken(("nested.zip", inside)).names == ()


def test_a_package_of_too_many_files_is_refused(monkeypatch):
    monkeypatch.setattr(imports, "MOST_MEMBERS", 2)
    assert "more than 2 files" in taken(("x.zip", zipped(a="", b="", c=""))).problems[0].reason


def test_a_broken_package_is_refused():
    assert "cannot be opened" in taken(("x.zip", b"PK\x03\x04 nothing")).problems[0].reason


def test_an_ova_gives_its_descriptor_and_its_disks_are_not_read():
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as package:
        for name, content in (("web.ovf", OVF.encode()), ("../disk.vmdk", b"\x00" * 5000)):
            member = tarfile.TarInfo(name)
            member.size = len(content)
            package.addfile(member, io.BytesIO(content))
    assert taken(("web.ova", out.getvalue()), host="h1").names == ("web-seven",)


def test_a_file_that_is_too_large_is_refused_by_name(monkeypatch):
    monkeypatch.setattr(imports, "MOST_BYTES", 100)
    made = taken(("big.csv", b"name\n" + b"x" * 200))
    assert (made.problems[0].place.file, made.names) == ("big.csv", ())


def test_a_plan_file_brings_its_hosts_along():
    made = taken(("tiny.json", json.dumps(tiny()).encode()))
    assert made.problems == ()
    lists = ("machines", "hosts", "datastores")
    assert set(made.names) == {item["id"] for name in lists for item in tiny()[name]}
    read_plan(write_plan(made.plan))


def test_the_same_name_in_two_files_is_named_in_both():
    one, other = b"name,host,size\nm1,h1,5\n", b"name,host,size\nm1,h1,6\n"
    made = taken(("a.csv", one), ("b.csv", other))
    assert told(made) == [(2, "name", "m1", "is the name of another machine: line 2 of a.csv")]


def test_a_plan_is_still_a_plan_after_any_import():
    made = csv("name,host,size,used\nalpha,h2,90,30\nnew,h1,5,5\n")
    assert read_plan(write_plan(made.plan)) == made.plan
    assert made.lines[0].startswith("alpha: on h2 (was h1)")
