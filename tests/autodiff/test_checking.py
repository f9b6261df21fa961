import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DifferentiationError


def loss(w, x, y):
    return np.mean((np.maximum(x @ w, 0) - y) ** 2)


@pytest.fixture
def parts(rng):
    return rng.normal(size=(4, 3)), rng.normal(size=(10, 4)), rng.normal(size=(10, 3))


def test_the_complex_step_is_exact_to_rounding(rng):
    x = rng.normal(size=5)
    report = vs.check_gradients(
        lambda x: np.sum(np.exp(np.sin(x)) / (1 + x * x)), x, method="complex", tolerance=1e-14
    )
    report.raise_if_wrong()
    with pytest.raises(DifferentiationError, match="drops the imaginary part"):
        vs.check_gradients(lambda x: np.sum(np.real(x)), x, method="complex")


def test_a_wrong_rule_is_found_with_its_worst_element(rng):
    @vs.differentiable(adjoint=lambda g, y, x: g * np.where(np.arange(4) == 2, 2.5, 2.0) * x)
    def square(x):
        return x * x

    report = vs.check_gradients(lambda x: np.sum(square(x)), np.ones(4))
    assert not report
    assert report.worst.worst == (2,)
    assert (report.worst.ours, report.worst.reference) == (2.5, pytest.approx(2.0))
    assert "WRONG  argument 0  (4,): 4 elements, worst at (2,): 2.5 against 2" in str(report)
    assert report.table()["ok"].tolist() == [False]
    with pytest.raises(DifferentiationError, match="DO NOT agree"):
        report.raise_if_wrong()


def test_a_network_is_checked_by_parameter_and_the_wrong_path_named(rng):
    @vs.differentiable(adjoint=lambda g, y, x, b: (g, 2 * np.sum(g, axis=0)))
    def shifted(x, b):
        return x + b

    class Shift(vs.Layer):
        def declare(self, shape):
            self.parameter("by", shape[-1:], vs.initialisers.zeros)

        def compute(self, x):
            return shifted(x, self.by)

    x = rng.normal(size=(6, 3))
    network = vs.Stack(vs.Dense(4), np.tanh, Shift(), vs.Dense(2)).initialise(x, dtype=float)
    report = vs.check_gradients(lambda net: np.sum(net(x) ** 2), network)
    assert [check.path for check in report.arguments if not check.ok] == ["2/by"]


CLAIMS = {
    "the transpose of ours": lambda g: g.T,
    "10 times ours: a factor of 10 .an axis of that length., a sum where the loss takes the "
    "mean": lambda g: 10 * g,
    "0.1 times ours: a factor of 1/10 .an axis of that length., a mean where": lambda g: g / 10,
    "the sign is turned": lambda g: -g,
    "-10 times ours: the sign is turned, and a factor of 10": lambda g: -10 * g,
    "2 times ours: the 2 of a square": lambda g: 2 * g,
    "0.5 times ours: a half too many, or the 2 of a square is missing": lambda g: g / 2,
    "a constant factor is missing": lambda g: 1.7 * g,
    "is transposed; besides: .* the sign is turned": lambda g: -g.T,
    "no simple pattern": lambda g: g + np.arange(12).reshape(4, 3),
    r"has shape \(7,\), the argument \(4, 3\)": lambda g: np.zeros(7),
}


@pytest.mark.parametrize("words", list(CLAIMS))
def test_a_gradient_worked_out_by_hand_is_judged_in_words(words, parts):
    w, x, y = parts
    right = vs.gradient_of(loss)(w, x, y)
    assert vs.check_gradients(lambda w: loss(w, x, y), w, claimed=right)
    report = vs.check_gradients(loss, w, x, y, claimed={"argument 0": CLAIMS[words](right)})
    assert not report
    with pytest.raises(DifferentiationError, match=words):
        report.raise_if_wrong()


def test_a_missing_relu_mask_and_a_forgotten_sum_are_named(rng):
    z = rng.normal(size=(10, 4))
    report = vs.check_gradients(lambda z: np.sum(vs.relu(z) * 3), z, claimed=np.full((10, 4), 3.0))
    assert "a mask is missing, as where a ReLU was closed" in report.worst.remark
    b = rng.normal(size=4)
    report = vs.check_gradients(lambda b: np.sum((z + b) ** 2), b, claimed=2 * (z + b))
    assert "still has the axis of length 10" in report.worst.remark


def test_float32_gets_a_step_of_its_own(rng):
    assert vs.check_gradients(
        lambda x: np.sum(np.tanh(x) ** 2), rng.normal(size=8).astype(np.float32)
    )


def test_nothing_to_vary_is_said():
    with pytest.raises(DifferentiationError, match="nothing to vary"):
        vs.check_gradients(lambda n: n, 3)
