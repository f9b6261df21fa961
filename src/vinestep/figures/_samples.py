"""What a network makes: pictures side by side, points, and tables by their margins."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from ..errors import DataError
from ._style import COLOURS, figure, tidy

__all__ = ["marginals", "nearest_pictures", "picture_grid", "sample_scatter"]

GAP = 2  # pixels between pictures
MOST_COLUMNS = 12
BINS = 30
REAL, MADE = COLOURS[5], COLOURS[0]


def picture_grid(pictures: Any, *, columns: int | None = None) -> np.ndarray:
    """Pictures side by side in one, as bytes.

    Parameters
    ----------
    pictures : array, shape (n, height, width, 1 or 3)
        Bytes, or floats from 0 to 1; what lies beyond is cut.
    columns : int, optional

    Examples
    --------
    >>> vs.figures.picture_grid(np.zeros((4, 8, 8, 3))).shape
    (18, 18, 3)
    """
    array = np.asarray(pictures)
    if array.ndim != 4 or array.shape[-1] not in (1, 3) or not len(array):
        raise DataError(
            f"picture_grid: pictures have shape (n, height, width, 1 or 3), got {array.shape}."
        )
    if array.dtype.kind == "f":
        array = np.round(np.clip(np.nan_to_num(array), 0, 1) * 255).astype(np.uint8)
    n, height, width, channels = array.shape
    across = columns or math.ceil(math.sqrt(n))
    down = -(-n // across)
    grid = np.full(
        (down * (height + GAP) - GAP, across * (width + GAP) - GAP, channels), 255, np.uint8
    )
    for i, picture in enumerate(array):
        top, left = i // across * (height + GAP), i % across * (width + GAP)
        grid[top : top + height, left : left + width] = picture
    return grid


def sample_scatter(real: Any, made: Any, *, title: str = "") -> Figure:
    """Points of two numbers that a network made, over real ones.

    Parameters
    ----------
    real : array, shape (n, 2)
    made : array, shape (m, 2), or mapping of name to such
        Of several networks, a panel each.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(20, 2))
    >>> len(vs.figures.sample_scatter(x, {"flow": x + 1, "pair": x - 1}).axes)
    2
    """
    named = dict(made) if isinstance(made, Mapping) else {"": made}
    size = (8.0, 8.0) if len(named) == 1 else (3.4 * len(named), 4.6)
    drawn, axes = figure(1, len(named), title=title, size=size, sharex=True, sharey=True)
    for axis, (name, points) in zip(axes[0], named.items(), strict=True):
        for rows, colour, label in ((real, REAL, "real"), (points, MADE, "made")):
            array = np.asarray(rows)
            axis.scatter(array[:, 0], array[:, 1], s=8, color=colour, alpha=0.5, label=label)
        axis.set_aspect("equal", adjustable="box")
        tidy(axis, x="first number", title=name)
    axes[0, 0].set_ylabel("second number")
    axes[0, 0].legend(frameon=False, markerscale=2)
    return drawn


def nearest_pictures(made: Any, nearest: Any, *, title: str = "") -> Figure:
    """Pictures that were made, and below each the nearest one of the training.

    Parameters
    ----------
    made, nearest : array, shape (n, height, width, 1 or 3)

    Examples
    --------
    >>> len(vs.figures.nearest_pictures(np.zeros((4, 8, 8, 3)), np.ones((4, 8, 8, 3))).axes)
    2
    """
    n = min(len(made), MOST_COLUMNS)
    drawn, axes = figure(2, 1, title=title, size=(12.8, 3.4))
    for axis, pictures, label in (
        (axes[0, 0], made, "made"),
        (axes[1, 0], nearest, "nearest in training"),
    ):
        grid = picture_grid(np.asarray(pictures)[:n], columns=n)
        axis.imshow(grid if grid.shape[-1] == 3 else grid[..., 0], cmap="gray", vmin=0, vmax=255)
        axis.set_xticks([])
        axis.set_yticks([])
        axis.set_ylabel(label)
        for side in axis.spines.values():
            side.set_visible(False)
    return drawn


def marginals(real: Any, made: Any, *, columns: Sequence[str] = (), title: str = "") -> Figure:
    """A table that was made beside a real one: how the values of each column lie, and the
    correlations of numbers.

    Parameters
    ----------
    real, made : DataFrame
    columns : sequence of str, optional
        Of the margins; by default the first eleven.

    Examples
    --------
    >>> frame = pd.DataFrame(
    ...     {"sugar": [1.0, 2.0, 4.0], "acid": [3.0, 1.0, 2.0], "press": list("aba")}
    ... )
    >>> len(vs.figures.marginals(frame, frame).axes)
    4
    """
    names = list(columns or [name for name in made.columns if name in real.columns])
    names = names[: MOST_COLUMNS - 1]
    numbers = [name for name in names if made[name].dtype.kind in "fiu"]
    panels = len(names) + (len(numbers) > 1)
    across = min(4, panels)
    down = -(-panels // across)
    drawn, axes = figure(down, across, title=title, size=(12.8, max(3.2, 2.7 * down)))
    places = list(axes.flat)
    for axis, name in zip(places, names, strict=False):
        if name in numbers:
            both = np.concatenate([real[name].dropna(), made[name].dropna()]).astype(float)
            low, high = map(float, np.quantile(both, [0.002, 0.998]))
            edges = np.linspace(low, high, BINS)
            for frame, colour, label in ((real, REAL, "real"), (made, MADE, "made")):
                axis.hist(
                    frame[name].dropna().clip(edges[0], edges[-1]),
                    edges,
                    density=True,
                    histtype="step",
                    color=colour,
                    label=label,
                )
            axis.set_yticks([])
        else:
            _shares(axis, real[name], made[name])
        tidy(axis, title=str(name))
    places[0].legend(frameon=False, fontsize=9)
    if len(numbers) > 1:
        _correlations(places[len(names)], real[numbers], made[numbers])
    for axis in places[panels:]:
        axis.set_visible(False)
    return drawn


def _shares(axis: Any, real: Any, made: Any) -> None:
    shares = [
        column.astype(object).where(column.notna(), "missing").astype(str).value_counts(True)
        for column in (real, made)
    ]
    names = [*dict.fromkeys([*shares[0].index, *shares[1].index])][:8]
    places = np.arange(len(names))
    for share, colour, shift, label in (
        (shares[0], REAL, -0.2, "real"),
        (shares[1], MADE, 0.2, "made"),
    ):
        axis.bar(places + shift, [share.get(n, 0.0) for n in names], 0.4, color=colour, label=label)
    axis.set_xticks(places, [name[:10] for name in names], rotation=30, ha="right", fontsize=8)


def _correlations(axis: Any, real: Any, made: Any) -> None:
    upper = np.triu_indices(real.shape[1], 1)
    ours, theirs = (frame.corr().to_numpy()[upper] for frame in (real, made))
    axis.plot([-1, 1], [-1, 1], color=COLOURS[5], linewidth=0.8)
    axis.scatter(ours, theirs, s=18, color=MADE)
    axis.set_xlim(-1, 1)
    axis.set_ylim(-1, 1)
    tidy(axis, x="in the real table", y="in the made one", title="correlations of columns")
