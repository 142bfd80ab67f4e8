"""What a flow is for and what it uses."""

from __future__ import annotations

import numpy as np
from numba import njit

from gambrel.core.simulation.engine import tables as t

READ, COPY, REWRITE, RESTORE = range(4)
"""Places in `gambrel.core.simulation.forecast.PURPOSES`."""
N_DISKS, N_FIRST_RESTORE, ST_COPY = t.N_DISKS, t.N_FIRST_RESTORE, t.ST_COPY


@njit(cache=True, nogil=True)
def job_of(w: t.World, task: int) -> int:
    """The job of a machine-run."""
    return w.run[w.task[task].run].job


@njit(cache=True, nogil=True)
def purpose_of(w: t.World, transfer: int) -> int:
    """What a transfer is for."""
    if transfer >= w.n[N_FIRST_RESTORE]:
        return RESTORE
    work = transfer - w.n[N_DISKS]
    if work < 0:
        return READ
    return COPY if w.work[work].stage == ST_COPY else REWRITE


@njit(cache=True, nogil=True)
def purpose_and_job(w: t.World, i: int) -> tuple[int, int]:
    """What a flow is for, and of which job; -1 for a restore."""
    transfer = w.flow[i].transfer
    purpose = purpose_of(w, transfer)
    return purpose, -1 if purpose == RESTORE else job_of(w, w.transfer[transfer].task)


@njit(cache=True, nogil=True)
def uses_of_transfer(w: t.World, transfer: int) -> tuple[int, int]:
    """Where the uses of a transfer begin, and how many there are.

    Those of restores stand in a table of their own.
    """
    if transfer >= w.n[N_FIRST_RESTORE]:
        option = w.option[w.restore[transfer - w.n[N_FIRST_RESTORE]].option]
        return option.uses_from, option.uses_n
    candidate = w.candidate[w.transfer[transfer].candidate]
    return candidate.uses_from, candidate.uses_n


@njit(cache=True, nogil=True)
def uses_of_flow(w: t.World, i: int) -> tuple[int, int]:
    """The uses of a flow's transfer; what moved in no time used nothing that could be told."""
    if w.flow[i].rate == np.inf:
        return 0, 0
    return uses_of_transfer(w, w.flow[i].transfer)


@njit(cache=True, nogil=True)
def use_of(w: t.World, transfer: int, begin: int, k: int) -> tuple[int, float]:
    """A resource that a transfer uses, and how many bytes of it for each source byte."""
    if transfer >= w.n[N_FIRST_RESTORE]:
        r = transfer - w.n[N_FIRST_RESTORE]
        return w.restore_use[begin + k].resource, w.restore_amount[r, k]
    use = w.use[begin + k]
    return use.resource, use.source + use.wire * w.transfer[transfer].omega
