"""Optimisers: update rules over the flat arena."""

from .adam import Adam
from .base import Optimiser
from .sgd import SGD

__all__ = ["SGD", "Adam", "Optimiser"]
