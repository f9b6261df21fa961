"""Tensor: an array that remembers the operation it came from."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import count
from typing import Any, NoReturn, SupportsIndex

import numpy as np
from numpy.lib.mixins import NDArrayOperatorsMixin
from numpy.typing import ArrayLike, DTypeLike

from ..errors import (
    DifferentiationError,
    DTypeError,
    MissingRuleError,
    NoAxesError,
    ShapeError,
    VineStepError,
)
from .checksums import CHECKSUM_BYTES, OwnMemory, checksum_of
from .registry import (
    METHODS,
    OUT_PLACES,
    PASSIVE,
    UFUNC_METHODS,
    UFUNCS,
    Rule,
    find_handler,
    find_ufunc_rule,
    missing_rule,
)
from .tracking import STATE

__all__ = [
    "Origin",
    "Tensor",
    "apply",
    "check_real_float",
    "checksums_of",
    "hand_out",
    "held",
    "held_tree",
    "owned",
    "plain",
]

_next_number = count(1).__next__
_new = object.__new__


# whose memory a value lies in
NOT_BORROWED = 0
FROM_A_VALUE = 1
"""A view of a computed value, which nobody writes to."""
FROM_OUTSIDE = 2
"""A leaf's or a plain array's, or a view of it: its owner may write there."""


class Origin:
    """Where a value came from: the rule, the parents' origins, what the rule saved, a rising
    number.

    The number rises with every operation of the process, so falling order is a valid order for the
    sweep. A leaf has no rule. Stands in for an input that was not kept: it knows `shape`, `ndim`
    and `dtype`. `inputs` are plain arrays; ``parents[i]`` is where the i-th came from, None for one
    that was no Tensor.
    """

    __slots__ = (
        "borrowed",
        "dtype",
        "inputs",
        "number",
        "options",
        "output",
        "parents",
        "place",
        "rule",
        "seals",
        "shape",
        "viewed",
    )

    name = ""

    def __init__(
        self,
        rule: Rule | None,
        parents: Sequence[Origin | None],
        inputs: Sequence[Any] | None,
        output: Any,
        options: dict[str, Any],
        shape: tuple[int, ...],
        dtype: np.dtype[Any],
        place: str,
        seals: list[Any] | None = None,
    ) -> None:
        self.borrowed = NOT_BORROWED if rule is not None else FROM_OUTSIDE
        self.viewed = False
        self.rule = rule
        self.parents = parents
        self.inputs = inputs
        self.output = output
        self.options = options
        self.shape = shape
        self.dtype = dtype
        self.place = place
        self.seals = seals
        self.number = _next_number()

    @property
    def ndim(self) -> int:
        return len(self.shape)

    @property
    def size(self) -> int:
        return int(np.prod(self.shape, dtype=np.int64))

    def release(self) -> None:
        """Give back what was kept for the sweep; the value cannot be differentiated again."""
        if self.rule is not None:
            self.parents = ()
            self.inputs = self.output = self.seals = None
            self.options = RELEASED

    def __repr__(self) -> str:
        what = self.rule.name if self.rule else (self.name or "leaf")
        return f"<Origin {self.number}: {what} {self.shape} {self.dtype}>"


class Leaf(Origin):
    """The origin of a value that was not computed: an input or a parameter, with its name."""

    __slots__ = ("memory", "name")

    def __init__(self, shape: tuple[int, ...], dtype: np.dtype[Any], name: str) -> None:
        super().__init__(None, (), None, None, _NO_OPTIONS, shape, dtype, STATE.now.place)
        self.name = name
        self.memory: OwnMemory | None = None
        """Of a parameter; None of a leaf whose array came from outside."""


RELEASED: dict[str, Any] = {"released": True}
_NO_OPTIONS: dict[str, Any] = {}
RAW_ERRORS = (TypeError, ValueError, LookupError, ArithmeticError, AttributeError)
"""What a function that does not fit its input raises; it is told again with where that was."""


def checksums_of(arrays: Sequence[Any], parents: Sequence[Origin | None]) -> list[Any] | None:
    """Seals of the inputs that somebody else may write to: plain arrays, leaves, and views of
    either.
    """
    seals: list[Any] | None = None
    for i, parent in enumerate(parents):
        if parent is not None and parent.borrowed != FROM_OUTSIDE:
            continue
        value = arrays[i]
        if type(value) is np.ndarray:
            if seals is None:
                seals = [None] * len(parents)
            memory = parent.memory if type(parent) is Leaf else None
            if memory is not None and parent not in memory.handed_out:
                seals[i] = memory.now
            else:
                seals[i] = value.tobytes() if value.nbytes <= CHECKSUM_BYTES else checksum_of(value)
    return seals


def hand_out(origin: Origin | None) -> None:
    """A parameter, or a view of one, leaves as a plain array: it may be written to from now on."""
    if type(origin) is Leaf:
        if origin.memory is not None:
            origin.memory.hand_out(origin)
    elif origin is not None and origin.borrowed == FROM_OUTSIDE:
        for parent in origin.parents:
            hand_out(parent)


def plain(value: Any) -> Any:
    """An input that is no Tensor, as a plain array or number: values of a pandas object in their
    order, lists as arrays.

    Raises
    ------
    DifferentiationError
        If it is masked or a `numpy.matrix`: what that says of some elements, or of the product,
        would be lost.
    """
    if isinstance(value, np.generic | int | float | complex):
        return value
    if isinstance(value, np.ma.MaskedArray):
        raise DifferentiationError(
            "A masked array met a Tensor, and its mask would be lost. Say what stands in the "
            "masked places: x.filled(0.0), or "
            "np.where(mask, other, x)."
        )
    if isinstance(value, np.matrix):
        raise DifferentiationError(
            "A numpy.matrix met a Tensor: its * is a matrix product, a Tensor's is not. Use "
            "np.asarray(matrix) and @."
        )
    return np.asarray(value)


class Tensor(NDArrayOperatorsMixin):
    """An array whose operations are recorded, so that values computed from it can be
    differentiated.

    NumPy functions, operators and SciPy's ufuncs take it as they take an array; results are Tensors
    that know their origin. The record lives exactly as long as the values that came out of it.

    Parameters
    ----------
    value : array_like of floats
        Integers and complex numbers are refused: they have no derivative here.
    name : str, optional
        Shown in trails and messages.

    Raises
    ------
    DTypeError
        If the numbers are not real floats.

    Examples
    --------
    >>> x = Tensor([1.0, 2.0, 3.0])
    >>> loss = np.sum(np.tanh(x) ** 2)
    >>> differentiate(loss, wrt=x).round(3)
    array([0.64 , 0.136, 0.02 ])
    """

    __slots__ = ("__weakref__", "_array", "origin")

    _array: Any
    origin: Origin

    def __init__(self, value: ArrayLike, *, name: str = "", dtype: DTypeLike | None = None) -> None:
        if isinstance(value, Tensor):
            raise DifferentiationError(
                "Tensor(x) of a Tensor would cut its record. To treat it as a constant use "
                "vinestep.held(x); otherwise use it as it is."
            )
        array = np.asarray(plain(value), dtype=dtype)
        check_real_float(array.dtype)
        self._array = array
        self.origin = Leaf(array.shape, array.dtype, name)

    # above a Series' and a DataFrame's: operators with them come here, as those of NumPy's arrays
    # do
    __pandas_priority__ = 5000

    def __reduce__(self) -> Any:
        if self.origin.rule is not None:
            raise DifferentiationError(
                "A computed Tensor cannot be copied or pickled, since its record belongs to this "
                "computation. Take its values: "
                "vinestep.held(x).copy()."
            )
        return _leaf, (np.array(self._array), self.origin.name)

    @staticmethod
    def from_operation(array: Any, origin: Origin) -> Tensor:
        made = _new(Tensor)
        made._array = array
        made.origin = origin
        return made

    @property
    def array(self) -> Any:
        """The plain values: a leaf's own array, which may be written to; of a computed value a
        read-only view.
        """
        array = self._array
        if self.origin.borrowed == FROM_OUTSIDE:
            hand_out(self.origin)
        if self.origin.rule is None or type(array) is not np.ndarray:
            return array
        view = array.view()
        view.flags.writeable = False
        return view

    # NumPy's protocols

    def __matmul__(self, other: Any) -> Any:
        if hasattr(other, "tocsr"):
            return METHODS["matmul_sparse"](self, matrix=other)
        return np.matmul(self, other)

    def __array_ufunc__(self, ufunc: np.ufunc, method: str, *inputs: Any, **kwargs: Any) -> Any:
        if method == "__call__" and not kwargs:
            rule = UFUNCS.get(ufunc)
            if rule is not None:
                return apply(rule, inputs, _NO_OPTIONS)
        return _ufunc_slow(ufunc, method, inputs, kwargs)

    def __array_function__(
        self, func: Any, types: Any, args: tuple[Any, ...], kwargs: dict[str, Any]
    ) -> Any:
        for kind in types:
            if (
                kind is not Tensor
                and kind is not np.ndarray
                and issubclass(kind, np.ma.MaskedArray | np.matrix)
            ):
                plain(next(x for x in _flattened((args, kwargs)) if type(x) is kind))
        for x in args:
            if type(x) not in _USUAL:
                args = tuple([_without_labels(x) for x in args])
                break
        handler = find_handler(func)
        if handler is not None:
            place = OUT_PLACES.get(func)
            if kwargs.get("out") is not None or (
                place is not None and len(args) > place and args[place] is not None
            ):
                raise DifferentiationError(
                    f"np.{func.__name__}(..., out=...) would overwrite an array that the record "
                    "may need. "
                    "Drop out= and use what is returned."
                )
            kwargs.pop("out", None)
            try:
                return handler(*args, **kwargs)
            except VineStepError:
                raise
            except RAW_ERRORS as error:
                raise _not_by_rule(func, args, kwargs, error) from error
        if func in PASSIVE:
            return func(*held_tree(args), **held_tree(kwargs))
        raise missing_rule(func)

    def __dlpack__(self, **options: Any) -> NoReturn:
        raise _conversion_error("an array")

    def __dlpack_device__(self) -> NoReturn:
        raise _conversion_error("an array")

    def __array__(self, dtype: DTypeLike | None = None, copy: bool | None = None) -> np.ndarray:
        if STATE.now.recording:
            raise _conversion_error("an array")
        hand_out(self.origin)
        return np.array(self._array, dtype=dtype, copy=copy)

    # Attributes of an array

    @property
    def shape(self) -> tuple[int, ...]:
        return self.origin.shape

    @property
    def dtype(self) -> np.dtype[Any]:
        return self.origin.dtype

    @property
    def ndim(self) -> int:
        return len(self.origin.shape)

    @property
    def size(self) -> int:
        return int(self._array.size)

    @property
    def nbytes(self) -> int:
        return int(self._array.nbytes)

    @property
    def name(self) -> str:
        """Name of a leaf, or the path of a parameter; empty for other values."""
        return self.origin.name

    @property
    def T(self) -> Any:
        return np.transpose(self)

    @property
    def mT(self) -> Any:
        return np.swapaxes(self, -1, -2)

    @property
    def flat(self) -> NoReturn:
        raise DifferentiationError(
            "A Tensor has no .flat: it would lose the record. Use np.ravel(x)."
        )

    def __len__(self) -> int:
        if not self.shape:
            raise NoAxesError("len() of a Tensor with no axes")
        return self.shape[0]

    def __iter__(self) -> Iterator[Any]:
        if not self.shape:
            raise NoAxesError("a Tensor with no axes cannot be iterated")
        return (self[i] for i in range(self.shape[0]))

    def __getitem__(self, index: Any) -> Any:
        return METHODS["getitem"](self, index=held_tree(index))

    def __setitem__(self, index: Any, value: Any) -> NoReturn:
        cure = (
            "This one is a leaf: to change its starting value write to x.array[...] before the "
            "computation."
            if self.origin.rule is None
            else "Build the new value instead: np.where(mask, new, x), np.concatenate or np.stack "
            "of the parts."
        )
        raise DifferentiationError(
            f"A Tensor cannot be assigned into: the record needs its old value. {cure}"
        )

    def __bool__(self) -> bool:
        return bool(self._array)

    def __float__(self) -> float:
        if STATE.now.recording:
            raise _conversion_error("a Python float")
        return float(self._array)

    def __int__(self) -> int:
        if STATE.now.recording:
            raise _conversion_error("a Python int")
        return int(self._array)

    def __complex__(self) -> NoReturn:
        raise _complex_error()

    def __index__(self) -> NoReturn:
        raise DTypeError(
            "A Tensor holds floats and cannot be an index. Use vinestep.held(x).astype(int)."
        )

    def __format__(self, spec: str) -> str:
        return format(self._array.item() if spec and self.size == 1 else self._array, spec)

    def __repr__(self) -> str:
        origin = self.origin
        came = (
            f"from {origin.rule.name}"
            if origin.rule
            else (f"{origin.name!r}" if origin.name else "leaf")
        )
        text = np.array2string(
            np.asarray(self._array), prefix="Tensor(", separator=", ", threshold=50
        )
        return f"Tensor({text}, {origin.dtype}, {came})"

    def __hash__(self) -> int:
        return id(self)

    # Methods of an array, each the NumPy function of that name

    def item(self) -> float:
        """The one number of a Tensor of size 1, as a Python float, without derivative."""
        return float(self._array.item())

    def sum(self, axis: Any = None, **options: Any) -> Any:
        return np.sum(self, axis=axis, **options)

    def prod(self, axis: Any = None, **options: Any) -> Any:
        return np.prod(self, axis=axis, **options)

    def mean(self, axis: Any = None, **options: Any) -> Any:
        return np.mean(self, axis=axis, **options)

    def var(self, axis: Any = None, **options: Any) -> Any:
        return np.var(self, axis=axis, **options)

    def std(self, axis: Any = None, **options: Any) -> Any:
        return np.std(self, axis=axis, **options)

    def max(self, axis: Any = None, **options: Any) -> Any:
        return np.max(self, axis=axis, **options)

    def min(self, axis: Any = None, **options: Any) -> Any:
        return np.min(self, axis=axis, **options)

    def argmax(self, axis: Any = None, **options: Any) -> Any:
        return np.argmax(self, axis=axis, **options)

    def argmin(self, axis: Any = None, **options: Any) -> Any:
        return np.argmin(self, axis=axis, **options)

    def argsort(self, axis: Any = -1, **options: Any) -> Any:
        return np.argsort(self, axis=axis, **options)

    def cumsum(self, axis: Any = None) -> Any:
        return np.cumsum(self, axis=axis)

    def cumprod(self, axis: Any = None) -> Any:
        return np.cumprod(self, axis=axis)

    def clip(self, min: Any = None, max: Any = None) -> Any:
        return np.clip(self, min, max)

    def dot(self, other: Any) -> Any:
        return np.dot(self, other)

    def reshape(self, *shape: Any, order: Any = "C") -> Any:
        return np.reshape(self, shape[0] if len(shape) == 1 else shape, order=order)

    def ravel(self, order: Any = "C") -> Any:
        return np.ravel(self, order=order)

    def flatten(self, order: Any = "C") -> Any:
        return np.ravel(self, order=order)

    def transpose(self, *axes: Any) -> Any:
        if not axes or axes == (None,):
            return np.transpose(self)
        return np.transpose(
            self, axes[0] if len(axes) == 1 and not isinstance(axes[0], SupportsIndex) else axes
        )

    def swapaxes(self, first: int, second: int) -> Any:
        return np.swapaxes(self, first, second)

    def squeeze(self, axis: Any = None) -> Any:
        return np.squeeze(self, axis=axis)

    def repeat(self, repeats: Any, axis: Any = None) -> Any:
        return np.repeat(self, repeats, axis=axis)

    def take(self, indices: Any, axis: Any = None) -> Any:
        return np.take(self, indices, axis=axis)

    def diagonal(self, offset: int = 0, axis1: int = 0, axis2: int = 1) -> Any:
        return np.diagonal(self, offset, axis1, axis2)

    def trace(self, offset: int = 0, axis1: int = 0, axis2: int = 1) -> Any:
        return np.trace(self, offset, axis1, axis2)

    def astype(self, dtype: DTypeLike) -> Any:
        return METHODS["astype"](self, dtype=np.dtype(dtype))

    def copy(self) -> Any:
        return np.copy(self)

    # The commonest operators go straight to their rules; the others by way of NumPy's dispatch.

    def __add__(self, other: Any) -> Any:
        return (
            apply(UFUNCS[np.add], (self, other), _NO_OPTIONS)
            if type(other) in _PLAIN
            else super().__add__(other)
        )

    def __sub__(self, other: Any) -> Any:
        return (
            apply(UFUNCS[np.subtract], (self, other), _NO_OPTIONS)
            if type(other) in _PLAIN
            else super().__sub__(other)
        )

    def __mul__(self, other: Any) -> Any:
        return (
            apply(UFUNCS[np.multiply], (self, other), _NO_OPTIONS)
            if type(other) in _PLAIN
            else super().__mul__(other)
        )

    def __truediv__(self, other: Any) -> Any:
        return (
            apply(UFUNCS[np.divide], (self, other), _NO_OPTIONS)
            if type(other) in _PLAIN
            else super().__truediv__(other)
        )

    def __pow__(self, exponent: Any) -> Any:
        if type(exponent) in (int, float):
            if exponent == 2:
                return np.square(self)
            if exponent == 1:
                return np.positive(self)
        return np.power(self, exponent)


_PLAIN = frozenset({Tensor, np.ndarray, float, int, np.float64, np.float32})
_NUMBERS = frozenset({float, int, np.float64, np.float32})
_USUAL = frozenset(
    {
        Tensor,
        np.ndarray,
        float,
        int,
        bool,
        type(None),
        str,
        tuple,
        list,
        slice,
        np.float64,
        np.float32,
        np.int64,
    }
)


def _leaf(array: np.ndarray, name: str) -> Tensor:
    return Tensor(array, name=name)


def _flattened(tree: Any) -> Iterator[Any]:
    if type(tree) in (tuple, list):
        for item in tree:
            yield from _flattened(item)
    elif type(tree) is dict:
        yield from _flattened(list(tree.values()))
    else:
        yield tree


def _without_labels(value: Any) -> Any:
    """The values of a pandas object: its labels mean nothing to NumPy's functions, and would
    mislead an index.
    """
    return np.asarray(value) if type(value).__module__.partition(".")[0] == "pandas" else value


def check_real_float(dtype: np.dtype[Any]) -> None:
    """Refuse what is not a real float, with the reason."""
    if dtype.kind == "f":
        return
    if dtype.kind == "c":
        raise _complex_error()
    cure = (
        "Write 1.0 rather than 1, or x.astype(float)"
        if dtype.kind in "iub"
        else "Convert them to floats first"
    )
    raise DTypeError(
        f"A Tensor holds real floats, got {dtype}. {cure}; leave labels, indices and masks as "
        "plain arrays."
    )


def _complex_error() -> DTypeError:
    return DTypeError(
        "Complex numbers are not differentiated here: a real derivative of a complex function "
        "exists only if it is "
        "analytic, and losses are real. Split the value into its real and imaginary part, as two "
        "real arrays."
    )


def _conversion_error(kind: str) -> DifferentiationError:
    return DifferentiationError(
        f"Turning a Tensor into {kind} would lose the record, so its derivative would silently be "
        "missing. "
        "If it is meant as a constant, say so: vinestep.held(x), or x.item() for one number. To "
        "gather Tensors use "
        "np.stack or np.concatenate instead of np.array; for math.exp and the like use np.exp; for "
        "scipy.special.logsumexp, softmax and log_softmax use vinestep.logsumexp, softmax and "
        "log_softmax."
    )


def held(x: Any) -> Any:
    """A value treated as constant: the plain array of a Tensor; anything else as it is.

    Returns
    -------
    array : ndarray
        Read-only for values the record needs; copy it before writing.

    Examples
    --------
    >>> x = Tensor([3.0])
    >>> differentiate(np.sum(held(x) * x), wrt=x)
    array([3.])
    """
    return x.array if isinstance(x, Tensor) else x


def held_tree(tree: Any) -> Any:
    """`held` through tuples, lists and dicts."""
    if isinstance(tree, Tensor):
        return tree.array
    if type(tree) in (tuple, list):
        return type(tree)([held_tree(item) for item in tree])
    if type(tree) is dict:
        return {key: held_tree(item) for key, item in tree.items()}
    return tree


def owned(value: Any) -> Any:
    """A copy of a mask or an index array that the record will need, so that a later change by its
    owner is harmless.
    """
    if STATE.now.recording and STATE.now.sealing and isinstance(value, np.ndarray):
        return value.copy()
    if type(value) is tuple:
        return tuple([owned(item) for item in value])
    return value


def apply(rule: Rule, inputs: tuple[Any, ...], options: dict[str, Any]) -> Any:
    """Run a rule's forward computation on plain arrays and, if recording, give the result an
    origin.

    On small arrays this is all the cost there is, so it is written flat.
    """
    parents: list[Origin | None] = []
    arrays: list[Any] = []
    like = None
    odd = False
    for x in inputs:
        kind = type(x)
        if kind is Tensor:
            origin = x.origin
            parents.append(origin)
            arrays.append(x._array)
            like = origin.dtype
        else:
            parents.append(None)
            if kind not in _NUMBERS:
                if kind is not np.ndarray:
                    x = plain(x)
                odd = odd or kind is not np.ndarray or x.dtype.kind != "f"
            arrays.append(x)
    if odd and like is not None:
        _in_the_precision_of_tensors(rule, arrays, parents)
    output = rule.forward(*arrays, **options) if options else rule.forward(*arrays)
    if like is None:
        return output
    now = STATE.now
    if not now.recording:
        return output
    dtype = output.dtype
    if dtype is not like and dtype.kind != "f":
        check_real_float(dtype)
    origin = _new(Origin)
    origin.rule = rule
    origin.parents = parents
    if rule.own:
        for parent in parents:
            hand_out(parent)
    if rule.keeps_inputs:
        origin.inputs = arrays
        origin.seals = checksums_of(arrays, parents) if now.sealing else None
    else:
        origin.inputs = origin.seals = None
    origin.output = output if rule.keeps_output else None
    origin.options = options
    origin.shape = output.shape
    origin.dtype = dtype
    origin.place = now.place
    origin.borrowed = (
        NOT_BORROWED if output.base is None else _lender(rule, output, arrays, parents)
    )
    origin.viewed = False
    origin.number = _next_number()
    made = _new(Tensor)
    made._array = output
    made.origin = origin
    return made


def _in_the_precision_of_tensors(
    rule: Rule, arrays: list[Any], parents: list[Origin | None]
) -> None:
    """Whole numbers and truth values turned into the floats that the operation computes in: their
    own arithmetic would overflow.
    """
    places = [
        i
        for i, parent in enumerate(parents)
        if parent is None
        and getattr(arrays[i], "dtype", None) is not None
        and arrays[i].dtype.kind in "iub"
        and rule.takes_floats(i)
    ]
    if places:
        dtype = np.result_type(*arrays)
        for i in places if dtype.kind == "f" else ():
            arrays[i] = arrays[i].astype(dtype)


def _lender(rule: Rule, output: np.ndarray, arrays: list[Any], parents: list[Origin | None]) -> int:
    """Whose memory a result lies in."""
    result = NOT_BORROWED
    for array, parent in zip(arrays, parents, strict=True):
        if type(array) is np.ndarray and np.may_share_memory(output, array):
            if parent is not None and rule.lends:
                parent.viewed = True
            outside = parent is None or parent.borrowed == FROM_OUTSIDE
            result = max(result, FROM_OUTSIDE if outside else FROM_A_VALUE)
    return result


def _ufunc_slow(
    ufunc: np.ufunc, method: str, inputs: tuple[Any, ...], kwargs: dict[str, Any]
) -> Any:
    out = kwargs.pop("out", None)
    if out is not None:
        return _in_place(ufunc, method, inputs, kwargs, out)
    if method != "__call__":
        handler = UFUNC_METHODS.get((ufunc, method))
        if handler is None:
            if ufunc in PASSIVE:
                return getattr(ufunc, method)(*held_tree(inputs), **held_tree(kwargs))
            known = sorted({f"np.{u.__name__}.{m}" for u, m in UFUNC_METHODS})
            raise _missing_method(ufunc, method, known)
        try:
            return handler(*inputs, **kwargs)
        except VineStepError:
            raise
        except RAW_ERRORS as error:
            raise _not_by_rule(getattr(ufunc, method), inputs, kwargs, error) from error
    if kwargs.get("where", True) is not True:
        raise DifferentiationError(
            f"np.{ufunc.__name__}(..., where=...) leaves the other elements undefined, so it has "
            "no derivative. "
            f"Use np.where(mask, np.{ufunc.__name__}(...), other)."
        )
    kwargs.pop("where", None)
    dtype = kwargs.pop("dtype", None)
    if ufunc in PASSIVE:
        return ufunc(*held_tree(inputs), **kwargs)
    if kwargs:
        raise DifferentiationError(
            f"np.{ufunc.__name__} with {', '.join(kwargs)}= is not differentiated; leave it out."
        )
    handler = find_handler(ufunc)
    rule = None if handler else find_ufunc_rule(ufunc)
    if handler is None and rule is None:
        if ufunc in PASSIVE:
            return ufunc(*held_tree(inputs))
        raise missing_rule(ufunc)
    if dtype is not None:
        check_real_float(np.dtype(dtype))
        inputs = tuple(
            x.astype(dtype) if isinstance(x, Tensor) else np.asarray(x, dtype) for x in inputs
        )
    return handler(*inputs) if handler else apply(rule, inputs, _NO_OPTIONS)  # type: ignore[arg-type]


def _not_by_rule(
    func: Any, args: tuple[Any, ...], kwargs: dict[str, Any], error: Exception
) -> DifferentiationError:
    """What to raise where a rule failed. If NumPy does not compute this either, it raises that."""
    func(*held_tree(args), **held_tree(kwargs))
    shapes = ", ".join(str(x.shape) for x in _flattened((args, kwargs)) if isinstance(x, Tensor))
    return DifferentiationError(
        f"np.{func.__name__} has a derivative rule, but not for these arguments, of shape "
        f"{shapes}: {type(error).__name__}: {error}. If it is constant for your purpose, apply it "
        "to vinestep.held(x)."
    )


def _missing_method(ufunc: np.ufunc, method: str, known: list[str]) -> MissingRuleError:
    return MissingRuleError(
        f"np.{ufunc.__name__}.{method} has no derivative rule. Those that have one: "
        f"{', '.join(known)}. "
        "Write it with sums, products or np.where instead."
    )


def _in_place(
    ufunc: np.ufunc,
    method: str,
    inputs: tuple[Any, ...],
    kwargs: dict[str, Any],
    out: tuple[Any, ...],
) -> Any:
    """``x += y`` and its kin: a leaf's memory is written to; a computed Tensor becomes the new
    value under all its names.
    """
    target = out[0]
    if method != "__call__" or kwargs or len(out) != 1 or not inputs or target is not inputs[0]:
        raise DifferentiationError(
            f"np.{ufunc.__name__}(..., out=...) would overwrite an array that the record may "
            "need. Drop out= and use what is returned."
        )
    if not isinstance(target, Tensor):
        raise DifferentiationError(
            "A plain array cannot take a Tensor in place: the record would be lost. Write x = x + "
            "y."
        )
    if target.origin.rule is not None:
        return _become(target, ufunc, inputs)
    others = inputs[1:]
    if STATE.now.recording and any(isinstance(x, Tensor) for x in others):
        raise DifferentiationError(
            "A leaf Tensor was to be changed in place by a recorded value. Write x = x + y to "
            "build a new value, or "
            "x += vinestep.held(y) to change the leaf itself."
        )
    values = [plain(x) for x in held_tree(others)]
    _check_in_place(
        ufunc, target, np.broadcast_shapes(target.shape, *(np.shape(x) for x in values))
    )
    hand_out(target.origin)
    ufunc(target._array, *values, out=target._array, casting="same_kind")
    return target


def _check_in_place(ufunc: np.ufunc, target: Tensor, shape: tuple[int, ...]) -> None:
    if shape != target.shape:
        raise ShapeError(
            f"In-place {ufunc.__name__}: the Tensor has shape {target.shape}, the result would "
            f"have {shape}."
        )


def _become(target: Tensor, ufunc: np.ufunc, inputs: tuple[Any, ...]) -> Tensor:
    """As in NumPy, whoever holds the Tensor sees the change, unless it is a single number, which
    NumPy cannot change either; who holds a part of it would see it too, so there it is refused.
    """
    if type(target._array) is not np.ndarray:
        return ufunc(*inputs)  # type: ignore[no-any-return]
    if target.origin.borrowed or target.origin.viewed:
        raise DifferentiationError(
            f"In-place {ufunc.__name__} of a computed value that shares its memory with another "
            "one, as slices, rows of a loop, .T and "
            "reshape do: NumPy would change both. Write x = x + y for a new value; to put parts "
            "together use np.where, np.concatenate "
            "or np.stack."
        )
    if not STATE.now.recording:
        raise DifferentiationError(
            f"In-place {ufunc.__name__} of a computed value under untracked(): write x = x + y "
            "for a new value."
        )
    value = ufunc(*inputs)
    _check_in_place(ufunc, target, value.shape)
    if value.dtype != target.dtype:
        value = value.astype(target.dtype)
    target._array, target.origin = value._array, value.origin
    return target
