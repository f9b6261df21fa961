"""Training: one step and one run, their records, rehearsal, tuning and profile."""

from .._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
