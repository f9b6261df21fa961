import gc

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import (
    DifferentiationError,
    DTypeError,
    MissingRuleError,
    NotFiniteError,
    PrecisionWarning,
    ShapeError,
)


def test_broadcasting_is_undone():
    a, b = vs.Tensor(np.ones((3, 1))), vs.Tensor(np.ones(4))
    ga, gb = vs.differentiate(np.sum(a * b + a), wrt=[a, b])
    np.testing.assert_array_equal(ga, np.full((3, 1), 8.0))
    np.testing.assert_array_equal(gb, np.full(4, 3.0))


def test_asking_twice_gives_the_same_answer_twice():
    x = vs.Tensor([1.0, 2.0])
    loss = np.sum(np.exp(x) * x)
    np.testing.assert_array_equal(vs.differentiate(loss, x), vs.differentiate(loss, x))


def test_returned_gradients_do_not_share_memory():
    x, y = vs.Tensor([1.0, 2.0]), vs.Tensor([3.0, 4.0])
    gx, gy = vs.differentiate(np.sum(x + y), wrt=[x, y])
    gx *= 10
    np.testing.assert_array_equal(gy, [1.0, 1.0])


def test_a_chain_of_100_000_operations_differentiates():
    x = vs.Tensor(1.0)
    y = x
    for _ in range(100_000):
        y = y * 1.00001
    assert vs.differentiate(y, x) == pytest.approx(1.00001**100_000)
    del y


def test_gradient_by_an_intermediate_value():
    x = vs.Tensor([1.0, 2.0])
    h = x * 3
    np.testing.assert_array_equal(vs.differentiate(np.sum(h**2), wrt=h), 2 * h.array)


def test_gradients_by_path_norm_clipped_and_by_layer():
    w = {"0/weight": vs.Tensor([3.0]), "1/weight": vs.Tensor([4.0])}
    g = vs.differentiate(np.sum(w["0/weight"] ** 2 + w["1/weight"] ** 2) / 2, wrt=w)
    assert g.norm() == pytest.approx(5)
    assert g.clipped(1.0)["1/weight"] == pytest.approx(0.8)
    assert g.clipped(10.0) is g
    assert g.by_layer().to_dict() == {"0": 3.0, "1": 4.0}
    with pytest.raises(KeyError, match="Did you mean '0/weight'"):
        g["0/weigth"]


def test_untracked_records_nothing_and_held_is_constant():
    x = vs.Tensor([2.0])
    with vs.untracked():
        assert isinstance(x * 3, np.ndarray)
    assert vs.differentiate(np.sum(vs.held(x) * x), x) == 2.0


def test_leaf_is_updated_in_place_and_a_computed_value_gives_way():
    x = vs.Tensor([1.0, 2.0])
    array = x.array
    x -= 0.5 * np.ones(2)
    assert x.array is array
    np.testing.assert_array_equal(array, [0.5, 1.5])
    h = x * 2
    squared, same = np.square(h), h
    h += 1
    assert h is same
    np.testing.assert_array_equal(same.array, [2.0, 4.0])
    np.testing.assert_array_equal(vs.differentiate(np.sum(h), x), [2.0, 2.0])
    np.testing.assert_array_equal(vs.differentiate(np.sum(squared), x), [4.0, 12.0])


@pytest.mark.parametrize("change", ["leaf", "constant", "large"])
def test_in_place_change_of_what_the_record_needs_is_noticed(change):
    n = 10_000 if change == "large" else 3
    x, c = vs.Tensor(np.ones(n), name="weight"), np.arange(1.0, n + 1)
    y = np.sum(np.sin(x) * c)
    if change == "leaf":
        x -= 0.1
    else:
        c[[0, 1]] = c[[1, 0]]
    with pytest.raises(DifferentiationError, match="changed in place after it was used"):
        vs.differentiate(y, x)


def test_computed_values_are_read_only():
    h = vs.Tensor([1.0]) * 2
    with pytest.raises(ValueError, match="read-only"):
        h.array[0] = 3


def test_float32_stays_float32_and_a_promoted_parameter_is_said():
    w = vs.Tensor(np.ones(3, np.float32), name="weight")
    y = np.sum(w * np.ones(3))
    assert y.dtype == np.float64
    with pytest.warns(PrecisionWarning, match="'weight': it is float32 and met float64"):
        assert vs.differentiate(y, w).dtype == np.float32


@pytest.mark.parametrize(
    ("attempt", "error", "text"),
    [
        (
            lambda x: vs.differentiate(x * 2, x),
            DifferentiationError,
            r"one element, got shape \(2,\)",
        ),
        (lambda x: vs.differentiate(3.0, x), DifferentiationError, "needs a Tensor, got float"),
        (
            lambda x: vs.differentiate(np.sum(x), vs.Tensor([1.0], name="w")),
            DifferentiationError,
            "never used w",
        ),
        (
            lambda x: vs.differentiate(np.sum(x), np.ones(2)),
            DifferentiationError,
            "wrt is a ndarray",
        ),
        (
            lambda x: vs.differentiate(x, x, seed=np.ones(3)),
            ShapeError,
            r"seed has shape \(3,\), the value \(2,\)",
        ),
        (lambda x: np.asarray(x), DifferentiationError, "vinestep.held"),
        (lambda x: float(np.sum(x)), DifferentiationError, "Python float"),
        (lambda x: np.fft.fft(x), MissingRuleError, "no derivative rule"),
        (lambda x: np.nextafter(x, 1), MissingRuleError, "np.nextafter has no derivative rule"),
        (lambda x: np.unwrap(x), MissingRuleError, "np.unwrap has no derivative rule"),
        (lambda x: np.add.at(x, 0, 1), DifferentiationError, "Begin with a copy"),
        (lambda x: np.multiply.at(x, 0, 1), MissingRuleError, "np.multiply.at has no derivative"),
        (lambda x: np.add.at(np.ones(2), 0, x), DifferentiationError, "vinestep.segment_sum"),
        (lambda x: x.__setitem__(0, 1.0), DifferentiationError, r"x.array\[...\]"),
        (lambda x: (x * 2).__setitem__(0, 1.0), DifferentiationError, "np.where"),
        (lambda x: np.add(x, 1, out=np.ones(2)), DifferentiationError, "Drop out="),
        (lambda x: np.sqrt(x, where=[True, False]), DifferentiationError, "Use np.where"),
        (lambda x: vs.Tensor([1, 2]), DTypeError, "holds real floats, got int64"),
        (lambda x: vs.Tensor([1j]), DTypeError, "Complex numbers are not differentiated"),
        (lambda x: x * 1j, DTypeError, "Complex numbers are not differentiated"),
        (lambda x: x.astype(int), DTypeError, "would lose its derivative"),
        (lambda x: vs.Tensor(x), DifferentiationError, "would cut its record"),
        (
            lambda x: vs.gradient_of(lambda x: x * 2)(np.ones(2)),
            DifferentiationError,
            "one element",
        ),
    ],
)
def test_mistakes_are_explained(attempt, error, text):
    with pytest.raises(error, match=text):
        attempt(vs.Tensor([1.0, 2.0]))


def test_released_record_says_so():
    x = vs.Tensor([1.0])
    y = np.sum(np.exp(x))
    vs.differentiate(y, x, release=True)
    with pytest.raises(DifferentiationError, match="given back"):
        vs.differentiate(y, x)


def test_first_nan_of_the_backward_pass_is_named_on_request():
    x = vs.Tensor([0.0, 1.0], name="x")
    y = np.sum(np.sqrt(x) * 0.0)
    with (
        np.errstate(all="ignore"),
        pytest.raises(NotFiniteError, match="derivative of sqrt for 'x'"),
    ):
        vs.differentiate(y, x, must_be_finite=True)


def test_release_keeps_memory_of_the_sweep_down():
    import tracemalloc

    n, size = 50, 100_000
    x = vs.Tensor(np.full(size, 0.5))
    tracemalloc.start()
    y = x
    for _ in range(n):
        y = np.tanh(y)
    value, y = np.sum(y), None
    vs.differentiate(value, x, release=True)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert peak <= (n + 4) * size * 8 + 200_000


def test_record_is_freed_with_its_value_without_the_cycle_collector():
    gc.disable()
    try:
        x = vs.Tensor(np.ones(10))
        y = np.sum(np.exp(x) * x)
        vs.differentiate(y, x)
        origin_count = sum(type(o).__name__ == "Origin" for o in gc.get_objects())
        del y
        assert sum(type(o).__name__ == "Origin" for o in gc.get_objects()) <= origin_count - 3
    finally:
        gc.enable()
