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
    return subprocess.run(
        [sys.executable, "-c", CODE], env=environment, capture_output=True, text=True, check=True
    ).stderr


def test_compiling_is_said_once_on_a_machine_and_then_cached_kernel_by_kernel(tmp_path):
    assert run(tmp_path).count("Compiling kernels for this machine") == 1
    assert run(tmp_path) == ""
    lost = [*tmp_path.rglob("adam._part-*"), *tmp_path.rglob("sharing.distribute-*")]
    for path in lost:
        path.unlink()
    run(tmp_path)
    assert lost
    assert all(path.exists() for path in lost)


FORKED = """
import multiprocessing, numpy as np, vinestep as vs

def train(n):
    x = np.random.default_rng(0).normal(size=(300, 40)).astype(np.float32)
    training = vs.Training(vs.networks.dense_classifier(3), loss=vs.losses.cross_entropy)
    for _ in range(n):
        step = training.step((x, np.arange(300) % 3))
    return step.loss

here = train(20)
with multiprocessing.get_context("fork").Pool(1) as pool:
    there = pool.apply_async(train, (20,)).get(timeout=60)
print(here == there)
"""


def test_a_forked_worker_does_not_hang_and_computes_the_same():
    done = subprocess.run(
        [sys.executable, "-c", FORKED], capture_output=True, text=True, check=True
    )
    assert done.stdout.strip() == "True"
