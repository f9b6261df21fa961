"""Places of padded sequences that hold nothing."""

from __future__ import annotations

from typing import Any

import numpy as np

from ..autodiff.tensor import held

__all__ = ["without_hidden"]


def without_hidden(x: Any, hidden: np.ndarray | None) -> Any:
    """Sequences ``(batch, time, ...)`` with 0 in place of what is not finite where it is hidden: 0
    times NaN would be NaN, in outputs and in gradients of weights.
    """
    values = held(x)
    if (
        hidden is None
        or np.shape(hidden) != np.shape(values)[:2]
        or values.dtype.kind != "f"
        or np.isfinite(values[hidden]).all()
    ):
        return x
    return np.where(hidden.reshape(hidden.shape + (1,) * (values.ndim - 2)), 0.0, x)
