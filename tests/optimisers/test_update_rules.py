"""Each optimiser against the algorithm of its paper, written down anew, on Rosenbrock's function
and on a small network.
"""

import math
from itertools import pairwise

import numpy as np
import pytest
import scipy.optimize

import vinestep as vs
from vinestep import kernels
from vinestep.errors import NotFiniteError, SettingError
from vinestep.optimisers._quasi_newton import strong_wolfe

o = vs.optimisers


def rosenbrock(x):
    return float(np.sum(100 * (x[1:] - x[:-1] ** 2) ** 2 + (1 - x[:-1]) ** 2))


def slopes(x):
    return scipy.optimize.rosen_der(x)


def sgd(x, grad, t, s, rate=0.001, mu=0.9):
    s["v"] = mu * s.get("v", 0) + grad
    return x - rate * s["v"]


def nesterov(x, grad, t, s, rate=0.001, mu=0.9):
    s["v"] = mu * s.get("v", 0) + grad
    return x - rate * (grad + mu * s["v"])


def adagrad(x, grad, t, s):
    s["G"] = s.get("G", 0) + grad * grad
    return x - 0.1 * grad / (np.sqrt(s["G"]) + 1e-10)


def adadelta(x, grad, t, s, rho=0.95, epsilon=1e-6):
    s["g2"] = rho * s.get("g2", 0) + (1 - rho) * grad**2
    delta = -np.sqrt(s.get("d2", np.zeros_like(x)) + epsilon) / np.sqrt(s["g2"] + epsilon) * grad
    s["d2"] = rho * s.get("d2", 0) + (1 - rho) * delta**2
    return x + delta


def graves(x, grad, t, s, rate=0.001, aleph=0.95, beth=0.9, daleth=1e-4, centred=True):
    s["n"] = aleph * s.get("n", 0) + (1 - aleph) * grad**2
    s["g"] = aleph * s.get("g", 0) + (1 - aleph) * grad
    under = s["n"] - s["g"] ** 2 if centred else s["n"]
    s["delta"] = beth * s.get("delta", 0) - rate * grad / np.sqrt(under + daleth)
    return x + s["delta"]


def uncentred(x, grad, t, s):
    return graves(x, grad, t, s, centred=False)


def moments(grad, s, b1=0.9, b2=0.999):
    s["m"] = b1 * s.get("m", 0) + (1 - b1) * grad
    s["v"] = b2 * s.get("v", 0) + (1 - b2) * grad**2
    return s["m"], s["v"]


def adam(x, grad, t, s, rate=0.01):
    m, v = moments(grad, s)
    return x - rate * (m / (1 - 0.9**t)) / (np.sqrt(v / (1 - 0.999**t)) + 1e-8)


def adamw(x, grad, t, s, rate=0.01, decay=0.1):
    m, v = moments(grad, s)
    return x - rate * ((m / (1 - 0.9**t)) / (np.sqrt(v / (1 - 0.999**t)) + 1e-8) + decay * x)


def amsgrad(x, grad, t, s, rate=0.01):
    m, v = moments(grad, s)
    s["top"] = np.maximum(s.get("top", 0), v)
    return x - rate * m / (np.sqrt(s["top"]) + 1e-8)


def nadam(x, grad, t, s, rate=0.01, b1=0.9, b2=0.999):
    mus = [b1 * (1 - 0.5 * 0.96 ** (i / 250)) for i in range(1, t + 2)]
    s["m"] = mus[t - 1] * s.get("m", 0) + (1 - mus[t - 1]) * grad
    s["n"] = b2 * s.get("n", 0) + (1 - b2) * grad**2
    g_hat, m_hat = grad / (1 - math.prod(mus[:t])), s["m"] / (1 - math.prod(mus))
    m_bar = (1 - mus[t - 1]) * g_hat + mus[t] * m_hat
    return x - rate * m_bar / (np.sqrt(s["n"] / (1 - b2**t)) + 1e-8)


def radam(x, grad, t, s, rate=0.01, b1=0.9, b2=0.99):
    m, v = moments(grad, s, b1, b2)
    limit = 2 / (1 - b2) - 1
    rho = limit - 2 * t * b2**t / (1 - b2**t)
    m_hat = m / (1 - b1**t)
    if rho <= 4:
        return x - rate * m_hat
    r = math.sqrt((rho - 4) * (rho - 2) * limit / ((limit - 4) * (limit - 2) * rho))
    return x - rate * r * m_hat / (np.sqrt(v / (1 - b2**t)) + 1e-8)


def lion(x, grad, t, s, rate=0.001, b1=0.9, b2=0.99, decay=0.1):
    c = b1 * s.get("m", np.zeros_like(x)) + (1 - b1) * grad
    s["m"] = b2 * s.get("m", 0) + (1 - b2) * grad
    return x - rate * (np.sign(c) + decay * x)


def lamb(x, grad, t, s, rate=0.01, decay=0.1):
    m, v = moments(grad, s)
    u = (m / (1 - 0.9**t)) / (np.sqrt(v / (1 - 0.999**t)) + 1e-8) + decay * x
    size, length = np.linalg.norm(x), np.linalg.norm(u)
    return x - rate * (size / length if size and length else 1.0) * u


PAPERS = {
    "sgd": (lambda: o.SGD(0.001, momentum=0.9), sgd),
    "nesterov": (lambda: o.SGD(0.001, momentum=0.9, nesterov=True), nesterov),
    "adagrad": (lambda: o.Adagrad(0.1), adagrad),
    "adadelta": (lambda: o.Adadelta(), adadelta),
    "rmsprop": (lambda: o.RMSprop(0.001, momentum=0.9, epsilon=1e-4), uncentred),
    "rmsprop centred": (lambda: o.RMSprop(0.001, momentum=0.9, epsilon=1e-4, centred=True), graves),
    "adam": (lambda: o.Adam(0.01), adam),
    "adamw": (lambda: o.AdamW(0.01, weight_decay=0.1), adamw),
    "amsgrad": (lambda: o.AMSGrad(0.01), amsgrad),
    "nadam": (lambda: o.NAdam(0.01), nadam),
    "radam": (lambda: o.RAdam(0.01, beta2=0.99), radam),
    "lion": (lambda: o.Lion(0.001, weight_decay=0.1), lion),
    "lamb": (lambda: o.LAMB(0.01, weight_decay=0.1), lamb),
}


def test_no_optimiser_is_left_out():
    assert {type(make()) for make, _ in PAPERS.values()} | {o.LBFGS} == {
        getattr(o, n) for n in o.__all__ if n != "Optimiser"
    }


@pytest.mark.parametrize("compiled", [True, False], ids=["kernel", "definition"])
@pytest.mark.parametrize("name", PAPERS)
def test_fifty_steps_on_rosenbrock_are_those_of_the_paper(name, compiled, monkeypatch):
    if not compiled:
        monkeypatch.setattr(kernels.SWITCH, "on", False)
    make, paper = PAPERS[name]
    theta, expected, known, optimiser = (
        np.array([-1.2, 1.0, 0.5]),
        np.array([-1.2, 1.0, 0.5]),
        {},
        make(),
    )
    for t in range(1, 51):
        optimiser.update(theta, slopes(theta))
        expected = paper(expected, slopes(expected), t, known)
        np.testing.assert_allclose(theta, expected, rtol=1e-12, atol=1e-12)


@pytest.mark.parametrize("name", PAPERS)
def test_fifty_steps_on_a_small_network_are_those_of_the_paper(name, rng):
    make, paper = PAPERS[name]
    x, y = rng.normal(size=(20, 3)), rng.normal(size=(20, 2))
    network = vs.Stack(vs.Dense(4, vs.softplus), vs.Dense(2)).initialise(x, seed=1, dtype="float64")
    training = vs.Training(network, loss=vs.losses.squared_error, optimiser=make())
    expected = {path: array.copy() for path, array in network.weights().items()}
    known = {path: {} for path in expected}

    def gradients(weights):
        h = x @ weights["0/weight"] + weights["0/bias"]
        out = np.logaddexp(h, 0) @ weights["1/weight"] + weights["1/bias"]
        g = 2 * (out - y) / out.size
        back = g @ weights["1/weight"].T / (1 + np.exp(-h))
        return {
            "0/weight": x.T @ back,
            "0/bias": back.sum(0),
            "1/weight": np.logaddexp(h, 0).T @ g,
            "1/bias": g.sum(0),
        }

    for t in range(1, 51):
        training.step((x, y))
        found = gradients(expected)
        expected = {
            path: paper(array, found[path], t, known[path]) for path, array in expected.items()
        }
    for path, array in network.weights().items():
        np.testing.assert_allclose(array, expected[path], rtol=1e-11, atol=1e-12)


@pytest.mark.parametrize("name", PAPERS)
@pytest.mark.parametrize("n", [0, 1, 17, 70_001])
def test_kernels_do_what_the_definitions_say(name, n, monkeypatch):
    found = []
    for on in (True, False):
        monkeypatch.setattr(kernels.SWITCH, "on", on)
        optimiser, theta, draws = (
            PAPERS[name][0](),
            np.linspace(-1, 1, n).astype("f4"),
            np.random.default_rng(0),
        )
        for _ in range(4):
            optimiser.update(theta, draws.normal(size=n).astype("f4"))
        found.append(theta)
    np.testing.assert_allclose(*found, rtol=2e-4, atol=2e-6)


@pytest.mark.parametrize("name", PAPERS)
def test_a_rate_factor_of_zero_freezes_to_the_last_bit_and_decay_is_left_out_where_said(name, rng):
    network = vs.Stack(vs.Dense(3), vs.BatchNorm(), vs.Dense(2)).initialise(np.ones((2, 4)), seed=2)
    optimiser = PAPERS[name][0]()
    optimiser.rate_factors, optimiser.weight_decay = {"0/*": 0.0}, 0.0
    training = vs.Training(network, loss=vs.losses.squared_error, optimiser=optimiser)
    before = {path: array.copy() for path, array in network.weights().items()}
    for _ in range(3):
        training.step((rng.normal(size=(6, 4)).astype("f4"), rng.normal(size=(6, 2)).astype("f4")))
    moved = {
        path for path, array in network.weights().items() if not np.array_equal(array, before[path])
    }
    assert moved == {path for path in before if not path.startswith("0/")}


def test_decay_of_weights_leaves_biases_and_normalisation_out():
    network = vs.Stack(vs.Dense(3), vs.BatchNorm(), vs.Dense(2)).initialise(np.ones((2, 4)), seed=2)
    optimiser = o.SGD(0.1, weight_decay=0.5, decay_of="weights", decay_factors={"2/*": 2.0})
    optimiser.begin(network.arena.layout, network.arena.dtype)
    network.arena.flat[...] = 1
    optimiser.update(network.arena.flat, np.zeros_like(network.arena.flat))
    assert {
        path: float(array.flat[0]) for path, array in network.weights().items()
    } == pytest.approx(
        {"0/weight": 0.95, "0/bias": 1, "1/scale": 1, "1/shift": 1, "2/weight": 0.9, "2/bias": 1}
    )
    with pytest.raises(ValueError, match="decay_factors: no parameter matches 'haed"):
        o.Adam(decay_factors={"haed/*": 0.0}).begin(network.arena.layout, network.arena.dtype)
    with pytest.raises(ValueError, match='decay_of is "all" or "weights"'):
        o.Lion(decay_of="biases")


# L-BFGS


def problems(rng):
    a = rng.normal(size=(30, 12))
    h, b = a.T @ a + 0.1 * np.eye(12), rng.normal(size=12)
    labels = (rng.random(30) > 0.5) * 2.0 - 1

    def quadratic(x):
        return 0.5 * x @ h @ x - b @ x, h @ x - b

    def logistic(x):
        z = labels * (a @ x)
        return float(np.logaddexp(0, -z).sum() + 0.05 * x @ x), a.T @ (
            -labels / (1 + np.exp(z))
        ) + 0.1 * x

    return {"quadratic": quadratic, "logistic": logistic}


@pytest.mark.parametrize("name", ["quadratic", "logistic"])
@pytest.mark.parametrize("history", [3, 10])
def test_lbfgs_reaches_the_optimum_that_scipy_reaches(name, history, rng):
    function = problems(rng)[name]
    theta, optimiser = np.ones(12), o.LBFGS(history=history)
    for _ in range(120):
        optimiser.minimise(theta, function)
    options = {"gtol": 1e-12, "ftol": 0, "maxiter": 2000}
    theirs = scipy.optimize.minimize(
        function, np.ones(12), jac=True, method="L-BFGS-B", options=options
    )
    np.testing.assert_allclose(theta, theirs.x, atol=1e-6)
    assert function(theta)[0] == pytest.approx(theirs.fun, abs=1e-8)


def test_lbfgs_walks_down_rosenbrock():
    theta, optimiser = np.array([-1.2, 1.0]), o.LBFGS()
    losses = [optimiser.minimise(theta, lambda x: (rosenbrock(x), slopes(x))) for _ in range(60)]
    assert all(b <= a for a, b in pairwise(losses))
    np.testing.assert_allclose(theta, 1, atol=1e-6)


@pytest.mark.parametrize("first", [1e-3, 1.0, 50.0])
def test_the_line_search_ends_where_the_strong_wolfe_conditions_hold(first):
    def function(t):
        return math.cos(t) + 0.1 * t * t - 0.5 * t

    def slope(t):
        return -math.sin(t) + 0.2 * t - 0.5

    length, value, _ = strong_wolfe(
        lambda t: (function(t), slope(t), np.zeros(1)), function(0), slope(0), first, 1e-4, 0.1
    )
    assert value == function(length)
    assert value <= function(0) + 1e-4 * length * slope(0)
    assert abs(slope(length)) <= 0.1 * abs(slope(0))


def test_lbfgs_trains_a_network_and_is_continued_to_the_bit(rng, tmp_path):
    x = rng.normal(size=(40, 3))
    data = vs.data.Dataset(x, np.tanh(x[:, :1] - x[:, 1:2]))

    def training():
        network = vs.Stack(vs.Dense(6, np.tanh), vs.Dense(1)).initialise(
            x[:1], seed=3, dtype="float64"
        )
        return vs.Training(network, loss=vs.losses.squared_error, optimiser=o.LBFGS(history=5))

    whole = training()
    outcome = whole.run(data.batches(40), epochs=30)
    losses = [row["loss"] for row in outcome.rows]
    assert losses[-1] < losses[0] / 500
    assert all(b <= a for a, b in pairwise(losses))
    first = training().run(data.batches(40), epochs=12, record=tmp_path)
    again = training()
    again.run(data.batches(40), epochs=30, resume=first.folder)
    np.testing.assert_array_equal(again.network.arena.values, whole.network.arena.values)
    descent = vs.Descent(training().network, optimiser=o.LBFGS())
    steps = [
        descent.step(lambda: vs.losses.squared_error(descent.network(x), data.targets)).loss
        for _ in range(8)
    ]
    assert steps[-1] < steps[0] / 5


def test_what_lbfgs_cannot_do_is_refused(rng):
    data = vs.data.Dataset(rng.normal(size=(8, 2)), rng.normal(size=(8, 1)))
    with pytest.raises(SettingError, match="Leave clip out"):
        vs.Training(vs.Dense(1), loss=vs.losses.squared_error, optimiser=o.LBFGS(), clip=1.0).run(
            data.batches(8), epochs=1
        )
    with pytest.raises(SettingError, match="looks at the loss several times"):
        o.LBFGS().update(np.ones(2), np.ones(2))
    with pytest.raises(NotFiniteError, match="where update 1 begins"):
        o.LBFGS().minimise(np.ones(2), lambda x: (math.nan, x))
    with pytest.raises(ValueError, match="history must be"):
        o.LBFGS(history=0)
    with pytest.raises(ValueError, match="beta2 has to be above"):
        o.RAdam(beta2=0.5)
