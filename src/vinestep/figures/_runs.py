"""Runs together, and what went on inside one: curves with trends, distributions and norms over
time, effects of settings.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure

from .._trend import thinned, trend_of
from ..errors import DataError
from ._style import (
    COLOURS,
    INK,
    figure,
    tidy,
)

__all__ = ["compared", "distributions", "effects", "first_and_latest", "norms"]

DASHES = ("-", (0, (6, 2)), (0, (2, 2)), (0, (8, 2, 2, 2)))
MOST_POINTS = 800
MOST_LAYERS = 12


def compared(
    curves: Mapping[str, tuple[Any, Any]],
    *,
    quantity: str = "",
    against: str = "epoch",
    log: bool = False,
    title: str = "",
) -> Figure:
    """One figure of several runs: the points as they were recorded, and over them the trend with
    its band.

    Parameters
    ----------
    curves : mapping of run to (places, values)
    quantity, against : str
        Names of the axes.
    log : bool
        Whether values are drawn on a logarithmic axis.

    Examples
    --------
    >>> x = np.arange(1.0, 21.0)
    >>> len(
    ...     vs.figures.compared(
    ...         {"barrels-1": (x, 1 / x), "barrels-2": (x, 2 / x)}, quantity="loss"
    ...     )
    ...     .axes[0]
    ...     .lines
    ... )
    4
    """
    known = {
        run: (np.asarray(x, float), np.asarray(y, float))
        for run, (x, y) in curves.items()
        if len(x)
    }
    if not known:
        raise DataError("compared: there is nothing to draw: no run has this figure.")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for i, (run, (x, y)) in enumerate(known.items()):
        colour, dash = COLOURS[i % len(COLOURS)], DASHES[i // len(COLOURS) % len(DASHES)]
        kept = thinned(x, y, MOST_POINTS)
        axis.plot(x[kept], y[kept], "o", color=colour, markersize=2.5, alpha=0.35, zorder=1)
        trend = trend_of(x, y, share=0.2)
        axis.fill_between(trend.at, trend.low, trend.high, color=colour, alpha=0.15, linewidth=0)
        axis.plot(
            trend.at, trend.value, color=colour, linestyle=dash, linewidth=2, label=run, zorder=2
        )
    if log:
        axis.set_yscale("log")
    tidy(axis, x=against, y=quantity.replace("_", " "))
    axis.legend(
        frameon=False,
        fontsize=11,
        title="trend, with its 95 % band",
        title_fontsize=10,
        alignment="left",
    )
    return made


def distributions(
    rows: Any, names: Sequence[str] = (), *, since_start: bool = False, title: str = ""
) -> Figure:
    """Distributions over time: the median, and the ranges that hold the middle half and nine tenths
    of all values.

    Parameters
    ----------
    rows : DataFrame
        The series "distributions" of a run.
    names : sequence of str
        Such as ``"weights 0/weight"``; by default all weights.
    since_start : bool
        Whether to draw how far each quantile moved since the first look.

    Examples
    --------
    >>> row = {f"weights 0/weight {q}%": float(q) for q in (5, 25, 50, 75, 95)}
    >>> drawn = vs.figures.distributions(pd.DataFrame([{"step": 1, **row}, {"step": 2, **row}]))
    >>> drawn.axes[0].get_title(loc="left")
    'weights 0/weight'
    """
    every = [str(name)[: -len(" 50%")] for name in rows.columns if str(name).endswith(" 50%")]
    chosen = (
        list(names)
        or [name for name in every if name.startswith("weights ") and not name.endswith("bias")]
        or every
    )
    missing = [name for name in chosen if name not in every]
    if missing or not chosen:
        raise DataError(
            f"distributions: nothing was recorded of {', '.join(missing) or 'anything'}. There "
            f"are: {', '.join(every[:12]) or 'none'}."
        )
    chosen = chosen[:MOST_LAYERS]
    columns = 1 if len(chosen) == 1 else 2 if len(chosen) <= 6 else 3
    made, axes = figure(-(-len(chosen) // columns), columns, title=title, sharex=True)
    step = rows["step"].to_numpy(float)
    for i, axis in enumerate(axes.ravel()):
        if i >= len(chosen):
            axis.set_axis_off()
            continue
        q = {share: rows[f"{chosen[i]} {share}%"].to_numpy(float) for share in (5, 25, 50, 75, 95)}
        if since_start:
            for (share, values), shade in zip(q.items(), (0.35, 0.6, 1.0, 0.6, 0.35), strict=True):
                dash = "-" if share == 50 else "--" if share in (25, 75) else ":"
                label = "median" if share == 50 else f"{share} % of all below"
                axis.plot(
                    step,
                    values - values[0],
                    color=COLOURS[0],
                    alpha=shade,
                    linestyle=dash,
                    linewidth=1.8,
                    label=label,
                )
        else:
            axis.fill_between(
                step, q[5], q[95], color=COLOURS[0], alpha=0.15, linewidth=0, label="nine tenths"
            )
            axis.fill_between(
                step,
                q[25],
                q[75],
                color=COLOURS[0],
                alpha=0.35,
                linewidth=0,
                label="the middle half",
            )
            axis.plot(step, q[50], color=COLOURS[0], linewidth=1.8, label="median")
        tidy(
            axis,
            x="step" if i + columns >= len(chosen) else "",
            y="change" if since_start else "value",
            title=chosen[i],
        )
        if i == 0:
            axis.legend(frameon=False, fontsize=10)
    return made


def norms(rows: Any, what: str = "gradient", *, title: str = "") -> Figure:
    """Norms by parameter over time, on a logarithmic axis, from the input on: pale to dark.

    Parameters
    ----------
    rows : DataFrame
        The series "norms" of a run.
    what : {"norm", "gradient", "update", "ratio"}

    Examples
    --------
    >>> rows = pd.DataFrame(
    ...     [{"step": 1, "0/weight ratio": 0.01}, {"step": 2, "0/weight ratio": 0.02}]
    ... )
    >>> vs.figures.norms(rows, "ratio").axes[0].get_ylabel()
    'update by weight'
    """
    names = {
        "norm": "norm of the weights",
        "gradient": "norm of the gradient",
        "update": "norm of the update",
        "ratio": "update by weight",
    }
    if what not in names:
        raise DataError(f"norms: draw one of {', '.join(names)}; got {what!r}.")
    columns = [str(name) for name in rows.columns if str(name).endswith(f" {what}")]
    if not columns:
        raise DataError(f"norms: no {what} was recorded. Use the observer Norms.")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    from matplotlib import colormaps

    shades = colormaps["viridis"](np.linspace(0.8, 0.05, len(columns)))
    for shade, column in zip(shades, columns, strict=True):
        values = rows[column].to_numpy(float)
        axis.plot(
            rows["step"],
            np.where(values > 0, values, np.nan),
            color=shade,
            linewidth=1.6,
            label=column.removesuffix(f" {what}"),
        )
    axis.set_yscale("log")
    tidy(axis, x="step", y=names[what])
    axis.legend(
        loc="upper left",
        bbox_to_anchor=(1.01, 1.0),
        frameon=False,
        fontsize=10,
        title="from the input on",
        alignment="left",
    )
    return made


def first_and_latest(
    first: Any,
    latest: Any,
    *,
    pictures: Mapping[int, np.ndarray] | None = None,
    most: int = 12,
    title: str = "",
) -> Figure:
    """The same examples at the first and at the latest look, most wrong first.

    Parameters
    ----------
    first, latest : DataFrame
        Tables "samples" of a run: example, truth, output, error.
    pictures : mapping of example to array, optional

    Examples
    --------
    >>> look = pd.DataFrame(
    ...     {"example": [0, 1], "truth": ["a", "b"], "output": ["a", "a"], "error": [0.1, 0.9]}
    ... )
    >>> len(vs.figures.first_and_latest(look, look).axes)
    1
    """
    order = latest.sort_values("error", ascending=False) if "error" in latest else latest
    shown = [int(i) for i in order["example"][:most]]
    if not shown:
        raise DataError("first_and_latest: the tables hold no examples.")
    if not pictures:
        return _ranges(first, latest, shown, title)
    columns = min(4, len(shown))
    made, axes = figure(-(-len(shown) // columns), columns, title=title)
    for axis in axes.ravel():
        axis.set_axis_off()
    for i, axis in zip(shown, axes.ravel(), strict=False):
        before, now = first[first["example"] == i].iloc[0], latest[latest["example"] == i].iloc[0]
        if i in pictures:
            axis.imshow(pictures[i], interpolation="nearest")
        right = str(now["output"]).split(" (")[0] == str(now["truth"])
        axis.set_title(
            f"{now['truth']}\nfirst: {str(before['output']).split(' (')[0]}\nnow: "
            f"{str(now['output']).split(' (')[0]}",
            fontsize=10, color=COLOURS[1] if right else COLOURS[2], loc="left",
        )  # fmt: skip
    return made


def _ranges(first: Any, latest: Any, shown: list[int], title: str) -> Figure:
    """From where to where the error of each example went."""
    if "error" not in first or "error" not in latest:
        raise DataError("first_and_latest: without pictures the tables need a column error.")
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for line, i in enumerate(shown):
        before = float(first[first["example"] == i]["error"].iloc[0])
        row = latest[latest["example"] == i].iloc[0]
        colour = COLOURS[1] if row["error"] <= before else COLOURS[2]
        axis.annotate(
            "",
            (row["error"], line),
            (before, line),
            arrowprops={"arrowstyle": "->", "color": colour, "linewidth": 1.8},
        )
        axis.plot(
            [before, row["error"]], [line, line], linestyle="none"
        )  # so that the axis holds both ends
        axis.plot(before, line, "o", color=COLOURS[5], markersize=5)
    axis.set_yticks(
        range(len(shown)),
        [f"{i}: {latest[latest['example'] == i]['truth'].iloc[0]}" for i in shown],
    )
    axis.invert_yaxis()
    tidy(
        axis, x="error: grey dot at the first look, arrow to the latest", y="example, and its truth"
    )
    return made


def effects(found: Any, quantity: str, *, title: str = "") -> Figure:
    """What each setting does to a score, ranked, with how sure that is.

    Parameters
    ----------
    found : DataFrame
        As `vinestep.runs.effects` gives it: setting, effect, low, high.
    quantity : str

    Examples
    --------
    >>> found = pd.DataFrame(
    ...     {
    ...         "setting": ["rate"],
    ...         "effect": [0.5],
    ...         "low": [0.2],
    ...         "high": [0.8],
    ...         "values": ["0.1, 0.2"],
    ...     }
    ... )
    >>> vs.figures.effects(found, "loss").axes[0].get_xlabel()
    'change of loss from the lowest to the highest value of the setting'
    """
    if not len(found):
        raise DataError("effects: there is nothing to draw: fewer than two values of any setting.")
    rows = found.iloc[:16]
    made, axes = figure(1, 1, title=title)
    axis = axes[0, 0]
    for i, row in enumerate(rows.itertuples()):
        axis.plot(
            [row.low, row.high],
            [i, i],
            color=COLOURS[0],
            alpha=0.35,
            linewidth=7,
            solid_capstyle="butt",
        )
        axis.plot(row.effect, i, "o", color=COLOURS[0], markersize=7)
    axis.axvline(0, color=INK, linewidth=0.8)
    axis.set_yticks(
        range(len(rows)),
        [f"{row.setting}\n{row.values}"[:60] for row in rows.itertuples()],
        fontsize=10,
    )
    axis.invert_yaxis()
    tidy(
        axis,
        x=f"change of {quantity.replace('_', ' ')} from the lowest to the highest value of the "
        "setting",
    )
    return made
