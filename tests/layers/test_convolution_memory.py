import os
import subprocess
import sys

import pytest

from vinestep.kernels import usable

CODE = """
import sys, tracemalloc
import numpy as np
import vinestep as vs

rng = np.random.default_rng(0)
pictures = lambda *shape: rng.normal(size=shape).astype(np.float32)
if sys.argv[1] == "pooled":
    parts = [vs.Convolution(8, 5), vs.relu, vs.MaxPool(2)]
    parts += [vs.Convolution(16, 5), vs.relu, vs.MaxPool(2), vs.Flatten()]
    x = pictures(64, 28, 28, 1)
else:
    parts = [part for _ in range(3) for part in (vs.Convolution(32, 3), vs.relu)]
    parts.append(vs.GlobalMean())
    x = pictures(32, 32, 32, 3)
network, labels = vs.Stack(*parts, vs.Dense(10)), rng.integers(0, 10, len(x))
training = vs.Training(network, loss=vs.losses.cross_entropy)
for _ in range(2):
    training.step((x, labels))
tracemalloc.start()
training.step((x, labels))
peak = tracemalloc.get_traced_memory()[1]
table = network.describe(x).table()
# relu is applied within the layer before, Flatten is a view
kept = table.loc[~table["layer"].isin(["relu", "Flatten"]), "activation_bytes"].sum()
always = x.nbytes + 4 * network.arena.flat.nbytes  # the batch, parameters, gradients and Adam's two
print((peak + always) / (kept + always))
"""


@pytest.mark.parametrize("threads", ["1", "2"])
@pytest.mark.parametrize("network", ["pooled", "deep"])
def test_a_step_needs_little_more_room_than_what_it_must_keep(network, threads):
    environment = os.environ | {"VINESTEP_THREADS": threads}
    done = subprocess.run(
        [sys.executable, "-c", CODE, network],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    )
    # definitions keep every place of a window for itself
    assert float(done.stdout) < (1.5 if usable() else 4)
