"""Figures of what mattered: columns, parts of pictures, maps of examples."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from ..errors import DataError
from ._style import COLOURS, figure, tidy

__all__ = ["dependence", "example_map", "importances", "overlay"]

MOST_ROWS = 24
PICTURE_AXES = 3


def importances(found: Any, *, title: str = "", what: str = "the loss rises by") -> Figure:
    """Importance of each column with its interval, the most important above.

    Parameters
    ----------
    found : DataFrame
        column, importance, low, high: of `attribution.permutation_importance`.

    Examples
    --------
    >>> import pandas as pd
    >>> found = pd.DataFrame(
    ...     {"column": ["pH"], "importance": [0.2], "low": [0.1], "high": [0.3]}
    ... )
    >>> vs.figures.importances(found).axes[0].get_xlabel()
    'the loss rises by'
    """
    if not len(found):
        raise DataError("importances: there are no columns.")
    shown = found.head(MOST_ROWS).iloc[::-1]
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    places = np.arange(len(shown))
    middle = shown["importance"].to_numpy(float)
    reach = np.abs(shown[["low", "high"]].to_numpy(float).T - middle)
    axis.barh(places, middle, color=COLOURS[0], alpha=0.6)
    axis.errorbar(middle, places, xerr=reach, fmt="none", ecolor=COLOURS[5], capsize=3)
    axis.axvline(0, color=COLOURS[5], linewidth=0.8)
    axis.set_yticks(places, [str(name) for name in shown["column"]])
    tidy(axis, x=what)
    return made


def dependence(found: Any, *, title: str = "") -> Figure:
    """The mean answer by the value of a column.

    Parameters
    ----------
    found : DataFrame
        Of `attribution.partial_dependence`: the values, and a column for each number of the
        answers.

    Examples
    --------
    >>> import pandas as pd
    >>> found = pd.DataFrame({"pH": [3.0, 3.5], "probability sound": [0.2, 0.9]})
    >>> vs.figures.dependence(found).axes[0].get_xlabel()
    'pH'
    """
    if found.shape[1] < 2 or not len(found):
        raise DataError("dependence: give values of a column and at least one answer.")
    name, *answers = list(found)
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    numbers = found[name].dtype.kind in "fiu"
    x = found[name].to_numpy() if numbers else np.arange(len(found))
    for i, answer in enumerate(answers):
        colour = COLOURS[i % len(COLOURS)]
        axis.plot(x, found[answer], "o-", color=colour, linewidth=1.8, markersize=4, label=answer)
    if not numbers:
        axis.set_xticks(x, [str(value) for value in found[name]])
    tidy(axis, x=str(name), y="mean over the rows")
    axis.legend(frameon=False, fontsize=11)
    return made


def overlay(pictures: Any, values: Any, *, names: Sequence[str] = (), title: str = "") -> Figure:
    """Pictures, and beside each what parts of it add (warm) or take away (cold).

    Parameters
    ----------
    pictures : array, shape (n, height, width) or (n, height, width, channels)
    values : array, shape (n, height, width), or with channels, which are summed
    names : sequence of str, optional
        One for each picture.

    Examples
    --------
    >>> len(vs.figures.overlay(np.ones((2, 4, 4, 1)), np.ones((2, 4, 4))).axes)
    4
    """
    pictures, values = np.asarray(pictures), np.asarray(values, float)
    if values.ndim == PICTURE_AXES + 1:
        values = values.sum(axis=-1)
    if values.ndim != PICTURE_AXES or pictures.shape[:3] != values.shape or not len(values):
        raise DataError(
            f"overlay: pictures of shape {pictures.shape}, values {values.shape}. Give one value "
            "for each pixel."
        )
    made, axes = figure(2, len(pictures), title=title)
    for i, (picture, value) in enumerate(zip(pictures, values, strict=True)):
        plain = picture.astype(float)
        low, high = float(plain.min()), float(plain.max())
        plain = (plain - low) / ((high - low) or 1.0)
        flat = plain[..., 0] if plain.ndim == PICTURE_AXES and plain.shape[-1] == 1 else plain
        most = float(np.abs(value).max()) or 1.0
        axes[0, i].imshow(flat, cmap="gray", vmin=0, vmax=1)
        axes[1, i].imshow(flat, cmap="gray", vmin=0, vmax=1, alpha=0.4)
        axes[1, i].imshow(value, cmap="RdBu_r", vmin=-most, vmax=most, alpha=0.7)
        axes[0, i].set_title(names[i] if i < len(names) else "", fontsize=11)
        for axis in (axes[0, i], axes[1, i]):
            axis.set_xticks([])
            axis.set_yticks([])
    return made


def example_map(
    points: Any, labels: Any = None, *, names: Sequence[str] = (), title: str = ""
) -> Figure:
    """Examples on a map of two dimensions, by class.

    Parameters
    ----------
    points : array, shape (n, 2)
        Of `attribution.principal_components` or `attribution.stochastic_neighbours`.
    labels : array of int, shape (n,), optional
    names : sequence of str, optional
        Of the classes.

    Examples
    --------
    >>> made = vs.figures.example_map(np.zeros((2, 2)), [0, 1], names=["sound", "stuck"])
    >>> [text.get_text() for text in made.axes[0].get_legend().get_texts()]
    ['sound', 'stuck']
    """
    points = np.asarray(points, float)
    marks = np.zeros(len(points), int) if labels is None else np.asarray(labels)
    if points.ndim != 2 or points.shape[1] != 2 or marks.shape != points.shape[:1]:
        raise DataError(
            f"example_map: points are (n, 2), labels (n,); got {points.shape} and {marks.shape}."
        )
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for i, label in enumerate(np.unique(marks)):
        own = points[marks == label]
        named = names[int(label)] if 0 <= int(label) < len(names) else str(label)
        axis.plot(
            own[:, 0],
            own[:, 1],
            "o",
            color=COLOURS[i % len(COLOURS)],
            markersize=5,
            alpha=0.6,
            label=named,
        )
    if labels is not None:
        axis.legend(frameon=False, fontsize=11)
    axis.set_xticks([])
    axis.set_yticks([])
    tidy(axis)
    return made
