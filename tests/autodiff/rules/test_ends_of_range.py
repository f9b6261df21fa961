"""Derivatives in float32 and float16 at the ends of their range, against float64, which goes
further; and axes of length 0 and 1.
"""

import os
import warnings

import numpy as np
import pytest
from scipy import special

import vinestep as vs
from vinestep.autodiff.registry import UFUNCS
from vinestep.errors import VineStepError

DRAWS = int(os.environ.get("VINESTEP_TEST_DRAWS", "200"))
# of the last: where the result is a difference of large numbers, float32 holds none of it
LOSSY = {"erfcx", "i0e", "i1e", "ive", "iv", "jv", "j1", "j0", "digamma", "zeta", "beta", "betaln"}
LOSSY |= {"gamma", "rgamma", "gammaln", "kl_div", "erfinv", "erfcinv", "ndtri", "cos", "sin", "tan"}
SMOOTH = [
    ufunc
    for ufunc in UFUNCS
    if ufunc.__name__ not in LOSSY
    and all(kind in "fd?" or kind in "efdg" for kind in ufunc.types[-1].replace("->", ""))
]


def by_float64(f, inputs):
    return [
        vs.differentiate(value, wrt={"x": wide[i]})["x"]
        for i in range(len(inputs))
        for wide in [[vs.Tensor(x.astype(np.float64)) for x in inputs]]
        for value in [np.sum(f(*wide))]
    ]


@pytest.mark.parametrize("dtype", [np.float32, np.float16])
@pytest.mark.parametrize("ufunc", SMOOTH, ids=lambda ufunc: ufunc.__name__)
def test_slopes_of_small_floats_are_those_of_large_ones(ufunc, dtype):
    if not any(kind[: ufunc.nin] == np.dtype(dtype).char * ufunc.nin for kind in ufunc.types):
        pytest.skip("NumPy has no such loop")
    rng = np.random.default_rng(3)
    info = np.finfo(dtype)
    low, high = np.log10(float(info.tiny)), np.log10(float(info.max))
    shape = (ufunc.nin, DRAWS)
    exponents = rng.uniform(low, high, shape) * rng.choice([0.02, 0.3, 1.0], shape)
    inputs = [(rng.choice([-1, 1], DRAWS) * 10.0**e).astype(dtype) for e in exponents]
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        result = ufunc(*inputs)
        good = np.isfinite(result) & np.isfinite(ufunc(*(x.astype(float) for x in inputs)))
        good &= np.abs(result) > float(info.tiny)
        inputs = [x[good] for x in inputs]
        try:
            wanted = by_float64(ufunc, inputs)
        except VineStepError:
            return  # refused by one of its arguments
        for i, slope in enumerate(wanted):
            tensors = [vs.Tensor(x) for x in inputs]
            found = vs.differentiate(np.sum(ufunc(*tensors)), wrt={"x": tensors[i]})["x"]
            within = (np.abs(slope) < float(info.max)) & np.isfinite(slope)
            np.testing.assert_allclose(
                found[within].astype(float),
                slope[within],
                rtol=60 * float(info.eps),
                atol=8 * float(info.tiny),
                err_msg=f"by input {i}",
            )


COMPOSED = {
    "x / max(x)": lambda x: x / np.max(x),
    "prod": lambda x: np.prod(x),
    "gelu": vs.gelu,
    "silu": vs.silu,
    "mish": vs.mish,
    "softplus": vs.softplus,
    "norm": lambda x: np.linalg.norm(x),
    "mean": lambda x: np.mean(x),
    "log_softmax": vs.log_softmax,
    "arctan2": lambda x: np.arctan2(x, x[::-1]),
    "std": lambda x: np.std(x),
}


@pytest.mark.parametrize("name", COMPOSED)
def test_slopes_of_what_is_composed(name):
    rng = np.random.default_rng(4)
    for _ in range(60):
        scale = 10.0 ** rng.uniform(-15, 15)
        x = (rng.normal(size=4) * scale).astype(np.float32)
        f = COMPOSED[name]
        weigh = rng.normal(size=np.shape(f(x)))
        with np.errstate(all="ignore"):
            value = f(x)
            wanted = vs.gradient_of(lambda t: np.sum(f(t) * weigh))(x.astype(float))
            found = vs.gradient_of(lambda t: np.sum(f(t) * weigh.astype(np.float32)))(x)
        if not np.isfinite(value).all() or np.abs(value).max() < 1e-36:
            continue
        within = np.abs(wanted) < 3e38
        size = np.abs(wanted[within]).max(initial=0)
        np.testing.assert_allclose(
            found[within], wanted[within], rtol=2e-4, atol=2e-6 * size + 1e-36
        )


def test_sums_of_many_float32_rows_lose_nothing():
    b = vs.Tensor(np.zeros(1, np.float32), name="b")
    rows = np.ones((2**24 + 2**20, 1), np.float32)
    slope = vs.differentiate(np.sum(rows + b), wrt={"b": b})["b"]
    assert slope[0] == len(rows)


@pytest.mark.parametrize("n", [2, 3, 4])
def test_the_determinant_of_a_singular_matrix_has_its_derivative(n):
    rng = np.random.default_rng(n)
    a = rng.normal(size=(n, n))
    a[-1] = a[0] * 2
    vs.check_gradients(np.linalg.det, a, tolerance=1e-6).raise_if_wrong()
    slope = vs.gradient_of(lambda t: np.linalg.det(t) * 3)
    vs.check_gradients(lambda t: np.sum(slope(t) * t), a, tolerance=1e-5).raise_if_wrong()
    np.testing.assert_allclose(vs.gradient_of(np.linalg.det)(np.zeros((n, n))), np.zeros((n, n)))


SHAPES = [(0,), (3, 0), (0, 3), (1,), (1, 1), (2, 1, 0), (1, 3, 1)]
REDUCED = ["sum", "mean", "var", "std", "prod", "max", "min", "median", "ptp", "average"]
REDUCED += ["nansum", "nanmean", "nanvar", "nanstd", "nanprod", "nanmedian", "cumsum", "sort"]


@pytest.mark.filterwarnings("ignore::RuntimeWarning")
@pytest.mark.parametrize("shape", SHAPES)
@pytest.mark.parametrize("name", REDUCED)
def test_axes_of_length_0_and_1(name, shape):
    function, x = getattr(np, name), np.linspace(0.5, 1.5, int(np.prod(shape))).reshape(shape)
    for options in [{}, *({"axis": i} for i in range(len(shape)))]:
        try:
            wanted = function(x, **options)
        except ZeroDivisionError:
            continue  # an empty mean of an empty array is none of NumPy's strengths
        except (ValueError, IndexError) as error:
            with pytest.raises((VineStepError, type(error))):
                function(vs.Tensor(x), **options)
            continue
        found = function(vs.Tensor(x), **options)
        np.testing.assert_allclose(vs.held(found), wanted)
        assert np.shape(found) == np.shape(wanted)
        assert vs.gradient_of(lambda t, o=options: np.sum(function(t, **o)))(x).shape == shape


@pytest.mark.parametrize("name", ["mean", "var", "std"])
@pytest.mark.parametrize("shape", [(3, 1, 4), (1, 5), (4, 1), (1, 1, 3)])
def test_means_over_a_mask_where_a_kept_axis_has_length_one(name, shape):
    rng = np.random.default_rng(0)
    x, mask = rng.normal(size=shape), rng.random(shape) < 0.7
    for axis in range(len(shape)):
        if shape[axis] < 3:
            continue
        there = mask.copy()
        np.moveaxis(there, axis, 0)[:2] = True
        for keepdims in (False, True):
            weigh = rng.normal(size=np.shape(np.sum(x, axis=axis, keepdims=keepdims)))
            f = getattr(np, name)
            vs.check_gradients(
                lambda t: np.sum(f(t, axis=axis, keepdims=keepdims, where=there) * weigh), x
            ).raise_if_wrong()
            gaps = np.where(there, x, np.nan)
            slope = vs.gradient_of(
                lambda t: np.sum(getattr(np, f"nan{name}")(t, axis=axis, keepdims=keepdims) * weigh)
            )(gaps)
            wanted = vs.gradient_of(
                lambda t: np.sum(f(t, axis=axis, keepdims=keepdims, where=there) * weigh)
            )(x)
            np.testing.assert_allclose(np.where(there, slope, 0), wanted, atol=1e-12)


def test_what_a_list_held_when_it_was_used_counts():
    def chosen(t):
        mask = [True, False, True]
        y = np.where(mask, t, 0.0)
        mask[0] = False
        return np.sum(y)

    np.testing.assert_array_equal(vs.gradient_of(chosen)(np.ones(3)), [1, 0, 1])

    def counted(t):
        places = np.array([0, 1, 1])
        y = np.sum(np.bincount(places, weights=t) ** 2)
        places[:] = 0
        return y

    np.testing.assert_allclose(vs.gradient_of(counted)(np.array([1.0, 2, 3])), [2, 10, 10])


def test_differences_with_what_comes_before_and_after():
    x = np.array([[1.0, 4.0, 9.0], [2.0, 3.0, 7.0]])
    for options in (
        {"prepend": 0.0},
        {"append": 1.0, "axis": 0},
        {"prepend": [[1.0], [2.0]], "append": 3.0, "n": 2},
        {"n": 0, "prepend": 1.0},
    ):
        np.testing.assert_array_equal(
            vs.held(np.diff(vs.Tensor(x), **options)), np.diff(x, **options)
        )
        vs.check_gradients(lambda t, o=options: np.sum(np.diff(t, **o) ** 2), x).raise_if_wrong()


@pytest.mark.parametrize(("a", "b"), [(1.0, 0.1), (0.3, 0.1), (-0.7, 0.1), (6.0, 3.0), (1e9, 0.3)])
def test_a_remainder_knows_how_its_quotient_was_rounded(a, b):
    divisor = vs.Tensor(np.array(b))
    for ufunc in (np.remainder, np.fmod):
        left = float(ufunc(a, b))
        slope = vs.differentiate(ufunc(a, divisor), wrt={"b": divisor})["b"]
        assert a + float(slope) * b == pytest.approx(left, abs=1e-6)


def test_means_of_float16_are_those_of_numpy():
    x = np.full(70_000, 2.0, np.float16)
    assert vs.held(np.mean(vs.Tensor(x))) == np.mean(x) == 2
    slope = vs.gradient_of(np.mean)(x)
    np.testing.assert_allclose(slope.astype(float), 1 / 70_000, rtol=1e-2)


def test_the_derivative_of_i1e_at_and_far_from_0():
    for at, wanted in [(0.0, 0.5), (1e-12, 0.5), (800.0, None)]:
        slope = float(vs.gradient_of(special.i1e)(np.array(at)))
        if wanted is None:
            h = 1e-3
            wanted = (special.i1e(at + h) - special.i1e(at - h)) / (2 * h)
        assert slope == pytest.approx(wanted, rel=1e-5)
