"""Layers: what a network is made of. The layers themselves are names of `vinestep`; here is what is
done with them.
"""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
