"""Gradients are right, or refused: samples of what was once silently wrong."""

import numpy as np
import pandas as pd
import pytest
from scipy import special

import vinestep as vs
from vinestep.autodiff.checksums import checksum_of, is_unchanged
from vinestep.errors import DifferentiationError, MissingRuleError, ShapeError

MANNERS = {
    "argument": lambda f, z, c: vs.gradient_of(f)(z, c),
    "closure": lambda f, z, c: vs.gradient_of(lambda z: f(z, c))(z),
    "keyword": lambda f, z, c: vs.gradient_of(lambda z, *, c: f(z, c))(z, c=c),
    "default": lambda f, z, c: vs.gradient_of(lambda z, c=c: f(z, c))(z),
    "list": lambda f, z, c: vs.gradient_of(lambda z, cs: f(z, cs[0]))(z, [c]),
    "jacobian": lambda f, z, c: vs.jacobian_of(lambda z: f(z, c))(z),
    "directional": lambda f, z, c: vs.directional(lambda z: f(z, c), z, 1.0),
    "hessian": lambda f, z, c: vs.hessian_of(lambda z: f(z, c) * z / 4)(z) * 4 / 3,
    "hessian product": lambda f, z, c: vs.hessian_product(lambda z: f(z, c), z, z),
}


@pytest.mark.parametrize("manner", list(MANNERS))
def test_a_tensor_may_reach_the_inner_function_in_any_way(manner):
    f = MANNERS[manner]
    slope = vs.gradient_of(lambda x: f(lambda z, c: z**2 * c, 1.5, x))(3.0)
    assert slope == pytest.approx(3.0)
    assert not isinstance(slope, vs.Tensor)


def test_nesting_three_deep_and_the_other_way_round():
    def cubed(x):
        return vs.gradient_of(lambda y: vs.gradient_of(lambda z: x * y * z**2)(y))(
            x
        )  # d/dy of 2xy^2, at y = x: 4x^2

    assert vs.gradient_of(cubed)(2.0) == pytest.approx(16.0)
    x = vs.Tensor(2.0)
    assert vs.differentiate(vs.gradient_of(lambda z: z**2 * x)(3.0), x) == pytest.approx(6.0)


def test_differentiate_inside_a_function_that_is_differentiated():
    def penalty(x):
        y = vs.Tensor(1.0) * x
        slope = vs.differentiate(y**3, y)
        return slope * x  # 3x^3

    assert vs.gradient_of(penalty)(2.0) == pytest.approx(36.0)


def test_a_loss_with_the_slope_of_the_network_in_it():
    network = vs.Stack(vs.Dense(4, np.tanh), vs.Dense(1)).initialise(
        np.ones((2, 3)), dtype=np.float64
    )
    x = np.random.default_rng(0).normal(size=(5, 3))
    vs.check_gradients(
        lambda net: np.sum(np.square(vs.gradient_of(lambda t: np.sum(net(t)))(x))), network
    ).raise_if_wrong()


def test_under_untracked_a_gradient_is_an_array():
    w = vs.Tensor(2.0)
    with vs.untracked():
        assert not isinstance(vs.gradient_of(lambda x: w * x**2)(3.0), vs.Tensor)


VIEWS = {
    "reshape": lambda x: x.reshape(-1),
    "slice": lambda x: x[1:],
    "T": lambda x: x.T,
    "ravel": np.ravel,
    "broadcast_to": lambda x: np.broadcast_to(x, (2, *x.shape)),
    "view of a view": lambda x: x.T[1:][:, 1:],
}


@pytest.mark.parametrize("n", [3, 40, 1200])
@pytest.mark.parametrize("view", list(VIEWS))
def test_a_view_of_a_leaf_is_guarded(view, n):
    x = vs.Tensor(np.ones((n, n)), name="weight")
    y = np.sum(np.square(VIEWS[view](x)))
    x -= 0.5
    with pytest.raises(DifferentiationError, match="changed in place after it was used"):
        vs.differentiate(y, x)


@pytest.mark.parametrize("n", [1018, 509 * 8, 1 << 21])
@pytest.mark.parametrize("change", ["negate", "swap blocks", "swap two", "one bit", "roll"])
@pytest.mark.parametrize("dtype", [np.float32, np.float64])
def test_no_change_of_an_array_goes_unnoticed(n, change, dtype):
    array = np.random.default_rng(0).normal(size=n).astype(dtype)
    seal = checksum_of(array)
    assert is_unchanged(array, seal)
    if change == "negate":
        array *= -1
    elif change == "swap blocks":
        array[:1018] = np.concatenate([array[509:1018], array[:509]])
    elif change == "swap two":
        array[[0, -1]] = array[[-1, 0]]
    elif change == "one bit":
        array.view(np.uint8)[n // 2] ^= 1
    else:
        array[...] = np.roll(array, 1)
    assert not is_unchanged(array, seal)


def test_what_is_handed_out_is_not_what_the_record_keeps():
    logits = vs.Tensor(np.random.default_rng(0).normal(size=(4, 3)))
    for loss in (
        vs.losses.cross_entropy(logits, np.array([0, 1, 2, 0])),
        np.sum(vs.relu(logits)),
        np.sum(logits * logits),
    ):
        g = vs.differentiate(loss, logits)
        expected = g.copy()
        g *= 0
        np.testing.assert_array_equal(vs.differentiate(loss, logits), expected)


def test_the_seed_may_be_changed_afterwards():
    x = vs.Tensor([1.0, 2.0])
    seed = np.array([1.0, 1.0])
    g = vs.differentiate(x + 1, x, seed=seed)
    seed *= 0
    np.testing.assert_array_equal(g, [1.0, 1.0])


WHOLE = {
    "arctan2": lambda x, u: np.sum(np.arctan2(x, u)),
    "power": lambda x, u: np.sum(np.power(np.abs(x) + 1.1, np.minimum(u, 3))),
    "einsum": lambda x, u: np.einsum("i,ij,jk->", x, np.stack([u, u, u]), np.stack([u, u, u])),
    "einsum, optimised": lambda x, u: np.einsum("i,i,i->", x, u, u, optimize=True),
    "hypot": lambda x, u: np.sum(np.hypot(x, u)),
    "interp": lambda x, u: np.sum(np.interp(x, [-1.0, 0.0, 1.0], np.sort(u)[::-1])),
    "interp at whole nodes": lambda x, u: np.sum(np.interp(x * 100, np.sort(u), [3.0, 1.0, 2.0])),
    "divide": lambda x, u: np.sum(x / u),
    "fmod": lambda x, u: np.sum(np.fmod(x * 300 + 1000, u)),
    "trapezoid": lambda x, u: np.trapezoid(x, np.sort(u)),
    "divided by": lambda x, u: np.sum(u / (x + 3)),
}


@pytest.mark.parametrize("dtype", [np.uint8, np.int8, np.int64, np.uint16])
@pytest.mark.parametrize("name", list(WHOLE))
def test_whole_numbers_do_not_wrap_around_in_adjoints(name, dtype):
    u = (
        np.array([127, 100, 3]).astype(dtype)
        if np.dtype(dtype).itemsize == 1
        else np.array([20_000, 300, 7]).astype(dtype)
    )
    if name.startswith("einsum"):
        u = np.minimum(u, 127).astype(dtype)
    x = np.array([0.3, -0.6, 0.9])
    f = WHOLE[name]
    ours = vs.gradient_of(lambda x: f(x, u))(x)
    in_floats = vs.gradient_of(lambda x: f(x, u.astype(float)))(x)
    np.testing.assert_allclose(ours, in_floats, rtol=1e-12)
    vs.check_gradients(lambda x: f(x, u), x, tolerance=1e-5).raise_if_wrong()


def test_a_power_of_the_smallest_int8():
    assert vs.gradient_of(lambda x: np.power(x, np.int8(-128)))(1.0) == pytest.approx(-128.0)


def test_scipy_s_zeta_is_refused_by_its_first_argument():
    assert vs.gradient_of(lambda q: special.zeta(2.0, q))(1.5) == pytest.approx(
        -2 * special.zeta(3.0, 1.5)
    )
    with pytest.raises(MissingRuleError, match="zeta has no derivative rule by its first argument"):
        vs.gradient_of(lambda s: special.zeta(s, 1.5))(2.0)


@pytest.mark.parametrize(
    ("f", "slope", "third"), [(special.i1, 0.5, 0.375), (special.j1, 0.5, -0.375)]
)
def test_bessel_functions_at_zero(f, slope, third):
    once = vs.gradient_of(f)
    assert once(0.0) == pytest.approx(slope)
    assert vs.gradient_of(vs.gradient_of(once))(0.0) == pytest.approx(third)


def test_in_place_follows_numpy_or_is_refused():
    x = vs.Tensor([1.0, 2.0, 3.0])
    y = x * 2
    z = y
    z += 1
    np.testing.assert_array_equal(y.array, [3.0, 5.0, 7.0])
    table = np.stack([y, y])
    for row in table:
        with pytest.raises(DifferentiationError, match="shares its memory"):
            row *= 2
    part = y[1:]
    with pytest.raises(DifferentiationError, match="shares its memory"):
        part += 1
    with pytest.raises(DifferentiationError, match="shares its memory"):
        y += 1  # part would change too
    total = np.sum(x)
    same = total
    total += 1  # a single number, which NumPy cannot change either
    assert same.item() == 6.0
    assert total.item() == 7.0


def test_masked_arrays_and_matrices_are_refused():
    x, masked = vs.Tensor([1.0, 2.0]), np.ma.masked_array([1.0, 2.0], [True, False])
    for attempt in (
        lambda: x * masked,
        lambda: masked * x,
        lambda: np.where(masked > 0, x, masked),
        lambda: vs.Tensor(masked),
    ):
        with pytest.raises(DifferentiationError, match=r"mask|record"):
            attempt()
    with pytest.raises(DifferentiationError, match=r"numpy\.matrix"):
        x * np.matrix([[1.0, 2.0]])


def test_pandas_objects_give_their_values_in_their_order():
    x = vs.Tensor([1.0, 2.0, 3.0])
    series = pd.Series([10.0, 20.0, 30.0], index=[2, 0, 1])
    for product in (x * series, series * x, np.multiply(series, x)):
        assert isinstance(product, vs.Tensor)
        assert product[0].item() == 10.0
        np.testing.assert_array_equal(vs.differentiate(np.sum(product), x), [10.0, 20.0, 30.0])
    frame = pd.DataFrame({"a": [1.0, 2.0, 3.0]})
    assert (frame.to_numpy().T @ x).array == pytest.approx(14.0)
    assert np.interp(x, series.index.to_series().sort_values(), series)[1].shape == ()


def test_ravel_by_memory_layout_is_refused_where_it_matters():
    x = vs.Tensor(np.asfortranarray(np.arange(6.0).reshape(2, 3)))
    for order in ("K", "A"):
        with pytest.raises(DifferentiationError, match="depends on memory layout"):
            np.ravel(x, order=order)
    np.testing.assert_array_equal(x.ravel("F").array, x.array.ravel("F"))


def test_median_and_quantile_of_nan_are_nan():
    x = vs.Tensor([[1.0, np.nan, 2.0], [3.0, 1.0, 2.0]])
    np.testing.assert_array_equal(np.median(x, axis=1).array, [np.nan, 2.0])
    np.testing.assert_array_equal(np.quantile(x, 0.5, axis=1).array, [np.nan, 2.0])


def test_bare_errors_have_become_words():
    x = vs.Tensor([0.5, 1.5])
    np.testing.assert_allclose(np.interp(x, [0, 1, 2], [0, 10, 0]).array, [5.0, 5.0])
    with pytest.raises(ShapeError, match="nodes and values of one length"):
        np.interp(x, [0, 1, 2], [0, 10])
    np.testing.assert_array_equal(vs.logsumexp(np.zeros((0, 2)), axis=0), [-np.inf, -np.inf])


def test_a_cache_keeps_the_record():
    layer = vs.Attention(2, causal=True).initialise(np.ones((1, 4, 8)), dtype=np.float64)
    x = vs.Tensor(np.random.default_rng(0).normal(size=(1, 4, 8)))
    cache = {}
    steps = [layer(x[:, t : t + 1], None, None, cache) for t in range(4)]
    ours = vs.differentiate(np.sum(np.square(np.concatenate(steps, axis=1))), x)
    np.testing.assert_allclose(ours, vs.differentiate(np.sum(np.square(layer(x))), x), rtol=1e-9)


def test_a_float32_check_says_that_float64_is_needed():
    network = vs.Stack(vs.Dense(30), np.tanh, vs.Dense(1)).initialise(np.ones((1, 20)))
    x = 30 * np.random.default_rng(0).normal(size=(200, 20)).astype(np.float32)
    report = vs.check_gradients(
        lambda net: np.sum(np.square(net(x))) * 1e3, network, tolerance=1e-7
    )
    assert not report
    assert "check it in float64" in str(report)


def test_a_computed_tensor_is_not_copied_in_silence():
    import copy
    import pickle

    leaf = vs.Tensor([1.0, 2.0], name="w")
    for other in (copy.deepcopy(leaf), pickle.loads(pickle.dumps(leaf))):
        assert other.name == "w"
        other -= 1.0
        np.testing.assert_array_equal(leaf.array, [1.0, 2.0])
    with pytest.raises(DifferentiationError, match="cannot be copied or pickled"):
        copy.deepcopy(leaf * 2)


@pytest.mark.parametrize(
    "derivative",
    [vs.gradient_of, vs.jacobian_of, lambda f: lambda x: vs.directional(f, x, np.ones(2))],
)
def test_a_function_that_changes_its_argument_in_place(derivative):
    """Its derivative is by what came in, and what came in stays as it was."""

    def doubled(x):
        x *= 2
        return np.sum(x**2)

    given = np.array([1.0, 2.0])
    assert np.sum(derivative(doubled)(given)) == 24
    assert given.tolist() == [1, 2]
