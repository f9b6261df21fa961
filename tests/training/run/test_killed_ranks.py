"""Ranks killed at random moments: the run ends on all, and goes on to equal bits.

100 kills with ``make test-slow``; a third of VINESTEP_TEST_KILLS, if that is said.
"""

import os
import random
import subprocess
import sys
import time

import numpy as np
import psutil
import pytest

from vinestep.runs import RunFolder

from ...mpi import LAUNCHER, needs_mpi
from .test_kills import CODE

KILLS = max(1, int(os.environ.get("VINESTEP_TEST_KILLS", "300")) // 3)
GROUPS = 10
RANKS = 2
SCRIPT = CODE.replace("print(outcome.folder)", "")


def start(root, resume="-", slow=0.0):
    command = [LAUNCHER, "-n", str(RANKS), sys.executable, "-c", SCRIPT]
    given = {name: value for name, value in os.environ.items() if name != "VINESTEP_RANK_PROCESS"}
    return subprocess.Popen(
        [*command, str(root), str(resume), str(slow), "at once"],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        text=True,
        env=given,
    )


def finish(process):
    _, errors = process.communicate(timeout=300)
    assert process.returncode == 0, errors[-1500:]


def ranks_of(process):
    return [
        child
        for child in psutil.Process(process.pid).children(recursive=True)
        if child.name().startswith("python") and "_plot_worker" not in "".join(child.cmdline())
    ]


@pytest.fixture(scope="module")
def expected(tmp_path_factory):
    root = tmp_path_factory.mktemp("whole")
    finish(start(root))
    return RunFolder(root / "run-1").newest_state()[0], (root / "run-1" / "curves.csv").read_bytes()


@needs_mpi
@pytest.mark.slow
@pytest.mark.parametrize("group", range(GROUPS))
def test_a_killed_rank_ends_all_and_the_run_goes_on_to_equal_bits(tmp_path, expected, group):
    for number in range(group, KILLS, GROUPS):
        chance = random.Random(number)
        root = tmp_path / str(number)
        root.mkdir()
        folder = root / "run-1"
        process = start(root, slow=1.0)
        end = time.monotonic() + 60
        while not folder.exists() and process.poll() is None and time.monotonic() < end:
            time.sleep(0.001)
        time.sleep(chance.uniform(0.0, 5.0))
        if process.poll() is None and (ranks := ranks_of(process)):
            chance.choice(ranks).kill()
            begun = time.monotonic()
            process.communicate(timeout=60)
            assert time.monotonic() - begun < 30
        else:
            process.communicate()
        if '"finished"' not in (folder / "run.json").read_text():
            finish(start(root, resume=folder))
        found, (checkpoint, curves) = RunFolder(folder).newest_state()[0], expected
        assert all(
            np.array_equal(found.arrays[name], checkpoint.arrays[name])
            for name in checkpoint.arrays
        )
        assert (folder / "curves.csv").read_bytes() == curves
