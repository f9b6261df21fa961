"""The matrix library has as many threads after a run as before, however the run ended."""

import os
import subprocess
import sys
import threading
from pathlib import Path

import numpy as np
import pytest
import scipy.linalg  # noqa: F401  # brings a matrix library of its own
from threadpoolctl import ThreadpoolController, threadpool_limits

import vinestep as vs
from vinestep.kernels.machinery import pool
from vinestep.kernels.machinery.blas_threads import one_blas_thread


def threads():
    return [
        library.num_threads
        for library in ThreadpoolController().lib_controllers
        if library.user_api == "blas"
    ]


@pytest.fixture(autouse=True)
def two_threads():
    with threadpool_limits(2, user_api="blas"):
        yield


class Look(vs.observers.Observer):
    ends_run = True

    def __init__(self, then=lambda: None):
        self.seen, self.then = [], then

    def after_step(self, run, step):
        self.seen.append(threads())
        self.then()


def run(*observers, **settings):
    data = vs.data.Dataset(np.ones((8, 3)), np.zeros((8, 1)))
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    return training.run(data.batches(4), epochs=2, observers=observers, **settings)


def test_one_thread_during_a_run_and_as_many_as_before_after_it():
    before, look = threads(), Look()
    run(look)
    assert {count for seen in look.seen for count in seen} == {1}
    assert threads() == before


@pytest.mark.parametrize("error", [ValueError, KeyboardInterrupt, SystemExit])
def test_put_back_after_an_error(error):
    def fail():
        raise error("stop")

    before = threads()
    with pytest.raises(error):
        run(Look(fail))
    assert threads() == before


def test_put_back_after_a_step_and_after_a_loop_left_early():
    before = threads()
    data = vs.data.Dataset(np.ones((8, 3)), np.zeros((8, 1)))
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    training.step((data.inputs, data.targets))
    assert threads() == before
    for _ in training.steps(data.batches(4), epochs=3):
        break
    assert threads() == before


def test_put_back_after_the_last_of_several_that_overlap():
    before, inside = threads(), []
    first_in, second_in, first_out = threading.Event(), threading.Event(), threading.Event()

    def first():
        with one_blas_thread():
            first_in.set()
            second_in.wait()
        first_out.set()

    def second():
        first_in.wait()
        with one_blas_thread():
            second_in.set()
            first_out.wait()
            inside.append(threads())

    workers = [threading.Thread(target=work) for work in (first, second)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join(timeout=30)
    assert set(inside[0]) == {1}
    assert threads() == before


def test_two_trainings_in_two_threads():
    before = threads()
    workers = [threading.Thread(target=run) for _ in range(2)]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join(timeout=60)
    assert threads() == before


def test_a_limit_around_a_run_holds_for_the_pool_too():
    seen = []
    with threadpool_limits(1, user_api="blas"):
        run(Look(lambda: seen.append(pool.helpers(1 << 30)[0] is pool.NOBODY)))
        assert set(threads()) == {1}
    assert seen
    assert all(seen)
    assert pool._allowed == pool.THREADS


def test_what_somebody_sets_during_a_run_stays():
    controllers = [
        library for library in ThreadpoolController().lib_controllers if library.user_api == "blas"
    ]
    with one_blas_thread():
        for library in controllers:
            library.set_num_threads(3)
    assert set(threads()) == {3}


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork on this system")
def test_put_back_in_a_process_forked_in_the_middle():
    code = """
import os, sys
from threadpoolctl import ThreadpoolController
import numpy as np
from vinestep.kernels.machinery.blas_threads import one_blas_thread
found = lambda: ThreadpoolController().lib_controllers
threads = lambda: [one.num_threads for one in found() if one.user_api == "blas"]
before = threads()
with one_blas_thread():
    child = os.fork()
    if child == 0:
        right = threads() == before
        with one_blas_thread():
            right &= set(threads()) == {1}
        right &= threads() == before
        os._exit(0 if right else 1)
    status = os.waitpid(child, 0)[1]
print(status, threads() == before)
"""
    environment = os.environ | {"OPENBLAS_NUM_THREADS": "2"}
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", code],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout.split() == ["0", "True"]


@pytest.mark.skipif(sys.platform == "win32", reason="no such signal")
def test_put_back_after_ctrl_c():
    code = """
import os, signal, sys
signal.signal(signal.SIGINT, signal.default_int_handler)  # a background job of a shell ignores it
sys.path.insert(0, {folder!r})
from test_blas_threads import Look, run, threads
before = threads()
outcome = run(Look(lambda: os.kill(os.getpid(), signal.SIGINT)))
print(outcome.curves.empty, threads() == before)
"""
    code = code.format(folder=str(Path(__file__).parent))
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split() == ["True", "True"]
