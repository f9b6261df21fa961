"""The demo data is worth a network: it beats multinomial logistic regression on the same parts."""

import numpy as np
from scipy.optimize import minimize

import vinestep as vs


def logistic_regression(train, test):
    x, y = train.inputs.astype(float), train.targets
    n, k = x.shape[1], train.classes

    def loss(w):
        table = np.reshape(w, (n + 1, k))
        return vs.losses.cross_entropy(x @ table[:n] + table[n], y) + 1e-3 * np.sum(w**2)

    found = minimize(
        vs.gradient_of(loss, with_value=True), np.zeros((n + 1) * k), jac=True, method="L-BFGS-B"
    )
    assert found.success
    table = found.x.reshape(n + 1, k)
    return np.mean((test.inputs @ table[:n] + table[n]).argmax(axis=1) == test.targets)


def network(train, test, seed):
    layers = vs.Stack(
        vs.Dense(64), vs.relu, vs.Dropout(0.1), vs.Dense(32), vs.relu, vs.Dense(train.classes)
    )
    training = vs.Training(
        layers,
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.Adam(3e-3, weight_decay=0.01),
        schedule=vs.schedules.warmup(100).then(vs.schedules.cosine(1900)),
        metrics=[vs.metrics.accuracy],
        clip=5.0,
        seed=seed,
    )
    training.run(train.batches(32), epochs=60)
    return training.assess(test.batches(256))["accuracy"]


def test_network_beats_logistic_regression_by_5_points_over_3_seeds():
    table = vs.data.Table(vs.demo.barrels(), target="state")
    gains = []
    for seed in range(3):
        train, _, test = vs.data.scaled(*table.split(0.7, 0.15, 0.15, seed=seed, stratified=True))
        gains.append(network(train, test, seed) - logistic_regression(train, test))
    print("gains in test accuracy:", np.round(gains, 3))
    assert min(gains) >= 0.05
