"""Figures: plain data in, a Matplotlib figure out."""

from .curves import curves
from .data import classes, columns, examples, lengths, tokens
from .decisions import decisions
from .network import network
from .style import as_png, save
from .trail import trail
from .tuning import profile, rate_range, schedule, trials

__all__ = [
    "as_png",
    "classes",
    "columns",
    "curves",
    "decisions",
    "examples",
    "lengths",
    "network",
    "profile",
    "rate_range",
    "save",
    "schedule",
    "tokens",
    "trail",
    "trials",
]
