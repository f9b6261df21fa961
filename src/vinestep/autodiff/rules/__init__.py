"""The derivative rules of NumPy's functions, one file a family; linear algebra and SciPy's load on
first use.
"""

from . import (
    elementwise,
    indexing,
    products,
    reductions,
    segments,
    shaping,
)

__all__ = ["elementwise", "indexing", "products", "reductions", "segments", "shaping"]
