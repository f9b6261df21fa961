import numpy as np
import pytest
from scipy import special

import vinestep as vs
from vinestep.errors import DataError, ShapeError


def test_cross_entropy_is_its_definition_and_stable(rng):
    logits, labels = rng.normal(size=(7, 5)), rng.integers(0, 5, 7)
    expected = -special.log_softmax(logits, axis=1)[np.arange(7), labels]
    np.testing.assert_allclose(vs.losses.cross_entropy(logits, labels, reduction="none"), expected, rtol=1e-14)
    assert vs.losses.cross_entropy(logits, labels) == pytest.approx(expected.mean())
    assert vs.losses.cross_entropy(np.array([[1e4, -1e4]]), [1]) == pytest.approx(2e4)
    wide = rng.normal(size=(7, 100))
    np.testing.assert_allclose(
        vs.losses.cross_entropy(wide, labels, reduction="sum"),
        -special.log_softmax(wide, axis=1)[np.arange(7), labels].sum(),
    )


@pytest.mark.parametrize("reduction", ["mean", "sum", "none"])
@pytest.mark.parametrize("classes", [3, 70])
def test_loss_gradients_agree_with_differences(reduction, classes, rng):
    logits, labels = rng.normal(size=(4, classes)), rng.integers(0, classes, 4)
    vs.check_gradients(lambda z: vs.losses.cross_entropy(z, labels, reduction=reduction), logits).raise_if_wrong()
    target = rng.normal(size=(4, classes))
    vs.check_gradients(lambda p, t: vs.losses.squared_error(p, t, reduction=reduction), logits, target).raise_if_wrong()
    slope = vs.gradient_of(lambda z: np.sum(vs.losses.cross_entropy(z, labels, reduction=reduction)))
    vs.check_gradients(lambda z: np.sum(slope(z) ** 2), logits, tolerance=1e-6, elements=10).raise_if_wrong()


def test_squared_error(rng):
    a, b = rng.normal(size=(3, 2)), rng.normal(size=(3, 2))
    assert vs.losses.squared_error(a, b) == pytest.approx(np.mean((a - b) ** 2))


def test_metrics_weigh_unequal_batches_right(rng):
    data = vs.data.Dataset(rng.normal(size=(7, 2)).astype(np.float32), rng.integers(0, 2, 7))
    training = vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    training.network.initialise(data.inputs)
    whole, parts = training.assess(data.batches(7)), training.assess(data.batches(3))
    assert whole["accuracy"] == parts["accuracy"]
    assert whole["loss"] == pytest.approx(parts["loss"], rel=1e-6)


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (lambda z: vs.losses.cross_entropy(z, [0, 3]), DataError, "label 3 at row 1 is out of range: 3 logits"),
        (lambda z: vs.losses.cross_entropy(z, [0, -1]), DataError, "label -1 at row 1"),
        (lambda z: vs.losses.cross_entropy(np.zeros((2, 99)), [0, 99]), DataError, "label 99 at row 1"),
        (lambda z: vs.losses.cross_entropy(z, [0.0, 1.0]), DataError, "whole numbers, got float64"),
        (lambda z: vs.losses.cross_entropy(z, np.eye(3)[:2]), ShapeError, "one-hot"),
        (lambda z: vs.losses.cross_entropy(z, [0, 1, 2]), ShapeError, r"expected 2 labels"),
        (lambda z: vs.losses.squared_error(z, np.zeros(2)), ShapeError, "They have to agree"),
        (lambda z: vs.losses.squared_error(np.zeros((2, 1)), np.zeros(2)), ShapeError, r"targets\[:, None\]"),
        (lambda z: vs.losses.squared_error(z, z, reduction="avg"), ValueError, "mean, sum, none"),
    ],
)
def test_bad_targets_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt(np.zeros((2, 3)))


def test_activations_agree_with_scipy(rng):
    x = rng.normal(size=(3, 4)) * 20
    np.testing.assert_allclose(vs.softmax(x), special.softmax(x, axis=-1), rtol=1e-12)
    np.testing.assert_allclose(vs.log_softmax(x), special.log_softmax(x, axis=-1), rtol=1e-12)
    np.testing.assert_allclose(vs.logsumexp(x, axis=0), special.logsumexp(x, axis=0), rtol=1e-12)
    np.testing.assert_allclose(vs.sigmoid(x), special.expit(x), rtol=1e-12)
    x = rng.normal(size=(3, 4))
    for f in (vs.softmax, vs.log_softmax, vs.sigmoid, vs.relu, vs.leaky_relu, lambda x: vs.logsumexp(x, axis=1)):
        vs.check_gradients(f, x).raise_if_wrong()
        vs.check_gradients(vs.gradient_of(lambda x, f=f: np.sum(np.square(f(x)))), x, tolerance=1e-6).raise_if_wrong()
