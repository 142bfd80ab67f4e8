"""The World as one reference of the compiled code.

A tuple of so many arrays would be taken apart at every call. So the arrays stand in a struct, which
Python holds, and the functions of the engine are given the place of the struct. Nobody counts who
holds the struct or its arrays meanwhile, which would take a third of a simulation's time.
"""

from __future__ import annotations

import hashlib
from importlib.resources import files
from typing import Any, get_type_hints

import numba
import numpy as np
from numba import njit, types
from numba.core import cgutils
from numba.core.typing.templates import AttributeTemplate
from numba.experimental import structref
from numba.extending import (
    infer_getattr,
    intrinsic,
    lower_getattr_generic,
    models,
    register_model,
)

from gambrel.core.simulation.engine import tables

_RECORDS = {
    "job": tables.JOB,
    "member": tables.MEMBER,
    "disk": tables.DISK,
    "klass": tables.KLASS,
    "candidate": tables.CANDIDATE,
    "use": tables.USE,
    "copy": tables.COPY,
    "repository": tables.REPOSITORY,
    "zone": tables.ZONE,
    "span": tables.SPAN,
    "due": tables.DUE,
    "limit": tables.LIMIT,
    "run": tables.RUN,
    "task": tables.TASK,
    "transfer": tables.TRANSFER,
    "work": tables.WORK,
    "point": tables.POINT,
    "chain": tables.CHAIN,
    "queue": tables.QUEUE,
    "newest": tables.NEWEST,
    "flow": tables.FLOW,
    "stream": tables.STREAM,
    "option": tables.OPTION,
    "restore_use": tables.RESTORE_USE,
    "restore_disk": tables.RESTORE_DISK,
    "restore": tables.RESTORE,
}
_OF_TWO_DIMENSIONS = {
    "squeezed", "squeezed_now", "step_key", "deadline_key", "due_now", "due_key",
    "restore_squeezed", "restore_amount",
}  # fmt: skip


def _fingerprint() -> str:
    """Tells one state of the compiled code from another.

    What is cached on disk is found again by the types of the arguments, and is not thrown away when
    a function that it calls changes. With this in the name of its type it is.
    """
    said = hashlib.sha256(numba.__version__.encode())
    core = files("gambrel.core")
    sources = [
        core / "constants.py",
        core / "units.py",
        *(core / "simulation" / "engine").iterdir(),
    ]
    for source in sorted(sources, key=lambda entry: entry.name):
        if source.name.endswith(".py"):
            said.update(source.read_bytes())
    return said.hexdigest()[:12]


FINGERPRINT = _fingerprint()
STAMP = np.zeros(1, [(f"of_{FINGERPRINT}", np.int64)])
"""An argument whose type changes with the fingerprint."""


@structref.register
class WorldType(types.StructRef):
    """The type of the struct; equal where its name is."""

    def __init__(self, fields: list[tuple[str, Any]]) -> None:
        super().__init__(fields)
        self.name = f"World({FINGERPRINT})"


def _fields() -> list[tuple[str, Any]]:
    fields = []
    for name, hint in get_type_hints(tables.World).items():
        dtype = _RECORDS.get(name, np.dtype(np.int64 if hint == tables.Ints else np.float64))
        dimensions = 2 if name in _OF_TWO_DIMENSIONS else 1
        fields.append((name, types.Array(numba.from_dtype(dtype), dimensions, "C")))
    return fields


def empty_world() -> tables.World:
    """Arrays without rows, for whoever needs a few of them only."""
    made = {}
    for name, hint in get_type_hints(tables.World).items():
        dtype = _RECORDS.get(name, np.dtype(np.int64 if hint == tables.Ints else np.float64))
        made[name] = np.zeros((0, 0) if name in _OF_TWO_DIMENSIONS else 0, dtype)
    return tables.World(**made)


STRUCT = WorldType(_fields())


class Handle(structref.StructRefProxy):
    """What Python code holds of the struct."""

    flow: tables.Table


structref.define_boxing(WorldType, Handle)


@njit(cache=True)
def set_flow(w: Handle, flow: tables.Table) -> None:
    """Go on with a longer record of flows."""
    w.flow = flow


@njit(cache=True)
def _open(stamp: tables.Table, arrays: tables.World) -> Handle:  # noqa: ARG001
    w: Any = structref.new(STRUCT)  # type: ignore[call-arg]
    w.job = arrays.job
    w.member = arrays.member
    w.disk = arrays.disk
    w.klass = arrays.klass
    w.class_items = arrays.class_items
    w.copy_chain = arrays.copy_chain
    w.candidate = arrays.candidate
    w.use = arrays.use
    w.copy = arrays.copy
    w.repository = arrays.repository
    w.zone = arrays.zone
    w.window_from = arrays.window_from
    w.span = arrays.span
    w.due = arrays.due
    w.limit = arrays.limit
    w.follower = arrays.follower
    w.option = arrays.option
    w.restore_use = arrays.restore_use
    w.restore_disk = arrays.restore_disk
    w.machine_class_from = arrays.machine_class_from
    w.machine_class = arrays.machine_class
    w.proxy_set_from = arrays.proxy_set_from
    w.proxy_set = arrays.proxy_set
    w.slots = arrays.slots
    w.snapshot_due = arrays.snapshot_due
    w.capacity = arrays.capacity
    w.busy = arrays.busy
    w.held = arrays.held
    w.active = arrays.active
    w.run = arrays.run
    w.task = arrays.task
    w.transfer = arrays.transfer
    w.work = arrays.work
    w.squeezed = arrays.squeezed
    w.restore = arrays.restore
    w.restoring = arrays.restoring
    w.restore_squeezed = arrays.restore_squeezed
    w.restore_amount = arrays.restore_amount
    w.point = arrays.point
    w.chain = arrays.chain
    w.queue = arrays.queue
    w.parked_first = arrays.parked_first
    w.parked_last = arrays.parked_last
    w.ready = arrays.ready
    w.hot = arrays.hot
    w.is_hot = arrays.is_hot
    w.starters = arrays.starters
    w.starter_row = arrays.starter_row
    w.starter_item = arrays.starter_item
    w.used_bytes = arrays.used_bytes
    w.peak_bytes = arrays.peak_bytes
    w.newest = arrays.newest
    w.flow = arrays.flow
    w.stream = arrays.stream
    w.free_stream = arrays.free_stream
    w.use_resource = arrays.use_resource
    w.use_amount = arrays.use_amount
    w.squeezed_now = arrays.squeezed_now
    w.step_at = arrays.step_at
    w.step_key = arrays.step_key
    w.deadline_at = arrays.deadline_at
    w.deadline_key = arrays.deadline_key
    w.end_heap = arrays.end_heap
    w.end_place = arrays.end_place
    w.ended_now = arrays.ended_now
    w.due_now = arrays.due_now
    w.due_key = arrays.due_key
    w.due_order = arrays.due_order
    w.node_stream = arrays.node_stream
    w.node_next = arrays.node_next
    w.node_previous = arrays.node_previous
    w.node_first = arrays.node_first
    w.load_most = arrays.load_most
    w.load_open = arrays.load_open
    w.load_n = arrays.load_n
    w.squeezes_n = arrays.squeezes_n
    w.dirty = arrays.dirty
    w.is_dirty = arrays.is_dirty
    w.fresh = arrays.fresh
    w.affected = arrays.affected
    w.is_affected = arrays.is_affected
    w.region = arrays.region
    w.in_region = arrays.in_region
    w.region_n = arrays.region_n
    w.left = arrays.left
    w.demand = arrays.demand
    w.pressure = arrays.pressure
    w.rising = arrays.rising
    w.new_rate = arrays.new_rate
    w.new_squeeze = arrays.new_squeeze
    w.n = arrays.n
    w.f = arrays.f
    return w


# --- how the functions of the engine see it ----------------------------------------------------


class ViewType(types.Type):
    """The place of a struct; what it holds stays where it is for as long as anybody looks."""

    def __init__(self) -> None:
        super().__init__(f"View({FINGERPRINT})")


WORLD = ViewType()
register_model(ViewType)(models.OpaqueModel)


def _place_of(context: Any, struct: Any) -> Any:  # noqa: ARG001
    def make(target: Any, builder: Any, signature: Any, arguments: Any) -> Any:
        held = target.make_helper(builder, signature.args[0], value=arguments[0])
        place = target.nrt.meminfo_data(builder, held.meminfo)
        return builder.bitcast(place, target.get_value_type(WORLD))

    return WORLD(struct), make


view_of: Any = intrinsic(_place_of)
"""The place of a struct, in compiled code; whoever asks for it must hold the struct."""


@infer_getattr
class _Arrays(AttributeTemplate):
    """A field of a view is the array of that name."""

    key = ViewType

    def generic_resolve(self, _: Any, name: str) -> Any:  # type: ignore[override]
        return STRUCT.field_dict.get(name)


@lower_getattr_generic(ViewType)
def _array(context: Any, builder: Any, _: Any, place: Any, name: str) -> Any:
    payload = STRUCT.get_data_type()
    kind = context.data_model_manager[payload].get_value_type().as_pointer()
    struct = context.make_data_helper(builder, payload, ref=builder.bitcast(place, kind))
    array = context.make_helper(builder, STRUCT.field_dict[name], value=getattr(struct, name))
    array.meminfo = cgutils.get_null_value(array.meminfo.type)
    return array._getvalue()


def open_world(arrays: tables.World) -> Handle:
    """The struct of some arrays, in the same memory: whoever holds it must hold them as well."""
    return _open(STAMP, arrays)
