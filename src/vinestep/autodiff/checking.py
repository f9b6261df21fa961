"""Derivatives held against numbers: central differences, the complex step, or a gradient derived by
hand.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from ..errors import DifferentiationError
from .derivatives import HasParameters, differentiate
from .tensor import Tensor, held
from .tracking import recorded, untracked

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["ArgumentCheck", "GradientReport", "check_gradients"]

COMPLEX_STEP = 1e-30  # no subtraction follows, so it may be as small as it likes
AGREEMENT = 1e-4  # two gradients that agree to this are the same one, when guessing what went wrong
TOLERANCES = {
    8: 1e-7,
    4: 5e-3,
    2: 1e-1,
}  # by item size; below float64 the function's own rounding is what is seen
ROUNDING = 4.0  # what differences make of the rounding of a value near 1, in units of eps ** 0.8
FIVE_POINTS = (
    (-2, 1 / 12),
    (-1, -8 / 12),
    (1, 8 / 12),
    (2, -1 / 12),
)  # central differences of fourth order


@dataclass(frozen=True, slots=True, kw_only=True)
class ArgumentCheck:
    """What was found for one argument or parameter."""

    path: str
    shape: tuple[int, ...]
    checked: int
    """How many elements were compared."""
    worst: tuple[int, ...]
    """Index of the element with the largest error."""
    ours: float
    reference: float
    error: float
    """Largest difference, relative to the largest derivative of this argument."""
    ok: bool
    remark: str = ""

    def __str__(self) -> str:
        mark = "right" if self.ok else "WRONG"
        size = math.prod(self.shape)
        part = "" if self.checked == size else f" (of {size})"
        text = (
            f"{mark}  {self.path}  {self.shape}: {self.checked}{part} elements, worst at "
            f"{self.worst}: "
            f"{self.ours:.9g} against {self.reference:.9g}, relative error {self.error:.1e}"
        )
        return f"{text}\n       {self.remark}" if self.remark else text


@dataclass(frozen=True, slots=True)
class GradientReport:
    """Comparison of gradients, argument by argument; true if all agree.

    Examples
    --------
    >>> report = check_gradients(lambda x: np.sum(np.exp(x)), np.zeros(2))
    >>> bool(report), report.worst.path, list(report.table()["checked"])
    (True, 'argument 0', [2])
    """

    arguments: tuple[ArgumentCheck, ...]
    tolerance: float
    against: str
    remark: str = ""
    """What stands in the way of a verdict."""

    @property
    def ok(self) -> bool:
        return all(check.ok for check in self.arguments)

    @property
    def worst(self) -> ArgumentCheck:
        return max(
            self.arguments,
            key=lambda check: check.error if not math.isnan(check.error) else math.inf,
        )

    def __bool__(self) -> bool:
        return self.ok

    def table(self) -> pd.DataFrame:
        """One row an argument."""
        import pandas as pd

        fields = ("path", "shape", "checked", "worst", "ours", "reference", "error", "ok", "remark")
        return pd.DataFrame(
            [{name: getattr(check, name) for name in fields} for check in self.arguments]
        )

    def raise_if_wrong(self) -> None:
        """Raise DifferentiationError with the report as its text, unless everything agrees."""
        if not self.ok:
            raise DifferentiationError(str(self))

    def __str__(self) -> str:
        verdict = "agree" if self.ok else "DO NOT agree"
        head = f"Gradients {verdict} with {self.against} (relative tolerance {self.tolerance:.0e})."
        return "\n".join(
            [
                head,
                *(f"  {check}" for check in self.arguments),
                *([self.remark] if self.remark else []),
            ]
        )


@dataclass(slots=True)
class _Variable:
    """One array that is varied: its path, its values, and the tensor that stands for it in the
    recorded pass.
    """

    path: str
    array: np.ndarray
    tensor: Tensor


def check_gradients(
    f: Callable[..., Any],
    *arguments: Any,
    claimed: Any = None,
    method: Literal["differences", "complex"] = "differences",
    tolerance: float | None = None,
    elements: int = 400,
    seed: int = 0,
) -> GradientReport:
    """Compare the gradients of a function with numerical ones, or with gradients derived by hand.

    Parameters
    ----------
    f : callable
        Called with the arguments. A result of several elements is reduced by random weights, which
        tests them all.
    *arguments : array_like or network
        Float arrays and networks are varied, a network through each of its trainable parameters;
        whole numbers, strings and the like are passed on as they are.
    claimed : array, mapping by path, or sequence, optional
        Gradients derived by hand. They are compared with ours, and the report says in words what is
        likely wrong.
    method : {"differences", "complex"}
        Central differences of fourth order with a step chosen for the dtype, or the complex step
        [1]_, exact to rounding, for analytic functions of arrays written so that they take complex
        numbers.
    tolerance : float, optional
        Largest relative error; by default 1e-7 in float64 and 5e-3 in float32.
    elements : int
        How many elements of each array to vary at most; a random choice of them if there are more.
    seed : int
        Of that choice and of the weights.

    Returns
    -------
    report : GradientReport
        True if all agree; prints argument by argument the worst element, both values and the error.

    References
    ----------
    .. [1] W. Squire and G. Trapp, "Using Complex Variables to Estimate Derivatives of Real
       Functions", SIAM Rev. 40(1), 110-112, 1998.

    Examples
    --------
    >>> print(
    ...     check_gradients(
    ...         lambda x: np.sum(np.exp(x)),
    ...         np.array([0.0, 1.0]),
    ...         claimed=np.array([2.0, 5.4365637]),
    ...     )
    ... )
    Gradients DO NOT agree with the gradient claimed (relative tolerance 1e-04).
      WRONG  argument 0  (2,): 2 elements, worst at (1,): 2.71828183 against 5.4365637, relative error 5.0e-01
           The claimed gradient is 2 times ours: the 2 of a square, or a factor of 2 for its mean against its sum.
    """  # noqa: E501
    rng = np.random.default_rng(seed)
    inputs, variables = _variables(arguments)
    value, weights = _recorded_value(f, inputs, rng)
    result = (
        differentiate(value, {v.path: v.tensor for v in variables}, unused="zeros")
        if isinstance(value, Tensor)
        else {v.path: np.zeros_like(v.array) for v in variables}
    )
    if claimed is not None:
        return _against_claim(variables, result, claimed, tolerance, arguments)
    limit = (
        tolerance
        if tolerance is not None
        else TOLERANCES.get(min(v.array.itemsize for v in variables), 1e-7)
    )
    scale = abs(float(held(value)))
    checks = []
    for variable in variables:
        index = _chosen(variable.array.size, elements, rng)
        if method == "complex":
            numbers = _complex_steps(f, inputs, variables, variable, index, weights)
        else:
            numbers = _differences(f, inputs, variables, variable, index, weights)
        checks.append(
            _compare(variable, np.ravel(result[variable.path])[index], numbers, index, limit, scale)
        )
    against = "the complex step" if method == "complex" else "central differences"
    return GradientReport(tuple(checks), limit, against, _precision_remark(variables, checks))


def _precision_remark(variables: list[_Variable], checks: list[ArgumentCheck]) -> str:
    if all(check.ok for check in checks) or all(v.array.itemsize >= 8 for v in variables):
        return ""
    coarsest = min((v.array.dtype for v in variables), key=lambda dtype: dtype.itemsize)
    return (
        f"  Some of this is {coarsest}, whose own rounding shows in differences as large as "
        "these. Before calling the gradient wrong "
        "check it in float64: arrays by x.astype(np.float64), a network by "
        "network.initialise(sample, dtype=np.float64) and load(weights)."
    )


def _variables(arguments: tuple[Any, ...]) -> tuple[list[Any], list[_Variable]]:
    inputs: list[Any] = []
    variables: list[_Variable] = []
    for position, argument in enumerate(arguments):
        if isinstance(argument, HasParameters):
            inputs.append(argument)
            variables += [_Variable(path, t.array, t) for path, t in argument.parameters().items()]
            continue
        array = (
            np.asarray(held(argument))
            if isinstance(argument, Tensor | np.ndarray | np.floating | float | list)
            else None
        )
        if array is None or array.dtype.kind != "f":
            inputs.append(argument)
            continue
        tensor = Tensor(array.copy(), name=f"argument {position}")
        inputs.append(tensor)
        variables.append(_Variable(tensor.name, tensor.array, tensor))
    if not variables:
        raise DifferentiationError(
            "check_gradients found nothing to vary: give at least one array of floats, or a "
            "network with parameters."
        )
    return inputs, variables


def _recorded_value(
    f: Callable[..., Any], inputs: list[Any], rng: np.random.Generator
) -> tuple[Any, np.ndarray | None]:
    with recorded(sealing=False):
        value = f(*inputs)
        if np.size(held(value)) == 1:
            return np.reshape(value, ()), None
        weights = rng.uniform(0.5, 1.5, np.shape(value)) * rng.choice([-1.0, 1.0], np.shape(value))
        return np.sum(value * weights.astype(value.dtype)), weights


def _evaluate(f: Callable[..., Any], inputs: list[Any], weights: np.ndarray | None) -> Any:
    with untracked():
        value = f(*[x.array if isinstance(x, Tensor) else x for x in inputs])
    value = np.asarray(held(value))
    if value.dtype.kind == "f":
        value = value.astype(np.float64)
    return value.reshape(()) if weights is None else np.sum(value * weights)


def _chosen(size: int, elements: int, rng: np.random.Generator) -> np.ndarray:
    return (
        np.arange(size) if size <= elements else np.sort(rng.choice(size, elements, replace=False))
    )


def _differences(
    f: Callable[..., Any],
    inputs: list[Any],
    variables: list[_Variable],
    variable: _Variable,
    index: np.ndarray,
    weights: np.ndarray | None,
) -> np.ndarray:
    array = variable.array
    relative = float(np.finfo(array.dtype).eps) ** 0.2
    numbers = np.empty(index.size)
    for k, position in enumerate(index):
        place = np.unravel_index(position, array.shape)
        before = array[place]
        step = relative * max(1.0, abs(float(before)))
        total, span = 0.0, 0.0
        for multiple, weight in FIVE_POINTS:
            array[place] = before + multiple * step
            if multiple == 2:
                span = (float(array[place]) - float(before)) / 2
            total += weight * float(_evaluate(f, inputs, weights))
        array[place] = before
        numbers[k] = total / span
    return numbers


def _complex_steps(
    f: Callable[..., Any],
    inputs: list[Any],
    variables: list[_Variable],
    variable: _Variable,
    index: np.ndarray,
    weights: np.ndarray | None,
) -> np.ndarray:
    position = next((i for i, x in enumerate(inputs) if x is variable.tensor), None)
    if position is None:
        raise DifferentiationError(
            f"The complex step varies arrays given as arguments, and {variable.path!r} belongs to "
            'a network. Use method="differences".'
        )
    numbers = np.empty(index.size)
    shifted: list[Any] = list(inputs)
    for k, element in enumerate(index):
        array = variable.array.astype(complex)
        array[np.unravel_index(element, array.shape)] += 1j * COMPLEX_STEP
        shifted[position] = array
        value = _evaluate(f, shifted, weights)
        if value.dtype.kind != "c":
            raise DifferentiationError(
                "The function drops the imaginary part (a real-only function, a comparison or a "
                "cast stands in it), so the "
                'complex step cannot be used. Use method="differences".'
            )
        numbers[k] = value.imag / COMPLEX_STEP
    return numbers


def _compare(
    variable: _Variable,
    ours: np.ndarray,
    reference: np.ndarray,
    index: np.ndarray,
    limit: float,
    scale: float,
) -> ArgumentCheck:
    if not index.size:
        return ArgumentCheck(
            path=variable.path,
            shape=variable.array.shape,
            checked=0,
            worst=(),
            ours=0.0,
            reference=0.0,
            error=0.0,
            ok=True,
        )
    difference = np.abs(ours - reference)
    difference[np.isnan(difference)] = np.inf
    noise = ROUNDING * float(np.finfo(variable.array.dtype).eps) ** 0.8 * max(scale, 1.0)
    floor = noise / limit
    largest = max(float(np.max(np.abs(ours))), float(np.max(np.abs(reference))), floor)
    k = int(np.argmax(difference))
    error = float(difference[k]) / largest if math.isfinite(largest) else math.inf
    return ArgumentCheck(
        path=variable.path,
        shape=variable.array.shape,
        checked=int(index.size),
        worst=tuple(int(i) for i in np.unravel_index(index[k], variable.array.shape)),
        ours=float(ours[k]),
        reference=float(reference[k]),
        error=error,
        ok=error <= limit,
    )


# gradients derived by hand


def _against_claim(
    variables: list[_Variable],
    found: Any,
    claimed: Any,
    tolerance: float | None,
    arguments: tuple[Any, ...],
) -> GradientReport:
    limit = tolerance if tolerance is not None else AGREEMENT
    claims = _claims(variables, claimed)
    lengths = sorted(
        {
            n
            for argument in arguments
            if not isinstance(argument, HasParameters)
            for n in np.shape(held(argument))
        }
    )
    checks = []
    for variable in variables:
        if variable.path not in claims:
            continue
        ours, claim = (
            np.asarray(found[variable.path], dtype=float),
            np.asarray(claims[variable.path], dtype=float),
        )
        if claim.shape == ours.shape:
            check = _compare(
                variable, ours.ravel(), claim.ravel(), np.arange(ours.size), limit, 0.0
            )
        else:
            check = ArgumentCheck(
                path=variable.path,
                shape=ours.shape,
                checked=0,
                worst=(),
                ours=math.nan,
                reference=math.nan,
                error=math.inf,
                ok=False,
            )
        checks.append(
            check if check.ok else _with_remark(check, _likely_mistake(ours, claim, lengths))
        )
    return GradientReport(tuple(checks), limit, "the gradient claimed")


def _claims(variables: list[_Variable], claimed: Any) -> dict[str, Any]:
    paths = [v.path for v in variables]
    if isinstance(claimed, Mapping):
        strange = [path for path in claimed if path not in paths]
        if strange:
            raise DifferentiationError(
                f"check_gradients: claimed names {strange[0]!r}; there are {', '.join(paths)}."
            )
        return dict(claimed)
    parts = list(claimed) if isinstance(claimed, tuple | list) and len(variables) > 1 else [claimed]
    if len(parts) != len(paths):
        raise DifferentiationError(
            f"check_gradients: {len(parts)} gradients claimed for {len(paths)} arrays: "
            f"{', '.join(paths)}."
        )
    return dict(zip(paths, parts, strict=True))


def _with_remark(check: ArgumentCheck, remark: str) -> ArgumentCheck:
    from dataclasses import replace

    return replace(check, remark=remark)


def _same(a: np.ndarray, b: np.ndarray) -> bool:
    return a.shape == b.shape and bool(
        np.allclose(
            a, b, rtol=AGREEMENT, atol=AGREEMENT * max(float(np.max(np.abs(b), initial=0)), 1e-30)
        )
    )


def _likely_mistake(ours: np.ndarray, claim: np.ndarray, lengths: list[int]) -> str:
    """What would turn the right gradient into the claimed one, tried in turn."""
    guesses = (guess(ours, claim, lengths) for guess in (_transposed, _scaled, _unmasked, _summed))
    result = next((text for text in guesses if text), "")
    if result:
        return result
    if ours.shape != claim.shape:
        return (
            f"The claimed gradient has shape {claim.shape}, the argument {ours.shape}: a "
            "gradient has the shape of its argument."
        )
    off = int(
        np.sum(
            ~np.isclose(
                ours, claim, rtol=AGREEMENT, atol=AGREEMENT * float(np.max(np.abs(ours), initial=0))
            )
        )
    )
    return f"{off} of {ours.size} elements differ, with no simple pattern."


def _transposed(ours: np.ndarray, claim: np.ndarray, lengths: list[int]) -> str:
    if ours.ndim == 2 and claim.shape == ours.shape[::-1]:
        if _same(claim.T, ours):
            return (
                "The claimed gradient is the transpose of ours: swap the factors of the "
                "product, x.T @ g against g.T @ x."
            )
        words = _scaled(ours, claim.T, lengths)
        return f"The claimed gradient is transposed; besides: {words}" if words else ""
    return ""


def _scaled(ours: np.ndarray, claim: np.ndarray, lengths: list[int]) -> str:
    if ours.shape != claim.shape or not ours.any():
        return ""
    factor = float(np.sum(ours * claim) / np.sum(ours * ours))
    if factor == 0.0 or not _same(claim, factor * ours):
        return ""
    for name, value in _factors(lengths):
        if math.isclose(factor, value, rel_tol=AGREEMENT):
            return f"The claimed gradient is {factor:.6g} times ours: {name}."
    if factor < 0:
        for name, value in _factors(lengths):
            if math.isclose(-factor, value, rel_tol=AGREEMENT):
                return (
                    f"The claimed gradient is {factor:.6g} times ours: the sign is turned, and "
                    f"{name}."
                )
    return (
        f"The claimed gradient is {factor:.6g} times ours: a constant factor is missing or too "
        "many."
    )


def _factors(lengths: list[int]) -> Iterator[tuple[str, float]]:
    yield "the sign is turned; is it target - prediction for prediction - target", -1.0
    for n in lengths:
        if n == 2:
            yield "the 2 of a square, or a factor of 2 for its mean against its sum", 2.0
        elif n > 2:
            yield (
                f"a factor of {n} (an axis of that length), a sum where the loss takes the mean",
                float(n),
            )
            yield (
                f"a factor of 1/{n} (an axis of that length), a mean where the loss takes the sum",
                1.0 / n,
            )
    yield "the 2 of a square was not cancelled by a half", 2.0
    yield "a half too many, or the 2 of a square is missing", 0.5


def _unmasked(ours: np.ndarray, claim: np.ndarray, lengths: list[int]) -> str:
    if ours.shape != claim.shape:
        return ""
    closed = (ours == 0) & (claim != 0)
    if closed.any() and not closed.all() and _same(np.where(closed, 0.0, claim), ours):
        return (
            f"{int(closed.sum())} of {ours.size} elements must be 0 and are not, the others are "
            "right: a mask is missing, "
            "as where a ReLU was closed, a dropout dropped or a maximum lay elsewhere."
        )
    return ""


def _summed(ours: np.ndarray, claim: np.ndarray, lengths: list[int]) -> str:
    if (
        claim.ndim == ours.ndim + 1
        and claim.shape[1:] == ours.shape
        and _same(claim.sum(axis=0), ours)
    ):
        return (
            f"The claimed gradient still has the axis of length {claim.shape[0]} along which the "
            "argument was broadcast: sum "
            "over it, as a bias collects from every example."
        )
    return ""
