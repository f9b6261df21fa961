"""Every kernel against its definition: forward and adjoint, over shapes, dtypes, strides and edge
sizes.
"""

import subprocess
import sys
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

import vinestep as vs
from vinestep import kernels
from vinestep.autodiff.fused import FUSED
from vinestep.layers._block_codes import coded
from vinestep.layers._dense_chain import ChainPlan
from vinestep.layers._learning_pass import Stream
from vinestep.layers._window_geometry import plan_windows
from vinestep.parts._registry import library

library()  # every operation registers itself where it is defined
sizes = st.sampled_from([0, 1, 2, 3, 7])
many = settings(
    max_examples=40, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True
)


def numbers(draw, shape, dtype, low=-2.0, high=2.0):
    """An array, in one of several layouts in memory."""
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    array = rng.uniform(low, high, shape).astype(dtype)
    layout = draw(st.sampled_from(["C", "F", "stepped", "reversed"]))
    if layout == "F":
        return np.asfortranarray(array)
    if layout == "stepped":
        wide = np.zeros((*shape[:-1], shape[-1] * 2), dtype) if shape else array
        wide[..., ::2] = array
        return wide[..., ::2]
    return array[::-1] if layout == "reversed" and shape else array


def alignment_case(draw, dtype):
    rng = np.random.default_rng(draw(st.integers(0, 999)))
    n, time, classes = draw(st.integers(1, 3)), draw(st.integers(4, 6)), draw(st.integers(1, 3))
    labels = rng.integers(0, classes, (n, 2))
    labels[rng.random(n) < 0.3, 1] = -1
    return [rng.normal(size=(n, time, classes + 1)).astype(dtype), labels], {}


def dense_case(draw, dtype):
    n, n_in, n_out = (
        draw(sizes),
        draw(st.sampled_from([1, 2, 7])),
        draw(st.sampled_from([1, 3, 90])),
    )
    lead = draw(st.sampled_from([(n,), (2, n)]))
    options = draw(
        st.sampled_from(
            [
                {},
                *({"activation": a} for a in ("relu", "tanh", "sigmoid")),
                {"activation": "leaky_relu", "slope": 0.2},
            ]
        )
    )
    rows = 100 if n == 7 and len(lead) == 1 else n
    x = numbers(draw, (*lead[:-1], rows, n_in), dtype)
    return [
        x,
        np.ascontiguousarray(numbers(draw, (n_in, n_out), dtype)),
        np.ascontiguousarray(numbers(draw, (n_out,), dtype)),
    ], options


def chain_case(draw, dtype):
    widths = draw(
        st.sampled_from([(1, 1, 1), (4, 8, 3), (3, 2, 5, 2), (70, 80, 90), (70, 80, 3, 1)])
    )
    flat = numbers(draw, (sum(a * b + b for a, b in pairwise(widths)),), dtype, -0.5, 0.5).copy()
    weights, start = [], 0
    for a, b in pairwise(widths):
        weights += [
            flat[start : start + a * b].reshape(a, b),
            flat[start + a * b : start + a * b + b],
        ]
        start += a * b + b
    names = [("relu", 0.0), ("tanh", 0.0), ("sigmoid", 0.0), ("leaky_relu", 0.1), ("none", 0.0)]
    dropouts = [draw(st.sampled_from([None, vs.Dropout(0.3)])) for _ in widths[1:]]
    plan = ChainPlan.of([draw(st.sampled_from(names)) for _ in widths[1:]], weights, dropouts)
    lead = draw(st.sampled_from([(draw(sizes),), (8,), (2, 5)]))
    x = numbers(draw, (*lead, widths[0]), dtype)
    streams = tuple(None if dropout is None else a_stream(draw) for dropout in dropouts)
    return [x, *weights], {"plan": plan, "streams": streams}


def a_stream(draw):
    return Stream(draw(st.integers(0, 2**64 - 1)), draw(st.sampled_from([1, 1000, 2**40])), 0)


def dropout_case(draw, dtype):
    shape = draw(st.sampled_from([(0, 3), (1,), (7, 5), (2, 3, 4)]))
    probability = draw(st.sampled_from([0.1, 0.5, 1 - 2**-20]))
    options = {"dropout": vs.Dropout(probability), "stream": a_stream(draw)}
    return [numbers(draw, shape, dtype)], options


def cross_entropy_case(draw, dtype):
    n, k = draw(st.sampled_from([1, 2, 7])), draw(st.sampled_from([1, 2, 64, 65]))
    labels = np.random.default_rng(n).integers(0, k, n)
    return [numbers(draw, (n, k), dtype), labels], {
        "reduction": draw(st.sampled_from(["mean", "sum", "none"]))
    }


def squared_error_case(draw, dtype):
    shape = draw(st.sampled_from([(1,), (7,), (3, 2)]))
    return [numbers(draw, shape, dtype), numbers(draw, shape, dtype)], {
        "reduction": draw(st.sampled_from(["mean", "sum", "none"]))
    }


def spatial(draw, dtype, channels):
    ndim = draw(st.integers(1, 3))
    return numbers(
        draw,
        (draw(sizes), *draw(st.sampled_from([(5, 4, 3), (1, 2, 3), (6, 6, 1)]))[:ndim], channels),
        dtype,
    ), ndim


activations = st.sampled_from(
    [
        {"activation": name, "slope": 0.2}
        for name in ("none", "relu", "tanh", "sigmoid", "leaky_relu")
    ]
)


def convolution_case(draw, dtype):
    groups, n_in, n_out = draw(
        st.sampled_from([(1, 1, 1), (1, 3, 4), (2, 4, 6), (4, 4, 8), (1, 12, 10), (2, 18, 40)])
    )
    x, ndim = spatial(draw, dtype, n_in)
    size = draw(st.sampled_from([(1, 1, 1), (2, 1, 3), (3, 3, 3)]))[:ndim]
    stride, dilation = draw(
        st.sampled_from(
            [((1,) * ndim, (1,) * ndim), ((2,) * ndim, (1,) * ndim), ((1,) * ndim, (2,) * ndim)]
        )
    )
    plan = plan_windows(
        "test", x.shape[1:-1], size, stride, dilation, draw(st.sampled_from(["same", 4]))
    )
    weight = np.ascontiguousarray(numbers(draw, (*size, n_in // groups, n_out), dtype))
    return [x, weight, numbers(draw, (n_out,), dtype)], {"plan": plan, "groups": groups} | draw(
        activations
    )


def max_pool_case(draw, dtype):
    x, ndim = spatial(draw, dtype, 3)
    size = draw(st.sampled_from([(1, 1, 1), (2, 1, 3), (3, 3, 3)]))[:ndim]
    return [x], {
        "plan": plan_windows("test", x.shape[1:-1], size, (2,) * ndim, (1,) * ndim, "same")
    }


def batch_norm_case(draw, dtype):
    inputs, options = norm_case(draw, dtype)
    return inputs, options | {"activation": draw(st.sampled_from(["none", "relu"]))}


def norm_case(draw, dtype):
    n, width = draw(st.sampled_from([(2, 1), (7, 3), (300, 5)])), draw(st.sampled_from([2, 5, 70]))
    return [
        numbers(draw, (*n, width), dtype),
        numbers(draw, (width,), dtype),
        numbers(draw, (width,), dtype),
    ], {"epsilon": 1e-2}


def group_norm_case(draw, dtype):
    lead = draw(st.sampled_from([(2,), (3, 1), (7, 3), (2, 3, 4), (40, 9)]))
    groups, each = draw(st.sampled_from([(1, 3), (2, 1), (4, 3)]))
    width = groups * each
    return [
        numbers(draw, (*lead, width), dtype),
        numbers(draw, (width,), dtype),
        numbers(draw, (width,), dtype),
    ], {"groups": groups, "epsilon": 1e-2}


def embedding_case(draw, dtype):
    ids = np.random.default_rng(draw(st.integers(0, 99))).integers(
        0, 5, draw(st.sampled_from([(0,), (7,), (2, 3)]))
    )
    return [numbers(draw, (5, draw(st.sampled_from([1, 4]))), dtype), ids], {}


def lstm_case(draw, dtype):
    batch, time, width = draw(st.sampled_from([(1, 1, 1), (3, 4, 2), (2, 5, 3)]))
    some = [
        (batch, time, 2),
        (2, 4 * width),
        (width, 4 * width),
        (4 * width,),
        (batch, width),
        (batch, width),
    ]
    mask = (
        np.arange(time)[None, :] < np.arange(1, batch + 1)[:, None] if draw(st.booleans()) else None
    )
    return [numbers(draw, shape, dtype) for shape in some], {
        "mask": mask,
        "backwards": draw(st.booleans()),
    }


def softmax_case(draw, dtype):
    x = numbers(draw, draw(st.sampled_from([(1, 1), (3, 5), (2, 3, 4), (0, 3)])), dtype)
    return [x], {"axis": draw(st.integers(-x.ndim, x.ndim - 1)) if x.size else -1}


def gelu_case(draw, dtype):
    return [numbers(draw, draw(st.sampled_from([(0,), (1,), (7, 3), (2, 3, 4)])), dtype)], {}


def attention_case(draw, dtype):
    batch, heads, time, places, each = draw(
        st.sampled_from([(1, 1, 8, 8, 8), (2, 3, 9, 21, 10), (3, 2, 33, 8, 16)])
    )
    inputs = [numbers(draw, (batch, n, heads * each), dtype) for n in (time, places, places)]
    rng = np.random.default_rng(draw(st.integers(0, 9)))
    hidden = draw(
        st.sampled_from([None, (1, time, places), (batch, 1, places), (batch, time, places)])
    )
    factors = (
        rng.integers(0, 2, (batch, heads, time, places)).astype(dtype) * 2
        if draw(st.booleans())
        else None
    )
    return inputs, {
        "heads": heads,
        "hidden": None if hidden is None else rng.random(hidden) < 0.4,
        "factors": factors,
    }


def stacked_attention_case(draw, dtype):
    batch, heads, time, each = draw(st.sampled_from([(1, 1, 8, 8), (2, 3, 9, 10), (3, 2, 33, 16)]))
    hidden = (
        np.random.default_rng(0).random((batch, 1, time)) < 0.4 if draw(st.booleans()) else None
    )
    return [numbers(draw, (3, batch, time, heads * each), dtype)], {
        "heads": heads,
        "hidden": hidden,
        "factors": None,
    }


def projections_case(draw, dtype):
    n, n_in, n_out = draw(
        st.sampled_from([((2,), 3, 4), ((3, 5), 4, 2), ((4, 20), 64, 100), ((700,), 128, 130)])
    )
    shapes = [(*n, n_in), *[(n_in, n_out), (n_out,)] * draw(st.integers(1, 3))]
    return [np.ascontiguousarray(numbers(draw, shape, dtype)) for shape in shapes], {}


def coded_case(draw, dtype):
    (n_in, n_out), transposed = (
        draw(st.sampled_from([(1, 1), (7, 3), (40, 100), (130, 9)])),
        draw(st.booleans()),
    )
    weight = coded(
        np.random.default_rng(n_in).normal(size=(n_in, n_out)),
        bits=draw(st.sampled_from([4, 8])),
        block=16,
    )
    width, out = (n_out, n_in) if transposed else (n_in, n_out)
    lead = draw(st.sampled_from([(1,), (2, 3), (20,)]))
    return [numbers(draw, (*lead, width), dtype), numbers(draw, (out,), dtype)], {
        "weight": weight,
        "transposed": transposed,
    }


CASES = {
    "coded product": coded_case,
    "attention": attention_case,
    "stacked attention": stacked_attention_case,
    "projections": projections_case,
    "softmax": softmax_case,
    "gelu_tanh": gelu_case,
    "silu": gelu_case,
    "group norm": group_norm_case,
    "relu": gelu_case,
    "lstm": lstm_case,
    "embedding": embedding_case,
    "convolution": convolution_case,
    "max pool": max_pool_case,
    "batch norm": batch_norm_case,
    "layer norm": norm_case,
    "dense": dense_case,
    "dense chain": chain_case,
    "dropout": dropout_case,
    "cross_entropy": cross_entropy_case,
    "squared_error": squared_error_case,
    "temporal classification": alignment_case,
}


def test_every_kernel_has_a_case():
    assert set(FUSED) - {"softly"} == set(CASES)


@pytest.mark.parametrize("dtype", [np.float32, np.float64])
@pytest.mark.parametrize("name", list(CASES))
@many
@given(data=st.data())
def test_kernel_agrees_with_its_definition(name, dtype, data):
    operation = FUSED[name]
    inputs, options = CASES[name](data.draw, dtype)
    tolerance = (
        {"rtol": 2e-4, "atol": 2e-5} if dtype == np.float32 else {"rtol": 1e-9, "atol": 1e-12}
    )
    results = []
    for f in (operation, operation.definition):
        tracked = [vs.Tensor(x) if x.dtype.kind == "f" else x for x in inputs]
        value = f(*tracked, **options)
        seed = np.cos(np.arange(value.size)).reshape(value.shape).astype(dtype)
        targets = [t for t in tracked if isinstance(t, vs.Tensor)]
        results.append((value.array, vs.differentiate(value, targets, seed=seed)))
    np.testing.assert_allclose(results[0][0], results[1][0], **tolerance)
    for ours, defined in zip(results[0][1], results[1][1], strict=True):
        assert ours.dtype == dtype
        np.testing.assert_allclose(ours, defined, **tolerance)


@pytest.mark.parametrize("tracked", [(0,), (1,), (2, 3), (5,), (6,), (0, 4)])
def test_a_chain_differentiates_by_some_of_its_parameters(tracked, rng):
    widths = (70, 80, 90, 3)
    weights = [rng.normal(size=shape) for a, b in pairwise(widths) for shape in ((a, b), (b,))]
    flat = np.concatenate([w.ravel() for w in weights])
    views = [
        part.reshape(w.shape)
        for part, w in zip(
            np.split(flat, np.cumsum([w.size for w in weights])[:-1]), weights, strict=True
        )
    ]
    dropouts = (vs.Dropout(0.2), None, vs.Dropout(0.5))
    plan = ChainPlan.of([("relu", 0.0), ("tanh", 0.0), ("none", 0.0)], views, dropouts)
    streams = Stream(1234, 1, 0), None, Stream(2**63 + 5, 1, 0)
    found = []
    for f in (FUSED["dense chain"], FUSED["dense chain"].definition):
        inputs = [
            vs.Tensor(a) if k in tracked else a
            for k, a in enumerate([np.cos(np.arange(700.0)).reshape(10, 70), *views])
        ]
        found.append(
            vs.differentiate(
                f(*inputs, plan=plan, streams=streams),
                [inputs[k] for k in tracked],
                seed=np.ones((10, 3)),
            )
        )
    for ours, defined in zip(*found, strict=True):
        np.testing.assert_allclose(ours, defined, rtol=1e-9, atol=1e-9)


def test_with_kernels_off_the_definitions_run(monkeypatch, rng):
    x, labels = rng.normal(size=(6, 4)).astype(np.float32), rng.integers(0, 3, 6)
    losses = []
    for on in (True, False):
        monkeypatch.setattr(kernels.SWITCH, "on", on)
        training = vs.Training(
            vs.Stack(vs.Dense(5), vs.relu, vs.Dense(3)), loss=vs.losses.cross_entropy
        )
        losses.append([training.step((x, labels)).loss for _ in range(5)])
    np.testing.assert_allclose(*losses, rtol=1e-4)
    code = "from vinestep import kernels; import sys; sys.exit(kernels.usable())"
    assert (
        subprocess.run(
            [sys.executable, "-c", code], env={"VINESTEP_KERNELS": "off"}, check=False
        ).returncode
        == 0
    )
