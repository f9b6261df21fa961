"""Metrics: how good outputs are, in figures people read.

A metric turns each batch into counts, merges those of batches, and concludes the figure from them
at the end, so that batches of unequal size weigh as much as they should.
"""

from ..._public_names import from_stub

__getattr__, __dir__, __all__ = from_stub(__name__, __file__)
