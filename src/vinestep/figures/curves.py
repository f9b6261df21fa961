"""Curves of a run."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from .style import COLOURS, figure, tidy

__all__ = ["curves"]

_NOT_FIGURES = ("epoch", "step", "rate")


def curves(rows: Sequence[dict[str, float]], *, title: str = "") -> Figure:
    """Loss, metrics and learning rate by epoch, training and validation together.

    Parameters
    ----------
    rows : sequence of dict
        One an epoch, as in ``Outcome.rows``.
    title : str

    Examples
    --------
    >>> rows = [{"epoch": e, "step": 5 * e, "rate": 0.1, "loss": 1 / e, "accuracy": 1 - 1 / e} for e in (1, 2, 3)]
    >>> len(vs.figures.curves(rows).axes)
    3
    """
    names = [name for name in rows[0] if name not in _NOT_FIGURES and not name.startswith("validation_")]
    made, axes = figure(len(names) + 1, 1, title=title, sharex=True, height_ratios=[3] * len(names) + [1])
    epochs = np.array([row["epoch"] for row in rows])
    for axis, name in zip(axes[:, 0], names, strict=False):
        _panel(axis, rows, epochs, name)
    rate = axes[-1, 0]
    rate.plot(epochs, [row["rate"] for row in rows], color=COLOURS[5], linewidth=1.8, **_marks(rows))
    rate.set_ylim(bottom=0)
    rate.ticklabel_format(axis="y", style="sci", scilimits=(-2, 2))
    tidy(rate, x="epoch", y="rate")
    rate.xaxis.set_major_locator(MaxNLocator(integer=True))
    return made


def _marks(rows: Sequence[Any]) -> dict[str, Any]:
    """A line of one point is invisible without a mark."""
    return {"marker": "o"} if len(rows) < 3 else {}


def _panel(axis: Any, rows: Sequence[dict[str, float]], epochs: np.ndarray, name: str) -> None:
    axis.plot(epochs, [row[name] for row in rows], color=COLOURS[0], linewidth=1.8, label="training", **_marks(rows))
    key = f"validation_{name}"
    if key in rows[0]:
        values = np.array([row[key] for row in rows])
        axis.plot(epochs, values, color=COLOURS[2], linewidth=1.8, label="validation", **_marks(rows))
        if np.isfinite(values).any():
            best = int(np.nanargmin(values) if name.endswith(("loss", "error")) else np.nanargmax(values))
            axis.plot(
                epochs[best],
                values[best],
                "o",
                color=COLOURS[2],
                markersize=8,
                label=f"best {values[best]:.4g}, epoch {epochs[best]:.0f}",
            )
    axis.legend(frameon=False, fontsize=11)
    tidy(axis, y=name.replace("_", " "))
