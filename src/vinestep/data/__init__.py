"""Datasets, splits and minibatches."""

from typing import TYPE_CHECKING

from ..errors import names_of
from .dataset import Batch, Batches, Dataset

if TYPE_CHECKING:
    from .table import Table, scaled

__all__ = ["Batch", "Batches", "Dataset", "Table", "scaled"]


__getattr__ = names_of(__name__, __all__, {"Table": ".table", "scaled": ".table"})


def __dir__() -> list[str]:
    return sorted(__all__)
