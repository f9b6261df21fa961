"""The look all figures share."""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure

from .._atomic_files import atomic_write

__all__ = ["COLOURS", "as_png", "figure", "save", "tidy"]

# must, leaf, clay, plum, straw, slate: told apart also by people who do not see red and green apart
COLOURS = ("#5b2a86", "#2e7d4f", "#d1602f", "#1f78a4", "#c9a227", "#6b6b6b")
INK = "#2b2b2b"
SIZE = (12.8, 8.0)
DPI = 100


class Drawn(Figure):
    """A figure that shows itself in a notebook."""

    def _repr_png_(self) -> bytes:
        return as_png(self)

    def as_png(self) -> bytes:
        """The content of a PNG file; drawn once, where `savefig` lays out and draws twice."""
        from PIL import Image

        canvas: Any = FigureCanvasAgg(self)
        canvas.draw()
        room = BytesIO()
        drawn = Image.fromarray(np.asarray(canvas.buffer_rgba())).convert("RGB")
        drawn.save(room, format="png", compress_level=4, dpi=(DPI, DPI))
        return room.getvalue()


def figure(
    rows: int = 1,
    columns: int = 1,
    *,
    title: str = "",
    size: tuple[float, float] = SIZE,
    **options: Any,
) -> tuple[Figure, Any]:
    """A figure of 1280 x 800 points with panels, independent of any screen."""
    made = Drawn(figsize=size, dpi=DPI, layout="constrained")
    FigureCanvasAgg(made)
    axes = made.subplots(rows, columns, squeeze=False, **options)
    if title:
        made.suptitle(title, fontsize=16, color=INK, x=0.01, ha="left")
    return made, axes


def tidy(axis: Any, *, x: str = "", y: str = "", title: str = "") -> None:
    """Labels, and no more lines than are needed."""
    axis.set_xlabel(x, fontsize=12, color=INK)
    axis.set_ylabel(y, fontsize=12, color=INK)
    if title:
        axis.set_title(title, fontsize=13, color=INK, loc="left")
    axis.spines[["top", "right"]].set_visible(False)
    axis.tick_params(labelsize=11, colors=INK)
    axis.grid(True, alpha=0.2, linewidth=0.8)


def as_png(made: Figure) -> bytes:
    """A figure as the content of a PNG file.

    Examples
    --------
    >>> vs.figures.as_png(
    ...     vs.figures.curves([{"epoch": 1, "step": 5, "rate": 0.1, "loss": 2.0}])
    ... )[1:4]
    b'PNG'
    """
    if isinstance(made, Drawn):
        return made.as_png()
    room = BytesIO()
    made.savefig(room, format="png")
    return room.getvalue()


def save(made: Figure, path: str | Path) -> Path:
    """Write a figure as PNG, whole or not at all.

    Examples
    --------
    >>> import tempfile
    >>> drawn = vs.figures.curves([{"epoch": 1, "step": 5, "rate": 0.1, "loss": 2.0}])
    >>> vs.figures.save(drawn, tempfile.mkdtemp() + "/curves.png").name
    'curves.png'
    """
    target = Path(path)
    with atomic_write(target) as file:
        file.write(as_png(made))
    return target
