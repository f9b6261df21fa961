"""Texts generated token by token: greedy, drawn, or by beam search."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
