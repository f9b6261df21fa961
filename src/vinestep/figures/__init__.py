"""Figures: plain data in, a Matplotlib figure out."""

from .curves import curves
from .decisions import decisions
from .network import network
from .style import save
from .trail import trail

__all__ = ["curves", "decisions", "network", "save", "trail"]
