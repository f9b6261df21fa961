"""A convolutional network that tells what ails a vine leaf, and then, with its body frozen and a
new head, which cultivar it is.

Run it: python examples/leaves.py [number of pictures] [epochs]
"""

import sys

import numpy as np

import vinestep as vs


def parts(found, seed):
    data = vs.data.Dataset((found.pictures - 0.5) / 0.25, found.labels)
    return data.split(0.8, 0.2, seed=seed, stratified=True)


def trained(network, train, epochs, seed, rate=3e-3):
    steps = epochs * len(train.batches(32))
    training = vs.Training(
        network,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(rate=rate),
        schedule=vs.schedules.warmup(max(1, steps // 20)).then(
            vs.schedules.cosine(max(1, steps - steps // 20))
        ),
        metrics=[vs.metrics.accuracy],
        seed=seed,
    )
    training.run(
        train.batches(32, drop_partial=True), epochs=epochs, observers=[vs.observers.Progress()]
    )
    return training


def main(n: int = 1200, epochs: int = 12) -> dict[str, float]:
    conditions = vs.demo.leaves(n)
    train, test = parts(conditions, seed=1)
    network = vs.networks.convolutional_classifier(len(conditions.names), channels=(16, 32, 48))
    print(network.initialise(train.inputs[:1]).describe(train.inputs[:32]))
    training = trained(network, train, epochs, seed=1)
    scores = {"condition": training.assess(test.batches(128))["accuracy"]}
    matrix = vs.metrics.confusion(training.outputs(test), test.targets)
    print("test accuracy of conditions:", round(scores["condition"], 3))
    print(
        "found of each:",
        dict(
            zip(
                conditions.names,
                np.round(np.diag(matrix) / matrix.sum(axis=1), 2).tolist(),
                strict=True,
            )
        ),
    )

    cultivars = vs.demo.leaves(max(n // 2, 80), kind="cultivar")
    train, test = parts(cultivars, seed=2)
    fine = vs.networks.with_head(network, vs.Dense(len(cultivars.names)), train.inputs[:1], seed=2)
    fine.freeze("*")
    fine.thaw(f"{len(fine) - 1}/*")
    training = trained(fine, train, epochs, seed=2, rate=1e-2)
    scores["cultivar, head only"] = training.assess(test.batches(128))["accuracy"]
    print("test accuracy of cultivars, body frozen:", round(scores["cultivar, head only"], 3))
    fine.thaw()
    training = trained(fine, train, epochs, seed=3)
    scores["cultivar, all of it"] = training.assess(test.batches(128))["accuracy"]
    print("test accuracy of cultivars, body thawed:", round(scores["cultivar, all of it"], 3))
    return scores


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
