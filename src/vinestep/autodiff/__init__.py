"""Reverse-mode differentiation of NumPy code. Internal: its public names are those of
`vinestep`.
"""

from . import rules  # noqa: F401  # registers the derivative rules
