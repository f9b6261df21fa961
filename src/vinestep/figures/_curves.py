"""Curves of a run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from ..errors import DataError
from ._style import COLOURS, figure, tidy

__all__ = ["curves"]

LARGEST = 1e100  # beyond it no axis can be drawn
_NOT_FIGURES = ("epoch", "step", "rate")


def curves(rows: Any, *, title: str = "", better: Mapping[str, str] | None = None) -> Figure:
    """Loss, metrics and learning rate by epoch, training and validation together; of loops of one's
    own all figures by step.

    Parameters
    ----------
    rows : DataFrame, or sequence of dict
        One row per epoch, as in ``Outcome.curves`` and ``Outcome.rows``; or one per step. A figure
        may be missing in some.
    title : str
    better : mapping of column to "higher" or "lower", optional
        As in ``Outcome.better``: where it says so, the best value is marked. Of losses the lowest
        is.

    Raises
    ------
    DataError
        If there are no rows, or they have neither epoch nor step.

    Examples
    --------
    >>> rows = [
    ...     {"epoch": e, "step": 5 * e, "rate": 0.1, "loss": 1 / e, "accuracy": 1 - 1 / e}
    ...     for e in (1, 2, 3)
    ... ]
    >>> len(vs.figures.curves(rows).axes)
    3
    """
    rows = rows.to_dict("records") if hasattr(rows, "to_dict") else list(rows)
    by = next((name for name in ("epoch", "step") if rows and name in rows[0]), "")
    if not by:
        raise DataError(
            "curves: there is nothing to draw: give one row per epoch or step, as Outcome.curves "
            "has them."
        )
    every = dict.fromkeys(name for row in rows for name in row)
    rows = [{name: row.get(name, np.nan) for name in every} for row in rows]
    rows = [
        {
            name: value if value is None or abs(value) < LARGEST else np.nan
            for name, value in row.items()
        }
        for row in rows
    ]
    directions = {"loss": "lower", "validation_loss": "lower"} | dict(better or {})
    names = [
        name for name in rows[0] if name not in _NOT_FIGURES and not name.startswith("validation_")
    ]
    if not names:
        raise DataError("curves: there is no figure but epoch, step and rate.")
    with_rate = by == "epoch" or "rate" in every
    ratios = [3] * len(names) + [1] * with_rate
    made, axes = figure(len(ratios), 1, title=title, sharex=True, height_ratios=ratios)
    epochs = np.array([row[by] for row in rows])
    for axis, name in zip(axes[:, 0], names, strict=False):
        _panel(axis, rows, epochs, name, directions)
    rate = axes[-1, 0]
    if not with_rate:
        rate.set_xlabel(by)
        return made
    rate.plot(
        epochs,
        [row.get("rate", np.nan) for row in rows],
        color=COLOURS[5],
        linewidth=1.8,
        **_marks(rows),
    )
    rate.set_ylim(bottom=0)
    rate.ticklabel_format(axis="y", style="sci", scilimits=(-2, 2))
    tidy(rate, x=by, y="rate")
    rate.xaxis.set_major_locator(MaxNLocator(integer=True))
    return made


def _marks(rows: Sequence[Any]) -> dict[str, Any]:
    """A line of one point is invisible without a mark."""
    return {"marker": "o"} if len(rows) < 3 else {}


def _panel(
    axis: Any,
    rows: Sequence[dict[str, float]],
    epochs: np.ndarray,
    name: str,
    better: Mapping[str, str],
) -> None:
    known = np.array([row[name] for row in rows], float)
    there = ~np.isnan(known) if np.isnan(known).any() else slice(None)
    axis.plot(
        epochs[there],
        known[there],
        color=COLOURS[0],
        linewidth=1.8,
        label="training",
        **_marks(rows),
    )
    key = f"validation_{name}"
    if key in rows[0]:
        values = np.array([row[key] for row in rows])
        scored = np.isfinite(values)  # not every epoch may have been
        axis.plot(
            epochs[scored],
            values[scored],
            color=COLOURS[2],
            linewidth=1.8,
            label="validation",
            **_marks(rows),
        )
        if np.isfinite(values).any() and key in better:
            best = int(np.nanargmin(values) if better[key] == "lower" else np.nanargmax(values))
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
