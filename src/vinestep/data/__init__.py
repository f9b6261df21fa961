"""Datasets, splits and minibatches."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from .dataset import Batch, Batches, Dataset

if TYPE_CHECKING:
    from .table import Table, scaled

__all__ = ["Batch", "Batches", "Dataset", "Table", "scaled"]


def __getattr__(name: str) -> Any:
    """Tables need pandas, which is imported when the first one is made."""
    if name in ("Table", "scaled"):
        return getattr(import_module(".table", __name__), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
