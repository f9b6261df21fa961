"""Texts generated token by token: greedy, drawn, or by beam search."""

from .choosing import shaped
from .generating import Generated, Piece, generate, stream

__all__ = ["Generated", "Piece", "generate", "shaped", "stream"]
