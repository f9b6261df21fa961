import numpy as np
import pytest

from vinestep.kernels.machinery.compilation import inner_kernel, kernel
from vinestep.kernels.machinery.symbol_calls import call


@inner_kernel
def scaled(x, factor):
    if factor == 0:
        raise ValueError("nothing would be left")
    return x * factor


@kernel
def twice(x, factor):
    return call(scaled, call(scaled, x, factor), 2)


@pytest.mark.parametrize("x", [np.array([1.0, 2.0]), np.array([[1, 2]], np.int64), 3.0])
def test_a_kernel_called_by_another_gives_what_it_gives(x):
    np.testing.assert_array_equal(twice(x, 3), 6 * x)


def test_what_the_called_kernel_raises_is_raised():
    with pytest.raises(ValueError, match="nothing would be left"):
        twice(1.0, 0)


def test_numbers_written_in_a_call_are_not_compiled_for_each():
    twice(1.0, 3)
    of_float = [kinds for kinds in scaled.signatures if str(kinds[0]) == "float64"]
    assert [str(kinds[1]) for kinds in of_float] == ["int64"]


def test_inner_kernels_can_not_be_called_from_outside():
    with pytest.raises(TypeError, match="scaled is for other kernels only"):
        scaled(1.0, 2)
