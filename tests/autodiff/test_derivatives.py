"""Second derivatives of well-known test functions against closed forms, and the relations between
the orders.
"""

from itertools import pairwise

import numpy as np
import pytest
import sympy as sp
from scipy import optimize

import vinestep as vs

# name: function in terms of a module (np or sympy) and coordinates, and how many there are
FUNCTIONS = {
    "Rosenbrock": (
        lambda m, x: sum(
            100 * (x[i + 1] - x[i] ** 2) ** 2 + (1 - x[i]) ** 2 for i in range(len(x) - 1)
        ),
        4,
    ),
    "Beale": (
        lambda m, x: (
            (1.5 - x[0] + x[0] * x[1]) ** 2
            + (2.25 - x[0] + x[0] * x[1] ** 2) ** 2
            + (2.625 - x[0] + x[0] * x[1] ** 3) ** 2
        ),
        2,
    ),
    "Himmelblau": (lambda m, x: (x[0] ** 2 + x[1] - 11) ** 2 + (x[0] + x[1] ** 2 - 7) ** 2, 2),
    "sphere": (lambda m, x: sum(v**2 for v in x), 5),
    "Booth": (lambda m, x: (x[0] + 2 * x[1] - 7) ** 2 + (2 * x[0] + x[1] - 5) ** 2, 2),
    "Matyas": (lambda m, x: 0.26 * (x[0] ** 2 + x[1] ** 2) - 0.48 * x[0] * x[1], 2),
    "Goldstein-Price": (
        lambda m, x: (
            (
                1
                + (x[0] + x[1] + 1) ** 2
                * (19 - 14 * x[0] + 3 * x[0] ** 2 - 14 * x[1] + 6 * x[0] * x[1] + 3 * x[1] ** 2)
            )
            * (
                30
                + (2 * x[0] - 3 * x[1]) ** 2
                * (18 - 32 * x[0] + 12 * x[0] ** 2 + 48 * x[1] - 36 * x[0] * x[1] + 27 * x[1] ** 2)
            )
        ),
        2,
    ),
    "Levy 13": (
        lambda m, x: (
            m.sin(3 * np.pi * x[0]) ** 2
            + (x[0] - 1) ** 2 * (1 + m.sin(3 * np.pi * x[1]) ** 2)
            + (x[1] - 1) ** 2 * (1 + m.sin(2 * np.pi * x[1]) ** 2)
        ),
        2,
    ),
    "Rastrigin": (lambda m, x: sum(v**2 - 10 * m.cos(2 * np.pi * v) + 10 for v in x), 4),
    "Ackley": (
        lambda m, x: (
            -20 * m.exp(-0.2 * m.sqrt(sum(v**2 for v in x) / len(x)))
            - m.exp(sum(m.cos(2 * np.pi * v) for v in x) / len(x))
        ),
        3,
    ),
    "Griewank": (
        lambda m, x: (
            sum(v**2 for v in x) / 4000
            - m.cos(x[0]) * m.cos(x[1] / np.sqrt(2)) * m.cos(x[2] / np.sqrt(3))
        ),
        3,
    ),
    "Styblinski-Tang": (lambda m, x: sum(v**4 - 16 * v**2 + 5 * v for v in x) / 2, 5),
    "Easom": (
        lambda m, x: (
            -m.cos(x[0]) * m.cos(x[1]) * m.exp(-((x[0] - np.pi) ** 2) - (x[1] - np.pi) ** 2)
        ),
        2,
    ),
    "McCormick": (
        lambda m, x: m.sin(x[0] + x[1]) + (x[0] - x[1]) ** 2 - 1.5 * x[0] + 2.5 * x[1] + 1,
        2,
    ),
    "three-hump camel": (
        lambda m, x: 2 * x[0] ** 2 - 1.05 * x[0] ** 4 + x[0] ** 6 / 6 + x[0] * x[1] + x[1] ** 2,
        2,
    ),
    "six-hump camel": (
        lambda m, x: (
            (4 - 2.1 * x[0] ** 2 + x[0] ** 4 / 3) * x[0] ** 2
            + x[0] * x[1]
            + (4 * x[1] ** 2 - 4) * x[1] ** 2
        ),
        2,
    ),
    "Dixon-Price": (
        lambda m, x: (
            (x[0] - 1) ** 2
            + sum((i + 1) * (2 * x[i] ** 2 - x[i - 1]) ** 2 for i in range(1, len(x)))
        ),
        4,
    ),
    "Powell": (
        lambda m, x: (
            (x[0] + 10 * x[1]) ** 2
            + 5 * (x[2] - x[3]) ** 2
            + (x[1] - 2 * x[2]) ** 4
            + 10 * (x[0] - x[3]) ** 4
        ),
        4,
    ),
    "Wood": (
        lambda m, x: (
            100 * (x[0] ** 2 - x[1]) ** 2
            + (x[0] - 1) ** 2
            + (x[2] - 1) ** 2
            + 90 * (x[2] ** 2 - x[3]) ** 2
            + 10.1 * ((x[1] - 1) ** 2 + (x[3] - 1) ** 2)
            + 19.8 * (x[1] - 1) * (x[3] - 1)
        ),
        4,
    ),
    "Branin": (
        lambda m, x: (
            (x[1] - 5.1 / (4 * np.pi**2) * x[0] ** 2 + 5 / np.pi * x[0] - 6) ** 2
            + 10 * (1 - 1 / (8 * np.pi)) * m.cos(x[0])
            + 10
        ),
        2,
    ),
    "Brown": (
        lambda m, x: sum((a * a) ** (b * b + 1) + (b * b) ** (a * a + 1) for a, b in pairwise(x)),
        3,
    ),
}


@pytest.mark.parametrize("name", list(FUNCTIONS))
def test_gradient_and_hessian_agree_with_the_closed_form(name, rng):
    f, n = FUNCTIONS[name]
    symbols = sp.symbols(f"x:{n}", positive=True)
    expression = f(sp, symbols)
    gradient = sp.lambdify([symbols], [sp.diff(expression, s) for s in symbols])
    hessian = sp.lambdify([symbols], sp.hessian(expression, symbols))
    for _ in range(3):
        x = rng.uniform(0.3, 1.4, n)
        expected = np.asarray(hessian(x), dtype=float)
        scale = np.max(np.abs(expected))
        found = vs.hessian_of(lambda x: f(np, x))(x)
        assert np.max(np.abs(found - expected)) <= 1e-10 * scale
        np.testing.assert_allclose(
            vs.gradient_of(lambda x: f(np, x))(x),
            np.asarray(gradient(x), dtype=float),
            rtol=1e-9,
            atol=1e-9,
        )
        along = rng.normal(size=n)
        product = vs.hessian_product(lambda x: f(np, x), x, along)
        assert np.max(np.abs(product - expected @ along)) <= 1e-9 * scale


def rosenbrock(x):
    return np.sum(100.0 * (x[1:] - x[:-1] ** 2.0) ** 2.0 + (1 - x[:-1]) ** 2.0)


def test_rosenbrock_agrees_with_scipy(rng):
    for n in (2, 5, 30):
        x, along = rng.normal(size=n), rng.normal(size=n)
        np.testing.assert_allclose(vs.gradient_of(rosenbrock)(x), optimize.rosen_der(x), rtol=1e-12)
        np.testing.assert_allclose(
            vs.hessian_of(rosenbrock)(x), optimize.rosen_hess(x), rtol=1e-12, atol=1e-10
        )
        np.testing.assert_allclose(
            vs.hessian_product(rosenbrock, x, along), optimize.rosen_hess_prod(x, along), rtol=1e-10
        )


def test_scipy_minimises_on_our_gradients_unchanged():
    found = optimize.minimize(
        rosenbrock, np.full(10, -1.0), jac=vs.gradient_of(rosenbrock), method="L-BFGS-B"
    )
    np.testing.assert_allclose(found.x, 1.0, atol=1e-4)
    newton = optimize.minimize(
        rosenbrock,
        np.full(4, -1.0),
        jac=vs.gradient_of(rosenbrock),
        hessp=lambda x, v: vs.hessian_product(rosenbrock, x, v),
        method="Newton-CG",
    )
    np.testing.assert_allclose(newton.x, 1.0, atol=1e-4)


def test_derivatives_of_any_order():
    f = np.exp
    for _ in range(6):
        f = vs.gradient_of(f)
    assert f(0.7) == pytest.approx(np.exp(0.7), rel=1e-13)
    fifth = np.sin
    for _ in range(5):
        fifth = vs.gradient_of(fifth)
    assert fifth(0.3) == pytest.approx(np.cos(0.3), rel=1e-13)


@pytest.mark.parametrize(("n_in", "n_out"), [(2, 6), (6, 2), (3, 3), (1, 4), (0, 2), (2, 0)])
def test_jacobian_is_the_same_in_either_direction(n_in, n_out, rng):
    matrix = rng.normal(size=(n_out, n_in))

    def f(x):
        return np.tanh(matrix @ x) ** 2

    x = rng.normal(size=n_in)
    inner = matrix @ x
    expected = (2 * np.tanh(inner) / np.cosh(inner) ** 2)[:, None] * matrix
    np.testing.assert_allclose(vs.jacobian_of(f)(x), expected, rtol=1e-12)
    along = rng.normal(size=n_in)
    np.testing.assert_allclose(
        vs.directional(f, x, along), expected @ along, rtol=1e-10, atol=1e-12
    )


def test_jacobian_of_arrays_has_the_shapes_of_result_and_argument(rng):
    x = rng.normal(size=(2, 3))
    assert vs.jacobian_of(lambda x: np.sum(x**2, axis=0))(x).shape == (3, 2, 3)
    assert vs.jacobian_of(lambda x: x.T @ x)(x).shape == (3, 3, 2, 3)
    second = vs.jacobian_of(vs.jacobian_of(lambda x: np.sum(x**3, axis=0)))(x)
    assert second.shape == (3, 2, 3, 2, 3)
    assert second[1, 0, 1, 0, 1] == pytest.approx(6 * x[0, 1])


def test_functions_without_influence_have_zero_derivatives():
    assert vs.gradient_of(lambda x: 3.0)(1.0) == 0
    np.testing.assert_array_equal(
        vs.hessian_of(lambda x: np.sum(2 * x))(np.ones(2)), np.zeros((2, 2))
    )
    np.testing.assert_array_equal(
        vs.directional(lambda x: np.ones(3), np.ones(2), np.ones(2)), np.zeros(3)
    )


NETWORKS = {
    "dense": lambda: [vs.Dense(5, np.tanh)],
    "dense, one after another": lambda: [vs.Dense(5), vs.sigmoid, vs.Dense(4), np.tanh],
    "dropout": lambda: [vs.Dense(5), np.tanh, vs.Dropout(0.3), vs.Noise(0.1)],
    "residual": lambda: [vs.Residual(vs.Dense(4, np.tanh))],
    "branches": lambda: [
        vs.Concat(vs.Dense(3, np.tanh), np.sin),
        vs.Sum(vs.Dense(2), vs.Dense(2, np.tanh)),
    ],
    "convolution": lambda: [vs.Convolution(3, 2, stride=2, activation=np.tanh)],
    "depthwise convolution": lambda: [vs.Convolution(4, 3, groups=4), np.sin],
    "transposed convolution": lambda: [vs.TransposedConvolution(2, 3, stride=2), np.tanh],
    "parametric relu": lambda: [vs.Dense(4, np.tanh), vs.ParametricRelu(0.3), np.sin],
    "pooling": lambda: [
        vs.Dense(3, np.tanh),
        vs.MaxPool(2),
        vs.MeanPool(2),
        vs.Upsample(2, how="linear"),
    ],
    "global pooling": lambda: [
        vs.Dense(3, np.tanh),
        vs.Sum(vs.GlobalMean(), vs.GlobalMax()),
        vs.Reshape((3, 1)),
        vs.Flatten(),
    ],
    "columns": lambda: [vs.Reshape((3, 2, 4)), vs.Columns(), vs.Dense(2, np.tanh)],
    "batch norm": lambda: [vs.Dense(3, np.tanh), vs.BatchNorm(), np.sin],
    "layer norm": lambda: [vs.Dense(4, np.tanh), vs.LayerNorm(), np.sin],
    "group and rms norm": lambda: [vs.GroupNorm(2), np.sin, vs.RMSNorm()],
    "recurrent": lambda: [vs.Recurrent(3)],
    "gru": lambda: [vs.GRU(3, output="last")],
    "lstm": lambda: [vs.LSTM(3, bidirectional=True)],
    "attention": lambda: [vs.Positions("learned", longest=6), vs.Attention(2, causal=True)],
    "transformer block": lambda: [vs.TransformerBlock(2, expansion=2, activation=vs.gelu_tanh)],
    "conditioned block": lambda: [vs.layers.ConditionedBlock(4, groups=2), np.tanh],
    "pixel attention": lambda: [vs.layers.PixelAttention(2), np.sin],
    "conditioned dense": lambda: [vs.layers.ConditionedDense(3, width=5, depth=1), np.tanh],
    "time": lambda: [
        vs.GlobalMean(),
        vs.Dense(1),
        lambda x: x[:, 0],
        vs.layers.TimeEmbedding(4, form="fourier", highest=2.0),
    ],
}


@pytest.mark.parametrize("name", list(NETWORKS))
def test_gradient_penalty_is_differentiated_by_the_weights(name, rng):
    """The squared norm of the derivative of the output by the input, differentiated by the
    weights.
    """
    x = rng.normal(size=(2, 6, 4))
    network = vs.Stack(*NETWORKS[name](), vs.Dense(1)).initialise(x, dtype=float, seed=3)

    def penalty(net):
        with vs.learning(seed=1, step=0):
            slope = vs.gradient_of(lambda x: np.sum(np.square(net(x))))(vs.Tensor(x))
        return np.sum(np.square(slope))

    vs.check_gradients(penalty, network, tolerance=1e-6, elements=25).raise_if_wrong()


def test_every_layer_is_under_a_gradient_penalty():
    made = {
        type(layer).__name__ for make in NETWORKS.values() for layer in vs.Stack(*make()).walk()
    }
    without_input_gradient = {"Embedding", "DecoderBlock", "Layer"}
    kinds = {name: getattr(vs.layers, name) for name in vs.layers.__all__}
    assert {
        n for n, kind in kinds.items() if isinstance(kind, type) and issubclass(kind, vs.Layer)
    } - without_input_gradient <= made
