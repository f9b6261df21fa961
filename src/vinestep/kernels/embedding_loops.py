"""Loops of the embedding."""

from __future__ import annotations

from .compiling import kernel

__all__ = ["add_rows"]


@kernel
def add_rows(table, ids, rows):
    """``table[ids[i]] += rows[i]``, in order."""
    for i in range(ids.size):
        target = table[ids[i]]
        for j in range(table.shape[1]):
            target[j] += rows[i, j]
