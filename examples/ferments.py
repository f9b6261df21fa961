"""A recurrent network that reads the first three days of a fermentation both ways, and tells how
long it will take and whether the yeast will falter.

Run it: python examples/ferments.py [number of tanks] [epochs]
"""

import sys

import numpy as np

import vinestep as vs

HOURS = 100.0  # the unit the network works in


def main(n: int = 600, epochs: int = 25) -> dict[str, float]:
    tanks = vs.demo.ferments(n)
    series = (tanks.series - np.array([150.0, 21.0])) / np.array([40.0, 5.0])
    targets = np.stack([tanks.hours_until_dry / HOURS, tanks.warning], axis=1)
    train, test = vs.data.Dataset(series.astype(np.float32), targets.astype(np.float32)).split(
        0.8, 0.2, seed=3
    )

    network = vs.Stack(
        vs.Convolution(24, 6, stride=6, activation=vs.relu),
        vs.GRU(24, bidirectional=True, output="last"),
        vs.Dense(2),
    )

    def loss(outputs, targets):
        hours = vs.losses.huber(outputs[:, 0], targets[:, 0], delta=0.3)
        return hours + 0.2 * vs.losses.binary_cross_entropy(outputs[:, 1], targets[:, 1])

    training = vs.Training(
        network,
        loss=loss,
        optimiser=vs.optimisers.Adam(rate=5e-3),
        schedule=vs.schedules.cosine(epochs * len(train.batches(32))),
        clip=1.0,
        seed=3,
    )
    training.run(train.batches(32), epochs=epochs, observers=[vs.observers.Progress()])
    outputs = training.outputs(test)
    guess = float(np.mean(np.abs(test.targets[:, 0] - train.targets[:, 0].mean()))) * HOURS
    scores = {
        "hours, guessing the mean": guess,
        "hours, network": vs.metrics.absolute_error(outputs[:, 0], test.targets[:, 0]) * HOURS,
        "warning, area under the curve": vs.metrics.roc_area(outputs[:, 1], test.targets[:, 1]),
    }
    for name, value in scores.items():
        print(f"{name}: {value:.3f}")
    return scores


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
