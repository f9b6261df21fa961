"""Figures: plain data in, a Matplotlib figure out."""

from .animation import animation
from .curves import curves
from .data import classes, columns, examples, lengths, tokens
from .decisions import decisions
from .network import network
from .runs import compared, distributions, effects, first_and_latest, norms
from .scores import against_truth, calibration, confusion, precision_recall, roc
from .style import as_png, save
from .trail import trail
from .tuning import profile, rate_range, schedule, trials

__all__ = [
    "against_truth",
    "animation",
    "as_png",
    "calibration",
    "classes",
    "columns",
    "compared",
    "confusion",
    "curves",
    "decisions",
    "distributions",
    "effects",
    "examples",
    "first_and_latest",
    "lengths",
    "network",
    "norms",
    "precision_recall",
    "profile",
    "rate_range",
    "roc",
    "save",
    "schedule",
    "tokens",
    "trail",
    "trials",
]
