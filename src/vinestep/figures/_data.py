"""Data to be looked at before anything is trained on it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from ..errors import DataError
from ._style import (
    COLOURS,
    INK,
    figure,
    tidy,
)

__all__ = ["classes", "columns", "examples", "lengths", "tokens"]

MOST_PANELS = 12
BINS = 30


def examples(
    pictures: Any,
    labels: Sequence[Any] | None = None,
    *,
    decided: Sequence[Any] | None = None,
    rows: int = 4,
    across: int = 8,
    title: str = "",
) -> Figure:
    """Pictures in a grid, as they come out of the batches, each with its label; with decisions
    beside the truth, wrong ones first.

    Parameters
    ----------
    pictures : array, shape (n, height, width, channels)
        Floats are stretched to their own range if they leave 0 to 1.
    labels : sequence, optional
        What is true.
    decided : sequence, optional
        What was decided.
    rows, across : int

    Raises
    ------
    DataError
        If they are no pictures.

    Examples
    --------
    >>> len(
    ...     vs.figures.examples(
    ...         np.zeros((3, 8, 8, 3)), ["healthy", "chlorosis", "healthy"], rows=1, across=3
    ...     ).axes
    ... )
    3
    """
    array = np.asarray(pictures)
    if array.ndim != 4 or array.shape[3] not in (1, 3, 4) or not len(array):
        raise DataError(
            f"examples: pictures are (n, height, width, 1, 3 or 4), got shape {array.shape}."
        )
    order = np.arange(len(array))
    if decided is not None:
        if labels is None or len(labels) != len(array) or len(decided) != len(array):
            raise DataError(
                "examples: decisions are shown beside the truth: give as many labels and "
                "decisions as pictures."
            )
        order = np.array(sorted(range(len(array)), key=lambda i: str(labels[i]) == str(decided[i])))
    order = order[: rows * across]
    shown = array[order]
    made, axes = figure(-(-len(shown) // across), min(across, len(shown)), title=title)
    drawn = _drawable(shown)
    for i, axis in enumerate(axes.flat):
        axis.set_axis_off()
        if i < len(drawn):
            axis.imshow(drawn[i], cmap="gray", vmin=0, vmax=1, interpolation="nearest")
            at = int(order[i])
            if decided is not None and labels is not None:
                right = str(labels[at]) == str(decided[at])
                words = f"{labels[at]}" if right else f"{labels[at]}\nnot {decided[at]}"
                axis.set_title(words, fontsize=10, color=COLOURS[1] if right else COLOURS[2])
            elif labels is not None:
                axis.set_title(str(labels[at]), fontsize=11, color=INK)
    return made


def _drawable(pictures: np.ndarray) -> np.ndarray:
    result = pictures / 255 if pictures.dtype.kind in "iu" else pictures.astype(np.float64)
    low, high = float(result.min()), float(result.max())
    if low < 0 or high > 1:
        result = (result - low) / max(high - low, 1e-12)
    return result[..., 0] if result.shape[3] == 1 else result


def classes(parts: Mapping[str, Any], names: Sequence[str] = (), *, title: str = "") -> Figure:
    """How many examples of each class the parts have.

    Parameters
    ----------
    parts : mapping of name to array of class numbers, or to a source of the data room
    names : sequence of str, optional
        Of the classes; by default those of the first source.

    Examples
    --------
    >>> drawn = vs.figures.classes(
    ...     {"training": [0, 1, 1], "validation": [0, 1]}, ["sound", "stuck"]
    ... )
    >>> [text.get_text() for text in drawn.axes[0].get_legend().get_texts()]
    ['training (3)', 'validation (2)']
    """
    names = names or next(
        (part.class_names for part in parts.values() if hasattr(part, "class_names")), ()
    )
    arrays = {
        name: np.asarray(part.labels() if hasattr(part, "labels") else part)
        for name, part in parts.items()
    }
    if not arrays or any(
        a.ndim != 1 or a.dtype.kind not in "iu" or not a.size for a in arrays.values()
    ):
        raise DataError("classes: give parts by name, each an array of class numbers.")
    n = max(len(names), *(int(a.max()) + 1 for a in arrays.values()))
    listed = [*names, *(str(i) for i in range(len(names), n))]
    made, axes = figure(1, 1, title=title)
    axis, width = axes[0, 0], 0.8 / len(arrays)
    for k, (part, labels) in enumerate(arrays.items()):
        shares = np.bincount(labels, minlength=n) / len(labels)
        places = np.arange(n) + (k - (len(arrays) - 1) / 2) * width
        axis.bar(
            places,
            shares,
            width * 0.92,
            color=COLOURS[k % len(COLOURS)],
            label=f"{part} ({len(labels):,})",
        )
        if n * len(arrays) <= 24:
            for place, share, count in zip(
                places, shares, np.bincount(labels, minlength=n), strict=True
            ):
                axis.text(
                    place, share, f"{count:,}", ha="center", va="bottom", fontsize=10, color=INK
                )
    axis.set_xticks(
        range(n),
        listed,
        rotation=30 if max(map(len, listed)) * n > 80 else 0,
        ha="right" if max(map(len, listed)) * n > 80 else "center",
    )
    axis.legend(frameon=False, fontsize=11)
    tidy(axis, y="share of the part")
    axis.grid(False, axis="x")
    return made


def columns(
    inputs: Any,
    names: Sequence[str],
    targets: Any = None,
    class_names: Sequence[str] = (),
    *,
    title: str = "",
) -> Figure:
    """How the values of each column are distributed, by class if there are classes; up to twelve
    columns.

    Parameters
    ----------
    inputs : array, shape (n, columns)
    names : sequence of str
    targets : array of class numbers, shape (n,), optional
    class_names : sequence of str

    Examples
    --------
    >>> len(vs.figures.columns(np.ones((5, 2)), ["pH", "sugar"]).axes)
    2
    """
    array = np.asarray(inputs, np.float64)
    if array.ndim != 2 or array.shape[1] != len(names) or not array.size:
        raise DataError(f"columns: {len(names)} names and values of shape {array.shape}.")
    labels = None if targets is None else np.asarray(targets)
    if labels is not None and (labels.ndim != 1 or labels.dtype.kind not in "iu"):
        labels = None
    shown = min(array.shape[1], MOST_PANELS)
    across = 1 if shown == 1 else 2 if shown <= 4 else 3 if shown <= 9 else 4
    made, axes = figure(-(-shown // across), across, title=title)
    groups = (
        [(None, "")]
        if labels is None
        else [(k, class_names[k] if k < len(class_names) else str(k)) for k in np.unique(labels)]
    )
    for i, axis in enumerate(axes.flat):
        if i >= shown:
            axis.set_axis_off()
            continue
        values = array[:, i]
        present = values[np.isfinite(values)]
        edges = np.histogram_bin_edges(present, BINS) if present.size else np.linspace(0, 1, 2)
        for k, (label, name) in enumerate(groups):
            own = values if label is None else values[labels == label]  # type: ignore[index]
            axis.hist(
                own[np.isfinite(own)],
                edges,
                density=True,
                histtype="step",
                linewidth=1.8,
                color=COLOURS[k % len(COLOURS)],
                label=name,
            )
        gaps = int((~np.isfinite(values)).sum())
        tidy(axis, title=f"{names[i]} ({gaps} missing)" if gaps else str(names[i]))
        axis.set_yticks([])
        if i == 0 and labels is not None:
            axis.legend(frameon=False, fontsize=10)
    return made


def lengths(sequences: Any, *, title: str = "") -> Figure:
    """How long sequences are, and what padding all to the longest would cost.

    Parameters
    ----------
    sequences : sequence of sequences, or of whole numbers that are their lengths

    Examples
    --------
    >>> vs.figures.lengths(["racked", "tasted", "topped up"]).axes[0].get_xlabel()
    'length'
    """
    found = np.array(
        [int(s) if np.ndim(s) == 0 and not isinstance(s, str) else len(s) for s in sequences]
    )
    if not found.size:
        raise DataError("lengths: there are no sequences.")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    width = -(-(int(np.ptp(found)) + 1) // BINS)  # whole, so that each bar holds as many lengths
    axis.hist(found, np.arange(found.min(), found.max() + width + 1, width) - 0.5, color=COLOURS[1])
    middle, late = np.percentile(found, [50, 95])
    for value, name, colour in (
        (middle, "median", COLOURS[0]),
        (late, "95 % are not longer than", COLOURS[2]),
    ):
        axis.axvline(value, color=colour, linewidth=1.8, label=f"{name} {value:.0f}")
    wasted = 1 - found.mean() / found.max()
    axis.plot([], [], " ", label=f"padded to the longest ({found.max()}), {wasted:.0%} is padding")
    axis.legend(frameon=False, fontsize=11, ncols=3, loc="lower left", bbox_to_anchor=(0, 1))
    axis.xaxis.set_major_locator(MaxNLocator(integer=True))
    tidy(axis, x="length", y="sequences")
    return made


def tokens(
    batch: Any, show: Any, *, ignored: int = -1, rows: int = 12, places: int = 16, title: str = ""
) -> Figure:
    """Token by token what a network is fed: padding is grey, and what the loss leaves out has no
    border.

    Parameters
    ----------
    batch : Batch
        Inputs and targets of whole numbers, shape (n, time), with masks or without.
    show : callable
        From a number to its text, such as ``tokeniser.token``.
    ignored : int
        The label that the loss leaves out.

    Examples
    --------
    >>> batch = vs.data.Batch(
    ...     np.array([[4, 5, 0]]), np.array([[5, 6, -1]]), None, np.array([[True, True, False]])
    ... )
    >>> len(vs.figures.tokens(batch, str).axes[0].texts)
    3
    """
    numbers, labels = (
        np.asarray(batch.inputs)[:rows, :places],
        np.asarray(batch.targets)[:rows, :places],
    )
    if numbers.ndim != 2 or numbers.dtype.kind not in "iu":
        raise DataError(
            f"tokens: whole numbers (n, time) are wanted, got {numbers.dtype} of shape "
            f"{numbers.shape}."
        )
    masks = (
        np.ones(numbers.shape, bool)
        if batch.masks is None
        else np.asarray(batch.masks)[:rows, :places]
    )
    learned = labels != ignored if labels.shape == numbers.shape else np.zeros(numbers.shape, bool)
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for i, j in np.ndindex(*numbers.shape):
        face = "white" if masks[i, j] else "#e4e4e4"
        border = (
            {"edgecolor": COLOURS[1], "linewidth": 1.2} if learned[i, j] else {"edgecolor": "none"}
        )
        text = (
            show(int(numbers[i, j]))
            .replace(" ", "\u2423")
            .replace("\n", "\u21b5")
            .replace("$", r"\$")
        )
        axis.text(
            j,
            i,
            text if len(text) < 9 else f"{text[:7]}\u2026",
            ha="center",
            va="center",
            fontsize=10,
            color=INK if masks[i, j] else "#8a8a8a",
            bbox={"facecolor": face, "pad": 3, **border},
        )
    axis.set_xlim(-0.6, numbers.shape[1] - 0.4)
    axis.set_ylim(len(numbers) - 0.4, -0.6)
    tidy(axis, x="place", y="example")
    axis.grid(False)
    axis.xaxis.set_major_locator(MaxNLocator(integer=True))
    axis.yaxis.set_major_locator(MaxNLocator(integer=True))
    return made
