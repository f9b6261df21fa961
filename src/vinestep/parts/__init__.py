"""Parts: layers, activations, initialisers, losses, metrics, optimisers, schedules, observers as
plain data, and back.
"""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
