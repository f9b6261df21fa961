"""Rates and trials: a schedule before it is used, the rate range test, scores by setting, where the
time of a step goes.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from ..errors import DataError
from ._style import (
    COLOURS,
    INK,
    figure,
    tidy,
)

__all__ = ["profile", "rate_range", "schedule", "trials"]

POINTS = 2000
MOST_ROWS = 24


def schedule(
    factor: Callable[[int], float],
    steps: int,
    *,
    rate: float = 1.0,
    steps_per_epoch: int | None = None,
    title: str = "",
) -> Figure:
    """A learning rate schedule, step by step.

    Parameters
    ----------
    factor : Schedule, or function of the step
    steps : int
        How far to draw.
    rate : float
        The optimiser's, which the schedule scales.
    steps_per_epoch : int, optional
        For schedules that count epochs, and to mark epochs.

    Examples
    --------
    >>> vs.figures.schedule(vs.schedules.cosine(100), 120, rate=0.01).axes[0].get_ylabel()
    'rate'
    """
    if steps < 1:
        raise DataError(f"schedule: give a number of steps to draw, got {steps}.")
    begin = getattr(factor, "begin", None)
    if begin is not None:
        begin(steps_per_epoch)
    places = np.unique(np.linspace(0, steps - 1, min(steps, POINTS)).astype(int))
    values = np.array([rate * factor(int(step)) for step in places])
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    axis.plot(places, values, color=COLOURS[0], linewidth=2)
    axis.set_ylim(bottom=0)
    if steps_per_epoch and steps / steps_per_epoch <= 40:
        for epoch in range(1, math.ceil(steps / steps_per_epoch)):
            axis.axvline(epoch * steps_per_epoch, color=COLOURS[5], linewidth=0.5, alpha=0.5)
    axis.ticklabel_format(axis="y", style="sci", scilimits=(-3, 3))
    tidy(axis, x="step (grey lines: epochs)" if steps_per_epoch else "step", y="rate")
    return made


def rate_range(rates: Any, losses: Any, suggested: float = math.nan, *, title: str = "") -> Figure:
    """The loss against a rising rate, on a logarithmic axis, with the rate suggested.

    Examples
    --------
    >>> vs.figures.rate_range([0.001, 0.01, 0.1], [1.0, 0.5, 2.0], 0.01).axes[0].get_xscale()
    'log'
    """
    rates, losses = np.asarray(rates, float), np.asarray(losses, float)
    if not len(rates) or rates.shape != losses.shape:
        raise DataError(
            f"rate_range: {rates.shape} rates and {losses.shape} losses; as many of each are "
            "needed."
        )
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    axis.plot(rates, losses, color=COLOURS[0], linewidth=2)
    axis.set_xscale("log")
    low, high = float(losses.min()), float(max(losses[0], np.median(losses)))
    axis.set_ylim(low - 0.1 * (high - low), high + 0.6 * (high - low) + 1e-12)
    if math.isfinite(suggested):
        axis.axvline(suggested, color=COLOURS[2], linewidth=1.8, label=f"suggested: {suggested:g}")
        axis.legend(frameon=False, fontsize=11)
    tidy(axis, x="rate", y="loss, smoothed")
    return made


def trials(
    settings: Sequence[Mapping[str, Any]],
    scores: Sequence[float],
    name: str = "score",
    *,
    title: str = "",
) -> Figure:
    """The scores of trials against each of their settings.

    Examples
    --------
    >>> len(
    ...     vs.figures.trials(
    ...         [{"rate": 0.1, "width": 8}, {"rate": 0.01, "width": 16}], [0.5, 0.4]
    ...     ).axes
    ... )
    2
    """
    if not settings or len(settings) != len(scores):
        raise DataError(
            f"trials: {len(settings)} trials and {len(scores)} scores; at least one of each is "
            "needed."
        )
    names = list(settings[0])
    across = min(3, len(names))
    made, axes = figure(-(-len(names) // across), across, title=title, sharey=True)
    for i, axis in enumerate(axes.flat):
        if i >= len(names):
            axis.set_visible(False)
            continue
        _scores_by(axis, [row[names[i]] for row in settings], scores)
        tidy(axis, x=names[i], y=name if i % across == 0 else "")
    return made


def _scores_by(axis: Any, values: list[Any], scores: Sequence[float]) -> None:
    numbers = all(
        isinstance(value, int | float) and not isinstance(value, bool) for value in values
    )
    if numbers and len(set(values)) > 1:
        axis.plot(values, scores, "o", color=COLOURS[0], alpha=0.7, markersize=8)
        if min(values) > 0 and max(values) / min(values) > 20:
            axis.set_xscale("log")
        return
    listed = sorted(set(map(str, values)))
    places = [listed.index(str(value)) for value in values]
    axis.plot(places, scores, "o", color=COLOURS[0], alpha=0.7, markersize=8)
    axis.set_xticks(range(len(listed)), listed)
    axis.set_xlim(-0.5, len(listed) - 0.5)


def profile(rows: Sequence[Mapping[str, Any]], *, title: str = "") -> Figure:
    """Where the time of a step goes: a bar for each part, the longest on top.

    Parameters
    ----------
    rows : sequence of dict
        With ``part`` and ``milliseconds``.

    Examples
    --------
    >>> drawn = vs.figures.profile(
    ...     [
    ...         {"part": "forward", "milliseconds": 2.0},
    ...         {"part": "backward", "milliseconds": 4.0},
    ...     ]
    ... )
    >>> [label.get_text() for label in drawn.axes[0].get_yticklabels()]
    ['forward', 'backward']
    """
    if not rows:
        raise DataError("profile: there is nothing to draw.")
    shown = sorted(rows, key=lambda row: float(row["milliseconds"]))[-MOST_ROWS:]
    total = sum(float(row["milliseconds"]) for row in rows)
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    lengths = [float(row["milliseconds"]) for row in shown]
    axis.barh(range(len(shown)), lengths, color=COLOURS[0], height=0.7)
    axis.set_yticks(range(len(shown)), [str(row["part"]) for row in shown])
    for i, length in enumerate(lengths):
        axis.text(
            length,
            i,
            f"  {length:.3g} ms, {length / total:.0%}" if total else "",
            va="center",
            fontsize=10,
            color=INK,
        )
    axis.set_xlim(0, max(lengths) * 1.2 + 1e-9)
    tidy(axis, x="milliseconds a step")
    axis.grid(False, axis="y")
    return made
