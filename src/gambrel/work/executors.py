"""Where long computations run: processes of this machine, or a cluster that is named.

Both are `concurrent.futures` executors, so what is computed does not know where. A task that is
lost with its worker is given to another: tasks depend on their arguments only, so the result is
the same.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
import time
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor, Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from threading import Lock, Thread
from typing import Any, TypeVar

CLUSTER = "GAMBREL_CLUSTER"
"""The environment variable that names the scheduler of a Dask cluster: "tcp://HOST:PORT"."""
LOOKED_AT_EVERY_S = 1.0
TRIES = 3
"""How often a task is given out before its loss is an error."""

T = TypeVar("T")


def _begin_worker(nice: int) -> None:
    """Have this worker end with the process that made it, and leave Ctrl+C to that.

    The kernel's own signal for this comes with the end of the *thread* that made a process, and
    threads that answer requests come and go; so the parent is looked for now and then.
    """
    parent = os.getppid()

    def look() -> None:
        while os.getppid() == parent:
            time.sleep(LOOKED_AT_EVERY_S)
        os._exit(1)

    Thread(target=look, name="parent", daemon=True).start()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    os.nice(nice)


class Workers:
    """Runs functions in other processes. Safe to use from several threads.

    Args:
        cluster: address of a Dask scheduler; None for processes of this machine.
        processes: how many of them; None for one for each core.
        nice: how far they stand back for others of this machine, as the system counts it.
            Whoever waits for an answer comes first.
    """

    def __init__(
        self, cluster: str | None = None, processes: int | None = None, nice: int = 5
    ) -> None:
        self.cluster = cluster
        self.processes = processes or os.cpu_count() or 1
        self.nice = nice
        self._lock = Lock()
        self._executor: Executor | None = None
        self._client: Any = None

    @staticmethod
    def of_environment() -> Workers:
        """The cluster that GAMBREL_CLUSTER names, else this machine."""
        return Workers(os.environ.get(CLUSTER) or None)

    @property
    def width(self) -> int:
        """How many tasks run at once."""
        if self.cluster is None:
            return self.processes
        self.executor()
        threads: int = sum(self._client.nthreads().values())
        return max(1, threads)

    def executor(self) -> Executor:
        """The executor, begun with its first use."""
        with self._lock:
            if self._executor is None:
                self._executor = self._begin()
            return self._executor

    def _begin(self) -> Executor:
        if self.cluster is not None:
            from distributed import Client

            self._client = Client(self.cluster, set_as_default=False)
            executor: Executor = self._client.get_executor(retries=TRIES, pure=False)
            return executor
        return ProcessPoolExecutor(
            self.processes,
            mp_context=multiprocessing.get_context("spawn"),
            initializer=_begin_worker,
            initargs=(self.nice,),
        )

    def _replace(self, broken: Executor) -> None:
        with self._lock:
            if self._executor is broken:
                self._executor = None
        broken.shutdown(wait=False, cancel_futures=True)

    def as_done(
        self,
        function: Callable[..., T],
        arguments: Sequence[tuple[Any, ...]],
        unwanted: Callable[[], bool] | None = None,
    ) -> Iterator[tuple[int, T]]:
        """(position, result) of every call as it ends, in any order.

        Args:
            unwanted: whether a call that was lost need not be tried again.

        Raises:
            BrokenProcessPool: where workers keep dying.
            Exception: what a call raised.
        """
        left = set(range(len(arguments)))
        for attempt in range(TRIES):
            executor = self.executor()
            try:
                calls: dict[Future[T], int] = {
                    executor.submit(function, *arguments[i]): i for i in sorted(left)
                }
                try:
                    for call in as_completed(calls):
                        result = call.result()
                        left.discard(calls[call])
                        yield calls[call], result
                finally:
                    for call in calls:
                        call.cancel()
                return
            except BrokenProcessPool:
                self._replace(executor)
                if attempt == TRIES - 1 or (unwanted is not None and unwanted()):
                    raise

    def all(self, function: Callable[..., T], arguments: Sequence[tuple[Any, ...]]) -> list[T]:
        """The results of all calls, in the order of the arguments."""
        found = dict(self.as_done(function, arguments))
        return [found[i] for i in range(len(arguments))]

    def abort(self) -> None:
        """End what runs in the processes of this machine; what is still wanted begins anew."""
        with self._lock:
            executor = self._executor
        if isinstance(executor, ProcessPoolExecutor):
            for process in list((executor._processes or {}).values()):
                process.kill()

    def stop(self) -> None:
        """End the workers."""
        with self._lock:
            executor, self._executor = self._executor, None
            client, self._client = self._client, None
        if client is not None:
            client.close()
        elif executor is not None:
            executor.shutdown(wait=False, cancel_futures=True)
