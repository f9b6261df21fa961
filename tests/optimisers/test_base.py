import numpy as np
import pytest

import vinestep as vs
from vinestep import kernels
from vinestep.errors import SettingError, ShapeError

OPTIMISERS = [
    lambda: vs.optimisers.SGD(0.1),
    lambda: vs.optimisers.SGD(0.1, weight_decay=0.01),
    lambda: vs.optimisers.SGD(0.1, momentum=0.9),
    lambda: vs.optimisers.SGD(0.1, momentum=0.9, nesterov=True, weight_decay=0.1),
    lambda: vs.optimisers.Adam(0.1),
    lambda: vs.optimisers.Adam(0.1, weight_decay=0.1, beta1=0.8),
]


@pytest.mark.parametrize("make", OPTIMISERS)
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("n", [0, 1, 7, 1000])
def test_kernel_does_what_the_definition_says(make, dtype, n, rng, monkeypatch):
    results = []
    for on in (True, False):
        monkeypatch.setattr(kernels.SWITCH, "on", on)
        optimiser, theta = make(), np.linspace(-1, 1, n).astype(dtype)
        draws = np.random.default_rng(0)
        for _ in range(5):
            optimiser.update(theta, draws.normal(size=n).astype(dtype))
        results.append(theta)
    np.testing.assert_allclose(
        *results,
        rtol=1e-5 if dtype == np.float32 else 1e-12,
        atol=1e-6 if dtype == np.float32 else 1e-13,
    )


def test_adam_follows_the_papers_algorithm_step_by_step(rng):
    theta, optimiser = np.array([1.0, -2.0]), vs.optimisers.Adam(0.01)
    expected, m, v = theta.copy(), np.zeros(2), np.zeros(2)
    for t in range(1, 11):
        g = rng.normal(size=2)
        optimiser.update(theta, g)
        m, v = 0.9 * m + 0.1 * g, 0.999 * v + 0.001 * g**2
        expected = expected - 0.01 * (m / (1 - 0.9**t)) / (np.sqrt(v / (1 - 0.999**t)) + 1e-8)
    np.testing.assert_allclose(theta, expected, rtol=1e-12)


def test_momentum_on_a_quadratic_follows_its_closed_recurrence():
    theta, optimiser = np.array([1.0]), vs.optimisers.SGD(0.1, momentum=0.5)
    positions = [1.0, 1.0]
    for _ in range(6):
        optimiser.update(theta, theta.copy())
        positions.append(
            positions[-1] - 0.1 * positions[-1] + 0.5 * (positions[-1] - positions[-2])
        )
    assert theta[0] == pytest.approx(positions[-1])


def test_rates_by_pattern(rng):
    net = vs.Stack(vs.Dense(3), vs.Dense(2)).initialise(np.ones((1, 4)))
    before = {k: v.copy() for k, v in net.weights().items()}
    optimiser = vs.optimisers.SGD(1.0, rate_factors={"0/*": 0.0, "1/bias": 0.5})
    optimiser.begin(net.arena.layout, net.arena.dtype)
    optimiser.update(net.arena.flat, np.ones_like(net.arena.flat))
    moved = {k: float(np.mean(before[k] - v)) for k, v in net.weights().items()}
    assert moved == pytest.approx(
        {"0/weight": 0, "0/bias": 0, "1/weight": 1, "1/bias": 0.5}, abs=1e-6
    )
    with pytest.raises(ValueError, match="no parameter matches 'head"):
        vs.optimisers.SGD(1.0, rate_factors={"head/*": 0.1}).begin(
            net.arena.layout, net.arena.dtype
        )


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (lambda: vs.optimisers.SGD(0.0), ValueError, "SGD: rate must be a positive number"),
        (lambda: vs.optimisers.SGD(0.1, momentum=1.0), ValueError, "momentum must be from 0"),
        (lambda: vs.optimisers.SGD(0.1, nesterov=True), ValueError, "needs a momentum"),
        (lambda: vs.optimisers.Adam(beta2=-1), ValueError, "beta2 must be from 0"),
        (
            lambda: vs.optimisers.Adam().update(np.ones(2), np.ones(3)),
            ShapeError,
            "expected 2 parameters",
        ),
        (lambda: vs.schedules.cosine(0), ValueError, "steps must be a whole number"),
        (lambda: vs.schedules.constant().then(vs.schedules.cosine(5)), ValueError, "has no end"),
    ],
)
def test_bad_settings_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt()


def test_schedules():
    s = vs.schedules
    assert [s.step_decay(10, 0.1)(t) for t in (0, 9, 10, 20)] == pytest.approx([1, 1, 0.1, 0.01])
    assert [s.cosine(10, floor=0.2)(t) for t in (0, 5, 10, 50)] == pytest.approx([1, 0.6, 0.2, 0.2])
    both = s.warmup(2).then(s.constant(3)).then(s.cosine(4))
    assert [both(t) for t in (0, 1, 2, 4, 5, 7, 9)] == pytest.approx([0.5, 1, 1, 1, 1, 0.5, 0])
    assert repr(both) == "warmup(2).then(constant(3).then(cosine(4)))"


def test_a_pattern_that_matches_frozen_parameters_alone_is_refused():
    network = vs.Stack(vs.Dense(3), vs.Dense(1)).initialise(np.ones((1, 2)))
    network.freeze("0/*")
    adam = vs.optimisers.Adam(0.1, rate_factors={"0/*": 0.1})
    training = vs.Training(network, loss=vs.losses.squared_error, optimiser=adam)
    with pytest.raises(SettingError, match="no parameter matches '0/"):
        training.step((np.ones((2, 2)), np.ones((2, 1))))
