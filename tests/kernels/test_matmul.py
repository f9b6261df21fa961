"""`matmul` against NumPy's, for every layout in which matrices come."""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.kernels.products import SMALL, matmul

LAYOUTS = {
    "contiguous": lambda x: x,
    "transposed": lambda x: np.ascontiguousarray(np.swapaxes(x, -1, -2)).swapaxes(-1, -2),
    "every second": lambda x: np.repeat(x, 2, axis=-1)[..., ::2],
    "backwards": lambda x: np.ascontiguousarray(x[..., ::-1])[..., ::-1],
    "read-only": lambda x: _read_only(x),
    "broadcast": lambda x: np.broadcast_to(x[..., :1, :], x.shape),
}


def _read_only(x):
    x = x.copy()
    x.flags.writeable = False
    return x


@settings(max_examples=12)
@given(
    stack=st.sampled_from([(), (3,), (2, 2)]),
    sizes=st.tuples(*[st.integers(1, 90)] * 3),
    layouts=st.tuples(*[st.sampled_from(list(LAYOUTS))] * 2),
    dtypes=st.tuples(*[st.sampled_from([np.float32, np.float64, np.int64])] * 2),
    stacked=st.booleans(),
)
def test_products_are_numpy_s(stack, sizes, layouts, dtypes, stacked):
    rng = np.random.default_rng(sizes)
    n, depth, width = sizes
    n = n + SMALL // (depth * width)  # larger than what is left to NumPy
    a, b = (
        LAYOUTS[layout]((10 * rng.normal(size=shape)).astype(dtype))
        for layout, shape, dtype in zip(
            layouts,
            [(*stack, n, depth), (*(stack if stacked else ()), depth, width)],
            dtypes,
            strict=True,
        )
    )
    found = matmul(a, b)
    np.testing.assert_allclose(
        found, np.matmul(a, b), rtol=1e-3, atol=1e-2 if np.float32 in dtypes else 1e-9, strict=True
    )


@pytest.mark.parametrize("where", [0, 1])
@pytest.mark.parametrize("value", [np.nan, np.inf, -np.inf])
def test_what_is_not_finite_goes_where_it_belongs(where, value, rng):
    pair = [rng.normal(size=(80, 70)), rng.normal(size=(70, 60))]
    pair[where][3, 5] = value
    np.testing.assert_allclose(matmul(*pair), np.matmul(*pair))


def test_misfits_are_refused_as_by_numpy():
    with pytest.raises(ValueError, match="mismatch"):
        matmul(np.ones((300, 300)), np.ones((301, 300)))


def test_a_layer_of_the_user_s_own_has_the_gradients_of_ours(rng):
    x, labels = rng.normal(size=(200, 90)), rng.integers(0, 40, 200)
    ours = vs.Stack(vs.Dense(40)).initialise(x, dtype=np.float64)
    weight, bias = (vs.Tensor(a.copy(), name=path) for path, a in ours.weights().items())
    by_hand = vs.differentiate(vs.losses.cross_entropy(x @ weight + bias, labels), [weight, bias])
    by_layer = vs.differentiate(vs.losses.cross_entropy(ours(x), labels), ours)
    for mine, theirs in zip(by_hand, by_layer.values(), strict=True):
        np.testing.assert_allclose(mine, theirs, rtol=1e-9, atol=1e-12)
