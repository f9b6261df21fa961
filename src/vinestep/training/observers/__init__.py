"""Observers: what listens to a run. The loop prints nothing and writes nothing; they do."""

from ..._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
