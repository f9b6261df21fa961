"""Targets that are probabilities, as of mixed examples, by every way of training and with every
metric of classes.
"""

import numpy as np
import pytest
from scipy.special import log_softmax

import vinestep as vs
from vinestep.errors import DataError

RNG = np.random.default_rng(5)
X = RNG.normal(size=(48, 6)).astype(np.float32)
Y = (X[:, 0] > 0).astype(int) + (X[:, 1] > 0)
SOFT = np.eye(3)[Y] * 0.8 + 0.2 / 3
METRICS = [
    vs.metrics.accuracy,
    vs.metrics.top(2),
    vs.metrics.f1(),
    vs.metrics.log_loss,
    vs.metrics.brier_score,
    vs.metrics.calibration_error(),
    vs.metrics.area_under_roc(),
]
NETWORKS = {
    "one fused chain": lambda: vs.Stack(vs.Dense(8, vs.relu), vs.Dense(3)),
    "recorded": lambda: vs.Stack(vs.Dense(8, vs.relu), vs.Dropout(0.1), vs.Dense(3)),
}
LOSSES = {
    "a loss": {"loss": vs.losses.cross_entropy},
    "a task": {"task": vs.tasks.Classes()},
    "a task with smoothing": {"task": vs.tasks.Classes(smoothing=0.1)},
}


@pytest.mark.parametrize("network", NETWORKS)
@pytest.mark.parametrize("loss", LOSSES)
@pytest.mark.parametrize("way", ["run", "steps", "step", "accumulate"])
def test_mixed_examples_train_with_metrics_of_classes(network, loss, way):
    training = vs.Training(
        NETWORKS[network](),
        **LOSSES[loss],
        optimiser=vs.optimisers.Adam(0.05),
        metrics=METRICS,
        accumulate=2 if way == "accumulate" else 1,
    )
    data = vs.data.Dataset(X, Y)
    batches = data.batches(16, augment=vs.data.pictures.Mix(3))
    if way == "steps":
        figures = [step.metrics for step in training.steps(batches, epochs=4)][-1]
    elif way == "step":
        figures = [training.step(batch).metrics for batch in batches.epoch(0)][-1]
    else:
        figures = training.run(batches, epochs=4).rows[-1]
    assert all(np.isfinite(figures[metric.name]) for metric in METRICS)


def test_soft_targets_are_judged_by_the_likeliest_class():
    network = NETWORKS["one fused chain"]()
    training = vs.Training(network, task=vs.tasks.Classes(), metrics=METRICS)
    training.initialise(vs.data.Batch(X))
    soft = training.assess(vs.data.Dataset(X, SOFT).batches(20))
    hard = training.assess(vs.data.Dataset(X, Y).batches(48))
    for metric in METRICS:
        assert soft[metric.name] == pytest.approx(hard[metric.name])
    outputs = vs.held(network(X)).astype(np.float64)
    expected = -(SOFT * log_softmax(outputs, axis=1)).sum(axis=1).mean()
    assert soft["loss"] == pytest.approx(expected, rel=1e-5)


def test_the_first_step_over_soft_targets_is_that_of_the_plain_gradient():
    start = NETWORKS["one fused chain"]().initialise(X, seed=2, dtype=np.float64)
    training = vs.Training(start, loss=vs.losses.cross_entropy, optimiser=vs.optimisers.SGD(0.5))
    before = {path: weight.copy() for path, weight in start.weights().items()}
    hidden = np.maximum(X @ before["0/weight"] + before["0/bias"], 0)
    logits = hidden @ before["1/weight"] + before["1/bias"]
    slope = (np.exp(log_softmax(logits, axis=1)) - SOFT) / len(X)
    training.step(vs.data.Batch(X.astype(np.float64), SOFT))
    np.testing.assert_allclose(
        start.weights()["1/weight"], before["1/weight"] - 0.5 * hidden.T @ slope, atol=1e-7
    )


def test_mixed_labels_of_several_at_once_are_judged_by_the_likelier_answer():
    labels = np.stack([X[:, 0] > 0, X[:, 1] > 0], axis=1).astype(np.float32)
    training = vs.Training(
        vs.Stack(vs.Dense(8, vs.relu), vs.Dense(2)), task=vs.tasks.Labels(["mould", "rot"])
    )
    batches = vs.data.Dataset(X, labels).batches(16, augment=vs.data.pictures.Mix(0))
    assert 0 <= training.run(batches, epochs=2).rows[-1]["accuracy"] <= 1


@pytest.mark.parametrize("labels", [[0, -1], [0, 3]])
def test_labels_that_cannot_be_mixed_are_refused(labels):
    data = vs.data.Dataset(X[:2], np.array(labels))
    with pytest.raises(DataError, match="Mix: of 3 classes the labels are 0 to 2"):
        next(data.batches(2, augment=vs.data.pictures.Mix(3)).epoch(0))
