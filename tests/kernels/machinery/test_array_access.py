import numpy as np
import pytest

from vinestep.kernels import Unsound
from vinestep.kernels.machinery.array_access import (
    beyond,
    empty,
    flat,
    larger,
    line,
    matrix,
    smaller,
    zeros,
)
from vinestep.kernels.machinery.compilation import kernel

X = np.arange(10, dtype=np.float32)


@kernel
def parts(x):
    table = matrix(x, 1, 2, 3)
    return beyond(x, 7), line(x, 2, 3), table, flat(table)


def test_parts_are_those_that_slices_give():
    expected = X[7:], X[2:5], X[1:7].reshape(2, 3), X[1:7]
    for found, part in zip(parts(X), expected, strict=True):
        np.testing.assert_array_equal(found, part, strict=True)
        assert np.shares_memory(found, X)


def test_parts_of_what_does_not_lie_together_are_refused():
    with pytest.raises(Unsound, match="need contiguous arrays"):
        parts(X[::2])


@kernel
def made(n, x):
    filled = empty(n, x.dtype)
    for i in range(n):
        filled[i] = x[i]
    return zeros(n, x.dtype), line(filled, 1, n - 1), smaller(n, -n), larger(n, -n)


@pytest.mark.parametrize("dtype", [np.float64, np.int32])
def test_new_arrays_live_as_long_as_a_part_of_them(dtype):
    x = X.astype(dtype)
    nothing, filled, least, most = made(5, x)
    np.testing.assert_array_equal(nothing, np.zeros(5, dtype), strict=True)
    np.testing.assert_array_equal(filled, x[1:5], strict=True)
    assert (least, most) == (-5, 5)
