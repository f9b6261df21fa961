"""Small programs of NumPy calls, run on arrays and on Tensors: values and gradients have to agree,
or be refused in words.

A program is a list of whole numbers, each of which makes one choice. The same choices drive a run
on plain arrays, which is the reference for values and by central differences for gradients, and a
run on Tensors.
"""

import warnings
from functools import lru_cache

import numpy as np
import pandas as pd

import vinestep as vs
from vinestep.errors import VineStepError

LENGTH = 60  # choices at most
LARGEST = 50.0  # values beyond it are dropped, since differences of them are no measure
STEPS = (1e-5, 1e-6, 3e-7)  # the smaller ones where a kink lies within the first


class Choices:
    """Whole numbers taken one by one; zeros when they are used up."""

    def __init__(self, numbers):
        self.numbers, self.at = numbers, 0

    def __call__(self, options):
        number = self.numbers[self.at] if self.at < len(self.numbers) else 0
        self.at += 1
        return options[number % len(options)]

    @property
    def done(self):
        return self.at >= len(self.numbers)


@lru_cache
def partners(seed):
    """What a program may meet besides its variables; no operation writes to it."""
    rng = np.random.default_rng(seed)
    return {
        "float32": rng.uniform(-1, 1, 3).astype(np.float32),
        "uint8": np.array([200, 3, 255], np.uint8),
        "int8": np.array([-128, 5, 100], np.int8),
        "int64": np.array([3, -2, 1]),
        "bool": np.array([True, False, True]),
        "one int8": np.int8(-128),
        "int": 3,
        "float": -0.7,
        "scalar": np.float32(1.5),
        "list": [1, 2, 3],
        "series": pd.Series([0.5, -1.0, 2.0], index=[2, 0, 1]),
        "float64": rng.uniform(-1, 1, 3),
    }


UNARY = {
    "sin": np.sin,
    "tanh": np.tanh,
    "arctan": np.arctan,
    "root": lambda x: np.sqrt(np.abs(x) + 0.5),
    "log1p": lambda x: np.log1p(np.abs(x)),
    "square": np.square,
    "power": lambda x: x**3,
    "negative": lambda x: -x,
    "absolute": np.abs,
    "exp": lambda x: np.exp(-np.square(x)),
    "relu": vs.relu,
    "softplus": vs.softplus,
    "gelu": vs.gelu_tanh,
    "sigmoid": vs.sigmoid,
    "half": lambda x: x / 2,
    "cast": lambda x: x.astype(np.float64),
    "sinc": np.sinc,
    "copy": np.copy,
    "nan": np.nan_to_num,
}
BINARY = {
    "add": np.add,
    "subtract": lambda a, b: a - b,
    "multiply": lambda a, b: a * b,
    "turned": lambda a, b: b * a,
    "divide": lambda a, b: (
        a / (np.square(np.asarray(b, float) if not isinstance(b, vs.Tensor) else b) + 1.0)
    ),
    "maximum": np.maximum,
    "minimum": np.minimum,
    "hypot": np.hypot,
    "arctan2": lambda a, b: np.arctan2(np.sin(a) + 1.5, b),
    "where": lambda a, b: np.where(np.asarray(vs.held(a)) > 0.1, a, b),
    "logaddexp": np.logaddexp,
    "power": lambda a, b: np.power(np.abs(a) + 1.1, np.clip(b, -2, 2)),
    "clip": lambda a, b: np.clip(a, -0.4, np.abs(b) + 0.3),
    "fmod": lambda a, b: np.fmax(a, b),
}
SHAPING = {
    "first": lambda x: x[0],
    "reversed": lambda x: x[::-1],
    "rest": lambda x: x[1:],
    "twice": lambda x: x[[0, 0, -1]],
    "mask": lambda x: x[np.arange(len(x)) % 2 == 0],
    "transposed": lambda x: x.T,
    "flat": lambda x: np.ravel(x),
    "column": lambda x: x.reshape(-1, 1),
    "wide": lambda x: np.broadcast_to(x, (2, *x.shape)),
    "repeat": lambda x: np.repeat(x, 2, axis=0),
    "tile": lambda x: np.tile(x, 2),
    "roll": lambda x: np.roll(x, 1),
    "sort": lambda x: np.sort(x, axis=0),
    "cumsum": lambda x: np.cumsum(x),
    "cumprod": lambda x: np.cumprod(np.tanh(x)),
    "diff": lambda x: np.diff(x, axis=0),
    "pad": lambda x: np.pad(x, 1),
    "stack": lambda x: np.stack([x, x * 2]),
    "concatenate": lambda x: np.concatenate([x, x]),
    "unique": lambda x: np.unique(np.ravel(x) + 0.37 * np.arange(np.size(x))),
    "insert": lambda x: np.insert(np.ravel(x), 0, 1),
    "softmax": lambda x: vs.softmax(np.ravel(x)),
    "take": lambda x: np.take(x, [0, 0], axis=0),
    "interp": lambda x: np.interp(x, [-1, 0, 1, 2], np.array([200, 100, 50, 3], np.uint8)) / 50,
}
REDUCING = {
    "sum": lambda x: np.sum(x),
    "rows": lambda x: np.sum(x, axis=0),
    "mean": lambda x: x.mean(axis=-1),
    "max": lambda x: np.max(x),
    "min": lambda x: np.min(x, axis=0),
    "product": lambda x: np.prod(np.tanh(x)),
    "variance": lambda x: np.var(x),
    "spread": lambda x: np.std(x) if np.size(x) > 1 else np.sum(x),
    "median": lambda x: np.median(x),
    "quantile": lambda x: np.quantile(x, 0.3),
    "norm": lambda x: np.linalg.norm(x),
    "logsumexp": lambda x: vs.logsumexp(x),
    "ptp": lambda x: np.ptp(x),
    "nansum": lambda x: np.nansum(x),
    "average": lambda x: np.average(
        np.ravel(x)[:2], weights=np.arange(1, 1 + min(2, x.size), dtype=np.uint8)
    ),
    "trapezoid": lambda x: np.trapezoid(np.ravel(x), (5 * np.arange(x.size)).astype(np.uint8)),
    "reduce": lambda x: np.add.reduce(np.ravel(x)),
}
PRODUCTS = {
    "dot": lambda a, b: np.dot(np.ravel(a), np.ravel(a)) + 0 * np.sum(b),
    "outer": lambda a, b: np.outer(np.ravel(a)[:2], np.ravel(b)[:2]),
    "matmul": lambda a, b: a.reshape(-1, 1) @ np.ravel(b)[:2].reshape(1, -1),
    "einsum": lambda a, b: np.einsum("i,j->ij", np.ravel(a)[:2], np.ravel(b)[:3]),
    "mixed": lambda a, b: (
        np.einsum(
            "i,ij,jk->",
            np.ravel(a)[:1],
            np.full((1, 3), 200, np.uint8),
            np.full((3, 1), 150, np.uint8),
        )
        / 1e4
    ),
    "tensordot": lambda a, b: np.tensordot(np.ravel(a)[:2], np.ravel(b)[:2], axes=0),
    "gram": lambda a, b: np.matmul(a.reshape(1, -1), np.ravel(a)),
    "kron": lambda a, b: np.kron(np.ravel(a)[:2], np.ravel(b)[:2]),
}
INNER = {  # functions whose gradient by z is known, for nesting
    "square": (lambda z, c: np.sum(np.square(z)) * c, lambda z, c: 2 * z * c),
    "sine": (lambda z, c: np.sum(np.sin(z)) * c, lambda z, c: np.cos(z) * c),
    "product": (lambda z, c: np.sum(np.tanh(z * c)), lambda z, c: c * (1 - np.tanh(z * c) ** 2)),
    "constant": (lambda z, c: np.sum(z) * 0 + c, lambda z, c: z * 0),
}


def doubled_in_place(z, c):
    z *= 2.0
    return np.sum(z * z) * c


INNER["in place"] = (doubled_in_place, lambda z, c: 8 * z * c)
MANNERS = (
    "argument",
    "closure",
    "keyword",
    "default",
    "list",
    "differentiate",
    "directional",
    "hessian",
    "jacobian",
    "twice",
)


class Plain:
    """Computes with arrays; derivatives inside a program by their formulas."""

    def nested(self, inner, manner, z, c):
        _, slope = INNER[inner]
        if manner == "directional":
            return np.sum(slope(z, c))
        if manner == "hessian":
            second = {
                "square": lambda: 2 * c + 0 * z,
                "sine": lambda: -np.sin(z) * c,
                "constant": lambda: 0 * z,
            }
            second["in place"] = lambda: 8 * c + 0 * z
            second["product"] = lambda: -2 * c * c * np.tanh(z * c) * (1 - np.tanh(z * c) ** 2)
            return second[inner]()
        if manner == "twice":
            return slope(z, slope(c, 0.5))
        return slope(z, c)


class Tracked:
    """Computes with Tensors; derivatives inside a program by our functions, the constant coming in
    every possible way.
    """

    def nested(self, inner, manner, z, c):
        f, _ = INNER[inner]
        if manner == "argument":
            return vs.gradient_of(f)(z, c)
        if manner == "closure":
            return vs.gradient_of(lambda z: f(z, c))(z)
        if manner == "keyword":
            return vs.gradient_of(lambda z, *, c: f(z, c))(z, c=c)
        if manner == "default":
            return vs.gradient_of(lambda z, c=c: f(z, c))(z)
        if manner == "list":
            return vs.gradient_of(lambda z, cs: f(z, cs[0]))(z, [c])
        if manner == "differentiate":
            return self._gradient_at(f, z, c)
        if manner == "directional":
            return vs.directional(lambda z: f(z, c), z, np.ones(np.shape(z)))
        if manner == "hessian":
            return vs.hessian_product(lambda z: f(z, c), z, np.ones(np.shape(z)))
        if manner == "jacobian":
            return vs.jacobian_of(lambda z: f(z, c))(z)
        inside = vs.gradient_of(lambda c: f(c, 0.5))
        return vs.gradient_of(lambda z: f(z, vs.held(0.0) + inside(c)))(z)

    @staticmethod
    def _gradient_at(f, z, c):
        point = z * 1.0 if isinstance(z, vs.Tensor) else vs.Tensor(np.array(z, float))
        value = f(
            point * 1.0, c
        )  # of its own: in place, `f` would change which value is asked about
        if not isinstance(value, vs.Tensor):
            return np.zeros(np.shape(z))
        return vs.differentiate(value, point, differentiable=True, unused="zeros")


def fitting(value, like):
    """A variable to compute with, of a shape that goes with another's."""
    try:
        np.broadcast_shapes(np.shape(value), np.shape(like))
        return value
    except ValueError:
        return np.sum(value)


def usable(value):
    plain = np.asarray(vs.held(value))
    return (
        plain.dtype.kind == "f"
        and 0 < plain.size <= 24
        and np.isfinite(plain).all()
        and np.abs(plain).max() < LARGEST
    )


def run(numbers, inputs, machine, wanted=None):
    """The value of a program, and which of its operations were kept, so that another run does the
    same.
    """
    choose = Choices(numbers)
    others = partners(choose(range(5)))
    pool, kept = list(inputs), []
    while not choose.done and len(kept) < 14:
        index = len(kept)
        before = choose.at
        value = one_operation(choose, pool, others, machine)
        choose.at = max(choose.at, before + 1)
        keep = usable(value) if wanted is None else wanted[index]
        kept.append(keep)
        if keep:
            pool.append(value)
    total = 0.0
    for number, value in enumerate(pool[-3:]):
        total = total + np.sum(value * (0.7 + 0.3 * number))
    return total, kept


def one_operation(choose, pool, others, machine):
    kind = choose(
        (
            "unary",
            "binary",
            "binary",
            "partner",
            "partner",
            "shaping",
            "shaping",
            "reducing",
            "product",
            "nested",
            "in place",
        )
    )
    x = choose(pool)
    if kind == "unary":
        return UNARY[choose(list(UNARY))](x)
    if kind == "binary":
        return BINARY[choose(list(BINARY))](x, fitting(choose(pool), x))
    if kind == "partner":
        other = others[choose(list(others))]
        function = BINARY[choose(list(BINARY))]
        if np.shape(other) and (not np.shape(x) or np.shape(x)[-1] != 3):
            x = np.sum(x)
        result = function(x, other)
        return np.asarray(result) if isinstance(result, pd.Series) else result
    if kind == "shaping":
        return SHAPING[choose(list(SHAPING))](np.atleast_1d(x))
    if kind == "reducing":
        return REDUCING[choose(list(REDUCING))](np.atleast_1d(x))
    if kind == "product":
        return PRODUCTS[choose(list(PRODUCTS))](np.atleast_1d(x), np.atleast_1d(choose(pool)))
    if kind == "nested":
        return machine.nested(
            choose(list(INNER)), choose(MANNERS), np.tanh(x), np.sum(np.tanh(choose(pool)))
        )
    return in_place(choose, x)


def in_place(choose, x):
    how = choose(("alias", "row", "view", "own", "out", "itself"))
    if how == "itself":
        x *= 1.5
        return x * 1.0
    if how == "own":
        y = x * 1.5
        y += 1.0
        return y
    if how == "alias":
        y = x * 1.5
        z = y
        z -= 0.25
        return y
    if how == "out":
        y = np.tanh(x)
        np.add(y, 1.0, out=y) if np.shape(y) else None
        return y
    y = np.atleast_1d(x) * 1.0
    if how == "row":
        for row in y:
            row *= 2.0
        return y if y.ndim > 1 or isinstance(y, vs.Tensor) else y * 1.0
    view = y[:1]
    view += 0.5
    return y


def reference(numbers, arrays, kept, step):
    """Central differences."""
    gradients = []
    for which, array in enumerate(arrays):
        g = np.zeros(array.shape)
        for index in np.ndindex(array.shape):
            values = []
            for side in (-1, 1):
                moved = [a.copy() for a in arrays]
                moved[which][index] += side * step
                values.append(float(np.sum(run(numbers, moved, Plain(), kept)[0])))
            g[index] = (values[1] - values[0]) / (2 * step)
        gradients.append(g)
    return gradients


def check(numbers):
    """A program: "right", "refused", or what went wrong."""
    rng = np.random.default_rng(len(numbers))
    arrays = [rng.uniform(-1.2, 1.2, shape) for shape in ((3,), (2, 3))]
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        try:
            expected, kept = run(numbers, [a.copy() for a in arrays], Plain())
        except (ValueError, IndexError, TypeError):
            return "right"  # NumPy itself refuses the program
        if not any(kept):
            return "right"
        try:
            value, again = (of_functions if len(numbers) % 2 else of_values)(
                numbers, [a.copy() for a in arrays], kept
            )
        except VineStepError:
            return "refused"
        except Exception as error:
            return f"raw {type(error).__name__}: {error}"
        if not np.allclose(vs.held(value), expected, rtol=1e-8, atol=1e-8):
            return f"wrong: value {float(vs.held(value))!r} against {float(expected)!r}"
        for step in STEPS:
            differences = reference(numbers, arrays, kept, step)
            size, tolerance = max(1.0, *(np.abs(g).max() for g in differences)), 2e-10 / step
            if all(
                np.allclose(ours, theirs, rtol=tolerance, atol=tolerance * size)
                for ours, theirs in zip(again, differences, strict=True)
            ):
                return "right"
    return (
        f"wrong: gradient {[g.ravel() for g in again]} against {[g.ravel() for g in differences]}"
    )


def of_functions(numbers, arrays, kept):
    """Value and gradients by `gradient_of`, from plain arrays, which stay as they are."""
    found = [
        vs.gradient_of(
            lambda *inputs: run(numbers, inputs, Tracked(), kept)[0], argument=i, with_value=True
        )(*[a.copy() for a in arrays])
        for i in range(len(arrays))
    ]
    return found[0][0], [gradient for _, gradient in found]


def of_values(numbers, arrays, kept):
    """Value and gradients by `differentiate`, with respect to values computed from leaves."""
    leaves = [vs.Tensor(a) for a in arrays]
    value, _ = run(numbers, [leaf * 1.0 for leaf in leaves], Tracked(), kept)
    return value, gradients(value, leaves)


def gradients(value, leaves):
    """Asked for twice: what is handed out is not what the record keeps. Zeros of a value that
    depends on nothing.
    """
    if not isinstance(value, vs.Tensor):
        return [np.zeros(leaf.shape) for leaf in leaves]
    for g in vs.differentiate(value, leaves, unused="zeros"):
        g *= 0
    return vs.differentiate(value, leaves, unused="zeros")


def attempt(seed):
    rng = np.random.default_rng([seed, 0xF022])
    return check(rng.integers(0, 2**16, int(rng.integers(4, LENGTH))).tolist())
