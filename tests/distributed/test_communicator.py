"""One suite for all communicators: one process, threads, and processes by MPI."""

import os
import threading
import time

import pytest

import vinestep as vs
from vinestep.errors import PeerError, SettingError

from ..mpi import needs_mpi, on_ranks
from .suite import SUITE, all_of_it


@pytest.mark.parametrize("size", [1, 2, 3, 5])
@pytest.mark.parametrize("asked", SUITE)
def test_ranks_that_are_threads(asked, size):
    vs.distributed.run_in_threads(size, lambda: asked(vs.distributed.communicator()))


def test_one_process_alone():
    assert type(vs.distributed.communicator()) is vs.distributed.Alone
    all_of_it()


@needs_mpi
@pytest.mark.parametrize("size", [2, 3])
def test_ranks_that_are_processes(size):
    done = on_ranks(size, "-m", "tests.distributed.suite", size)
    assert done.returncode == 0, done.stdout + done.stderr
    assert f"{len(SUITE)} passed" in done.stdout


def test_a_rank_that_does_not_come_ends_all_in_time():
    def act():
        if vs.distributed.communicator().rank == 1:
            time.sleep(1.5)
        else:
            vs.distributed.communicator().all_gather("here")

    begun = time.monotonic()
    with pytest.raises(PeerError, match="did not come within 0.2 seconds"):
        vs.distributed.run_in_threads(2, act, timeout=0.2)
    assert time.monotonic() - begun < 10


HANGS = """
import time, vinestep as vs
comm = vs.distributed.communicator()
if comm.rank == 1:
    time.sleep(60)
comm.all_gather("here")
"""


@needs_mpi
def test_a_process_that_hangs_is_named_and_ends_all(tmp_path):
    (tmp_path / "script.py").write_text(HANGS)
    begun = time.monotonic()
    done = on_ranks(3, tmp_path / "script.py", env={"VINESTEP_RANK_TIMEOUT": "1"})
    assert done.returncode != 0
    assert "rank 1 of 3 did not come within 1 seconds" in done.stderr
    assert time.monotonic() - begun < 40


FAILS_ELSEWHERE = """
import numpy as np, vinestep as vs
comm = vs.distributed.communicator()
with comm.guarded():
    if comm.rank == 1:
        raise ValueError("the cellar is dark")
    comm.all_reduce(np.ones(10))
"""


@needs_mpi
def test_a_failure_reaches_those_that_wait_for_something_else(tmp_path):
    (tmp_path / "script.py").write_text(FAILS_ELSEWHERE)
    done = on_ranks(2, tmp_path / "script.py")
    assert done.returncode != 0
    assert "PeerError: The run ended on all ranks: rank 1: ValueError: the cellar is dark" in (
        done.stderr
    )


@needs_mpi
def test_a_process_that_a_rank_starts_is_no_rank(tmp_path):
    (tmp_path / "script.py").write_text(
        "import subprocess, sys, vinestep as vs\n"
        "if vs.distributed.communicator().rank == 0:\n"
        "    code = 'import vinestep as vs; print(vs.distributed.communicator().size, \"alone\")'\n"
        "    subprocess.run([sys.executable, '-c', code], check=True)\n"
    )
    done = on_ranks(2, tmp_path / "script.py")
    assert done.returncode == 0, done.stderr
    assert "1 alone" in done.stdout


@needs_mpi
def test_ranks_can_be_turned_off(tmp_path):
    done = on_ranks(
        2,
        "-c",
        "import vinestep as vs; print('size', vs.distributed.communicator().size)",
        env={"VINESTEP_RANKS": "off"},
    )
    assert done.stdout.count("size 1") == 2


def test_without_mpi_it_is_said_what_to_install(monkeypatch):
    from vinestep.distributed import _current

    monkeypatch.setattr(_current, "_process", None)
    monkeypatch.setenv("PMI_SIZE", "2")
    monkeypatch.setenv(_current.OWNER, str(os.getpid()))
    monkeypatch.setitem(__import__("sys").modules, "vinestep.distributed._mpi", None)
    with pytest.raises(SettingError, match=r"pip install 'vinestep\[mpi\]'"):
        vs.distributed.communicator()


def test_threads_choose_their_ranks_apart():
    found = []
    with vs.distributed.using(vs.distributed.Alone()) as comm:
        thread = threading.Thread(target=lambda: found.append(vs.distributed.communicator()))
        thread.start()
        thread.join()
        assert vs.distributed.communicator() is comm
    assert found[0] is not comm


@pytest.mark.parametrize("size", [0, True, 2.5])
def test_what_is_no_number_of_ranks_is_refused(size):
    with pytest.raises(SettingError, match="size"):
        vs.distributed.run_in_threads(size, lambda: None)
