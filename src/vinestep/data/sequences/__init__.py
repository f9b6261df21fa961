"""Sequences: windows of series, and transforms along time."""

from ..._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
