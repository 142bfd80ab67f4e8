"""Moving streams and their rates: weighted max-min fair, shared out where something changed.

A change reaches the streams that are tied to it through resources that squeeze somebody; these
alone are shared out anew (section 5; the method is the progressive filling of
`gambrel.core.model.sharing`). What else they use is at the edge: it has for them what the others
leave, whose rates stay as they are. Where that turns out to squeeze them, all that use it are
shared out too. A resource that all its streams together cannot fill, even at their ceilings, binds
nobody and is left out.
"""

from __future__ import annotations

import numpy as np
from numba import b1, f8, i8, njit, void
from numba.types import UniTuple  # type: ignore[attr-defined]

from gambrel.core.simulation.engine.heaps import heap_add, heap_move, heap_remove
from gambrel.core.simulation.engine.indices import idx
from gambrel.core.simulation.engine.tables import (
    F_NOW,
    N_DIRTY,
    N_FIRST_RESTORE,
    N_FLOW,
    N_FREE,
    N_FRESH,
    N_SHARINGS,
    N_STREAM,
    N_USES_MOST,
    NOT_SHARED_YET,
    OWN_CEILING,
    UNLIMITED,
    World,
)
from gambrel.core.simulation.engine.world import WORLD

INSIDE, AT_THE_EDGE = 1, 2
"""A change gives new rates to all streams of a resource inside, to some of one at the edge."""
BINDS = -1.0
"""The pressure of a resource that binds at the level reached."""
SAME_LEVEL = 1e-9
"""Constraints within this relative distance bind together."""
SURELY_LOOSE = 1.0 - 1e-7
"""A resource that could at most be filled to this part binds nobody."""
SAME_RATE = 1e-13
"""A rate that differs by less than this part is the same; it differs by rounding only."""


@njit(b1(WORLD, i8), cache=True)
def _may_bind(w: World, resource: int) -> bool:
    return w.load_n[resource] > 0 and (
        w.load_open[resource] > 0 or w.load_most[resource] > w.capacity[resource] * SURELY_LOOSE
    )


@njit(void(WORLD, i8), cache=True)
def mark_dirty(w: World, resource: int) -> None:
    """Have the streams of a resource shared out anew."""
    if not w.is_dirty[resource]:
        w.is_dirty[resource] = 1
        w.dirty[w.n[N_DIRTY]] = resource
        w.n[N_DIRTY] += 1


@njit(void(WORLD, i8), cache=True)
def settle(w: World, s: int) -> None:
    """Bring a stream up to now: what is left, its squeezes, and the record of its flow."""
    stream = w.stream[idx(s)]
    seconds = w.f[F_NOW] - stream.since
    if seconds > 0.0:
        if stream.rate > 0.0 and stream.rate != np.inf:
            stream.left -= stream.rate * seconds
        if stream.squeezed_by >= OWN_CEILING:
            w.squeezed_now[idx(s), idx(stream.squeezed_by + 1)] += seconds
        flow = w.flow[idx(w.n[N_FLOW])]
        w.n[N_FLOW] += 1
        flow.transfer = stream.transfer
        flow.start = stream.since
        flow.end = w.f[F_NOW]
        flow.rate = stream.rate
        flow.squeezed_by = stream.squeezed_by
        if stream.squeezed_by >= 0:
            flow.squeezed_by = w.use_resource[idx(s * w.n[N_USES_MOST] + stream.squeezed_by)]
    stream.since = w.f[F_NOW]


@njit(void(WORLD, i8, i8), cache=True)
def _squeeze(w: World, s: int, by: int) -> None:
    """Have a stream squeezed by one of its uses, or by none of them, and the resources know it."""
    stream = w.stream[s]
    first = s * w.n[N_USES_MOST]
    if stream.squeezed_by >= 0:
        w.squeezes_n[w.use_resource[first + stream.squeezed_by]] -= 1
    if by >= 0:
        w.squeezes_n[w.use_resource[first + by]] += 1
    stream.squeezed_by = by


@njit(i8(WORLD), cache=True)
def _new_stream(w: World) -> int:
    """A place for a stream: one that has come free, else the next."""
    if w.n[N_FREE] > 0:
        w.n[N_FREE] -= 1
        return w.free_stream[w.n[N_FREE]]
    w.n[N_STREAM] += 1
    return w.n[N_STREAM] - 1


@njit(i8(WORLD, i8, i8), cache=True, error_model="numpy")
def enter(w: World, t: int, uses: int) -> int:
    """Give a transfer that begins to move its place; its share, ceiling and work are set.

    `use` says then what it uses.
    """
    s = _new_stream(w)
    transfer, stream = w.transfer[t], w.stream[s]
    transfer.stream = s
    stream.transfer = t
    stream.uses_n = uses
    stream.share, stream.ceiling = transfer.share, transfer.ceiling
    stream.own_level = transfer.ceiling / transfer.share
    stream.left = transfer.work
    stream.rate = 0.0
    stream.squeezed_by = NOT_SHARED_YET
    stream.since = w.f[F_NOW]
    stream.end = np.inf
    w.squeezed_now[s] = 0.0
    w.fresh[w.n[N_FRESH]] = s
    w.n[N_FRESH] += 1
    heap_add(w, s)
    return s


@njit(void(WORLD, i8, i8, i8, f8), cache=True)
def use(w: World, s: int, k: int, resource: int, amount: float) -> None:
    """Have a stream that has just entered use a resource, as its use number `k`."""
    stream = w.stream[s]
    node = s * w.n[N_USES_MOST] + k
    w.use_resource[node], w.use_amount[node] = resource, amount
    w.node_stream[node] = s
    if amount <= 0.0:
        return
    first = w.node_first[resource]
    w.node_next[node] = first
    w.node_previous[node] = -1
    if first >= 0:
        w.node_previous[first] = node
    w.node_first[resource] = node
    w.load_n[resource] += 1
    if stream.ceiling == np.inf:
        w.load_open[resource] += 1
    else:
        w.load_most[resource] += stream.ceiling * amount


@njit(void(WORLD, i8), cache=True)
def join(w: World, t: int) -> None:
    """Let a transfer begin to move; its candidate, ω, share, ceiling and work are set."""
    transfer = w.transfer[t]
    way = w.candidate[transfer.candidate]
    s = enter(w, t, way.uses_n)
    for k in range(way.uses_n):
        row = w.use[way.uses_from + k]
        use(w, s, k, row.resource, row.source + row.wire * transfer.omega)


@njit(void(WORLD, i8), cache=True)
def leave(w: World, t: int) -> None:
    """Take a moving transfer out of all that it used."""
    transfer = w.transfer[t]
    s = transfer.stream
    settle(w, s)
    stream = w.stream[s]
    transfer.stream = -1
    transfer.left = stream.left
    if transfer.disk >= 0:
        w.squeezed[t] = w.squeezed_now[s]
    elif t >= w.n[N_FIRST_RESTORE]:
        w.restore_squeezed[t - w.n[N_FIRST_RESTORE]] = w.squeezed_now[s]
    stream.transfer = -1
    w.free_stream[w.n[N_FREE]] = s
    w.n[N_FREE] += 1
    most = w.n[N_USES_MOST]
    for node in range(s * most, s * most + stream.uses_n):
        amount, resource = w.use_amount[node], w.use_resource[node]
        if amount <= 0.0:
            continue
        if w.squeezes_n[resource] > 0:
            # What squeezes nobody leaves nobody more when a stream goes.
            mark_dirty(w, resource)
        after, before = w.node_next[node], w.node_previous[node]
        if before >= 0:
            w.node_next[before] = after
        else:
            w.node_first[resource] = after
        if after >= 0:
            w.node_previous[after] = before
        w.load_n[resource] -= 1
        if w.load_n[resource] == 0:
            w.load_open[resource] = 0
            w.load_most[resource] = 0.0
        elif stream.ceiling == np.inf:
            w.load_open[resource] -= 1
        else:
            w.load_most[resource] -= stream.ceiling * amount
    _squeeze(w, s, UNLIMITED)
    heap_remove(w, s)


# The arrays of the loops below stand in variables of their own: after every value that is stored
# the compiled code would look up again where in the World an array is.


@njit(UniTuple(i8, 2)(WORLD, i8, i8), cache=True)
def _grow_region(w: World, streams: int, resources: int) -> tuple[int, int]:
    """Add the dirty resources and all that they reach to the region; how many of each it has then.

    Of each resource that is added it is noted what its streams there ask of it (`demand`), and how
    many they are (`region_n`).

    Args:
        streams: how many the region has that have been looked at.
        resources: how many it has; dirty ones may be among them.
    """
    in_region, is_affected, affected = w.in_region, w.is_affected, w.affected
    demand, region, region_n, dirty = w.demand, w.region, w.region_n, w.dirty
    node_next, node_stream, squeezes_n = w.node_next, w.node_stream, w.squeezes_n
    use_resource, use_amount, stream = w.use_resource, w.use_amount, w.stream
    looked_at = streams
    inside = w.n[N_DIRTY]
    for i in range(inside):
        resource = dirty[i]
        w.is_dirty[resource] = 0
        if not in_region[resource]:
            demand[resource] = 0.0
            region_n[resource] = 0
            region[resources] = resource
            resources += 1
        in_region[resource] = INSIDE
    for i in range(w.n[N_FRESH]):
        s = w.fresh[i]
        if stream[s].transfer >= 0 and not is_affected[s]:
            is_affected[s] = 1
            affected[streams] = s
            streams += 1
    w.n[N_FRESH] = 0
    most = w.n[N_USES_MOST]
    i, j = 0, looked_at
    w.n[N_DIRTY] = 0
    while i < inside or j < streams:
        if i < inside:
            node = w.node_first[dirty[i]]
            i += 1
            while node >= 0:
                s = node_stream[idx(node)]
                if not is_affected[idx(s)]:
                    is_affected[idx(s)] = 1
                    affected[idx(streams)] = s
                    streams += 1
                node = node_next[idx(node)]
        else:
            s = affected[idx(j)]
            share = stream[idx(s)].share
            j += 1
            for k in range(stream[idx(s)].uses_n):
                node = idx(s * most + k)
                resource, amount = idx(use_resource[node]), use_amount[node]
                if amount <= 0.0:
                    continue
                if not in_region[resource]:
                    if squeezes_n[resource] > 0:
                        in_region[resource] = INSIDE
                        dirty[inside] = resource
                        inside += 1
                    elif _may_bind(w, resource):
                        in_region[resource] = AT_THE_EDGE
                    else:
                        continue
                    demand[resource] = 0.0
                    region_n[resource] = 0
                    region[resources] = resource
                    resources += 1
                demand[resource] += share * amount
                region_n[resource] += 1
    return streams, resources


@njit(f8(WORLD, i8), cache=True)
def _left_at_the_edge(w: World, resource: int) -> float:
    """What streams outside the region leave of a resource; where there are none, it is inside."""
    if w.region_n[resource] == w.load_n[resource]:
        w.in_region[resource] = INSIDE
        return w.capacity[resource]
    is_affected, node_stream, node_next = w.is_affected, w.node_stream, w.node_next
    use_amount, stream = w.use_amount, w.stream
    left = w.capacity[resource]
    node = w.node_first[resource]
    while node >= 0:
        s = node_stream[node]
        if not is_affected[s]:
            left -= stream[s].rate * use_amount[node]
        node = node_next[node]
    return max(0.0, left)


@njit(f8(WORLD, i8, i8), cache=True)
def _weigh(w: World, rising: int, resources: int) -> float:
    """Add up what the streams that still rise ask of each resource; the least own level of them."""
    in_region, pressure, region = w.in_region, w.pressure, w.region
    use_resource, use_amount, streams = w.use_resource, w.use_amount, w.stream
    most, own_level = w.n[N_USES_MOST], np.inf
    for i in range(resources):
        pressure[region[i]] = 0.0
    for i in range(rising):
        s = w.rising[idx(i)]
        stream = streams[idx(s)]
        share = stream.share
        own_level = min(own_level, stream.own_level)
        for k in range(stream.uses_n):
            node = idx(s * most + k)
            resource = idx(use_resource[node])
            if in_region[resource]:
                pressure[resource] += share * use_amount[node]
    return own_level


@njit(b1(WORLD, i8, i8), cache=True, error_model="numpy")
def _fill(w: World, streams: int, resources: int) -> bool:
    """Raise one level for all affected streams until each has met what limits it.

    False where a resource at the edge binds: it is dirty then, and so are all others that do.
    """
    in_region, pressures, region, left = w.in_region, w.pressure, w.region, w.left
    risers, affected, new_rate, new_squeeze = w.rising, w.affected, w.new_rate, w.new_squeeze
    use_resource, use_amount, all_streams = w.use_resource, w.use_amount, w.stream
    most = w.n[N_USES_MOST]
    for i in range(resources):
        resource = region[i]
        if in_region[resource] == INSIDE:
            left[resource] = w.capacity[resource]
        else:
            left[resource] = _left_at_the_edge(w, resource)
        pressures[resource] = w.demand[resource]
    own_level = np.inf
    for i in range(streams):
        s = affected[idx(i)]
        risers[idx(i)] = s
        own_level = min(own_level, all_streams[idx(s)].own_level)
    rising = streams
    while rising > 0:
        level = own_level
        for i in range(resources):
            resource = region[i]
            if pressures[resource] > 0.0:
                level = min(level, left[resource] / pressures[resource])
        if level == np.inf:
            for i in range(rising):
                new_rate[risers[i]] = np.inf
                new_squeeze[risers[i]] = UNLIMITED
            return True
        bound = level * (1.0 + SAME_LEVEL)
        for i in range(resources):
            resource = region[i]
            pressure = pressures[resource]
            if pressure > 0.0 and left[resource] / pressure <= bound:
                pressures[resource] = BINDS
                if in_region[resource] == AT_THE_EDGE:
                    mark_dirty(w, resource)
        if w.n[N_DIRTY] > 0:
            return False
        still = 0
        for i in range(rising):
            s = risers[idx(i)]
            stream = all_streams[idx(s)]
            rate, squeeze = -1.0, UNLIMITED
            if stream.own_level <= bound:
                rate, squeeze = stream.ceiling, OWN_CEILING
            else:
                for k in range(stream.uses_n):
                    node = idx(s * most + k)
                    resource = idx(use_resource[node])
                    if (
                        pressures[resource] == BINDS
                        and in_region[resource]
                        and use_amount[node] > 0.0
                    ):
                        rate, squeeze = stream.share * level, k
                        break
            if rate < 0.0:
                risers[idx(still)] = s
                still += 1
            else:
                new_rate[idx(s)] = rate
                new_squeeze[idx(s)] = squeeze
                affected[idx(streams + (i - still))] = s
        if still == 0:
            return True
        # What has stopped is taken off only now: all that bind at one level bind together.
        for i in range(rising - still):
            s = affected[idx(streams + i)]
            rate = new_rate[idx(s)]
            for k in range(all_streams[idx(s)].uses_n):
                node = idx(s * most + k)
                resource = idx(use_resource[node])
                if in_region[resource]:
                    left[resource] = max(0.0, left[resource] - rate * use_amount[node])
        rising = still
        own_level = _weigh(w, rising, resources)
    return True


@njit(void(WORLD), cache=True, error_model="numpy")
def share_rates(w: World) -> None:
    """Give every stream that a change reaches its new rate, squeeze and end."""
    if w.n[N_DIRTY] == 0 and w.n[N_FRESH] == 0:
        return
    w.n[N_SHARINGS] += 1
    streams, resources = _grow_region(w, 0, 0)
    while not _fill(w, streams, resources):
        streams, resources = _grow_region(w, streams, resources)
    now = w.f[F_NOW]
    for i in range(resources):
        w.in_region[w.region[i]] = 0
    affected, is_affected, all_streams = w.affected, w.is_affected, w.stream
    new_rate, new_squeeze = w.new_rate, w.new_squeeze
    for i in range(streams):
        s = affected[idx(i)]
        is_affected[idx(s)] = 0
        stream = all_streams[idx(s)]
        rate = new_rate[idx(s)]
        same = rate == stream.rate or abs(rate - stream.rate) <= SAME_RATE * rate
        if same and stream.squeezed_by == new_squeeze[idx(s)]:
            continue
        settle(w, s)
        stream.rate = rate
        if stream.squeezed_by != new_squeeze[idx(s)]:
            _squeeze(w, s, new_squeeze[s])
        if rate == np.inf or stream.left <= 0.0:
            stream.end = now
        elif rate > 0.0:
            stream.end = now + stream.left / rate
        else:
            stream.end = np.inf
        heap_move(w, s)
