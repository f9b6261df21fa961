"""Fermentations read by a recurrent network in small batches whose gradients are put together,
clipped and warmed up.

Run it: python examples/accumulated.py [number of tanks] [epochs]
"""

import sys

import numpy as np

import vinestep as vs


def main(n: int = 600, epochs: int = 30) -> dict[str, float]:
    tanks = vs.demo.ferments(n)
    series = ((tanks.series - [150.0, 21.0]) / [40.0, 5.0]).astype(np.float32)
    data = vs.data.Dataset(series, (tanks.hours_until_dry[:, None] / 100).astype(np.float32))
    train, validation = data.split(0.8, 0.2, seed=3)
    updates = -(-len(train.batches(8)) // 4)
    training = vs.Training(
        vs.Stack(
            vs.Convolution(24, 6, stride=6, activation=vs.relu),
            vs.GRU(24, output="last"),
            vs.Dense(1),
        ),
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.RAdam(5e-3),
        schedule=vs.schedules.warmup(2 * updates).then(vs.schedules.cosine((epochs - 2) * updates)),
        accumulate=4,
        clip=1.0,
        clip_values=0.5,
        metrics=[vs.metrics.absolute_error],
        seed=3,
    )
    outcome = training.run(
        train.batches(8),
        epochs=epochs,
        validation=validation.batches(128),
        observers=[vs.observers.Norms(20)],
    )
    error = 100 * outcome.rows[-1]["validation_absolute_error"]
    print(
        f"{training.step_number} updates of 32 tanks each, in batches of 8; hours until dry, mean "
        f"error: {error:.1f}"
    )
    return {"hours": error, "updates": training.step_number}


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
