import os
import subprocess
import sys

CODE = """
import numpy as np, vinestep as vs
x = np.ones((2, 3), np.float32)
vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy).step((x, np.array([0, 1])))
"""


def run(folder):
    environment = os.environ | {"NUMBA_CACHE_DIR": str(folder)}
    return subprocess.run([sys.executable, "-c", CODE], env=environment, capture_output=True, text=True, check=True).stderr


def test_compiling_is_said_once_on_a_machine_and_then_cached(tmp_path):
    assert run(tmp_path).count("Compiling kernels for this machine") == 1
    assert run(tmp_path) == ""
