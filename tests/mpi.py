"""Processes that an MPI launcher starts."""

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
LAUNCHER = shutil.which("mpiexec", path=f"{Path(sys.executable).parent}:{os.environ['PATH']}")
needs_mpi = pytest.mark.skipif(
    LAUNCHER is None and not os.environ.get("VINESTEP_TEST_ALL"),
    reason="no MPI launcher is installed",
)


def on_ranks(n, *command, timeout=120, **options):
    """Run Python with these arguments on so many ranks."""
    given = {name: value for name, value in os.environ.items() if name != "VINESTEP_RANK_PROCESS"}
    environment = given | {"PYTHONPATH": str(ROOT)} | options.pop("env", {})
    return subprocess.run(
        [LAUNCHER, "-n", str(n), sys.executable, *map(str, command)],
        capture_output=True,
        text=True,
        timeout=timeout,
        env=environment,
        **options,
    )
