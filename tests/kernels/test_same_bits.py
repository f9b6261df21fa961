"""What a loop computes does not depend on where its arrays lie."""

import ast
from pathlib import Path

import numpy as np
import pytest

import vinestep
from vinestep import kernels

LOOPS = sorted((Path(vinestep.__file__).parent / "kernels" / "loops").glob("*.py"))


def _sums_while_writing(loop):
    """Whether a loop without loops inside adds up a number and writes to an array."""
    inside = [node for child in loop.body for node in ast.walk(child)]
    if any(isinstance(node, ast.For | ast.While) for node in inside):
        return False
    sums = [node for node in inside if isinstance(node, ast.AugAssign) and _adds_numbers(node)]
    writes = [
        node
        for node in inside
        if isinstance(node, ast.Assign | ast.AugAssign)
        for target in (node.targets if isinstance(node, ast.Assign) else [node.target])
        if isinstance(target, ast.Subscript)
    ]
    return bool(sums and writes)


def _adds_numbers(node):
    """Not ``place += 1`` and the like: whole numbers come out the same in any order."""
    return (
        isinstance(node.target, ast.Name)
        and not isinstance(node.value, ast.Constant)
        and node.target.id not in {"place", "o"}
    )


@pytest.mark.parametrize("path", LOOPS, ids=lambda path: path.stem)
def test_no_loop_sums_while_it_writes(path):
    found = [
        f"{path.name}:{node.lineno}"
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.For) and _sums_while_writing(node)
    ]
    assert not found


def placed(arrays, gaps):
    """Copies of arrays in one piece of memory, so many elements apart."""
    sizes = [array.size for array in arrays]
    memory = np.empty(sum(sizes) + sum(gaps), arrays[0].dtype)
    result, at = [], 0
    for array, gap in zip(arrays, gaps, strict=True):
        at += gap
        own = memory[at : at + array.size].reshape(array.shape)
        own[...] = array
        result.append(own)
        at += array.size
    return result


def squared_error(rng, kind):
    arrays = [rng.normal(size=21).astype(kind) for _ in range(3)]
    return arrays, lambda p, t, s: (kernels.losses.squared_error(p, t, s), s)


def cross_entropy(rng, kind):
    labels = rng.integers(0, 21, 3)
    arrays = [rng.normal(size=shape).astype(kind) for shape in ((3, 21), (3,), (3, 21))]
    return arrays, lambda x, e, s: (*kernels.losses.cross_entropy(x, labels, e, s, 0.5), e, s)


def rows_adjoint(rng, kind):
    shapes = ((3, 21), (3, 21), (21,), (3,), (3,), (3, 21))
    arrays = [rng.normal(size=shape).astype(kind) for shape in shapes]
    board = np.zeros(64, np.int64)
    return arrays, lambda *a: (kernels.normalisation.rows_adjoint(board, 1, *a), a[-1])


def chain_adjoint(rng, kind):
    layers, slopes = np.array([[21, 19, 3], [0, 2, 0], [0, 2**23, 0]]), np.zeros(2, kind)
    words, scales = np.array([0, 0, 2**60, 1], np.uint64), np.array([1, 2], kind)
    shapes = ((9, 3), (9, 21), (21 * 19 + 19 + 19 * 3 + 3,), (9 * (22 + 3 * 21 + 2),))
    arrays = [rng.normal(size=shape).astype(kind) for shape in (*shapes, shapes[2], (9, 21))]

    def call(g, x, theta, values, gradient, gx):
        chain = (x, theta, layers, slopes, words, scales, values)
        kernels.small_dense_chain.forward(*chain)
        kernels.small_dense_chain.adjoint(g, *chain, gradient, gx, True)
        return gradient, gx

    return arrays, call


@pytest.mark.skipif(not kernels.usable(), reason="the loops do not run here")
@pytest.mark.parametrize("kind", ["float32", "float64"])
@pytest.mark.parametrize("make", [squared_error, cross_entropy, rows_adjoint, chain_adjoint])
def test_bits_do_not_depend_on_where_arrays_lie(make, kind):
    rng = np.random.default_rng(0)
    for _ in range(20):
        arrays, call = make(rng, kind)
        results = []
        for gaps in ([0] * len(arrays), [70] * len(arrays), *rng.integers(0, 40, (8, len(arrays)))):
            order = rng.permutation(len(arrays))
            lying = placed([arrays[i] for i in order], list(gaps))
            back = [lying[i] for i in np.argsort(order)]
            results.append(b"".join(np.asarray(r).tobytes() for r in call(*back)))
        assert len(set(results)) == 1
