"""Trails drawn: operations as boxes, layers as groups, the value at the top."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from operator import itemgetter
from typing import Any

from matplotlib.figure import Figure
from matplotlib.patches import FancyBboxPatch

from ._style import COLOURS, INK, figure

__all__ = ["trail"]

LEAVES = ("input", "parameter", "leaf")
MOST_ROWS = 14  # boxes in a column before another column begins
MOST_COLUMNS = 9
FEWEST_COLUMNS = 3  # room is left for so many, or a short trail would be all width
GUTTER = 0.1  # of a column, at its right, for the lines that pass by other boxes
Place = tuple[int, int]


def trail(found: Any, *, title: str = "") -> Figure:
    """Draw a trail: one box an operation, the value first, its parameters named; each layer of the
    network is a group.

    Operations stand in falling order of when they were made, down one column and on at the top of
    the next. Each uses the one below it, unless a line says otherwise. Of a trail with more than
    some hundred operations the latest are drawn, and the title says how many are not.

    Parameters
    ----------
    found : Trail
        What `vinestep.trail` gives.
    title : str

    Examples
    --------
    >>> x = Tensor([1.0, 2.0], name="x")
    >>> drawn = vs.figures.trail(vs.trail(np.sum(np.exp(x))))
    >>> drawn.get_suptitle()
    'Trail of 2 operations, 16 bytes held'
    """
    operations = [entry for entry in found if entry.operation not in LEAVES]
    rows = max(MOST_ROWS, -(-min(len(operations), 3 * MOST_ROWS * MOST_COLUMNS) // MOST_COLUMNS))
    shown = operations[: rows * MOST_COLUMNS]
    columns = max(FEWEST_COLUMNS, -(-len(shown) // rows))
    left_out = len(operations) - len(shown)
    text = title or f"Trail of {len(operations)} operations, {found.bytes_held:,} bytes held"
    made, panels = figure(
        title=text + (f"; the {left_out} earliest are not drawn" if left_out else "")
    )
    axis = panels[0, 0]
    axis.set_axis_off()
    axis.set_xlim(0, columns)
    axis.set_ylim(rows, -0.2)
    places = {entry.number: (i // rows, i % rows) for i, entry in enumerate(shown)}
    leaves = {entry.number: entry for entry in found if entry.operation in LEAVES}
    size = min(12.0, 66.0 / columns, 190.0 / rows)
    _groups(axis, shown, places, size)
    for i, entry in enumerate(shown):
        _box(axis, entry, places[entry.number], leaves, size, 215 // columns)
        below = shown[i + 1].number if i + 1 < len(shown) else None
        if below in entry.parents:
            _step(axis, places[entry.number], last=places[entry.number][1] == rows - 1)
        for parent in entry.parents:
            if parent in places and parent != below:
                _passing_line(axis, places[parent], places[entry.number])
    return made


def _groups(axis: Any, shown: Sequence[Any], places: dict[int, Place], size: float) -> None:
    """A tinted background behind the operations of each of the network's own layers, with its
    path.
    """
    tints: dict[str, str] = {}
    for layer, members in groupby(shown, key=lambda entry: entry.layer.partition("/")[0]):
        if not layer:
            continue
        tint = tints.setdefault(layer, COLOURS[len(tints) % len(COLOURS)])
        for column, here in groupby((places[entry.number] for entry in members), key=itemgetter(0)):
            lines = [row for _, row in here]
            corner, height = (column + 0.015, lines[0] + 0.03), len(lines) - 0.06
            style = "round,pad=0,rounding_size=0.03"
            axis.add_patch(
                FancyBboxPatch(
                    corner,
                    0.97 - GUTTER,
                    height,
                    boxstyle=style,
                    color=tint,
                    alpha=0.14,
                    linewidth=0,
                )
            )
            label = {
                "ha": "right",
                "va": "center",
                "fontsize": size,
                "color": tint,
                "weight": "bold",
            }
            axis.text(column + 0.96 - GUTTER, lines[0] + 0.27, layer, **label)


def _box(
    axis: Any, entry: Any, place: Place, leaves: dict[int, Any], size: float, most: int
) -> None:
    """The texts of one operation; `most` is how many small letters fit a column."""
    column, row = place
    left = column + 0.1
    shape = " x ".join(map(str, entry.shape)) if entry.shape else "scalar"
    axis.text(
        left,
        row + 0.27,
        _short(entry.operation, 18),
        fontsize=size,
        color=INK,
        weight="bold",
        va="center",
    )
    axis.text(
        left, row + 0.54, f"{shape}  {entry.dtype}", fontsize=size * 0.8, color=INK, va="center"
    )
    names = [leaves[p].name for p in entry.parents if p in leaves and leaves[p].name]
    if names:
        where = names[0].partition("/")[2].rpartition("/")[0]
        text = (f"{where}: " if where else "") + ", ".join(
            name.rpartition("/")[2] for name in names
        )
        axis.text(
            left, row + 0.79, _short(text, most), fontsize=size * 0.8, color=COLOURS[2], va="center"
        )


def _short(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 3] + "..."


def _step(axis: Any, place: Place, *, last: bool) -> None:
    """The operation below is used by this one; at the foot of a column it stands at the top of the
    next.
    """
    column, row = place
    x = column + 0.055
    axis.annotate("", (x, row + 0.8), (x, row + 1.15 if not last else row + 1.0), arrowprops=_ARROW)


def _passing_line(axis: Any, start: Place, end: Place) -> None:
    """A line in the gutter, from an operation to one that used it further up."""
    x0, x1 = start[0] + (0.985 - GUTTER if start[0] == end[0] else 0.08), end[0] + 0.985 - GUTTER
    middle = x1 + GUTTER * (0.25 + 0.6 * ((start[1] + end[1]) % 4) / 4)
    y0, y1 = start[1] + 0.4, end[1] + 0.6
    axis.plot(
        [x0, middle, middle, x1 + 0.02],
        [y0, y0, y1, y1],
        color=COLOURS[5],
        linewidth=1.0,
        alpha=0.7,
    )
    axis.annotate("", (x1 - 0.012, y1), (x1 + 0.03, y1), arrowprops=_ARROW)


_ARROW = {"arrowstyle": "-|>", "color": COLOURS[5], "linewidth": 1.0, "shrinkA": 0, "shrinkB": 0}
