"""Work over processes, here and on a Dask cluster, some of which are killed: nothing is lost, and
nothing comes twice.
"""

import os
import random
import signal
import time
from collections import Counter

import pytest

import vinestep as vs
from vinestep.errors import RunError, SettingError
from vinestep.training.tuning._worker_pool import worker_pool

from ...command_line import vinestep_here


def square(number, folder):
    """The first worker that takes a task of which the number ends in 7 is killed at it."""
    mark = folder / str(number)
    if number % 10 == 7 and not mark.exists():
        mark.touch()
        os.kill(os.getpid(), signal.SIGKILL)
    time.sleep(random.uniform(0, 0.01))
    return number**2


def always_killed(number, folder):
    os.kill(os.getpid(), signal.SIGKILL)


def refused(number, folder):
    raise SettingError("no such grape")


@pytest.fixture(scope="module")
def cluster():
    distributed = pytest.importorskip("distributed")
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=None, host="127.0.0.1"
    ) as found:
        yield found.scheduler_address


@pytest.fixture(params=["processes", "cluster"])
def place(request):
    return request.getfixturevalue("cluster") if request.param == "cluster" else ""


def test_tasks_of_killed_workers_are_done_again_and_none_twice(place, tmp_path):
    tasks = {f"task {n}": (n, tmp_path) for n in range(30)}
    with worker_pool(2, place) as pool:
        found = list(pool.completed(square, tasks))
    assert Counter(key for key, _ in found) == dict.fromkeys(tasks, 1)
    assert dict(found) == {f"task {n}": n**2 for n in range(30)}
    assert len(list(tmp_path.iterdir())) == 3


def test_a_task_that_kills_each_of_its_workers_is_given_up_in_words(tmp_path):
    with worker_pool(2) as pool, pytest.raises(RunError, match="task 1 was killed 4 times"):
        list(pool.completed(always_killed, {"task 1": (1, tmp_path)}))


def test_what_a_task_raises_is_raised(place, tmp_path):
    with worker_pool(2, place) as pool, pytest.raises(SettingError, match="no such grape"):
        list(pool.completed(refused, {"task 1": (1, tmp_path), "task 2": (2, tmp_path)}))


def test_where_no_scheduler_answers_it_is_said(monkeypatch):
    pytest.importorskip("distributed")
    monkeypatch.setattr("vinestep.training.tuning._worker_pool.ANSWER_SECONDS", 1)
    with pytest.raises(RunError, match="no scheduler of Dask answers"):
        worker_pool(2, "tcp://127.0.0.1:9")


def test_a_cluster_that_has_lost_its_workers_is_not_waited_for_without_end(monkeypatch, tmp_path):
    distributed = pytest.importorskip("distributed")
    monkeypatch.setattr("vinestep.training.tuning._worker_pool.LOOK_SECONDS", 0.1)
    monkeypatch.setattr("vinestep.training.tuning._worker_pool.WITHOUT_WORKERS", 0.5)
    with (
        distributed.LocalCluster(n_workers=0, dashboard_address=None, host="127.0.0.1") as empty,
        worker_pool(2, empty.scheduler_address) as pool,
        pytest.raises(RunError, match="has had no workers"),
    ):
        list(pool.completed(square, {"task 1": (1, tmp_path)}))


PLAN = """
epochs = 2
[data]
source = "barrels.csv"
target = "state"
[[layers]]
kind = "dense"
width = "classes"
"""


def test_a_search_and_folds_on_a_cluster_are_those_of_one_process(cluster, tmp_path):
    vs.demo.barrels(120).to_csv(tmp_path / "barrels.csv", index=False)
    plan = tmp_path / "plan.toml"
    plan.write_text(PLAN)
    rates = {"optimiser.rate": [0.1, 0.01]}
    here, there = (
        vs.training.search(
            plan, rates, folder=tmp_path / name, how="grid", cluster=address, processes=1
        )
        for name, address in (("here", ""), ("there", cluster))
    )
    columns = ["trial", "optimiser.rate", "epochs", "validation_loss"]
    assert here.table()[columns].equals(there.table()[columns])
    one, other = (
        vs.training.cross_validate(plan, folds=2, record=tmp_path / name, cluster=address)
        for name, address in (("folds", ""), ("more", cluster))
    )
    assert one.table()["loss"].tolist() == pytest.approx(other.table()["loss"].tolist())
    asked = ["search", plan, "--over", "optimiser.rate=0.1", "--how", "grid"]
    done = vinestep_here(*asked, "--record", tmp_path / "cli", "--cluster", cluster, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert len(vs.runs.open(tmp_path / "cli")) == 1
