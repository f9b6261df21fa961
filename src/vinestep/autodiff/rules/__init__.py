"""The derivative rules of NumPy's functions, one file a family; SciPy's special functions load on first use."""

from . import elementwise, indexing, linalg, products, reductions, shaping

__all__ = ["elementwise", "indexing", "linalg", "products", "reductions", "shaping"]
