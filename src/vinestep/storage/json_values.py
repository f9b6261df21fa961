"""Between what a run knows and what JSON can hold, and back, believing nothing."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

from ..errors import CheckpointError

__all__ = ["finite_or_none", "finite_rows", "integer", "nan_for_none", "number", "rows_with_nan"]


def finite_or_none(value: Any) -> Any:
    """A number, list or dict with nothing where a number is NaN or infinite."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, list):
        return [finite_or_none(item) for item in value]
    if isinstance(value, dict):
        return {key: finite_or_none(item) for key, item in value.items()}
    return value


def nan_for_none(value: Any) -> Any:
    """What `finite` began with, infinities apart."""
    if value is None:
        return math.nan
    if isinstance(value, list):
        return [nan_for_none(item) for item in value]
    if isinstance(value, dict):
        return {key: nan_for_none(item) for key, item in value.items()}
    return value


def finite_rows(rows: list[dict[str, float]]) -> list[dict[str, float | None]]:
    """Curves as JSON can hold them: nothing where a figure is NaN or infinite."""
    return [finite_or_none(row) for row in rows]


def rows_with_nan(rows: list[dict[str, float | None]]) -> list[dict[str, float]]:
    """What `finite_rows` began with."""
    return [nan_for_none(row) for row in rows]


def number(state: Mapping[str, Any], name: str) -> float | None:
    """A finite number of an observer's state, or None."""
    value = state.get(name)
    if value is None:
        return None
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        raise CheckpointError(
            f"The state of an observer holds {str(value)[:40]!r} where {name} should be a finite "
            "number."
        )
    return float(value)


def integer(state: Mapping[str, Any], name: str) -> int:
    """A whole number of at least 0 of an observer's state."""
    value = state.get(name, 0)
    if isinstance(value, bool) or not isinstance(value, int) or not 0 <= value <= 2**53:
        raise CheckpointError(
            f"The state of an observer holds {str(value)[:40]!r} where {name} should be a whole "
            "number of at least 0."
        )
    return value
