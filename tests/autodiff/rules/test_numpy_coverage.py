"""Whatever of NumPy and SciPy is given a Tensor: a rule, a place on the list of what is constant by
nature, or a refusal.
"""

import inspect
import warnings

import numpy as np
import pytest
from scipy import special

import vinestep as vs
from vinestep.autodiff.registry import PASSIVE

CONSTANT = {  # truth values, places, counts, shapes, types and texts
    *(
        "all",
        "any",
        "argmax",
        "argmin",
        "argpartition",
        "argsort",
        "argwhere",
        "count_nonzero",
        "digitize",
        "flatnonzero",
        "lexsort",
    ),
    *(
        "nanargmax",
        "nanargmin",
        "nonzero",
        "searchsorted",
        "isin",
        "in1d",  # gone from NumPy 2.4
        "unravel_index",
        "ravel_multi_index",
    ),
    *(
        "allclose",
        "array_equal",
        "array_equiv",
        "isclose",
        "equal",
        "greater",
        "greater_equal",
        "less",
        "less_equal",
        "not_equal",
    ),
    *(
        "isfinite",
        "isinf",
        "isnan",
        "isneginf",
        "isposinf",
        "iscomplex",
        "iscomplexobj",
        "isreal",
        "isrealobj",
        "signbit",
        "spacing",
    ),
    *(
        "logical_and",
        "logical_not",
        "logical_or",
        "logical_xor",
        "shares_memory",
        "may_share_memory",
    ),
    *(
        "shape",
        "ndim",
        "size",
        "can_cast",
        "common_type",
        "min_scalar_type",
        "result_type",
        "matrix_rank",
    ),
    *("zeros_like", "ones_like", "empty_like", "array2string", "array_repr", "array_str"),
    *(
        "bool",
        "bool_",
        "iterable",
        "isscalar",
        "isdtype",
        "issubdtype",
        "typename",
        "str_",
        "object_",
        "bytes_",
        "void",
        "info",
    ),
    *("broadcast_shapes", "ix_", "tri", "printoptions"),
}
CONDITIONS = {"compress", "extract", "select", "where"}  # their first argument is a truth value
TYPES = {  # a second argument is a dtype, a tolerance or the like
    *(
        "array",
        "asanyarray",
        "asarray",
        "asarray_chkfinite",
        "ascontiguousarray",
        "asfortranarray",
        "asmatrix",
        "astype",
        "bmat",
        "dtype",
    ),
    *(
        "empty",
        "finfo",
        "frombuffer",
        "fromstring",
        "fromiter",
        "identity",
        "indices",
        "matrix",
        "ndarray",
        "ones",
        "printoptions",
        "promote_types",
    ),
    *(
        "real_if_close",
        "recarray",
        "require",
        "zeros",
        "nan_to_num",
        "unique",
        "histogram_bin_edges",
        "trapezoid",
        "trapz",  # gone from NumPy 2.4
        "full_like",
        "histogram",
    ),
}
FILES = {
    "save",
    "savez",
    "savez_compressed",
    "savetxt",
    "load",
    "loadtxt",
    "genfromtxt",
    "fromfile",
    "memmap",
    "test",
    "fromregex",
}
ROOMS = {"np": np, "np.linalg": np.linalg, "np.fft": np.fft, "special": special}


def public(room):
    for name in dir(room):
        value = getattr(room, name)
        if (
            not name.startswith("_")
            and callable(value)
            and not inspect.ismodule(value)
            and name not in FILES
        ):
            if inspect.isclass(value) and issubclass(value, BaseException):
                continue
            yield name, value


NAMES = [
    (f"{place}.{name}", value) for place, room in ROOMS.items() for name, value in public(room)
]


def holds_tensor(tree):
    if isinstance(tree, vs.Tensor):
        return True
    if isinstance(tree, tuple | list):
        return any(map(holds_tensor, tree))
    return isinstance(tree, dict) and any(map(holds_tensor, tree.values()))


def attempts():
    x, m = vs.Tensor([0.3, 0.6, 0.2]), vs.Tensor([[0.5, 0.2], [0.1, 0.7]])
    ids, plain = np.array([0, 1, 1]), np.array([0.1, 0.5, 0.9])
    yield from [
        (x,),
        (m,),
        (x, x),
        (m, m),
        (x, 2),
        (2, x),
        (plain, x),
        (x, plain),
        ([x, x],),
        (x, x, x),
        (plain, plain, x),
        (0.5, x, 0.3),
    ]
    yield from [
        (vs.Tensor(0.4),),
        (vs.Tensor(0.4), 2.0),
        (ids, x),
        (x, ids),
        (m, (0, 1)),
        ("ij->", m),
        (2.0, vs.Tensor(0.4), 0.5),
    ]


@pytest.mark.parametrize(("name", "function"), NAMES, ids=[name for name, _ in NAMES])
def test_nothing_is_constant_in_silence(name, function):
    last = name.rpartition(".")[2]
    if last in CONSTANT:
        return
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        for arguments in attempts():
            if last in CONDITIONS and not any(map(holds_tensor, arguments[1:])):
                continue
            if last in TYPES and (
                not arguments
                or not holds_tensor(arguments[0])
                or len(arguments) > 1
                or last in ("dtype", "finfo")
            ):
                continue
            try:
                found = function(*arguments)
            except Exception:  # refused, in whatever words
                continue
            assert holds_tensor(found) or found is None, f"{name}{arguments} gave {found!r}"


@pytest.mark.parametrize(
    ("function", "options"),
    [
        (np.bincount, "weights"),
        (np.histogram, "weights"),
        (np.average, "weights"),
        (np.full_like, "fill_value"),
        (np.cov, "aweights"),
    ],
)
def test_a_tensor_among_the_options_is_not_forgotten(function, options):
    value = vs.Tensor([0.3, 0.6, 0.2]) if options != "fill_value" else vs.Tensor(0.3)
    first = (
        vs.Tensor([1.0, 2.0, 2.0])
        if function in (np.full_like, np.average, np.cov)
        else np.array([0, 1, 1])
    )
    try:
        found = function(first, **{options: value})
    except vs.errors.VineStepError:
        return
    found = found[0] if isinstance(found, tuple) else found
    assert np.any(
        vs.differentiate(np.sum(found * np.arange(1, found.size + 1).reshape(found.shape)), value)
        != 0
    )


def test_the_list_of_constants_is_the_registry_s():
    names = {function.__name__ for function in PASSIVE}
    assert names <= CONSTANT
