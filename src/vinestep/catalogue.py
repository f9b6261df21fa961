"""The catalogue of models; see `vinestep.runs.catalogue`."""

from .runs.catalogue import Entry, keep, load, mark_in_use, models

__all__ = ["Entry", "keep", "load", "mark_in_use", "models"]
