"""Figures of what mattered: columns, parts of pictures, maps of examples."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from ..errors import DataError
from ._style import COLOURS, INK, figure, tidy

__all__ = [
    "attention",
    "dependence",
    "example_map",
    "feature_maps",
    "importances",
    "overlay",
    "sequence_overlay",
]

MOST_ROWS = 24
PICTURE_AXES = 3
PANELS_A_ROW, MOST_PANELS = 3, 6
MOST_LINES = 6  # features that are told apart as lines
MAPS_A_ROW, MOST_ROWS_OF_MAPS = 6, 4
FEW_NAMES = 4  # of values that stand side by side


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
    """The mean answer by the value of a column, or of several in a panel each.

    Parameters
    ----------
    found : DataFrame, or sequence of DataFrame
        Of `attribution.partial_dependence`: the values, and a column for each number of the
        answers.

    Examples
    --------
    >>> import pandas as pd
    >>> found = pd.DataFrame({"pH": [3.0, 3.5], "probability sound": [0.2, 0.9]})
    >>> vs.figures.dependence(found).axes[0].get_xlabel()
    'pH'
    """
    frames = list(found) if isinstance(found, list | tuple) else [found]
    if not frames or any(one.shape[1] < 2 or not len(one) for one in frames):
        raise DataError("dependence: give values of a column and at least one answer.")
    answers = [str(name) for name in list(frames[0])[1:]]
    chances = [name for name in answers if "probability" in name]
    units = [one for one in (chances, [a for a in answers if a not in chances]) if one]
    made, axes = figure(len(units), len(frames), title=title, sharey="row")
    for row, names in zip(axes, units, strict=True):
        for k, (axis, frame) in enumerate(zip(row, frames, strict=True)):
            _dependence_on(axis, frame[[frame.columns[0], *names]], first=not k)
    return made


def _dependence_on(axis: Any, frame: Any, *, first: bool) -> None:
    name, *answers = list(frame)
    numbers = frame[name].dtype.kind in "fiu"
    x = frame[name].to_numpy() if numbers else np.arange(len(frame))
    for i, answer in enumerate(answers):
        colour = COLOURS[i % len(COLOURS)]
        axis.plot(x, frame[answer], "o-", color=colour, linewidth=1.8, markersize=4, label=answer)
    if not numbers:
        axis.set_xticks(x, [str(value) for value in frame[name]])
        axis.tick_params(axis="x", rotation=40 if len(x) > FEW_NAMES else 0)
    tidy(axis, x=str(name), y="mean over the rows" if first else "")
    if first:
        axis.legend(frameon=False, fontsize=11)


def overlay(pictures: Any, values: Any, *, names: Sequence[str] = (), title: str = "") -> Figure:
    """Pictures, and below each what parts of it add (warm) or take away (cold).

    Parameters
    ----------
    pictures : array, shape (n, height, width) or (n, height, width, channels)
    values : array, shape (n, height, width), or with channels, which are summed
        Or a mapping of several by name, a row each.
    names : sequence of str, optional
        One for each picture.

    Examples
    --------
    >>> len(vs.figures.overlay(np.ones((2, 4, 4, 1)), np.ones((2, 4, 4))).axes)
    4
    """
    pictures = np.asarray(pictures)
    rows = {
        name: _one_a_pixel(pictures, value)
        for name, value in (values if isinstance(values, Mapping) else {"": values}).items()
    }
    made, axes = figure(1 + len(rows), len(pictures), title=title)
    for i, picture in enumerate(pictures):
        flat = _in_grey_or_colour(picture)
        axes[0, i].imshow(flat, cmap="gray", vmin=0, vmax=1)
        axes[0, i].set_title(names[i] if i < len(names) else "", fontsize=11, color=INK)
        for k, value in enumerate(rows.values(), 1):
            most = float(np.abs(value[i]).max()) or 1.0
            axes[k, i].imshow(flat, cmap="gray", vmin=0, vmax=1, alpha=0.4)
            axes[k, i].imshow(value[i], cmap="RdBu_r", vmin=-most, vmax=most, alpha=0.7)
    for k, name in enumerate(rows, 1):
        axes[k, 0].set_ylabel(name, fontsize=12, color=INK)
    _without_ticks(axes)
    return made


def _one_a_pixel(pictures: np.ndarray, values: Any) -> np.ndarray:
    values = np.asarray(values, float)
    if values.ndim == PICTURE_AXES + 1:
        values = values.sum(axis=-1)
    if values.ndim != PICTURE_AXES or pictures.shape[:3] != values.shape or not len(values):
        raise DataError(
            f"overlay: pictures of shape {pictures.shape}, values {values.shape}. Give one value "
            "for each pixel."
        )
    return np.asarray(values)


def _in_grey_or_colour(picture: np.ndarray) -> np.ndarray:
    """A picture, or a map of a layer, between black and white."""
    plain = picture.astype(float)
    low, high = float(plain.min()), float(plain.max())
    plain = (plain - low) / ((high - low) or 1.0)
    if plain.ndim == PICTURE_AXES and plain.shape[-1] not in (3, 4):
        return np.asarray(plain[..., 0])
    return np.asarray(plain)


def _without_ticks(axes: Any) -> None:
    for axis in np.ravel(axes):
        axis.set_xticks([])
        axis.set_yticks([])


def sequence_overlay(
    sequences: Any, values: Any, *, names: Sequence[str] = (), title: str = ""
) -> Figure:
    """Sequences, and behind them what each time adds (warm) or takes away (cold).

    Parameters
    ----------
    sequences : array, shape (n, times, features)
    values : array, shape (n, times), or with features, which are summed
    names : sequence of str, optional
        One for each sequence.

    Examples
    --------
    >>> made = vs.figures.sequence_overlay(
    ...     np.ones((2, 5, 1)), np.ones((2, 5)), names=["a", "b"]
    ... )
    >>> [axis.get_title(loc="left") for axis in made.axes]
    ['a', 'b']
    """
    sequences, values = np.asarray(sequences, float), np.asarray(values, float)
    if values.ndim == PICTURE_AXES:
        values = values.sum(axis=-1)
    if sequences.ndim != PICTURE_AXES or values.shape != sequences.shape[:2] or not len(values):
        raise DataError(
            f"sequence_overlay: sequences of shape {sequences.shape}, values {values.shape}. Give "
            "one value for each time."
        )
    columns = min(len(sequences), PANELS_A_ROW)
    made, axes = figure(-(-len(sequences) // columns), columns, title=title)
    for i, axis in enumerate(np.ravel(axes)):
        if i >= len(sequences):
            axis.set_visible(False)
            continue
        most = float(np.abs(values[i]).max()) or 1.0
        extent = _background(axis, sequences[i])
        axis.imshow(
            values[i][None], cmap="RdBu_r", vmin=-most, vmax=most, alpha=0.5, aspect="auto",
            extent=extent,
        )  # fmt: skip
        y = "feature" if sequences.shape[2] > MOST_LINES else ""
        tidy(axis, x="time", y=y, title=names[i] if i < len(names) else "")
        axis.grid(False)
    return made


def _background(axis: Any, sequence: np.ndarray) -> tuple[float, float, float, float]:
    """Lines of few features, or a picture of many; the place that they take."""
    times, features = sequence.shape
    if features > MOST_LINES:
        extent = (-0.5, times - 0.5, features - 0.5, -0.5)
        axis.imshow(sequence.T, cmap="Greys", aspect="auto", extent=extent)
        return extent
    low, high = float(np.nanmin(sequence)), float(np.nanmax(sequence))
    for k in range(features):
        axis.plot(sequence[:, k], color=INK, linewidth=1.4, alpha=0.9 - 0.5 * (k % 2))
    return (-0.5, times - 0.5, low, high if high > low else low + 1)


def attention(
    weights: Any, *, labels: Sequence[Sequence[str]] | None = None, title: str = ""
) -> Figure:
    """How much each place looks at each other one, the mean over the heads, a panel for each
    attention.

    Parameters
    ----------
    weights : mapping of path to array, shape (heads, places, places)
        Of one example, of `attribution.attention_weights`.
    labels : pair of sequences of str, optional
        What stands at the places that look, and at those that are looked at.

    Examples
    --------
    >>> made = vs.figures.attention({"0": np.ones((2, 3, 3)) / 3})
    >>> made.axes[0].get_title(loc="left")
    '0'
    """
    shown = dict(list(weights.items())[:MOST_PANELS])
    if not shown or any(np.ndim(one) != PICTURE_AXES for one in shown.values()):
        raise DataError("attention: give weights of shape (heads, places, places) by path.")
    columns = min(len(shown), PANELS_A_ROW)
    made, axes = figure(-(-len(shown) // columns), columns, title=title)
    for axis in np.ravel(axes)[len(shown) :]:
        axis.set_visible(False)
    for axis, (path, one) in zip(np.ravel(axes), shown.items(), strict=False):
        mean = np.asarray(one, float).mean(axis=0)
        axis.imshow(mean, cmap="Purples", vmin=0, aspect="auto")
        tidy(axis, x="is looked at", y="looks", title=path or "the network")
        axis.grid(False)
        if labels is not None and len(labels[0]) == len(mean) and len(labels[1]) == mean.shape[1]:
            axis.set_xticks(range(mean.shape[1]), labels[1], rotation=90, fontsize=9)
            axis.set_yticks(range(len(mean)), labels[0], fontsize=9)
    return made


def feature_maps(maps: Any, *, picture: Any = None, title: str = "") -> Figure:
    """What layers put out for one picture: a row for each, the channels that vary most.

    Parameters
    ----------
    maps : mapping of path to array, shape (height, width, channels)
        ``network.outputs_of(path, inputs)[0]`` by path.
    picture : array, shape (height, width) or (height, width, channels), optional

    Examples
    --------
    >>> len(vs.figures.feature_maps({"0": np.ones((4, 4, 2))}, picture=np.ones((4, 4, 1))).axes)
    7
    """
    shown = dict(list(maps.items())[:MOST_ROWS_OF_MAPS])
    if not shown or any(np.ndim(one) != PICTURE_AXES for one in shown.values()):
        raise DataError("feature_maps: give arrays of shape (height, width, channels) by path.")
    made, axes = figure(len(shown), 1 + MAPS_A_ROW, title=title)
    for axis in np.ravel(axes):
        axis.set_axis_off()
    for k, (path, one) in enumerate(shown.items()):
        one = np.asarray(one, float)
        most = np.argsort(-one.var(axis=(0, 1)), kind="stable")[:MAPS_A_ROW]
        for axis, channel in zip(axes[k, 1:], most.tolist(), strict=False):
            axis.imshow(one[..., channel], cmap="viridis")
            axis.set_title(f"channel {channel}", fontsize=10, color=INK)
        axes[k, 0].text(
            0.5, -0.04, path or "the network", transform=axes[k, 0].transAxes, ha="center",
            va="top", fontsize=12, color=INK,
        )  # fmt: skip
        if picture is not None:
            axes[k, 0].imshow(_in_grey_or_colour(np.asarray(picture)), cmap="gray")
    return made


def example_map(
    points: Any, labels: Any = None, *, names: Sequence[str] = (), title: str = ""
) -> Figure:
    """Examples on a map of two dimensions, by class.

    Parameters
    ----------
    points : array, shape (n, 2), or mapping of title to array
        Of `attribution.principal_components` or `attribution.stochastic_neighbours`; several stand
        in a panel each.
    labels : array of int, shape (n,), optional
    names : sequence of str, optional
        Of the classes.

    Examples
    --------
    >>> made = vs.figures.example_map(np.zeros((2, 2)), [0, 1], names=["sound", "stuck"])
    >>> [text.get_text() for text in made.axes[0].get_legend().get_texts()]
    ['sound', 'stuck']
    """
    maps = dict(points) if isinstance(points, Mapping) else {"": points}
    made, axes = figure(1, len(maps), title=title)
    for k, (own_title, given) in enumerate(maps.items()):
        places = np.asarray(given, float)
        marks = np.zeros(len(places), int) if labels is None else np.asarray(labels)
        if places.ndim != 2 or places.shape[1] != 2 or marks.shape != places.shape[:1]:
            raise DataError(
                f"example_map: points are (n, 2), labels (n,); got {places.shape} and "
                f"{marks.shape}."
            )
        axis = axes[0, k]
        for i, label in enumerate(np.unique(marks)):
            own = places[marks == label]
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
        if labels is not None and not k:
            axis.legend(frameon=False, fontsize=11)
        tidy(axis, title=own_title)
    _without_ticks(axes)
    return made
