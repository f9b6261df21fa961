"""A network drawn: its layers with the shapes they give."""

from __future__ import annotations

import math
from typing import Any, Protocol

from matplotlib.figure import Figure
from matplotlib.patches import FancyBboxPatch

from ._style import COLOURS, INK, figure

__all__ = ["network"]

MOST_ROWS = 16
FEWEST_COLUMNS = 2


class LayerTable(Protocol):
    """A row for each layer, and all of them in a line, as ``network.describe(sample)`` gives
    them.
    """

    rows: list[dict[str, Any]]

    def summary(self) -> str: ...


class LayerTimes(Protocol):
    """Times of the layers, as ``vinestep.training.profile`` gives them."""

    @property
    def layers(self) -> list[dict[str, Any]]: ...


def network(described: LayerTable, *, profile: LayerTimes | None = None, title: str = "") -> Figure:
    """Draw the layers of a network in order: what each is, the shape it gives, its parameters, and
    a bar for its activations.

    With a profile the share of the forward pass's time that each layer takes stands beside it, with
    a bar of its own.

    Parameters
    ----------
    described : Description
        What ``network.describe(sample)`` gives.
    profile : Profile, optional
        What ``vinestep.training.profile(training, batches)`` gives.
    title : str

    Examples
    --------
    >>> described = vs.Stack(vs.Dense(3)).initialise(np.ones((1, 2))).describe(np.ones((4, 2)))
    >>> vs.figures.network(described).get_suptitle()
    '9 trainable parameters, 24 multiply-adds, 48 B of activations, 36 B of gradients'
    """
    rows = described.rows
    per_column = max(min(MOST_ROWS, max(8, math.ceil(len(rows) / 2))), math.ceil(len(rows) / 6))
    columns = max(FEWEST_COLUMNS, math.ceil(len(rows) / per_column))
    made, panels = figure(title=title or described.summary())
    axis = panels[0, 0]
    axis.set_axis_off()
    axis.set_xlim(0, columns)
    axis.set_ylim(per_column, -0.2)
    size = min(12.0, 40.0 / columns, 210.0 / per_column)
    largest = max((row["activation_bytes"] for row in rows), default=1) or 1
    tints: dict[str, str] = {}
    times = (
        {str(part["part"]): float(part["milliseconds"]) for part in profile.layers}
        if profile is not None
        else {}
    )
    for i, row in enumerate(rows):
        column, line = divmod(i, per_column)
        tint = tints.setdefault(row["layer"], COLOURS[len(tints) % len(COLOURS)])
        corner = (column + 0.02, line + 0.08)
        axis.add_patch(
            FancyBboxPatch(
                corner,
                0.94,
                0.84,
                boxstyle="round,pad=0,rounding_size=0.03",
                color=tint,
                alpha=0.12,
                linewidth=0,
            )
        )
        bar = 0.94 * row["activation_bytes"] / largest
        axis.add_patch(
            FancyBboxPatch(
                (column + 0.02, line + 0.84),
                bar,
                0.08,
                boxstyle="square,pad=0",
                color=tint,
                alpha=0.6,
                linewidth=0,
            )
        )
        if times:
            share = times.get(row["path"], 0.0) / sum(times.values())
            low = (column + 0.02, line + 0.08)
            axis.add_patch(
                FancyBboxPatch(
                    low,
                    0.94 * share,
                    0.08,
                    boxstyle="square,pad=0",
                    color=COLOURS[2],
                    alpha=0.7,
                    linewidth=0,
                )
            )
        shape = " x ".join(map(str, row["output"])) + (
            f"   {share:.0%} of the time" if times else ""
        )
        counts = f"{row['parameters']:,} parameters" if row["parameters"] else ""
        axis.text(
            column + 0.05,
            line + 0.3,
            row["layer"],
            fontsize=size,
            color=tint,
            weight="bold",
            va="center",
        )
        axis.text(column + 0.05, line + 0.63, shape, fontsize=size * 0.85, color=INK, va="center")
        for height, text in ((0.3, row["path"]), (0.63, counts)):
            axis.text(
                column + 0.94,
                line + height,
                text,
                fontsize=size * 0.85,
                color=INK,
                va="center",
                ha="right",
            )
    axis.text(
        columns - 0.06,
        per_column - 0.05,
        "bars: memory of the activations" + (", above: time" if times else ""),
        fontsize=size * 0.85,
        color=INK,
        ha="right",
        va="bottom",
    )
    return made
