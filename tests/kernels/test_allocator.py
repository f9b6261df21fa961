import subprocess
import sys

import pytest

from vinestep.kernels.allocator import keep_freed_memory

CODE = """
import resource, numpy as np, vinestep as vs
x = np.ones((64, 640), np.float32)
network = vs.networks.dense_classifier(10, widths=(512, 256))
training = vs.Training(network, loss=vs.losses.cross_entropy)
for step in range(30):
    if step == 10:
        before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    training.step((x, np.zeros(64, int)))
print((resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before) / 20)
"""


def test_the_system_s_own_limits_can_be_kept(monkeypatch):
    monkeypatch.setenv("VINESTEP_MEMORY", "system")
    assert keep_freed_memory.__wrapped__() is False


def test_a_step_uses_the_memory_of_the_one_before():
    if not keep_freed_memory():
        pytest.skip("another C library: freed memory goes back to the system")
    faults = float(
        subprocess.run(
            [sys.executable, "-c", CODE], capture_output=True, text=True, check=True
        ).stdout
    )
    assert faults < 20


def test_importing_leaves_the_c_library_as_it_is():
    """The limits are raised when the first gradient is computed."""
    code = """
import ctypes, sys
asked = []
class Library:
    def __getattr__(self, name):
        asked.append(name)
        return lambda *a: 1
ctypes.CDLL = lambda *a, **k: Library()
import vinestep as vs
imported = list(asked)
vs.gradient_of(lambda x: x * x)(2.0)
print(imported, "mallopt" in asked)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.split()[0] == "[]"
    assert done.stdout.split()[1] == str(sys.platform.startswith("linux"))
