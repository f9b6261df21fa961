"""Sums over segments, adding at places, and products with sparse matrices, against NumPy, SciPy and
finite differences of first and second order.
"""

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st
from scipy import sparse

import vinestep as vs
from vinestep.errors import DataError, DifferentiationError, ShapeError


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 7), st.integers(0, 2), st.data())
def test_reduceat(n, axis, data):
    rng = np.random.default_rng(data.draw(st.integers(0, 999)))
    shape = [2, 2, 2]
    shape[axis] = n
    x = rng.normal(size=shape)
    indices = data.draw(st.lists(st.integers(0, n - 1), min_size=1, max_size=6))
    weights = rng.normal(size=np.add.reduceat(x, indices, axis=axis).shape)

    def f(z):
        return np.sum(np.add.reduceat(z, indices, axis=axis) ** 2 * weights)

    assert float(vs.held(f(vs.Tensor(x)))) == pytest.approx(float(f(x)))
    assert vs.check_gradients(f, x).ok
    hessian = vs.hessian_of(f)(x).reshape(x.size, x.size)
    jacobian = np.stack(
        [np.add.reduceat(e.reshape(shape), indices, axis=axis).ravel() for e in np.eye(x.size)],
        axis=1,
    )
    np.testing.assert_allclose(hessian, 2 * jacobian.T @ np.diag(weights.ravel()) @ jacobian)


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 8), st.integers(1, 5), st.integers(0, 999))
def test_segments(n, count, seed):
    rng = np.random.default_rng(seed)
    x, numbers = rng.normal(size=(n, 3)), rng.integers(0, count, n)
    sums = np.zeros((count, 3))
    np.add.at(sums, numbers, x)
    np.testing.assert_allclose(vs.segment_sum(x, numbers, count), sums)
    sizes = np.maximum(np.bincount(numbers, minlength=count), 1)[:, None]
    np.testing.assert_allclose(vs.held(vs.segment_mean(vs.Tensor(x), numbers, count)), sums / sizes)
    for f in (vs.segment_sum, vs.segment_mean):
        assert vs.check_gradients(lambda z, f=f: np.sum(np.sin(f(z, numbers, count))), x).ok


@settings(max_examples=40, deadline=None)
@given(st.integers(1, 6), st.lists(st.integers(0, 5), max_size=8), st.integers(0, 99))
def test_adding_at_places(n, places, seed):
    rng = np.random.default_rng(seed)
    index = np.array([p % n for p in places], int)
    a, b = rng.normal(size=(n, 2)), rng.normal(size=(len(index), 2))

    def f(x, y):
        total = x * 1.0
        if not isinstance(total, vs.Tensor):
            total = np.array(total)
        np.add.at(total, index, y)
        return np.sum(total**3)

    assert float(vs.held(f(vs.Tensor(a), vs.Tensor(b)))) == pytest.approx(float(f(a, b)))
    assert vs.check_gradients(f, a, b).ok


def test_what_was_used_before_adding_keeps_its_value():
    x = vs.Tensor(np.array([1.0, 2.0]))
    total = x * 1.0
    before = total * 10.0
    np.add.at(total, [0, 0], 5.0)
    assert vs.held(total).tolist() == [11.0, 2.0]
    slopes = vs.differentiate(np.sum(before) + np.sum(total**2), x)
    np.testing.assert_allclose(vs.held(slopes), [10 + 22, 10 + 4])


@pytest.mark.parametrize("kind", ["csr", "csc", "coo", "bsr"])
@pytest.mark.parametrize("matrix_like", [sparse.csr_array, sparse.csr_matrix])
def test_sparse_products(kind, matrix_like):
    rng = np.random.default_rng(0)
    dense = rng.normal(size=(5, 4)) * (rng.random((5, 4)) < 0.4)
    matrix = matrix_like(dense).asformat(kind)
    for x in (rng.normal(size=(4, 3)), rng.normal(size=4)):
        np.testing.assert_allclose(vs.sparse_matmul(matrix, x), dense @ x)
        assert vs.check_gradients(lambda z: np.sum(vs.sparse_matmul(matrix, z) ** 3), x).ok
        hessian = vs.hessian_of(lambda z: np.sum(vs.sparse_matmul(matrix, z) ** 2))(x)
        np.testing.assert_allclose(
            hessian.reshape(x.size, x.size),
            np.kron(2 * dense.T @ dense, np.eye(x.size // 4)),
            atol=1e-12,
        )
    for x in (rng.normal(size=(3, 5)), rng.normal(size=5)):
        np.testing.assert_allclose(vs.held(vs.Tensor(x) @ matrix), x @ dense)
        assert vs.check_gradients(lambda z: np.sum((z @ matrix) ** 3), x).ok
    single = vs.Tensor(np.ones((4, 2), np.float32))
    slopes = vs.differentiate(np.sum(vs.sparse_matmul(matrix, single)), single)
    assert vs.held(slopes).dtype == np.float32


def test_what_does_not_fit_is_refused_in_words():
    matrix = sparse.csr_array(np.eye(3))
    with pytest.raises(ShapeError, match="do not fit"):
        vs.sparse_matmul(matrix, np.ones(4))
    with pytest.raises(DifferentiationError, match="Use @"):
        vs.sparse_matmul(np.eye(3), np.ones(3))
    with pytest.raises(DifferentiationError):
        matrix @ vs.Tensor(np.ones(3))
    with pytest.raises(DataError, match="segment 3 is none of 0 to 2"):
        vs.segment_sum(np.ones(2), [0, 3], 3)
    with pytest.raises(ShapeError, match="whole number for each row"):
        vs.segment_sum(np.ones(2), [0.5, 1], 3)
    with pytest.raises(DifferentiationError, match="begin with a Tensor"):
        np.add.at(np.ones(2), [0], vs.Tensor(np.ones(1)))
    with pytest.raises(IndexError):
        np.add.reduceat(vs.Tensor(np.ones(2)), [5])
