"""Every single loss of the large estate, each in weeks that vary: here, and on a cluster."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import psutil
from distributed import LocalCluster
from sizes import SWEPT, WHOLE_SWEEP, large
from weeks import problem_of

from gambrel.core.plan.reading import read_plan
from gambrel.core.questions.what_if import LOSSES, single_losses
from gambrel.core.simulation.varying import USUAL_SPREAD
from gambrel.work import worker_tasks
from gambrel.work.executors import Workers

SEED = 7
WORKERS = 2
SAMPLED_EVERY_S = 1.0


@contextmanager
def _a_cluster() -> Iterator[str]:
    with LocalCluster(
        n_workers=WORKERS, threads_per_worker=1, processes=True, dashboard_address=None,
        host="127.0.0.1", silence_logs=50,
    ) as cluster:  # fmt: skip
        yield str(cluster.scheduler_address)


def _largest_child_mib() -> float:
    """The memory of the largest of this process's children."""
    sizes = [0]
    for child in psutil.Process().children(recursive=True):
        try:
            sizes.append(child.memory_info().rss)
        except psutil.NoSuchProcess:
            continue
    return max(sizes) / 2**20


def _swept(
    address: str | None, parts: list[tuple[object, ...]]
) -> tuple[list[object], float, float]:
    """What each part came to, in how many seconds, and the memory of the largest worker in MiB."""
    workers = Workers(address, WORKERS)
    found: dict[int, object] = {}
    most = 0.0
    try:
        # Workers that begin, and what they import, are not what is measured.
        workers.all(worker_tasks.warm, [()] * WORKERS)
        began = looked = time.perf_counter()
        for i, result in workers.as_done(worker_tasks.drawn_after, parts):
            found[i] = result
            if time.perf_counter() - looked > SAMPLED_EVERY_S:
                looked = time.perf_counter()
                most = max(most, _largest_child_mib())
        took = time.perf_counter() - began
    finally:
        workers.stop()
    return [found[i] for i in range(len(parts))], took, most


def sweeps() -> list[str]:
    """A sweep in processes of this machine, then by the same call on a Dask cluster."""
    losses_most, draws = SWEPT
    problem = problem_of(read_plan(large()))
    losses = (None, *single_losses(problem.plan, LOSSES, losses_most))
    packed = worker_tasks.Packed.of(problem)
    parts: list[tuple[object, ...]] = [
        (packed, loss, USUAL_SPREAD, SEED, first, 1) for first in range(draws) for loss in losses
    ]
    here, here_s, here_mib = _swept(None, parts)
    with _a_cluster() as address:
        there, there_s, there_mib = _swept(address, parts)
    all_losses, all_draws = WHOLE_SWEEP
    whole_h = here_s / len(parts) * (all_losses + 1) * all_draws / 3600
    return [
        f"{len(problem.plan.machines):,} machines, {len(losses) - 1} single losses and none, each "
        f"in {draws} week{'s' if draws > 1 else ''} that vary: {len(parts)} weeks.",
        "",
        "| where | time | a week, one worker | largest worker |",
        "|---|---|---|---|",
        *(
            f"| {name} | {took:.0f} s | {took * WORKERS / len(parts):.1f} s | {mib:.0f} MiB |"
            for name, took, mib in (
                (f"{WORKERS} processes of this machine", here_s, here_mib),
                (f"a Dask cluster of {WORKERS} workers", there_s, there_mib),
            )
        ),
        "",
        f"Both found the same in {sum(a == b for a, b in zip(here, there, strict=True))} of "
        f"{len(parts)}. At that rate {all_losses} losses in {all_draws} weeks each would take "
        f"{whole_h:.1f} h with {WORKERS} workers; that was not run.",
    ]
