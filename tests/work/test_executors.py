"""Long computations in processes of this machine and on a cluster; workers that die."""

import os
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from threading import Event

import pytest
from balances import crowded, larkmoor_problem
from calls import always_die, die_once, square

from gambrel.core.balance.search_driver import balance
from gambrel.core.balance.stopping import MostEvaluations
from gambrel.core.questions.how_sure import draw
from gambrel.core.questions.what_if import LOSSES, single_losses
from gambrel.core.simulation.varying import USUAL_SPREAD
from gambrel.work import worker_tasks
from gambrel.work.executors import CLUSTER, Workers


@pytest.fixture
def local():
    workers = Workers(processes=2)
    yield workers
    workers.stop()


def test_results_stand_in_the_order_of_the_arguments(local):
    assert local.all(square, [(n,) for n in range(9)]) == [n * n for n in range(9)]


def test_what_is_lost_with_its_worker_is_done_by_another(local, tmp_path):
    marker = str(tmp_path / "died")
    assert local.all(die_once, [(n, marker) for n in range(8)]) == [n * n for n in range(8)]
    assert os.path.exists(marker)


def test_workers_that_keep_dying_are_an_error(local):
    with pytest.raises(BrokenProcessPool):
        local.all(always_die, [()])


def test_what_a_call_raises_is_raised(local):
    with pytest.raises(TypeError):
        local.all(square, [("a",)])


def test_the_environment_names_a_cluster(monkeypatch):
    monkeypatch.setenv(CLUSTER, "tcp://127.0.0.1:1")
    assert Workers.of_environment().cluster == "tcp://127.0.0.1:1"
    monkeypatch.delenv(CLUSTER)
    assert Workers.of_environment().cluster is None


@pytest.mark.long
def test_a_search_in_other_processes_finds_what_it_finds_here(local):
    problem = crowded(3)
    packed = worker_tasks.Packed.of(problem)

    def evaluate(_, batch):
        return [
            told
            for part in local.all(worker_tasks.evaluated, [(packed, [asked]) for asked in batch])
            for told in part
        ]

    stop = MostEvaluations(60)
    here, there = balance(problem, stop), balance(problem, stop, evaluate=evaluate)
    assert (here.candidate, here.score) == (there.candidate, there.score)


def chunks(problem, samples, size):
    packed = worker_tasks.Packed.of(problem)
    return [(packed, USUAL_SPREAD, 7, first, size) for first in range(0, samples, size)]


def calls_of_a_cluster(function, arguments, kill):
    """The results of calls on a real scheduler with two worker processes, one of them killed.

    Args:
        kill: after how many results.
    """
    from distributed import LocalCluster

    with LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, host="127.0.0.1"
    ) as cluster:
        workers = Workers(cluster.scheduler_address)
        try:
            assert workers.width == 2
            victim = next(iter(cluster.workers.values()))
            found, killed = {}, False
            for i, result in workers.as_done(function, arguments):
                found[i] = result
                if len(found) >= kill and not killed:
                    killed = True
                    os.kill(victim.pid, signal.SIGKILL)
                    time.sleep(0.1)
        finally:
            workers.stop()
    assert killed
    return [found[i] for i in range(len(arguments))]


@pytest.mark.long
def test_a_cluster_that_loses_a_worker_gives_the_same_weeks():
    problem = crowded(2)
    found = calls_of_a_cluster(worker_tasks.drawn, chunks(problem, 40, 2), kill=1)
    together = [sample for samples in found for sample in samples]
    assert together == draw(problem, USUAL_SPREAD, 7, range(40))


@pytest.mark.long
def test_a_sweep_of_losses_and_draws_on_a_cluster_that_loses_a_worker_is_the_same():
    problem = larkmoor_problem()
    losses = (None, *single_losses(problem.plan, LOSSES, 12))
    packed = worker_tasks.Packed.of(problem)
    parts = [
        (packed, loss, USUAL_SPREAD, 7, first, 2) for first in range(0, 6, 2) for loss in losses
    ]
    found = calls_of_a_cluster(worker_tasks.drawn_after, parts, kill=5)
    assert found == [worker_tasks.drawn_after(*part) for part in parts]
    # And each is what a plan after that loss draws.
    for loss in losses[1:3]:
        weeks = [
            w for part, some in zip(parts, found, strict=True) if part[1] is loss for w in some
        ]
        assert weeks == draw(problem.with_loss(loss), USUAL_SPREAD, 7, range(6))


def test_what_is_not_wanted_any_more_ends_and_is_not_tried_again():
    workers = Workers(processes=1)
    left = Event()

    def compute():
        return dict(workers.as_done(time.sleep, [(600,)], left.is_set))

    with ThreadPoolExecutor(1) as beside:
        running = beside.submit(compute)
        while not getattr(workers._executor, "_processes", None):
            time.sleep(0.01)
        left.set()
        workers.abort()
        with pytest.raises(BrokenProcessPool):
            running.result(60)
    assert workers.all(square, [(3,)]) == [9]
    workers.stop()
