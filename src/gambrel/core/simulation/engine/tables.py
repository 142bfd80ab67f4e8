"""The arrays of the engine: what each record holds, and how all of them are passed around.

Instants are seconds from EPOCH, rates bytes per second, sizes bytes; -1
stands for "none" where a number refers to another record. A row of one table refers to rows of
others by number; rows that belong together stand together (`..._from`, `..._n`).
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from gambrel.core.simulation.forecast import MachineOutcome, RestoreOutcome, RunOutcome
from gambrel.core.units import EPOCH as EPOCH

Table = npt.NDArray[Any]
"""An array of records (one of the dtypes below)."""
Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]

FULL, INCREMENTAL, DIFFERENTIAL = range(3)
CHAINS = ("incremental", "differential", "forever", "full_only")
CHAIN_INCREMENTAL, CHAIN_DIFFERENTIAL, CHAIN_FOREVER, CHAIN_FULL_ONLY = range(4)
WINDOW_ENDS = ("stop", "finish", "run_on")
STOP, FINISH, RUN_ON = range(3)
VERIFIES = ("none", "checksum", "boot")
NO_VERIFY, CHECKSUM, BOOT = range(3)
MACHINE_OUTCOMES: tuple[MachineOutcome, ...] = ("done", "cut off", "missed", "no path")
DONE, CUT_OFF, MISSED, NO_PATH = range(4)
RUN_OUTCOMES: tuple[RunOutcome, ...] = ("done", "incomplete", "missed", "empty", "skipped")
RUN_DONE, RUN_INCOMPLETE, RUN_MISSED, RUN_EMPTY, RUN_SKIPPED = range(5)
RESTORE_OUTCOMES: tuple[RestoreOutcome, ...] = ("done", "no point", "no path", "cut off")
R_DONE, R_NO_POINT, R_NO_PATH, R_CUT_OFF = range(4)

WAITING, PREPARING, MOVING, FINISHING, ENDED = range(5)
"""States of a machine-run: FINISHING is release, transform and verify."""

OWN_CEILING, UNLIMITED, NOT_SHARED_YET = -1, -2, -3
"""Squeezes of a stream other than the place of a resource among its uses."""

NEVER = np.inf


def _record(ints: str, floats: str = "") -> np.dtype[Any]:
    return np.dtype(
        [(name, np.int64) for name in ints.split()]
        + [(name, np.float64) for name in floats.split()],
        align=True,
    )


# --- what the plan says -----------------------------------------------------------------------

RETENTION = (
    "keep_points weekly monthly yearly keeps_all",
    "keep_days full_days incremental_days keep_until",
)
"""`keep_until`: last date at the repository's site on which all is kept, in days from 1970-01-01;
below 0: none."""

JOB = _record(
    "priority window end_rule chain tracking verify verify_fulls members_from members_n "
    "disks_n classes_from classes_n copies_n followers_from followers_n " + RETENTION[0],
    "share start_within stop_after guest_after held_until before after boot " + RETENTION[1],
)
"""`disks_n`: disks of all members."""

MEMBER = _record(
    "machine server path host_pool disks_from disks_n first_disk chain copy_chains refuses group "
    "repository synthetic work_class copies_from",
    "kappa change churn prepare growth",
)
"""A machine of a job. `first_disk`: place of its first disk among the disks of a run. `growth`: of
its disks in a year, as a factor; 1 where they stay as they are."""

DISK = _record("klass place candidates_from candidates_n", "used whole left_out")
"""A disk of a member, in queue order. `place`: its place in its class (`class_items`). `used` and
`whole` are the bytes in use and those that reading all of it takes, both with `left_out`, which is
neither read nor protected."""

KLASS = _record(
    "job host_pool pool_a pool_b pool_c candidates_from candidates_n proxies items_from items_n "
    "readable"
)
"""Disks of a job that need the same slots. `candidates_n` 0: read by agents, no proxy. `proxies`:
the set of proxies of its candidates. `readable`: whether anything can read them; a run that began
before a proxy was lost may have machines that nothing can read."""

CANDIDATE = _record("proxy uses_from uses_n", "ceiling")
"""A way for a stream; transforms, merges and copies have theirs too."""

USE = _record("resource", "source wire")
"""A stream of x uses `source`·x + `wire`·ω·x of a resource."""

COPY = _record(
    "repository routed candidate move_class merge_class " + RETENTION[0],
    "delay " + RETENTION[1],
)

REPOSITORY = _record(
    "zone_from zone_n candidate block_clone", "dedupe read immutable_days first_byte"
)
"""`candidate`: how transforms and merges move. `zone_*`: rows of `zone`."""

ZONE = _record("", "since offset")
"""From the instant `since` on, local time is UTC + `offset`."""

OPTION = _record(
    "chain routed pool sequential uses_from uses_n disks_from disks_n",
    "growth dedupe link read target first_byte cold_1 cold_2 cold_3 delay_1 delay_2 delay_3",
)
"""A chain from which a restore may take its point. `link`, `read`, `target`: the rates of the
slowest link of the route, of the repository and of what is written to. `growth` as in MEMBER.
`cold_*`, `delay_*`: the age at which points come to a colder tier, and how long a restore waits for
them there; infinite where there is no such tier."""

RESTORE_USE = _record("resource what")
"""What a restore uses of a resource: U_WRITTEN for each byte written one, U_READ what is read for
it, U_PART the part that belongs to the disks of this use."""
U_WRITTEN, U_READ, U_PART = range(3)

RESTORE_DISK = _record("use", "used left_out")
"""A disk that is brought back. `use`: its datastore's place among the uses, or -1."""

SPAN = _record("", "opens closes")
"""An open interval of a window."""

DUE = _record("job kind schedule turn", "at")
"""`turn`: the group of machines whose turn for a full it is, or -1 (`core.spreading`)."""
LIMIT = _record("resource", "at capacity")
"""From `at` on, a link has this capacity."""

# --- what happens -----------------------------------------------------------------------------

RUN = _record(
    "job kind schedule turn outcome tasks_from tasks_n disks_from unfinished done never_opens "
    "open_ended started queued ended_before at_any_time",
    "occurrence began ended opens closes",
)
"""`ended_before`: the run had ended when the simulation began; copies or merges of it had not."""
TASK = _record(
    "run member outcome state kind synthetic base_point left first made order disks_from",
    "queued start moved released ended source wire stored",
)
"""A machine-run. `left`: disks that have not moved. `first`: the disk that starts it."""

TRANSFER = _record(
    "task disk stream candidate slots waits moved",
    "work omega share ceiling left wanted slots_from slots_to",
)
"""A disk, transform, merge or copy. `disk` is -1 for the last three. `waits`: it stands in the
queue by itself, since `wanted`. `slots`: it holds its slots. `stream`: its place among those that
move, or -1. `left`: what was left when it ceased to move."""

STREAM = _record("transfer squeezed_by uses_n", "share ceiling own_level left rate since end")
"""A transfer while it moves. Those that move are few, and stand together, as sharing rates looks at
them again and again. `squeezed_by`: place among its uses, or one of the states below 0.
`own_level`: the level at which its own ceiling binds."""

WORK = _record(
    "stage task copy_row klass number previous next state chain", "queued started ended wire"
)
"""A transform, merge or copy beside its row of `transfer`."""

POINT = _record(
    "chain kind needs usable bad alive mark previous next made_on replaced",
    "at exists_from stored since gone",
)
"""`since`: when the row began to hold, which for a merged full is the merge; `gone`: when it was
deleted or merged, or infinite. `made_on`: the point that it was made on. `replaced`: the full that
a merge made of it."""
CHAIN = _record("repository job machine first last count busy changes")
"""The points of one machine, job and repository. `busy`: a copy into it moves. `changes`: grows
whenever a point comes or goes."""

RESTORE = _record(
    "position machine instant before options_from options_n state outcome verdict seen point "
    "option points_n",
    "due share ceiling named_at at start back whole read written done delay",
)
"""A restore (section 14), in the order of the queue. `position`: its place in the state. `before`:
the one of the same machine that stands before it, or -1. `point` and `option`: what it would start
with, or started with; `seen`: the changes of its chains when that was settled. `verdict`: why there
is no point. `at`: of the point with which it started. `done`: bytes written before the walk
began. `delay`: how long it waits for points in colder tiers."""
R_COMING, R_DUE, R_UNDER_WAY, R_ENDED = range(4)
"""States of a restore."""

QUEUE = _record(
    "next waiting ready parked parked_run parked_before parked_after first last pool_a pool_b"
)
"""Of each class of disks one row for those that start machines and one for those of prepared
machines; then one for each class of repository work. Disks: `next` is the place from which to look
on, `waiting` how many stand there. Work: `first` and `last` in queue order. `parked`: the pool or
set of proxies that was full, with the rows parked there before and after it. Rows of work come
first, then the others in the order of `parked_run`: whose disks waited when the row was parked."""

NEWEST = _record("machine", "exists_from at")
FLOW = np.dtype(
    [(name, np.int32) for name in ("transfer", "squeezed_by")]
    + [(name, np.float64) for name in ("start", "end", "rate")]
)
"""A stretch of one rate. There are millions of them, so their integers are short."""

# --- what is under way at the beginning (section 15) ------------------------------------------

TOLD_RUN = _record("job kind schedule turn ended_before queued at_any_time", "occurrence reached")
"""A run under way. `reached`: when the machines that wait reached the queue, NaN where none did."""
TOLD_TASK = _record(
    "run order step kind synthetic base_point first outcome made",
    "queued start moved released transformed ended source wire stored",
)
"""A machine-run: `run` is a row of TOLD_RUN, `order` its place in it, `step` one of the steps
below; `first` is the place of the disk that started it."""
TOLD_DISK = _record("task place candidate holds moved", "work omega done")
"""A disk: `task` is a row of TOLD_TASK, `place` its place in the machine; `done`: bytes moved."""
TOLD_WORK = _record("run order stage row candidate copy_row chain number", "due started work done")
"""A transform, merge or copy of a machine-run. `started`: NaN where it waits. `work`: all that it
has to move, NaN where that is not settled; `done`: what has moved."""

# Steps of a machine-run that is under way.
(
    AT_WAITING, AT_PREPARING, AT_MOVING, AT_RELEASING, AT_TRANSFORMING, AT_VERIFYING, AT_ENDED,
) = range(7)  # fmt: skip


class World(NamedTuple):
    """All arrays of one simulation. The kernel takes them as the struct that `world` makes."""

    job: Table
    member: Table
    disk: Table
    klass: Table
    class_items: Ints
    copy_chain: Ints
    candidate: Table
    use: Table
    copy: Table
    repository: Table
    zone: Table
    window_from: Ints
    span: Table
    due: Table
    limit: Table
    follower: Ints
    option: Table
    restore_use: Table
    restore_disk: Table
    machine_class_from: Ints
    machine_class: Ints
    proxy_set_from: Ints
    proxy_set: Ints
    slots: Ints
    snapshot_due: Floats

    capacity: Floats
    busy: Ints
    held: Ints
    active: Ints
    run: Table
    task: Table
    transfer: Table
    work: Table
    squeezed: Floats
    restore: Table
    restoring: Ints
    restore_squeezed: Floats
    restore_amount: Floats
    point: Table
    chain: Table
    queue: Table
    parked_first: Ints
    parked_last: Ints
    ready: Ints
    hot: Ints
    is_hot: Ints
    starters: Ints
    starter_row: Ints
    starter_item: Ints
    used_bytes: Floats
    peak_bytes: Floats
    newest: Table
    flow: Table

    stream: Table
    free_stream: Ints
    use_resource: Ints
    use_amount: Floats
    squeezed_now: Floats
    step_at: Floats
    step_key: Ints
    deadline_at: Floats
    deadline_key: Ints
    end_heap: Ints
    end_place: Ints
    ended_now: Ints
    due_now: Ints
    due_key: Floats
    due_order: Ints

    node_stream: Ints
    node_next: Ints
    node_previous: Ints
    node_first: Ints
    load_most: Floats
    load_open: Ints
    load_n: Ints
    squeezes_n: Ints
    dirty: Ints
    is_dirty: Ints
    fresh: Ints
    affected: Ints
    is_affected: Ints
    region: Ints
    in_region: Ints
    region_n: Ints
    left: Floats
    demand: Floats
    pressure: Floats
    rising: Ints
    new_rate: Floats
    new_squeeze: Ints

    n: Ints
    f: Floats


WORLD_RESULTS = (
    "run", "task", "transfer", "work", "squeezed", "chain", "newest", "queue", "restore",
    "restore_squeezed", "restore_amount", "option", "restore_use",
)  # fmt: skip
"""What a finished walk still needs, beside flows, points and what it shares with its layout."""
WORLD_SCRATCH = (
    "stream", "free_stream", "use_resource", "use_amount", "squeezed_now", "step_at", "step_key",
    "deadline_at", "deadline_key", "end_heap", "end_place", "ended_now", "due_now", "due_key",
    "due_order", "node_stream", "node_next", "node_previous", "node_first", "load_most",
    "load_open", "load_n", "squeezes_n", "dirty", "is_dirty", "fresh", "affected", "is_affected",
    "region", "in_region", "region_n", "left", "demand", "pressure", "rising", "new_rate",
    "new_squeeze", "parked_first", "parked_last", "ready", "hot", "is_hot", "starters",
    "starter_row", "starter_item", "due", "limit", "span", "busy", "held", "active", "restoring",
    "restore_disk",
)  # fmt: skip
"""What only the walk itself needs."""
WORLD_WRITTEN = (
    *(name for name in WORLD_RESULTS if name not in ("option", "restore_use")),
    *(name for name in WORLD_SCRATCH if name not in ("due", "limit", "span", "restore_disk")),
    "point", "used_bytes", "peak_bytes", "flow", "n", "f",
)  # fmt: skip
"""What a walk writes to."""

# Places in `World.n`, the counters of a simulation.
(
    N_DUE, N_LIMIT, N_RUN, N_TASK, N_TRANSFER, N_WORK, N_POINT, N_NEWEST, N_FLOW, N_STEP,
    N_DEADLINE, N_MOVING, N_SEQUENCE, N_PENDING, N_ACTIVE, N_READY, N_ENDED_NOW, N_DIRTY, N_FRESH,
    N_SNAPSHOT, N_DISKS, N_USES_MOST, N_INSTANTS, N_SHARINGS, N_HOT, N_STREAM, N_FREE, N_SPACE,
    N_STARTERS, N_OPEN, N_FIRST_RESTORE, N_RESTORES_DUE, N_RESTORES_LEFT, N_RESTORES_UNDER_WAY,
    N_RESTORES_AT_ONCE, COUNTERS,
) = range(36)  # fmt: skip

# Places in `World.f`. Occurrences exist up to F_UNTIL; F_TO is the end of the span that is asked
# about, no later. N_OPEN counts the runs and copies of that span that have not ended; it stays 0
# where the two are one and the walk goes on until all work has ended.
# F_STOP: the walk is left once all is done that happens up to then. F_SIZES_AS_OF: when the disks
# had the sizes of the plan; they grow from then on.
F_NOW, F_TO, F_UNTIL, F_STOP, F_SIZES_AS_OF, FACTS = range(6)

# What the kernel says when it returns.
FINISHED, WANTS_FLOWS, IS_QUIET, PAUSES, UNSETTLED, STOPPED = range(6)

# Kinds of timed steps.
(
    S_PREPARED, S_RELEASED, S_VERIFIED, S_DISK_END, S_WORK_END, S_REACH_QUEUE, S_END_RUN,
    S_COPY_DUE, S_POINT, S_STREAM_END, S_RESTORE_READY,
) = range(11)  # fmt: skip

# Phases of deadlines at one instant.
D_CLOSES, D_STOP_AFTER, D_START_WITHIN, D_OPENS = range(4)

# Stages in which the tasks of one machine stand in the queue.
ST_DISK, ST_TRANSFORM, ST_MERGE, ST_COPY = range(4)

# States of a piece of repository work.
W_IDLE, W_QUEUED, W_MOVING, W_ENDED = range(4)

# A row of the queue is parked nowhere.
P_NOTHING = -1
