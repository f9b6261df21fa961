"""What mattered: which inputs an answer depends on, and how a network sees its examples."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
