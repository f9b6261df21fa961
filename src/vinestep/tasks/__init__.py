"""Tasks: what the outputs of a network mean, and what follows from it: loss, answers, scores."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
