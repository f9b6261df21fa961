"""Places that a mask leaves out."""

from __future__ import annotations

from typing import Any

import numpy as np

from .autodiff.tensor import held

__all__ = ["zero_nonfinite"]


def zero_nonfinite(x: Any, mask: np.ndarray | None) -> Any:
    """`x` with 0 for what is NaN or infinite where the mask is True: a weight of 0 does not remove
    it, since 0 times NaN is NaN, in outputs and in gradients.

    Parameters
    ----------
    x : array or Tensor, shape (n, ...)
    mask : array of bool, optional
        Over the first axes of `x`; of another shape it belongs to something else, and `x` is
        returned.

    Examples
    --------
    >>> zero_nonfinite(np.array([[np.nan], [np.inf]]), np.array([True, False]))
    array([[ 0.],
           [inf]])
    """
    values = held(x)
    if (
        mask is None
        or mask.shape != np.shape(values)[: mask.ndim]
        or values.dtype.kind != "f"
        or np.isfinite(values[mask]).all()
    ):
        return x
    return np.where(mask.reshape(mask.shape + (1,) * (values.ndim - mask.ndim)), 0.0, x)
