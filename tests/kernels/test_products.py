import threading
import time
import weakref
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

from vinestep.kernels.machinery import pool
from vinestep.kernels.products import (
    gathered_product,
    places,
    product,
    product_with_transposed,
    transposed_product,
)


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@settings(deadline=None)
@given(
    n=st.sampled_from([0, 1, 7, 8, 9, 255, 263, 300]),
    depth=st.sampled_from([0, 1, 255, 256, 600]),
    width=st.sampled_from([1, 4, 7, 8, 9, 12, 16, 31, 33, 64, 100]),
    floor=st.sampled_from([-np.inf, 0.0]),
)
def test_gathered_product_is_the_product_of_the_gathered_matrix(dtype, n, depth, width, floor):
    rng = np.random.default_rng(n + depth + width)
    x = rng.normal(size=2000).astype(dtype)
    rows, columns = (
        rng.integers(0, 1000, n).astype(np.int32),
        rng.integers(0, 1000, depth).astype(np.int32),
    )
    b, bias = rng.normal(size=(depth, width)).astype(dtype), rng.normal(size=width).astype(dtype)
    expected = np.maximum(x[rows[:, None] + columns].astype(float) @ b + bias, floor)
    found = gathered_product(x, rows, columns, b, bias, floor=floor)
    np.testing.assert_allclose(
        found, expected, rtol=0, atol=(1e-3 if dtype == np.float32 else 1e-12)
    )


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@settings(deadline=None, max_examples=50)
@given(
    n=st.sampled_from([8, 31, 32, 40, 131, 300, 1100]),
    depth=st.sampled_from([1, 2, 255, 257, 1540]),
    width=st.sampled_from([8, 10, 48, 64, 72, 100, 131, 256]),
)
def test_product_of_a_matrix_or_its_transpose(dtype, n, depth, width):
    rng = np.random.default_rng(n + depth + width)
    a, b, bias = (
        rng.normal(size=shape).astype(dtype) for shape in ((n, depth), (depth, width), (width,))
    )
    close = {"rtol": 0, "atol": 1e-3 if dtype == np.float32 else 1e-12}
    np.testing.assert_allclose(
        product(a, b, bias, floor=0.0), np.maximum(a.astype(float) @ b + bias, 0), **close
    )
    np.testing.assert_allclose(
        transposed_product(np.ascontiguousarray(a.T), b), a.astype(float) @ b, **close
    )
    of_transposed = gathered_product(
        a.reshape(-1), *places(n, depth), np.ascontiguousarray(b.T), bias, transposed=True
    )
    np.testing.assert_allclose(of_transposed, a.astype(float) @ b + bias, **close)


@pytest.mark.parametrize("sizes", [(20, 30, 40), (64, 128, 64), (128, 128, 160), (700, 128, 130)])
def test_products_with_transposes(sizes):
    n, n_in, n_out = sizes
    rng = np.random.default_rng(0)
    x, weight, g = (rng.normal(size=shape) for shape in ((n, n_in), (n_in, n_out), (n, n_out)))
    g_weight = np.empty_like(weight)
    assert transposed_product(x, g, out=g_weight) is g_weight
    np.testing.assert_allclose(g_weight, np.einsum("ni,no->io", x, g), atol=1e-11)
    np.testing.assert_allclose(
        product_with_transposed(g, weight), np.einsum("no,io->ni", g, weight), atol=1e-11
    )


def test_not_a_number_passes_the_floor():
    x = np.array([np.nan] * 8 + [-1.0] * 8)
    found = gathered_product(x, np.arange(16), np.array([0]), np.ones((1, 8)), floor=0.0)
    assert np.isnan(found[:8]).all()
    assert (found[8:] == 0).all()


def test_number_of_threads_makes_no_difference_to_a_product(monkeypatch):
    rng = np.random.default_rng(0)
    x, b = rng.normal(size=40_000).astype(np.float32), rng.normal(size=(300, 40)).astype(np.float32)
    rows, columns = np.arange(30_003), np.arange(300)
    results = []
    for threads in (1, 2, 3):
        monkeypatch.setattr(pool, "THREADS", threads)
        assert (len(pool.spans(rows.size, each=300, multiple=8)) > 1) == (threads > 1)
        results.append(gathered_product(x, rows, columns, b))
    assert np.array_equal(results[0], results[1])
    assert np.array_equal(results[0], results[2])


@given(n=st.integers(0, 10_000_000), each=st.integers(1, 100), multiple=st.sampled_from([1, 8]))
def test_spans_cover_the_range_in_order(n, each, multiple):
    found = pool.spans(n, each=each, multiple=multiple)
    assert found[0][0] == 0
    assert found[-1][1] == n
    assert all(a[1] == b[0] and b[0] % multiple == 0 for a, b in pairwise(found))


def test_error_in_another_thread_reaches_the_caller():
    def work(start, stop):
        if start:
            raise ValueError("in the second part")

    with pytest.raises(ValueError, match="second part"):
        pool.in_parts(work, [(0, 1), (1, 2)])


def test_threads_that_hand_out_work_at_once_get_their_own_results():
    found = {}

    def ask(number):
        found[number] = [
            pool.in_parts(lambda start, stop: (number, start, stop), [(k, k + 1) for k in range(5)])
            for _ in range(300)
        ]

    askers = [threading.Thread(target=ask, args=(number,)) for number in range(4)]
    for asker in askers:
        asker.start()
    for asker in askers:
        asker.join()
    assert found == {number: [[(number, k, k + 1) for k in range(5)]] * 300 for number in range(4)}


def test_threads_that_multiply_at_once_get_their_own_results():
    rng = np.random.default_rng(0)
    pairs = [(rng.normal(size=(200 + 8 * k, 90)), rng.normal(size=(90, 100))) for k in range(3)]
    found = {}

    def multiply(number):
        found[number] = [product(*pairs[number]) for _ in range(100)]

    askers = [threading.Thread(target=multiply, args=(number,)) for number in range(3)]
    for asker in askers:
        asker.start()
    for asker in askers:
        asker.join()
    for number, (a, b) in enumerate(pairs):
        for result in found[number]:
            np.testing.assert_allclose(result, a @ b, atol=1e-11)


def test_arrays_of_finished_work_are_let_go():
    array = np.ones(10)
    alive = weakref.ref(array)
    pool.in_parts(lambda start, stop, held=array: held.sum(), [(0, 1), (1, 2), (2, 3)])
    del array
    until = time.perf_counter() + 5
    while alive() is not None and time.perf_counter() < until:
        time.sleep(0.01)
    assert alive() is None
