"""Keys are declared once: what is read, written, described and shown follows from it."""

import dataclasses

import pytest
from plans import small_file

from gambrel.core.plan import objects as p
from gambrel.core.plan.reading import ITEMS, PLAN, plan_schema, read_plan, write_plan
from gambrel.core.plan.shapes import form_fields, shape_of, unit_of
from gambrel.core.plan.values import PlanError

CLASSES = [
    kind
    for kind in (getattr(p, name) for name in p.__all__)
    if isinstance(kind, type) and kind is not p.Condition
]


def field(kind, key):
    return next(field for field in form_fields(ITEMS[kind]) if field.key == key)


@pytest.mark.parametrize("kind", CLASSES, ids=lambda kind: kind.__name__)
def test_every_field_of_the_plan_is_a_key_of_the_file(kind):
    declared = {
        name
        for variant in getattr(kind, "variants", (None,))
        for name in shape_of(kind, variant).keys
    }
    assert declared == {field.name for field in dataclasses.fields(kind)}


def test_a_form_field_says_unit_range_and_what_empty_means():
    write = field("datastores", "write_mib_per_s")
    assert (write.label, write.unit, write.kind) == ("Write rate", "MiB/s", "number")
    assert write.empty == "no limit"
    assert field("proxies", "slots").empty is None
    assert field("repositories", "kind").options == ("disk", "deduplicating", "object", "tape")
    assert field("hosts", "proxies").of == "proxies"
    assert field("links", "encryption_factor").unit == "%"


def test_a_name_ends_with_its_unit():
    shape = shape_of(p.Repository)
    assert unit_of("capacity_gib", shape.declared["capacity_gib"]) == "GiB"
    assert unit_of("block_clone", shape.declared["block_clone"]) == ""
    assert unit_of("volumes", shape.declared["volumes"]) == "each a name and GiB"


def test_the_schema_names_each_kind_of_object_with_required_keys_and_ranges():
    schema = plan_schema()
    assert schema["properties"]["format"] == {"const": "gambrel-plan/1"}
    defined = schema["$defs"]
    assert defined["Machine_vm"]["required"] == ["id", "kind", "disks", "host"]
    assert "site" not in defined["Machine_vm"]["properties"]
    assert defined["Job"]["properties"]["priority"] == {
        "type": "integer", "minimum": 1, "maximum": 5, "default": 3,
    }  # fmt: skip
    assert set(defined["LinkLimit"]["properties"]) == {"days", "from", "to", "mbit_per_s"}
    named = str(schema)
    assert {ref.split("'")[0] for ref in named.split("#/$defs/")[1:]} <= defined.keys()


def test_values_at_their_default_are_left_out_and_the_whole_can_be_asked_for():
    store = read_plan(small_file()).datastores[0]
    shape = ITEMS["datastores"]
    assert "write_mib_per_s" not in shape.write(store)
    assert shape.write(store, whole=True)["write_mib_per_s"] is None


@pytest.mark.parametrize(
    ("machine", "key", "words"),
    [
        ({"kind": "vm"}, "site", "is a key of a server; this is a VM"),
        ({"kind": "server"}, "host", "is a key of a VM; this is a server"),
    ],
)
def test_a_key_of_the_other_kind_of_machine_is_refused_by_name(machine, key, words):
    file = small_file()
    file["machines"][0].update({**machine, key: "quay"})
    with pytest.raises(PlanError) as caught:
        read_plan(file)
    assert words in {problem.reason for problem in caught.value.problems}


def test_reading_and_writing_a_plan_of_every_list_changes_nothing():
    file = small_file()
    plan = read_plan(file)
    assert read_plan(write_plan(plan)) == plan
    assert list(PLAN.values)[:2] == ["sites", "links"]
