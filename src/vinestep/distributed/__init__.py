"""Several processes that train one network: how they find, hear and wait for one another."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
