"""Several dense layers of one input as one operation, whose ways back are one product."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, Signatures
from ..kernels.products import sum_with_transposed, transposed_product
from ._dense import affine, sum_of_rows

__all__ = ["projections"]


def _definition(x: Any, *weights: Any) -> Any:
    """Of each weight and bias ``x @ weight + bias``, one behind the other along a new first
    axis.
    """
    return np.stack(
        [
            np.matmul(x, weight) + bias
            for weight, bias in zip(weights[::2], weights[1::2], strict=True)
        ]
    )


def _rows(x: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(x).reshape(math.prod(x.shape[:-1]), x.shape[-1])


def _forward(x: Any, *weights: Any) -> tuple[Any, Any]:
    rows = _rows(x)
    n_out = weights[0].shape[1]
    y = np.empty((len(weights) // 2, len(rows), n_out), x.dtype)
    for own, weight, bias in zip(y, weights[::2], weights[1::2], strict=True):
        affine(rows, weight, bias, out=own)
    return y.reshape(len(weights) // 2, *x.shape[:-1], n_out), None


def _adjoint(
    g: Any,
    saved: Any,
    inputs: Sequence[Any],
    options: dict[str, Any],
    wanted: Sequence[bool],
    places: Sequence[Any],
) -> list[Any]:
    x, *weights = inputs
    rows = _rows(x)
    g = np.ascontiguousarray(g, x.dtype).reshape(len(weights) // 2, len(rows), weights[0].shape[1])
    result: list[Any] = [None] * len(inputs)
    for number, weight in enumerate(weights, start=1):
        if wanted[number]:
            own, place = g[(number - 1) // 2], places[number]
            room = place if place is not None else np.empty(weight.shape, weight.dtype)
            result[number] = (
                transposed_product(rows, own, out=room) if number % 2 else sum_of_rows(own, room)
            )
    if wanted[0]:
        result[0] = sum_with_transposed(g, weights[::2]).reshape(x.shape)
    return result


def _form(n_inputs: int) -> Signature:
    axes = {
        name: text
        for k in range(n_inputs // 2)
        for name, text in ((f"weight {k}", "n_in n_out"), (f"bias {k}", "n_out"))
    }
    return Signature(x="*n n_in", **axes)  # type: ignore[arg-type]


projections = Fused(
    "projections",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signatures(_form),
)
