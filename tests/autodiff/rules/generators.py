"""For every rule, inputs to test it on: ``GENERATORS[function](draw)`` gives a function and its
arrays.

Values are kept off kinks: elements that are compared differ by at least a gap, steps are taken well
inside.
"""

import numpy as np
from hypothesis import strategies as st
from hypothesis.extra.numpy import array_shapes, mutually_broadcastable_shapes
from scipy import special

GENERATORS = {}
shapes = array_shapes(min_dims=0, max_dims=3, min_side=0, max_side=3)
solid_shapes = array_shapes(min_dims=1, max_dims=3, min_side=1, max_side=3)
seeds = st.integers(0, 2**32 - 1)


def generator(*functions):
    def register(make):
        for function in dict.fromkeys(functions):
            assert function not in GENERATORS, function
            GENERATORS[function] = lambda draw, function=function: make(draw, function)
        return make

    return register


def uniform(draw, shape, low=-2.0, high=2.0):
    return np.random.default_rng(draw(seeds)).uniform(low, high, shape)


def distinct(draw, *some_shapes):
    """Arrays of elements that all differ by at least 0.1 from one another and from zero."""
    rng = np.random.default_rng(draw(seeds))
    sizes = [int(np.prod(s)) for s in some_shapes]
    total = sum(sizes)
    values = (rng.permutation(total) - total // 2 + 0.5) * 0.3 + rng.uniform(-0.1, 0.1, total)
    parts = np.split(values, np.cumsum(sizes)[:-1])
    return [p.reshape(s) for p, s in zip(parts, some_shapes, strict=True)]


def between_steps(draw, shape):
    rng = np.random.default_rng(draw(seeds))
    return (
        rng.integers(-3, 3, shape)
        + rng.uniform(0.15, 0.35, shape)
        + 0.5 * rng.integers(0, 2, shape)
    )


def pair(draw):
    return draw(
        mutually_broadcastable_shapes(num_shapes=2, max_dims=3, min_side=0, max_side=3)
    ).input_shapes


def axis_of(draw, ndim, *, none=True, several=False):
    options = [st.integers(-ndim, ndim - 1)] if ndim else []
    if none or not ndim:
        options.append(st.none())
    if several and ndim > 1:
        options.append(st.sampled_from([(0, 1), (-1, 0), tuple(range(ndim))]))
    return draw(st.one_of(options))


def unary(low, high, *functions):
    @generator(*functions)
    def _(draw, f):
        return f, [uniform(draw, draw(shapes), low, high)]


unary(
    -2,
    2,
    np.negative,
    np.positive,
    np.conjugate,
    np.square,
    np.exp,
    np.exp2,
    np.expm1,
    np.sin,
    np.cos,
    np.arctan,
)
unary(
    -2,
    2,
    np.sinh,
    np.cosh,
    np.tanh,
    np.arcsinh,
    np.degrees,
    np.rad2deg,
    np.radians,
    np.deg2rad,
    np.real,
    np.copy,
)
unary(0.3, 3, np.reciprocal, np.sqrt, np.cbrt, np.log, np.log2, np.log10, np.log1p)
unary(-0.8, 0.8, np.arcsin, np.arccos, np.arctanh, special.erfinv)
unary(-1.2, 1.2, np.tan)
unary(1.3, 3, np.arccosh)
unary(
    -2,
    2,
    special.erf,
    special.erfc,
    special.erfcx,
    special.ndtr,
    special.log_ndtr,
    special.expit,
    special.log_expit,
)
unary(-2, 2, special.i0, special.j0)
if hasattr(special, "softplus"):
    unary(-2, 2, special.softplus)
unary(-2, 2, special.i1, special.j1, np.sinc)
unary(0.1, 2, special.i0e, special.i1e)
unary(0.2, 0.8, special.ndtri, special.logit, special.entr)
unary(0.3, 1.7, special.erfcinv)
unary(0.8, 4, special.gammaln, special.gamma, special.rgamma, special.digamma)


@generator(np.absolute, np.fabs)
def _(draw, f):
    return f, distinct(draw, draw(shapes))


@generator(np.sign, np.floor, np.ceil, np.rint, np.trunc)
def _(draw, f):
    return f, [between_steps(draw, draw(shapes))]


@generator(np.round, np.around)
def _(draw, f):
    return f, [between_steps(draw, draw(shapes))]


@generator(np.nan_to_num)
def _(draw, f):
    return f, [uniform(draw, draw(shapes))]


@generator(np.add, np.subtract, np.multiply, np.arctan2, np.logaddexp, np.logaddexp2)
def _(draw, f):
    a, b = pair(draw)
    return f, [uniform(draw, a, 0.3, 2), uniform(draw, b, 0.3, 2)]


@generator(np.divide, np.power, np.float_power, np.hypot)
def _(draw, f):
    a, b = pair(draw)
    return f, [uniform(draw, a, 0.4, 2), uniform(draw, b, 0.4, 2)]


@generator(np.maximum, np.minimum, np.fmax, np.fmin, np.copysign)
def _(draw, f):
    return f, distinct(draw, *pair(draw))


@generator(np.heaviside)
def _(draw, f):
    return f, distinct(draw, *pair(draw))


@generator(np.fmod, np.remainder, np.floor_divide)
def _(draw, f):
    a, b = pair(draw)
    rng = np.random.default_rng(draw(seeds))
    return f, [
        rng.integers(0, 3, a) * 2.0 + rng.uniform(0.5, 1.5, a),
        np.full(b, 2.0) + rng.uniform(-0.05, 0.05, b),
    ]


@generator(np.ldexp)
def _(draw, f):
    return (lambda x: np.ldexp(x, 3)), [uniform(draw, draw(shapes))]


@generator(special.beta, special.betaln)
def _(draw, f):
    a, b = pair(draw)
    return f, [uniform(draw, a, 0.8, 3), uniform(draw, b, 0.8, 3)]


@generator(special.xlogy, special.xlog1py, special.rel_entr, special.kl_div)
def _(draw, f):
    a, b = pair(draw)
    return f, [uniform(draw, a, 0.4, 2), uniform(draw, b, 0.4, 2)]


@generator(special._ufuncs._zeta)
def _(draw, f):
    return (lambda q: special.zeta(2.5, q)), [uniform(draw, draw(shapes), 0.8, 3)]


@generator(np.where)
def _(draw, f):
    a, b = pair(draw)
    mask = uniform(draw, np.broadcast_shapes(a, b)) > 0
    return (lambda x, y: np.where(mask, x, y)), [uniform(draw, a), uniform(draw, b)]


@generator(np.select)
def _(draw, f):
    a, b = pair(draw)
    first, second = (
        uniform(draw, np.broadcast_shapes(a, b)) > 0,
        uniform(draw, np.broadcast_shapes(a, b)) > 0,
    )
    return (lambda x, y: np.select([first, second], [x, y], 0.5)), [
        uniform(draw, a),
        uniform(draw, b),
    ]


@generator(np.clip, np._core.umath.clip)
def _(draw, f):
    """Steps of 0.3 from 0.15, give or take 0.1, never come near to 0 or 0.9."""
    (x,) = distinct(draw, draw(shapes))
    return (lambda x: np.clip(x, 0.0, 0.9)), [x]


# reductions


def reduction(draw, f, x, **extra):
    axis = axis_of(draw, x.ndim, several=True)
    keepdims = draw(st.booleans())
    return (lambda x: f(x, axis=axis, keepdims=keepdims, **extra)), [x]


@generator(np.sum, np.prod)
def _(draw, f):
    x = uniform(draw, draw(shapes), 0.5, 1.5)
    if f is np.prod and x.size and draw(st.booleans()):
        x.flat[0] = 0.0
    extra = draw(st.sampled_from([{}, {"initial": 1.5}, {"where": uniform(draw, x.shape) > -1}]))
    return reduction(draw, f, x, **extra)


@generator(np.mean, np.var, np.std)
def _(draw, f):
    x = distinct(draw, draw(array_shapes(min_dims=1, max_dims=3, min_side=2, max_side=3)))[0]
    mask = np.ones(x.shape, bool)
    mask.flat[0] = draw(st.booleans())
    extra = draw(
        st.sampled_from([{}, {"where": mask}] + ([{"ddof": 1}] if f is not np.mean else []))
    )
    if "where" in extra and f is np.std:
        extra = {}
    return reduction(draw, f, x, **extra)


@generator(np.max, np.amax, np.min, np.amin)
def _(draw, f):
    x = distinct(draw, draw(solid_shapes))[0]
    mask = uniform(draw, x.shape) > -1
    edge = -9.0 if f in (np.max, np.amax) else 9.0
    return reduction(
        draw,
        f,
        x,
        **draw(st.sampled_from([{}, {"initial": edge}, {"initial": edge, "where": mask}])),
    )


@generator(np.ptp, np.median)
def _(draw, f):
    return reduction(draw, f, distinct(draw, draw(solid_shapes))[0])


@generator(np.average)
def _(draw, f):
    shape = draw(solid_shapes)
    axis = axis_of(draw, len(shape))
    if axis is not None and draw(st.booleans()):
        return (lambda x, w: np.average(x, axis=axis, weights=w)), [
            uniform(draw, shape),
            uniform(draw, shape[axis], 0.5, 1.5),
        ]
    return (lambda x, w: np.average(x, axis=axis, weights=w)), [
        uniform(draw, shape),
        uniform(draw, shape, 0.5, 1.5),
    ]


@generator(np.cumsum, np.cumprod)
def _(draw, f):
    x = uniform(draw, draw(array_shapes(min_dims=1, max_dims=3, min_side=0, max_side=3)), 0.5, 1.5)
    if f is np.cumprod and x.size and draw(st.booleans()):
        x.flat[-1] = 0.0
    axis = axis_of(draw, x.ndim)
    return (lambda x: f(x, axis=axis)), [x]


@generator(np.cumulative_sum, np.cumulative_prod)
def _(draw, f):
    x = uniform(draw, draw(solid_shapes), 0.5, 1.5)
    axis, start = draw(st.integers(-x.ndim, x.ndim - 1)), draw(st.booleans())
    return (lambda x: f(x, axis=axis, include_initial=start)), [x]


@generator(np.diff)
def _(draw, f):
    x = uniform(draw, draw(solid_shapes))
    axis, n = axis_of(draw, x.ndim, none=False), draw(st.integers(0, 2))
    return (lambda x: np.diff(x, n=n, axis=axis)), [x]


@generator(np.trapezoid)
def _(draw, f):
    x = uniform(draw, draw(solid_shapes))
    axis = axis_of(draw, x.ndim, none=False)
    nodes = np.sort(distinct(draw, (x.shape[axis],))[0])
    return (lambda y, x: np.trapezoid(y, x, axis=axis)), [x, nodes]


@generator(np.linalg.norm)
def _(draw, f):
    x = distinct(draw, draw(solid_shapes))[0]
    if x.ndim >= 2 and draw(st.booleans()):
        x = distinct(draw, (3, 2))[0]
        order = draw(st.sampled_from(["fro", "nuc", 2, -2, 1, -1, np.inf, -np.inf]))
        return (lambda x: np.linalg.norm(x, order, axis=(-2, -1))), [x]
    axis = axis_of(draw, x.ndim, none=False)
    order = draw(st.sampled_from([None, 1, 2, 3, 0.5, np.inf, -np.inf]))
    keepdims = draw(st.booleans())
    return (lambda x: np.linalg.norm(x, order, axis=axis, keepdims=keepdims)), [x]


@generator(np.linalg.vector_norm)
def _(draw, f):
    x = distinct(draw, draw(solid_shapes))[0]
    axis, keepdims = axis_of(draw, x.ndim, several=True), draw(st.booleans())
    return (lambda x: np.linalg.vector_norm(x, axis=axis, keepdims=keepdims)), [x]


@generator(np.linalg.matrix_norm)
def _(draw, f):
    return (lambda x: np.linalg.matrix_norm(x, keepdims=True)), distinct(draw, (2, 3, 2))


# shaping


@generator(np.reshape)
def _(draw, f):
    x = uniform(draw, draw(st.sampled_from([(2, 3), (6,), (1, 6), (3, 1, 2)])))
    target = draw(st.sampled_from([(3, 2), 6, (-1, 2), (2, 1, 3)]))
    order = draw(st.sampled_from("CF"))
    return (lambda x: np.reshape(x, target, order=order)), [x]


@generator(np.ravel, np.squeeze, np.atleast_1d, np.atleast_2d, np.atleast_3d)
def _(draw, f):
    return f, [uniform(draw, draw(shapes))]


@generator(np.fliplr, np.flipud)
def _(draw, f):
    return f, [uniform(draw, (2, 3))]


@generator(np.transpose, np.permute_dims)
def _(draw, f):
    x = uniform(draw, draw(shapes))
    axes = draw(st.one_of(st.none(), st.permutations(range(x.ndim))))
    axes = axes if axes is None else tuple(a - x.ndim if i % 2 else a for i, a in enumerate(axes))
    return (lambda x: f(x, axes)), [x]


@generator(np.moveaxis, np.swapaxes)
def _(draw, f):
    x = uniform(draw, draw(solid_shapes))
    axis = st.integers(-x.ndim, x.ndim - 1)
    a, b = draw(axis), draw(axis)
    return (lambda x: f(x, a, b)), [x]


@generator(np.rollaxis)
def _(draw, f):
    start = draw(st.integers(0, 3))
    return (lambda x: np.rollaxis(x, 1, start)), [uniform(draw, (2, 3, 2))]


@generator(np.matrix_transpose, np.linalg.matrix_transpose)
def _(draw, f):
    return f, [uniform(draw, (2, 3, 2))]


@generator(np.expand_dims)
def _(draw, f):
    axis = draw(st.sampled_from([0, -1, (0, 2), (-1, 0)]))
    return (lambda x: np.expand_dims(x, axis)), [uniform(draw, (2, 3))]


@generator(np.broadcast_to)
def _(draw, f):
    return (lambda x: np.broadcast_to(x, (2, 2, 3))), [
        uniform(draw, draw(st.sampled_from([(), (3,), (2, 1), (1, 1, 3)])))
    ]


@generator(np.broadcast_arrays)
def _(draw, f):
    a, b = pair(draw)
    return (lambda x, y: np.broadcast_arrays(x, y)[1]), [uniform(draw, a), uniform(draw, b)]


@generator(np.astype)
def _(draw, f):
    return (lambda x: np.astype(x, np.float64)), [uniform(draw, draw(shapes))]


@generator(np.concatenate, np.concat)
def _(draw, f):
    axis = draw(st.sampled_from([0, 1, -1, None]))
    return (lambda x, y: f([x, np.ones((2, 2)), y], axis=axis)), [
        uniform(draw, (2, 2)),
        uniform(draw, (2, 2)),
    ]


@generator(np.append)
def _(draw, f):
    axis = draw(st.sampled_from([0, None]))
    return (lambda x, y: np.append(x, y, axis=axis)), [uniform(draw, (2, 2)), uniform(draw, (1, 2))]


@generator(np.stack)
def _(draw, f):
    shape = draw(shapes)
    axis = draw(st.sampled_from([0, -1]))
    return (lambda x, y: np.stack([x, y], axis=axis)), [uniform(draw, shape), uniform(draw, shape)]


@generator(np.hstack, np.vstack, np.dstack, np.column_stack)
def _(draw, f):
    shape = draw(st.sampled_from([(3,), (2, 3)]))
    return (lambda x, y: f([x, y])), [uniform(draw, shape), uniform(draw, shape)]


@generator(np.split, np.array_split)
def _(draw, f):
    axis = draw(st.sampled_from([0, -1]))
    return (lambda x: f(x, [1, 2], axis=axis)[1]), [uniform(draw, (3, 3))]


@generator(np.hsplit, np.vsplit)
def _(draw, f):
    return (lambda x: f(x, 2)[1]), [uniform(draw, (4, 4))]


@generator(np.dsplit)
def _(draw, f):
    return (lambda x: f(x, 2)[1]), [uniform(draw, (2, 1, 4))]


@generator(np.unstack)
def _(draw, f):
    return (lambda x: np.unstack(x, axis=1)[1]), [uniform(draw, (2, 3))]


@generator(np.tile)
def _(draw, f):
    reps = draw(st.sampled_from([2, (2, 1), (1, 2, 2)]))
    return (lambda x: np.tile(x, reps)), [uniform(draw, draw(shapes))]


@generator(np.repeat)
def _(draw, f):
    repeats, axis = draw(st.sampled_from([(2, None), (2, 0), ([1, 0, 2], 1)]))
    return (lambda x: np.repeat(x, repeats, axis=axis)), [uniform(draw, (2, 3))]


@generator(np.roll)
def _(draw, f):
    shift, axis = draw(st.sampled_from([(1, None), (-2, 0), ((1, 2), (0, 1))]))
    return (lambda x: np.roll(x, shift, axis=axis)), [uniform(draw, (2, 3))]


@generator(np.flip)
def _(draw, f):
    x = uniform(draw, draw(solid_shapes))
    axis = axis_of(draw, x.ndim, several=True)
    return (lambda x: np.flip(x, axis)), [x]


@generator(np.rot90)
def _(draw, f):
    k = draw(st.integers(-1, 3))
    return (lambda x: np.rot90(x, k)), [uniform(draw, (2, 3))]


@generator(np.delete)
def _(draw, f):
    return (lambda x: np.delete(x, [0, 2], axis=1)), [uniform(draw, (2, 3))]


@generator(np.tril, np.triu)
def _(draw, f):
    k = draw(st.integers(-1, 1))
    return (lambda x: f(x, k)), [uniform(draw, (2, 3, 3))]


@generator(np.diag)
def _(draw, f):
    k = draw(st.integers(-1, 2))
    return (lambda x: np.diag(x, k)), [uniform(draw, draw(st.sampled_from([(3,), (3, 4)])))]


@generator(np.diagonal, np.trace)
def _(draw, f):
    k = draw(st.integers(-1, 1))
    return (lambda x: f(x, k, -1, 0)), [uniform(draw, (3, 2, 3))]


@generator(np.linalg.diagonal, np.linalg.trace)
def _(draw, f):
    return (lambda x: f(x, offset=1)), [uniform(draw, (2, 3, 3))]


@generator(np.meshgrid)
def _(draw, f):
    which, sparse, indexing = (
        draw(st.integers(0, 1)),
        draw(st.booleans()),
        draw(st.sampled_from(["xy", "ij"])),
    )
    return (lambda x, y: np.meshgrid(x, y, sparse=sparse, indexing=indexing)[which]), [
        uniform(draw, 3),
        uniform(draw, 2),
    ]


@generator(np.pad)
def _(draw, f):
    options = draw(
        st.sampled_from(
            [
                {"mode": "constant", "constant_values": 1.5},
                {"mode": "constant"},
                {"mode": "linear_ramp", "end_values": 0.5},
                *({"mode": mode} for mode in ("edge", "reflect", "symmetric", "wrap", "mean")),
                *(
                    {"mode": mode, "stat_length": 2}
                    for mode in ("maximum", "minimum", "mean", "median")
                ),
            ]
        )
    )
    width = draw(st.sampled_from([1, ((1, 0), (0, 2)), (2, 1)]))
    return (lambda x: np.pad(x, width, **options)), distinct(draw, (3, 4))


# indexing


@generator("getitem")
def _(draw, f):
    rows = np.array([0, 2, 0])
    index = draw(
        st.sampled_from(
            [
                1,
                -1,
                (slice(None, None, -1), slice(0, 3, 2)),
                (None, Ellipsis, 0),
                rows,
                (rows, rows),
                (slice(None), rows),
                (rows, slice(1, None)),
                (rows[:, None], np.array([1, 3])),
                (np.array([True, False, True]),),
                np.arange(12).reshape(3, 4) % 3 == 0,
                (None, rows, Ellipsis),
                (slice(0, 0),),
                np.array([], int),
            ]
        )
    )
    return (lambda x: x[index]), [uniform(draw, (3, 4))]


@generator(np.take)
def _(draw, f):
    indices = draw(st.sampled_from([[0, 2, 0], [[1], [-1]], 1]))
    axis, mode = (
        draw(st.sampled_from([None, 0, -1])),
        draw(st.sampled_from(["raise", "wrap", "clip"])),
    )
    return (lambda x: np.take(x, indices, axis=axis, mode=mode)), [uniform(draw, (3, 3))]


@generator(np.take_along_axis)
def _(draw, f):
    index = np.random.default_rng(draw(seeds)).integers(0, 3, (3, 3))
    axis = draw(st.sampled_from([0, -1]))
    return (lambda x: np.take_along_axis(x, index, axis)), [uniform(draw, (3, 3))]


@generator(np.compress)
def _(draw, f):
    axis = draw(st.sampled_from([None, 0, 1]))
    return (lambda x: np.compress([True, False, True], x, axis=axis)), [uniform(draw, (3, 3))]


@generator(np.extract)
def _(draw, f):
    mask = uniform(draw, (2, 3)) > 0
    return (lambda x: np.extract(mask, x)), [uniform(draw, (2, 3))]


@generator(np.choose)
def _(draw, f):
    which = np.random.default_rng(draw(seeds)).integers(0, 2, (2, 3))
    return (lambda x, y: np.choose(which, [x, y])), [uniform(draw, (2, 3)), uniform(draw, (3,))]


@generator(np.sort)
def _(draw, f):
    x = distinct(draw, draw(solid_shapes))[0]
    axis = axis_of(draw, x.ndim)
    return (lambda x: np.sort(x, axis=axis)), [x]


@generator(np.partition)
def _(draw, f):
    axis = draw(st.sampled_from([0, -1, None]))
    return (lambda x: np.partition(x, 1, axis=axis)), distinct(draw, (3, 3))


@generator(np.interp)
def _(draw, f):
    values = distinct(draw, (4,), (3,))
    nodes = np.array([-1.03, -0.21, 0.44, 1.07])
    places = np.array([-2.0, -0.8, 0.1, 0.7, 1.9])
    return np.interp, [places, nodes, values[0]]


# products


@generator(np.matmul, np.linalg.matmul)
def _(draw, f):
    a, b = draw(
        st.sampled_from(
            [
                ((3,), (3,)),
                ((2, 3), (3,)),
                ((3,), (3, 2)),
                ((2, 3), (3, 2)),
                ((2, 2, 3), (3, 2)),
                ((2, 3), (2, 3, 1)),
                ((2, 1, 2, 3), (3, 3, 1)),
                ((2, 2, 3), (3,)),
                ((3,), (2, 3, 2)),
                ((0, 3), (3, 2)),
                ((2, 0), (0, 3)),
            ]
        )
    )
    return f, [uniform(draw, a), uniform(draw, b)]


@generator(np.dot)
def _(draw, f):
    a, b = draw(
        st.sampled_from(
            [((), (3,)), ((3,), (3,)), ((2, 3), (3, 2)), ((2, 3), (2, 3, 2)), ((2, 2, 3), (3,))]
        )
    )
    return np.dot, [uniform(draw, a), uniform(draw, b)]


@generator(np.vdot)
def _(draw, f):
    return np.vdot, [uniform(draw, (2, 3)), uniform(draw, (2, 3))]


@generator(np.vecdot, np.linalg.vecdot)
def _(draw, f):
    return f, [uniform(draw, (2, 3)), uniform(draw, (3,))]


@generator(np.matvec)
def _(draw, f):
    return f, [uniform(draw, (2, 2, 3)), uniform(draw, (3,))]


@generator(np.vecmat)
def _(draw, f):
    return f, [uniform(draw, (2, 3)), uniform(draw, (3, 2))]


@generator(np.inner)
def _(draw, f):
    a, b = draw(st.sampled_from([((3,), (3,)), ((2, 3), (3,)), ((2, 3), (1, 2, 3)), ((), (2,))]))
    return f, [uniform(draw, a), uniform(draw, b)]


@generator(np.outer, np.linalg.outer)
def _(draw, f):
    return f, [uniform(draw, (3,)), uniform(draw, (2,))]


@generator(np.tensordot, np.linalg.tensordot)
def _(draw, f):
    axes = draw(st.sampled_from([1, 2, ([0], [1]), ([1, 0], [0, 1]), (-1, 0)]))
    return (lambda a, b: f(a, b, axes=axes)), [uniform(draw, (2, 2)), uniform(draw, (2, 2))]


@generator(np.linalg.multi_dot)
def _(draw, f):
    return (lambda a, b, c: f([a, b, c])), [
        uniform(draw, (2, 3)),
        uniform(draw, (3, 1)),
        uniform(draw, (1, 2)),
    ]


@generator(np.kron)
def _(draw, f):
    a, b = draw(st.sampled_from([((2,), (3,)), ((2, 1), (1, 3)), ((2,), (2, 2))]))
    return np.kron, [uniform(draw, a), uniform(draw, b)]


@generator(np.cross)
def _(draw, f):
    return (lambda a, b: np.cross(a, b, axisa=0)), [uniform(draw, (3, 2)), uniform(draw, (2, 3))]


@generator(np.linalg.cross)
def _(draw, f):
    return f, [uniform(draw, (2, 3)), uniform(draw, (2, 3))]


@generator(np.convolve)
def _(draw, f):
    mode = draw(st.sampled_from(["full", "same", "valid"]))
    n, m = draw(st.sampled_from([(5, 3), (4, 2), (2, 4), (3, 3), (1, 1)]))
    return (lambda a, v: np.convolve(a, v, mode)), [uniform(draw, n), uniform(draw, m)]


@generator(np.einsum)
def _(draw, f):
    subscripts, some_shapes = draw(
        st.sampled_from(
            [
                ("ij,jk->ik", [(2, 3), (3, 2)]),
                ("ij,jk", [(2, 3), (3, 2)]),
                ("ii", [(3, 3)]),
                ("ii->i", [(3, 3)]),
                ("ij->", [(2, 3)]),
                ("ij->j", [(2, 3)]),
                ("...ij,...jk->...ik", [(2, 2, 3), (3, 2)]),
                ("...i->...", [(2, 3)]),
                ("i,i,i->i", [(3,), (3,), (3,)]),
                ("ij,ij->i", [(2, 3), (2, 3)]),
                ("iij,jk->ik", [(2, 2, 3), (3, 2)]),
                ("ab,b,cd->ad", [(2, 3), (3,), (2, 2)]),
                ("ij,jk->ik", [(2, 1), (3, 2)]),
                ("i...,i->...", [(2, 3), (2,)]),
                ("iii->i", [(2, 2, 2)]),
                ("ij->ji", [(2, 3)]),
            ]
        )
    )
    optimize = draw(st.booleans())
    if draw(st.integers(0, 5)) == 0:
        return (lambda a, b: np.einsum(a, [0, 1], b, [1, 2], [0, 2], optimize=optimize)), [
            uniform(draw, (2, 3)),
            uniform(draw, (3, 2)),
        ]
    return (lambda *xs: np.einsum(subscripts, *xs, optimize=optimize)), [
        uniform(draw, s) for s in some_shapes
    ]


# linear algebra

stacks = st.sampled_from([(), (2,)])


def spread_matrices(draw, stack, rows, columns):
    """Matrices whose singular values, and eigenvalues if symmetrised, are well apart."""
    rng = np.random.default_rng(draw(seeds))
    base = np.zeros((rows, columns))
    np.fill_diagonal(base, [2.0, -4.5, 7.0][: min(rows, columns)])
    return base + rng.uniform(-0.5, 0.5, (*stack, rows, columns))


def symmetric(x):
    return (x + np.swapaxes(x, -1, -2)) / 2


@generator(np.linalg.inv, np.linalg.det)
def _(draw, f):
    return f, [spread_matrices(draw, draw(stacks), 3, 3)]


@generator(np.linalg.slogdet)
def _(draw, f):
    return (lambda x: np.linalg.slogdet(x)[1]), [spread_matrices(draw, draw(stacks), 3, 3)]


@generator(np.linalg.solve)
def _(draw, f):
    stack, b = draw(st.sampled_from([((), (3,)), ((), (3, 2)), ((2,), (2, 3, 1)), ((2,), (3, 2))]))
    return f, [spread_matrices(draw, stack, 3, 3), uniform(draw, b)]


@generator(np.linalg.cholesky)
def _(draw, f):
    upper = draw(st.booleans())
    x = spread_matrices(draw, draw(stacks), 3, 3)
    return (lambda x: np.linalg.cholesky(symmetric(x), upper=upper)), [np.abs(x) + 3 * np.eye(3)]


@generator(np.linalg.eigh)
def _(draw, f):
    def both(x):
        w, v = np.linalg.eigh(symmetric(x))
        return np.concatenate(
            [w[..., None, :], np.square(v)], axis=-2
        )  # squares, since signs of the vectors are free

    return both, [spread_matrices(draw, draw(stacks), 3, 3)]


@generator(np.linalg.eigvalsh)
def _(draw, f):
    return (lambda x: np.linalg.eigvalsh(symmetric(x))), [spread_matrices(draw, (), 3, 3)]


@generator(np.linalg.svd)
def _(draw, f):
    rows, columns = draw(st.sampled_from([(3, 3), (3, 2), (2, 3)]))

    def parts(x):
        u, s, vh = np.linalg.svd(
            x, full_matrices=False
        )  # squares, since signs of the vectors are free
        return np.matmul(np.square(u) * np.exp(s / 5)[..., None, :], np.square(vh))

    return parts, [spread_matrices(draw, draw(stacks), rows, columns)]


@generator(np.linalg.svdvals)
def _(draw, f):
    return f, [spread_matrices(draw, (), 3, 2)]


@generator(np.linalg.pinv)
def _(draw, f):
    rows, columns = draw(st.sampled_from([(3, 3), (3, 2), (2, 3)]))
    return f, [spread_matrices(draw, draw(stacks), rows, columns)]


@generator(np.linalg.matrix_power)
def _(draw, f):
    n = draw(st.integers(-2, 4))
    return (lambda x: np.linalg.matrix_power(x, n)), [spread_matrices(draw, (), 2, 2) / 3]


@generator(np.linalg.qr)
def _(draw, f):
    mode, part = draw(st.sampled_from([("reduced", 0), ("reduced", 1), ("r", None)]))
    rows = draw(st.sampled_from([3, 4]))

    def chosen(x):
        found = f(x, mode)
        return found if part is None else found[part]

    return chosen, [spread_matrices(draw, draw(stacks), rows, 3)]


@generator(np.linalg.lstsq)
def _(draw, f):
    rows, columns = draw(st.sampled_from([(3, 3), (4, 2), (2, 3)]))
    b = draw(st.sampled_from([(rows,), (rows, 2)]))
    return (lambda a, b: f(a, b)[0]), [spread_matrices(draw, (), rows, columns), uniform(draw, b)]


@generator(np.linalg.cond)
def _(draw, f):
    p = draw(st.sampled_from([None, 2, -2, 1, "fro", np.inf]))
    return (lambda x: f(x, p)), [spread_matrices(draw, (), 3, 3)]


@generator(special.iv, special.ive, special.jv)
def _(draw, f):
    order = float(draw(st.integers(0, 3)))
    return (lambda x: f(order, x)), [uniform(draw, draw(shapes), 0.3, 2)]


def with_gaps(draw, shape):
    """Which elements are missing; at least two a line along any axis are there."""
    absent = np.zeros(shape, bool)
    absent[(0,) * len(shape)] = draw(st.booleans())
    return absent


@generator(
    np.nansum, np.nanprod, np.nanmean, np.nanvar, np.nanstd, np.nanmax, np.nanmin, np.nanmedian
)
def _(draw, f):
    x = distinct(draw, draw(array_shapes(min_dims=1, max_dims=2, min_side=3, max_side=4)))[0]
    absent, axis = with_gaps(draw, x.shape), axis_of(draw, x.ndim)
    return (lambda x: f(np.where(absent, np.nan, x), axis=axis)), [x]


@generator(np.nancumsum, np.nancumprod)
def _(draw, f):
    x = distinct(draw, draw(solid_shapes))[0]
    absent, axis = with_gaps(draw, x.shape), axis_of(draw, x.ndim)
    return (lambda x: f(np.where(absent, np.nan, x), axis=axis)), [x]


@generator(np.quantile, np.percentile, np.nanquantile, np.nanpercentile)
def _(draw, f):
    x = distinct(draw, draw(array_shapes(min_dims=1, max_dims=2, min_side=3, max_side=4)))[0]
    axis, keepdims = axis_of(draw, x.ndim), draw(st.booleans())
    method = draw(st.sampled_from(["linear", "hazen", "weibull", "median_unbiased"]))
    q = draw(st.sampled_from([0.3, [0.1, 0.55], [[0.2], [0.9]]]))
    places = np.multiply(q, 100) if "percentile" in f.__name__ else q
    absent = with_gaps(draw, x.shape) if f.__name__.startswith("nan") else np.zeros(x.shape, bool)
    return (
        lambda x: f(
            np.where(absent, np.nan, x), places, axis=axis, method=method, keepdims=keepdims
        )
    ), [x]


@generator(np.cov, np.corrcoef)
def _(draw, f):
    rowvar = draw(st.booleans())
    arrays = [uniform(draw, (3, 4))] * draw(st.integers(1, 2))
    return (lambda *xs: f(*xs, rowvar=rowvar)), arrays


@generator(np.block)
def _(draw, f):
    n = draw(st.integers(1, 3))
    return (lambda a, b: f([[a, b], [b.T, a[:n, :n]]]) if n == 1 else f([a, a])), [
        uniform(draw, (n, n)),
        uniform(draw, (n, 1)),
    ]


@generator(np.insert)
def _(draw, f):
    place, values, axis = draw(
        st.sampled_from(
            [
                (1, (), None),
                (1, (3,), 0),
                ([0, 2], (2, 3), 0),
                ([0, 2], (2,), 1),
                (2, (2,), 1),
                (slice(0, 2), (), 1),
            ]
        )
    )
    return (lambda x, v: f(x, place, v, axis)), [uniform(draw, (2, 3)), uniform(draw, values)]


@generator(np.unique)
def _(draw, f):
    return f, distinct(draw, draw(shapes))


@generator(np.bincount)
def _(draw, f):
    return (lambda w: f(np.array([0, 2, 2, 5]), weights=w)), [uniform(draw, (4,))]


@generator(np.histogram)
def _(draw, f):
    values, density = np.array([0.1, 0.2, 0.7, 0.9, 1.0, 3.0]), draw(st.booleans())
    return (lambda w: f(values, 3, (0.0, 1.0), density, w)[0]), [uniform(draw, (6,), 0.5, 2)]


@generator(np.full_like)
def _(draw, f):
    return (lambda x: f(x, x[0])), [uniform(draw, (2, 3))]


# ufunc methods


@generator(
    (np.add, "reduce"), (np.multiply, "reduce"), (np.maximum, "reduce"), (np.minimum, "reduce")
)
def _(draw, key):
    x = distinct(draw, draw(solid_shapes))[0]
    axis, keepdims = axis_of(draw, x.ndim, several=True), draw(st.booleans())
    return (lambda x: key[0].reduce(x, axis=axis, keepdims=keepdims)), [x]


@generator(
    (np.add, "accumulate"),
    (np.multiply, "accumulate"),
    (np.maximum, "accumulate"),
    (np.minimum, "accumulate"),
)
def _(draw, key):
    x = distinct(draw, draw(solid_shapes))[0]
    axis = axis_of(draw, x.ndim, none=False)
    return (lambda x: key[0].accumulate(x, axis=axis)), [x]


@generator((np.add, "reduceat"))
def _(draw, key):
    x = distinct(draw, draw(solid_shapes))[0]
    axis = axis_of(draw, x.ndim, none=False)
    places = st.integers(0, x.shape[axis] - 1)
    indices = draw(st.lists(places, min_size=1, max_size=4))
    return (lambda x: np.add.reduceat(x, indices, axis=axis)), [x]


@generator((np.add, "at"))
def _(draw, key):
    n = draw(st.integers(1, 4))
    index = np.array(draw(st.lists(st.integers(0, n - 1), min_size=1, max_size=4)), int)

    def added(x, y):
        total = x + 0.0 * np.sum(y)  # a Tensor where either is
        np.add.at(total, index, y)
        return total

    return added, [uniform(draw, (n, 2)), uniform(draw, (len(index), 2))]


@generator((np.add, "outer"), (np.subtract, "outer"), (np.multiply, "outer"))
def _(draw, key):
    return key[0].outer, [uniform(draw, (2,)), uniform(draw, (2, 2))]
