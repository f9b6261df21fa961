"""Optimisers: update rules over the flat arena."""

from ..errors import names_of
from .adam import Adam
from .base import Optimiser
from .sgd import SGD

__all__ = ["SGD", "Adam", "Optimiser"]


__getattr__ = names_of(__name__, __all__)
