"""Layers: what a network is made of."""

from .base import Layer
from .containers import Concat, Residual, Stack, Sum
from .context import learning
from .dense import Dense
from .dropout import Dropout

__all__ = ["Concat", "Dense", "Dropout", "Layer", "Residual", "Stack", "Sum", "learning"]
