import os
import subprocess
import sys

import numpy as np
import pytest

CODE = """
import sys
import numpy as np
import vinestep as vs

rng = np.random.default_rng(0)
networks = {
    "convolutional": (
        lambda: vs.networks.convolutional_classifier(3, channels=(8, 40), dropout=0.1),
        (96, 16, 16, 3),
    ),
    "recurrent": (
        lambda: vs.Stack(vs.LSTM(96, bidirectional=True, output="last"), vs.Dense(3)),
        (64, 20, 24),
    ),
    "attention": (
        lambda: vs.Stack(vs.TransformerBlock(4, dropout=0.1), vs.GlobalMean(), vs.Dense(3)),
        (16, 64, 64),
    ),
    "dense": (lambda: vs.networks.dense_classifier(3, widths=(300, 200)), (500, 400)),
}
for name, (build, shape) in networks.items():
    x, labels = rng.normal(size=shape).astype(np.float32), rng.integers(0, 3, shape[0])
    training = vs.Training(build(), loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.SGD(0.01, momentum=0.9), seed=1)
    for _ in range(4):
        training.step((x, labels))
    np.save(f"{sys.argv[1]}/{name}.npy", training.network.arena.flat)
"""


@pytest.fixture(scope="module")
def weights(tmp_path_factory):
    """Of each network after four steps: with two threads, with two again, and with one."""
    places = [tmp_path_factory.mktemp(f"weights{i}") for i in range(3)]
    names = ("VINESTEP_THREADS", "OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS")
    for place, threads in zip(places, (2, 2, 1), strict=True):
        subprocess.run(
            [sys.executable, "-c", CODE, str(place)],
            env=os.environ | dict.fromkeys(names, str(threads)),
            check=True,
            capture_output=True,
        )
    return lambda network: [np.load(place / f"{network}.npy") for place in places]


@pytest.mark.parametrize("network", ["convolutional", "recurrent", "attention", "dense"])
def test_equal_runs_have_equal_bits_and_other_numbers_of_threads_differ_by_rounding(
    network, weights
):
    first, again, alone = weights(network)
    assert np.array_equal(first, again)
    np.testing.assert_allclose(alone, first, rtol=0, atol=2e-5 * np.abs(first).max())
