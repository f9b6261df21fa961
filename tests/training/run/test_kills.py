"""Killed at random moments from the first millisecond on, with checkpoints that take long to write:
every run goes on to equal bits.

200 kills with ``make test-slow``, a tenth of them in CI; VINESTEP_TEST_KILLS says how many.
"""

import os
import random
import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from vinestep.runs import RunFolder

KILLS = int(os.environ.get("VINESTEP_TEST_KILLS", "200"))
GROUPS = 20

CODE = """
import sys, time
import numpy as np
import vinestep as vs
from vinestep.training.run import _run as run_module

record, resume, slow = sys.argv[1], sys.argv[2], float(sys.argv[3])
if sys.argv[4] == "background":
    run_module.LARGE = 0
if slow:
    write_array = np.lib.format.write_array

    def slowly(*arguments, **options):
        time.sleep(slow / 10)
        write_array(*arguments, **options)
        time.sleep(slow / 10)

    np.lib.format.write_array = slowly
rng = np.random.default_rng(0)
x = rng.normal(size=(60, 5)).astype(np.float32)
data = vs.data.Dataset(x, (x[:, 0] > 0).astype(int))
network = vs.Stack(vs.Dense(8), vs.BatchNorm(), vs.relu, vs.Dropout(0.2), vs.Dense(2))
training = vs.Training(
    network, loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy], seed=3, accumulate=2,
        clip=1.0, clip_values=0.1,
    optimiser=vs.optimisers.NAdam(0.01, weight_decay=0.01, decay_of="weights"),
        average=vs.WeightAverage(0.9),
    schedule=vs.schedules.warmup(3).then(vs.schedules.plateau(1, least_gain=0.05)),
)
o = vs.observers
observers = [o.Checkpoints("best", every=2), o.Patience(50), o.Norms(1), o.Distributions(3),
    o.Samples(x[:3]), o.Machine(0.2)]
outcome = training.run(
    data.batches(6, readers=2), validation=vs.data.Dataset(x[:20] + 1,
        np.arange(20) % 2).batches(20), observers=observers,
    until="3 epochs or no gain for 40 epochs",
    record=None if resume != "-" else record, resume=None if resume == "-" else resume,
)
print(outcome.folder)
"""


def start(root, resume="-", slow=0.0, how="at once"):
    return subprocess.Popen(
        [sys.executable, "-c", CODE, str(root), str(resume), str(slow), how],
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )


def finish(process):
    output, errors = process.communicate(timeout=300)
    assert process.returncode == 0, errors[-1500:]
    return output


@pytest.fixture(scope="module")
def expected(tmp_path_factory):
    root = tmp_path_factory.mktemp("whole")
    finish(start(root))
    return RunFolder(root / "run-1").newest_state()[0], (root / "run-1" / "curves.csv").read_bytes()


@pytest.mark.slow
@pytest.mark.parametrize("group", range(GROUPS))
def test_killed_at_any_moment_a_run_ends_with_equal_bits(tmp_path, expected, group):
    for number in range(group, KILLS, GROUPS):
        chance = random.Random(number)
        root = tmp_path / str(number)
        root.mkdir()
        folder = root / "run-1"
        how = "background" if number % 3 == 0 else "at once"
        process = start(root, slow=1.0, how=how)
        if number % 2:
            time.sleep(chance.uniform(0.0, 2.5))
        else:
            end = time.monotonic() + 60
            while not folder.exists() and time.monotonic() < end:
                time.sleep(0.001)
            time.sleep(chance.uniform(0.0, 5.0))
        process.send_signal(signal.SIGKILL)
        process.communicate()
        if folder.exists():
            if '"finished"' not in (folder / "run.json").read_text():
                finish(start(root, resume=folder, how=how))
        else:  # it was not a run yet
            finish(start(root))
            folder = next(root.glob("run-*"))
        found, (checkpoint, curves) = RunFolder(folder).newest_state()[0], expected
        assert found.arrays.keys() == checkpoint.arrays.keys()
        assert all(
            np.array_equal(found.arrays[name], checkpoint.arrays[name])
            for name in checkpoint.arrays
        )
        assert (folder / "curves.csv").read_bytes() == curves
        norms = RunFolder(folder).read_series("norms")
        assert [row["step"] for row in norms] == sorted({row["step"] for row in norms})
        assert not list(root.rglob("*.part"))
