"""Texts generated token by token: greedy, drawn, or by beam search."""

from .choosing import shaped
from .generating import Generated, Piece, generate, stream
from .scoring import TextScores

__all__ = ["Generated", "Piece", "TextScores", "generate", "shaped", "stream"]
