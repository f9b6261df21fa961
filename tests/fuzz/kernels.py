"""Every fused operation with each argument of each wrong size, rank, dtype and layout, with kernels
and without.

An attempt is right if both give the same, forward and back, or both refuse in the same words'
class. Anything else is reported.
"""

import warnings
from itertools import pairwise

import numpy as np

import vinestep as vs
from vinestep.autodiff.fused import FUSED
from vinestep.errors import VineStepError
from vinestep.kernels import SWITCH
from vinestep.layers._block_codes import coded
from vinestep.layers._dense_chain import ChainPlan
from vinestep.layers._learning_pass import Stream
from vinestep.layers._window_geometry import plan_windows
from vinestep.parts._registry import library

library()  # every operation registers itself where it is defined
ACTIVATIONS = ("none", "relu", "tanh", "sigmoid", "leaky_relu")
KINDS = ("f2", "f4", "f8", ">f4", ">f8", "g", "i1", "u1", "i8", "u8", "?", "c8", "U3", "O")
TOLERANCES = {2: 2e-2, 4: 1e-3}
LAYOUTS = ("F", "stepped", "reversed", "read-only", "shifted", "repeated")


def choice(rng, *options):
    return options[int(rng.integers(len(options)))]


def some(rng, *shape, dtype):
    return rng.uniform(-2, 2, shape).astype(dtype)


def dense(rng, dtype):
    n, n_in, n_out = choice(rng, 1, 3, 9, 300), choice(rng, 1, 2, 7, 70), choice(rng, 1, 3, 90)
    lead = choice(rng, (n,), (2, n), (0,))
    activation = {"activation": choice(rng, *ACTIVATIONS), "slope": 0.2}
    return [
        some(rng, *lead, n_in, dtype=dtype),
        some(rng, n_in, n_out, dtype=dtype),
        some(rng, n_out, dtype=dtype),
    ], activation


def chain(rng, dtype):
    widths = choice(rng, (1, 1, 1), (4, 8, 3), (3, 2, 5, 2), (70, 80, 90), (5, 5, 5))
    pairs = list(pairwise(widths))
    flat = some(rng, sum(a * b + b for a, b in pairs), dtype=dtype) / 2
    weights, start = [], 0
    for a, b in pairs:
        weights += [
            flat[start : start + a * b].reshape(a, b),
            flat[start + a * b : start + a * b + b],
        ]
        start += a * b + b
    if rng.random() < 0.2:  # the same layer twice, where that is possible
        weights = weights[:2] * len(pairs) if len(set(widths)) == 1 else [w.copy() for w in weights]
    dropouts = [choice(rng, None, vs.Dropout(0.3)) for _ in pairs]
    plan = ChainPlan.of([(choice(rng, *ACTIVATIONS), 0.1) for _ in pairs], weights, dropouts)
    streams = tuple(None if dropout is None else a_stream(rng) for dropout in dropouts)
    x = some(rng, choice(rng, 0, 1, 5, 9, 200), widths[0], dtype=dtype)
    return [x, *weights], {"plan": plan, "streams": streams}


def a_stream(rng):
    return Stream(int(rng.integers(2**64, dtype=np.uint64)), int(rng.integers(1, 2**40)), 0)


def dropout(rng, dtype):
    x = some(rng, *choice(rng, (0, 3), (7,), (5, 6), (3, 4, 5), (300, 200)), dtype=dtype)
    return [x], {"dropout": vs.Dropout(float(rng.random())), "stream": a_stream(rng)}


def convolution(rng, dtype):
    groups, n_in, n_out = choice(rng, (1, 1, 1), (1, 3, 4), (2, 4, 6), (4, 4, 8), (1, 12, 10))
    ndim = int(rng.integers(1, 4))
    space, size = (
        choice(rng, (5, 4, 3), (1, 2, 3), (6, 6, 1))[:ndim],
        choice(rng, (1, 1, 1), (2, 1, 3), (3, 3, 3))[:ndim],
    )
    stride, dilation = choice(
        rng, ((1,) * ndim, (1,) * ndim), ((2,) * ndim, (1,) * ndim), ((1,) * ndim, (2,) * ndim)
    )
    plan = plan_windows("fuzz", space, size, stride, dilation, choice(rng, "same", 4))
    arrays = [
        some(rng, choice(rng, 0, 1, 3), *space, n_in, dtype=dtype),
        some(rng, *size, n_in // groups, n_out, dtype=dtype),
    ]
    return [*arrays, some(rng, n_out, dtype=dtype)], {
        "plan": plan,
        "groups": groups,
        "activation": choice(rng, *ACTIVATIONS),
        "slope": 0.2,
    }


def max_pool(rng, dtype):
    ndim = int(rng.integers(1, 4))
    space, size = (
        choice(rng, (5, 4, 3), (1, 2, 3), (6, 6, 1))[:ndim],
        choice(rng, (1, 1, 1), (2, 1, 3), (3, 3, 3))[:ndim],
    )
    plan = plan_windows("fuzz", space, size, (2,) * ndim, (1,) * ndim, "same")
    return [some(rng, choice(rng, 0, 1, 3), *space, choice(rng, 1, 3, 9), dtype=dtype)], {
        "plan": plan
    }


def norm(rng, dtype):
    lead, width = choice(rng, (2, 1), (7, 3), (300,), (4, 5, 2)), choice(rng, 1, 2, 5, 70)
    return [
        some(rng, *lead, width, dtype=dtype),
        some(rng, width, dtype=dtype),
        some(rng, width, dtype=dtype),
    ], {"epsilon": 1e-2}


def batch_norm(rng, dtype):
    inputs, options = norm(rng, dtype)
    return inputs, options | {"activation": choice(rng, "none", "relu")}


def group_norm(rng, dtype):
    lead, groups = choice(rng, (2, 1), (7, 3), (300,), (4, 5, 2)), choice(rng, 1, 2, 5)
    width = groups * choice(rng, 1, 2, 14)
    return [
        some(rng, *lead, width, dtype=dtype),
        some(rng, width, dtype=dtype),
        some(rng, width, dtype=dtype),
    ], {"groups": groups, "epsilon": 1e-2}


def embedding(rng, dtype):
    ids = rng.integers(0, 5, choice(rng, (0,), (7,), (2, 3), ())).astype(
        choice(rng, "i8", "i4", "u1", "u8")
    )
    if rng.random() < 0.2 and ids.size:
        ids.reshape(-1)[int(rng.integers(ids.size))] = choice(rng, 5, 127)
    return [some(rng, 5, choice(rng, 1, 4), dtype=dtype), ids], {}


def lstm(rng, dtype):
    batch, time, width, n_in = choice(rng, (1, 1, 1, 2), (3, 4, 2, 1), (2, 5, 3, 4), (9, 3, 8, 8))
    shapes = [
        (batch, time, n_in),
        (n_in, 4 * width),
        (width, 4 * width),
        (4 * width,),
        (batch, width),
        (batch, width),
    ]
    mask = (
        np.arange(time)[None, :] < rng.integers(1, time + 1, batch)[:, None]
        if rng.random() < 0.5
        else None
    )
    return [some(rng, *shape, dtype=dtype) for shape in shapes], {
        "mask": mask,
        "backwards": bool(rng.random() < 0.5),
    }


def softmax(rng, dtype):
    x = some(rng, *choice(rng, (1, 1), (3, 5), (2, 3, 4), (0, 3), (4, 0), (7,)), dtype=dtype)
    return [x], {"axis": int(rng.integers(-x.ndim, x.ndim))}


def elementwise(rng, dtype):
    return [some(rng, *choice(rng, (), (0,), (1,), (7, 3), (2, 3, 4)), dtype=dtype)], {}


def attention(rng, dtype):
    batch, heads, time, keys, each = choice(
        rng, (1, 1, 8, 8, 8), (2, 3, 9, 21, 10), (3, 2, 1, 8, 16), (2, 1, 5, 3, 2), (0, 2, 4, 4, 2)
    )
    hidden = choice(rng, None, (1, time, keys), (batch, 1, keys), (batch, time, keys))
    options = {"heads": heads, "hidden": None if hidden is None else rng.random(hidden) < 0.4}
    options["factors"] = (
        (rng.random((batch, heads, time, keys)) < 0.5).astype(dtype) * 2
        if rng.random() < 0.3
        else None
    )
    return [some(rng, batch, n, heads * each, dtype=dtype) for n in (time, keys, keys)], options


def stacked_attention(rng, dtype):
    batch, heads, time, each = choice(rng, (1, 1, 8, 8), (2, 3, 9, 10), (3, 2, 3, 4))
    hidden = rng.random((batch, 1, time)) < 0.4 if rng.random() < 0.5 else None
    return [some(rng, 3, batch, time, heads * each, dtype=dtype)], {
        "heads": heads,
        "hidden": hidden,
        "factors": None,
    }


def projections(rng, dtype):
    lead, n_in, n_out = choice(rng, ((2,), 3, 4), ((3, 5), 4, 2), ((4, 20), 64, 100))
    shapes = [(*lead, n_in), *[(n_in, n_out), (n_out,)] * int(rng.integers(1, 4))]
    return [some(rng, *shape, dtype=dtype) for shape in shapes], {}


def cross_entropy(rng, dtype):
    n, k = choice(rng, 1, 2, 7), choice(rng, 1, 2, 64, 65)
    labels = rng.integers(0, k, n).astype(choice(rng, "i8", "i4", "u1"))
    if rng.random() < 0.2:
        labels[0] = k
    return [some(rng, n, k, dtype=dtype), labels], {"reduction": choice(rng, "mean", "sum", "none")}


def squared_error(rng, dtype):
    shape = choice(rng, (1,), (7,), (3, 2), ())
    return [some(rng, *shape, dtype=dtype), some(rng, *shape, dtype=dtype)], {
        "reduction": choice(rng, "mean", "sum", "none")
    }


def coded_product(rng, dtype):
    n_in, n_out, transposed = (
        choice(rng, 1, 7, 40, 130),
        choice(rng, 1, 3, 9, 100),
        bool(rng.random() < 0.5),
    )
    weight = coded(rng.normal(size=(n_in, n_out)), bits=choice(rng, 4, 8), block=16)
    width, out = (n_out, n_in) if transposed else (n_in, n_out)
    lead = choice(rng, (0,), (1,), (2, 3), (20,), ())
    return [some(rng, *lead, width, dtype=dtype), some(rng, out, dtype=dtype)], {
        "weight": weight,
        "transposed": transposed,
    }


CASES = {
    "attention": attention,
    "stacked attention": stacked_attention,
    "projections": projections,
    "coded product": coded_product,
    "softmax": softmax,
    "gelu_tanh": elementwise,
    "silu": elementwise,
    "group norm": group_norm,
    "relu": elementwise,
    "lstm": lstm,
    "embedding": embedding,
    "convolution": convolution,
    "max pool": max_pool,
    "batch norm": batch_norm,
    "layer norm": norm,
    "dense": dense,
    "dense chain": chain,
    "dropout": dropout,
    "cross_entropy": cross_entropy,
    "squared_error": squared_error,
}


def laid_out(array, layout):
    """The same numbers, lying differently."""
    if layout == "F":
        return np.asfortranarray(array)
    if layout == "stepped" and array.ndim:
        wide = np.zeros((*array.shape[:-1], array.shape[-1] * 2), array.dtype)
        wide[..., ::2] = array
        return wide[..., ::2]
    if layout == "reversed" and array.ndim:
        return np.ascontiguousarray(array[::-1])[::-1]
    if layout == "shifted":
        room = np.zeros(array.nbytes + 1, np.uint8)
        moved = np.ndarray(array.shape, array.dtype, room.data, 1)
        moved[...] = array
        return moved
    if layout == "repeated" and array.ndim:
        return np.broadcast_to(array[:1], array.shape)
    changed = np.array(array)
    changed.flags.writeable = False
    return changed


def resized(rng, array):
    """One axis longer, shorter, empty, gone, or one more."""
    if not array.ndim or rng.random() < 0.3:
        return (
            array[None]
            if rng.random() < 0.5 or not array.ndim
            else array.reshape(array.shape[:-1] + (1,) + array.shape[-1:])
        )
    axis = int(rng.integers(array.ndim))
    if rng.random() < 0.2 and array.shape[axis]:
        return np.asarray(np.take(array, 0, axis=axis), array.dtype)
    wanted = choice(
        rng, array.shape[axis] + 1, array.shape[axis] - 1, 0, 1, 2 * array.shape[axis], 50
    )
    shape = [max(wanted, 0) if i == axis else n for i, n in enumerate(array.shape)]
    return (
        np.resize(array, shape).astype(array.dtype) if array.size else np.zeros(shape, array.dtype)
    )


def spoilt(rng, inputs, options):
    """One or two things changed."""
    inputs, options = list(inputs), dict(options)
    for _ in range(int(rng.integers(0, 3))):
        i, what = int(rng.integers(len(inputs))), rng.random()
        array = inputs[i]
        if what < 0.25:
            inputs[i] = resized(rng, array)
        elif what < 0.4 and array.dtype.kind != "U":
            with np.errstate(all="ignore"):
                inputs[i] = array.astype(choice(rng, *KINDS))
        elif what < 0.6:
            inputs[i] = laid_out(array, choice(rng, *LAYOUTS))
        elif what < 0.85 and array.dtype.kind == "f" and array.size:
            changed = np.array(array)
            changed.reshape(-1)[int(rng.integers(array.size))] = choice(
                rng, np.nan, np.inf, -np.inf
            )
            inputs[i] = changed
        elif "heads" in options:
            options["heads"] = choice(rng, 0, 1, 2, 3, 7)
        elif options.get("mask") is not None:
            options["mask"] = resized(rng, options["mask"])
        elif "axis" in options:
            options["axis"] = int(rng.integers(-4, 4))
    return inputs, options


def outcome(operation, inputs, options, tracked, rng_seed):
    """What came of it: arrays, or the refusal."""
    rng = np.random.default_rng(rng_seed)
    try:
        given = [
            vs.Tensor(x) if track and x.dtype.kind == "f" else x
            for x, track in zip(inputs, tracked, strict=True)
        ]
        value = operation(*given, **options)
        found = [np.asarray(vs.held(value))]
        targets = [t for t in given if isinstance(t, vs.Tensor)]
        if isinstance(value, vs.Tensor) and targets:
            seed = np.asarray(rng.uniform(-1, 1, value.shape)).astype(value.dtype)
            if rng.random() < 0.2 and seed.size:
                seed.reshape(-1)[int(rng.integers(seed.size))] = choice(rng, np.nan, np.inf)
            if rng.random() < 0.3:
                seed = laid_out(seed, choice(rng, *LAYOUTS))
            found += vs.differentiate(value, targets, seed=seed, unused="zeros")
        return found
    except VineStepError as error:
        return error


def same(ours, defined, inputs):
    """The same values to rounding, not-finite ones included. In derivatives of what is not finite
    it is not finite in the same places, and whether it is NaN or infinite there depends on the
    order of the arithmetic.
    """
    if isinstance(ours, VineStepError) or isinstance(defined, VineStepError):
        return type(ours) is type(defined)
    if len(ours) != len(defined):
        return False
    for number, (a, b) in enumerate(zip(ours, defined, strict=True)):
        if a.shape != b.shape or a.dtype != b.dtype:
            return False
        tolerance = TOLERANCES.get(
            min((x.dtype.itemsize for x in (a, *inputs) if x.dtype.kind == "f"), default=8), 1e-9
        )
        largest = np.max(np.abs(b[np.isfinite(b)]), initial=1.0) if a.dtype.kind == "f" else 1.0
        if number and a.dtype.kind == "f":
            a, b = (np.where(np.isfinite(x), x, np.nan) for x in (a, b))
        if not np.allclose(a, b, rtol=tolerance, atol=tolerance * largest, equal_nan=True):
            return False
    return True


def attempt(seed):
    """One call: "right", "refused", or what went wrong."""
    rng = np.random.default_rng([seed, 0xC0DE])
    name = list(CASES)[seed % len(CASES)]
    inputs, options = spoilt(rng, *CASES[name](rng, choice(rng, np.float32, np.float64)))
    tracked = rng.random(len(inputs)) < 0.8
    results = []
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        for on in (True, False):
            SWITCH.on = on
            try:
                results.append(outcome(FUSED[name], inputs, options, tracked, seed))
            except Exception as error:
                return (
                    f"raw {type(error).__name__} {'with' if on else 'without'} kernels in "
                    f"{name}: {error}"
                )
            finally:
                SWITCH.on = True
    if not same(*results, inputs):
        return (
            f"wrong: {name}, kernels and definition differ, shapes "
            f"{[x.shape for x in inputs]}, {[x.dtype.str for x in inputs]}"
        )
    return "refused" if isinstance(results[0], VineStepError) else "right"
