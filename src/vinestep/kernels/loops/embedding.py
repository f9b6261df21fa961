"""Loops of the embedding."""

from __future__ import annotations

from ..machinery.compilation import kernel

__all__ = ["add_rows", "take_rows"]


@kernel
def take_rows(table, ids, rows):
    """``rows[i] = table[ids[i]]``"""
    for i in range(ids.size):
        source, target = table[ids[i]], rows[i]
        for j in range(target.size):
            target[j] = source[j]


@kernel
def add_rows(table, ids, rows, begin, end):
    """``table[ids[i]] += rows[i]`` in order, for rows ``begin:end`` of the table."""
    for i in range(ids.size):
        if begin <= ids[i] < end:
            target = table[ids[i]]
            for j in range(target.size):
                target[j] += rows[i, j]
