"""Figures: plain data in, a Matplotlib figure out."""

from .curves import curves
from .decisions import decisions
from .network import network
from .style import as_png, save
from .trail import trail

__all__ = ["as_png", "curves", "decisions", "network", "save", "trail"]
