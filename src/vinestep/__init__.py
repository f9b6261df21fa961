"""Vine Step: layered networks, their gradients and their training, on NumPy arrays."""

from ._public_names import from_stub

__version__ = "0.2.0"

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
