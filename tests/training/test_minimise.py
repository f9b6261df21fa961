"""Minimising functions of arrays, Tensors and networks, against SciPy and closed forms."""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy import optimize

import vinestep as vs
from vinestep.errors import DataError, NotFiniteError, SettingError


def rosen(x):
    """As `scipy.optimize.rosen`."""
    return np.sum(100.0 * (x[1:] - x[:-1] ** 2) ** 2 + (1 - x[:-1]) ** 2)


def beale(x):
    a, b = x[0], x[1]
    return (1.5 - a + a * b) ** 2 + (2.25 - a + a * b**2) ** 2 + (2.625 - a + a * b**3) ** 2


def booth(x):
    return (x[0] + 2 * x[1] - 7) ** 2 + (2 * x[0] + x[1] - 5) ** 2


def himmelblau(x):
    return (x[0] ** 2 + x[1] - 11) ** 2 + (x[0] + x[1] ** 2 - 7) ** 2


def powell(x):
    return (
        (x[0] + 10 * x[1]) ** 2
        + 5 * (x[2] - x[3]) ** 2
        + (x[1] - 2 * x[2]) ** 4
        + 10 * (x[0] - x[3]) ** 4
    )


CASES = [
    (rosen, [-1.2, 1.0]),
    (rosen, [1.3, 0.7, 0.8, 1.9, 1.2]),
    (rosen, np.linspace(-1, 1, 10)),
    (beale, [1.0, 1.0]),
    (booth, [0.0, 0.0]),
    (himmelblau, [1.0, 1.0]),
]


@pytest.mark.parametrize(("function", "start"), CASES)
def test_the_minimum_is_that_of_scipy(function, start):
    found = vs.minimise(function, np.array(start))
    theirs = optimize.minimize(
        lambda x: float(function(x)),
        start,
        jac=vs.gradient_of(lambda x: function(x)),
        method="BFGS",
        options={"gtol": 1e-10},
    )
    assert found.converged
    np.testing.assert_allclose(found.x, theirs.x, atol=1e-6)
    assert found.value == pytest.approx(theirs.fun, abs=1e-10)
    np.testing.assert_array_equal(optimize.rosen(np.ones(4)), rosen(np.ones(4)))


def test_a_flat_minimum_is_reached():
    assert vs.minimise(powell, np.array([3.0, -1.0, 0.0, 1.0])).value < 1e-8


@pytest.mark.parametrize("bounds", [(0.0, 0.8), (None, 0.5), (1.5, None), (-3.0, 3.0), (0.9, 1.1)])
def test_bounds_are_kept_and_reached(bounds):
    low, high = (-np.inf if bounds[0] is None else bounds[0], bounds[1] or np.inf)
    start = np.clip([0.95, 1.05], low, high)
    asked = []

    def watched(x):
        asked.append(vs.held(x).copy())
        return rosen(x)

    found = vs.minimise(watched, start, bounds=bounds)
    theirs = optimize.minimize(
        optimize.rosen,
        start,
        jac=optimize.rosen_der,
        bounds=[bounds] * 2,
        method="L-BFGS-B",
        options={"gtol": 1e-12, "ftol": 1e-16, "maxiter": 5000},
    )
    np.testing.assert_allclose(found.x, theirs.x, atol=1e-6)
    assert np.min(asked) >= low - 1e-12
    assert np.max(asked) <= high + 1e-12


@settings(max_examples=20, deadline=None)
@given(st.integers(1, 6), st.integers(0, 999))
def test_a_quadratic_form_within_bounds_is_that_of_least_squares(n, seed):
    rng = np.random.default_rng(seed)
    a, b = rng.normal(size=(n + 3, n)), rng.normal(size=n + 3)
    theirs = optimize.lsq_linear(a, b, bounds=(-0.5, 0.5), tol=1e-14)
    found = vs.minimise(
        lambda x: np.sum((a @ x - b) ** 2) / 2, np.zeros(n), bounds=(-0.5, 0.5), tolerance=1e-12
    )
    assert found.value == pytest.approx(theirs.cost, abs=1e-7)


def test_arrays_by_name_keep_their_shapes_and_are_not_changed():
    start = {"a": np.ones((2, 2)), "b": 3}
    found = vs.minimise(lambda p: np.sum((p["a"] - p["b"]) ** 2) + p["b"] ** 2, start)
    assert found.x["a"].shape == (2, 2)
    assert found.x["b"].shape == ()
    np.testing.assert_allclose(found.x["a"], 0, atol=1e-6)
    assert (start["a"] == 1).all()


@pytest.mark.parametrize("kind", ["one", "list", "dict"])
def test_tensors_are_moved_in_place(kind):
    w, b = vs.Tensor(np.ones(3), name="w"), vs.Tensor(np.zeros(()))
    start = {"one": w, "list": [w, b], "dict": {"w": w, "b": b}}[kind]
    loss = {
        "one": lambda t: np.sum((t - 2.0) ** 2),
        "list": lambda t: np.sum((t[0] - 2.0) ** 2) + (t[1] - 1.0) ** 2,
        "dict": lambda t: np.sum((t["w"] - 2.0) ** 2) + (t["b"] - 1.0) ** 2,
    }[kind]
    found = vs.minimise(loss, start)
    assert found.x is start
    np.testing.assert_allclose(vs.held(w), 2, atol=1e-7)
    assert vs.held(b) == pytest.approx(0 if kind == "one" else 1)


def test_a_descent_moves_tensors_by_any_optimiser():
    w = vs.Tensor(np.ones(2, np.float32))
    descent = vs.Descent([w], optimiser=vs.optimisers.SGD(0.1), clip=10.0)
    for _ in range(200):
        step = descent.step(lambda: np.sum((w - np.array([1.0, -2.0], np.float32)) ** 2))
    np.testing.assert_allclose(vs.held(w), [1, -2], atol=1e-4)
    assert list(step.gradients) == ["0"]
    with pytest.raises(SettingError, match="moved already"):
        vs.Descent([w])
    with pytest.raises(SettingError, match="computed from others"):
        vs.Descent(vs.Tensor(np.ones(2)) * 2.0)
    with pytest.raises(SettingError, match="one float type"):
        vs.Descent([vs.Tensor(np.ones(2)), vs.Tensor(np.ones(2, np.float32))])


def test_a_network_is_fitted():
    x = np.linspace(-1, 1, 50)[:, None]
    network = vs.Stack(vs.Dense(8, np.tanh), vs.Dense(1)).initialise(x, dtype="float64")
    found = vs.minimise(lambda n: np.mean((n(x) - x**2) ** 2), network, steps=300)
    assert found.x is network
    assert found.value < 1e-4


def test_it_is_recorded_stopped_and_goes_on(tmp_path):
    class Stop(vs.observers.Observer):
        def after_step(self, run, step):
            if run.position.step == 12:
                run.stop("told to", resumable=True)

    start = np.array([-1.2, 1.0])
    whole = vs.minimise(rosen, start)
    first = vs.minimise(rosen, start, observers=[Stop()], record=tmp_path)
    assert first.steps == 12
    again = vs.minimise(rosen, start, resume=first.folder)
    np.testing.assert_array_equal(again.x, whole.x)
    assert len(again.curves) == len(whole.curves)
    series = vs.runs.open(tmp_path)["minimum-1"]
    assert series.folder is not None
    assert (first.folder / "curves.png").read_bytes()[:4] == b"\x89PNG"


def test_what_is_no_minimisation_is_refused_in_words():
    with pytest.raises(SettingError, match="outside of its bounds"):
        vs.minimise(rosen, np.zeros(2), bounds=(1, 2))
    with pytest.raises(SettingError, match="no such variable"):
        vs.minimise(rosen, np.zeros(2), bounds={"y": (1, 2)})
    with pytest.raises(SettingError, match="lowest and a highest"):
        vs.minimise(rosen, np.zeros(2), bounds=(2, 1))
    with pytest.raises(DataError, match="not finite"):
        vs.minimise(rosen, np.array([np.nan, 1.0]))
    with pytest.raises(NotFiniteError):
        vs.minimise(lambda x: np.log(x[0]), np.array([-1.0]))
    with pytest.raises(SettingError, match="bounds are for arrays"):
        vs.minimise(lambda t: t, vs.Tensor(1.0), bounds=(0, 1))
