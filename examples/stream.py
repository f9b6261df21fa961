"""A stream without an end: readings of tanks as they come, one epoch every hundred batches,
continued where it stopped.

Run it: python examples/stream.py [steps]
"""

import sys
import tempfile
from pathlib import Path

import numpy as np

import vinestep as vs


def readings():
    """Sugar and temperature of a made-up tank, and how fast it ferments; always the same ones in
    the same order.
    """
    rng = np.random.default_rng(8)
    while True:
        sugar, temperature = rng.uniform(0, 120), rng.uniform(8, 34)
        speed = sugar / (sugar + 22) * np.exp(-(((temperature - 24) / 7) ** 2)) + rng.normal(
            0, 0.02
        )
        yield (
            np.array([sugar / 60 - 1, temperature / 13 - 1.6], np.float32),
            np.array([speed], np.float32),
        )


def main(steps: int = 1500, folder: Path | None = None) -> float:
    folder = Path(tempfile.mkdtemp()) if folder is None else folder
    stream = vs.data.Stream(readings, name="tanks", stall_after=10)
    training = vs.Training(
        vs.Stack(vs.Dense(24, np.tanh), vs.Dense(24, np.tanh), vs.Dense(1)),
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.Adam(5e-3),
    )
    outcome = training.run(
        stream.batches(32, epoch_steps=100, shuffle_among=256), steps=steps, record=folder
    )
    print(outcome.curves[["epoch", "step", "loss"]].tail(3).to_string(index=False))
    return float(outcome.curves["loss"].iloc[-1])


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
