"""Decision boundaries in the plane."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from matplotlib.colors import ListedColormap, to_rgb
from matplotlib.figure import Figure

from ._style import COLOURS, figure, tidy

__all__ = ["decisions"]

MARKS = ("o", "^", "s", "D", "v", "P")
GRID = 400  # points along each side


def decisions(
    decide: Callable[[np.ndarray], np.ndarray],
    points: np.ndarray,
    labels: np.ndarray,
    *,
    names: Sequence[str],
    axes_names: tuple[str, str] = ("x", "y"),
    title: str = "",
) -> Figure:
    """Which class is decided where in the plane, with examples on it.

    Parameters
    ----------
    decide : callable
        Takes points, shape (n, 2), and returns class numbers, shape (n,).
    points : ndarray, shape (n, 2)
    labels : ndarray of int, shape (n,)
    names : sequence of str
        Of the classes.

    Examples
    --------
    >>> points = np.array([[-1.0, 0.0], [1.0, 0.5]])
    >>> drawn = vs.figures.decisions(
    ...     lambda p: (p[:, 0] > 0).astype(int),
    ...     points,
    ...     np.array([0, 1]),
    ...     names=["west", "east"],
    ... )
    >>> drawn.axes[0].get_xlabel()
    'x'
    """
    made, panels = figure(title=title)
    axis = panels[0, 0]
    margin = 0.06 * (points.max(axis=0) - points.min(axis=0))
    low, high = points.min(axis=0) - margin, points.max(axis=0) + margin
    east, north = np.meshgrid(
        np.linspace(low[0], high[0], GRID), np.linspace(low[1], high[1], GRID)
    )
    field = decide(np.stack([east.ravel(), north.ravel()], axis=1)).reshape(east.shape)
    pale = ListedColormap(
        [tuple(1 - 0.28 * (1 - c) for c in to_rgb(colour)) for colour in COLOURS[: len(names)]]
    )
    axis.pcolormesh(
        east,
        north,
        field,
        cmap=pale,
        vmin=-0.5,
        vmax=len(names) - 0.5,
        shading="nearest",
        rasterized=True,
    )
    for number, name in enumerate(names):
        axis.contour(east, north, field == number, levels=[0.5], colors="white", linewidths=1.4)
        here = labels == number
        axis.scatter(
            points[here, 0],
            points[here, 1],
            s=34,
            color=COLOURS[number],
            marker=MARKS[number % len(MARKS)],
            edgecolor="white",
            linewidth=0.6,
            label=name,
        )
    tidy(axis, x=axes_names[0], y=axes_names[1])
    axis.grid(False)
    axis.set_aspect("equal")
    axis.legend(loc="upper left", bbox_to_anchor=(1.01, 1.0), frameon=False, fontsize=12)
    return made
