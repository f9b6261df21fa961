"""The record of runs: folders, the ledger that holds all of them, and what can be asked of it."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
