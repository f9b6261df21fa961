import subprocess
import sys

import pytest

from vinestep.memory import keep_freed_memory

CODE = """
import resource, numpy as np, vinestep as vs
x = np.ones((64, 784), np.float32)
training = vs.Training(vs.networks.dense_classifier(10, widths=(512, 256)), loss=vs.losses.cross_entropy)
for step in range(30):
    if step == 10:
        before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    training.step((x, np.zeros(64, int)))
print((resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before) / 20)
"""


def test_the_system_s_own_limits_can_be_kept(monkeypatch):
    monkeypatch.setenv("VINESTEP_MEMORY", "system")
    assert keep_freed_memory() is False


def test_a_step_uses_the_memory_of_the_one_before():
    if not keep_freed_memory():
        pytest.skip("another C library: freed memory goes back to the system")
    faults = float(subprocess.run([sys.executable, "-c", CODE], capture_output=True, text=True, check=True).stdout)
    assert faults < 20
