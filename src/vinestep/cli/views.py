"""Tables for the terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from rich.box import SIMPLE_HEAD
from rich.table import Table

if TYPE_CHECKING:
    import pandas as pd

    from ..data.dataset import Dataset

__all__ = ["confusion_view", "files_view", "runs_view", "scores_view"]


def _table(title: str) -> Table:
    return Table(title=title, title_justify="left", title_style="bold", box=SIMPLE_HEAD, pad_edge=False)


def scores_view(scores: Mapping[str, Mapping[str, float]], parts: Mapping[str, Dataset]) -> Table:
    """Loss and metrics of each part."""
    table = _table("Scores")
    table.add_column("part")
    table.add_column("examples", justify="right")
    for name in next(iter(scores.values())):
        table.add_column(name.replace("_", " "), justify="right")
    for part, figures in scores.items():
        table.add_row(part, f"{len(parts[part]):,}", *(f"{value:.4f}" for value in figures.values()))
    return table


def confusion_view(truth: Sequence[str], decided: Sequence[str], names: Sequence[str]) -> Table:
    """How often each true class was decided to be which."""
    counts = Counter(zip(truth, decided, strict=True))
    table = _table("Test part: what was so, and what was decided")
    table.add_column("was so")
    for name in names:
        table.add_column(f"decided {name}", justify="right")
    table.add_column("found", justify="right")
    for true in names:
        total = sum(counts[true, other] for other in names)
        cells = [f"[bold]{counts[true, other]}[/]" if other == true else str(counts[true, other]) for other in names]
        table.add_row(true, *cells, f"{counts[true, true] / total:.0%}" if total else "-")
    return table


def files_view(folder: Path) -> Table:
    """What a run wrote, and where."""
    what = {
        "plan.toml": "what was asked",
        "curves.csv": "a row an epoch",
        "curves.png": "the curves, drawn",
        "log.txt": "when it began and ended, and why",
        "checkpoints": "weights and all that is needed to continue",
    }
    table = _table("Written")
    table.add_column("file", no_wrap=True)
    table.add_column("what it holds")
    for name, text in what.items():
        if (folder / name).exists():
            table.add_row(str(folder / name), text)
    return table


_ROOM = ("run", "status", "epochs", "loss", "accuracy", "absolute_error", "validation_loss", "validation_accuracy", "begun")
_SHORT = {"validation_loss": "val. loss", "validation_accuracy": "val. acc.", "absolute_error": "abs. error"}


def runs_view(runs: pd.DataFrame) -> Table:
    """One row a run, with what fits a terminal of 80 columns."""
    table = _table("Runs")
    names = [name for name in _ROOM if name in runs.columns and f"validation_{name}" not in runs.columns]
    for name in names:
        numeric = runs[name].dtype.kind in "fi"
        table.add_column(_SHORT.get(name, name), justify="right" if numeric else "left", no_wrap=True)
    for _, row in runs.iterrows():
        table.add_row(*(_cell(name, row[name]) for name in names))
    return table


def _cell(name: str, value: object) -> str:
    if isinstance(value, float):
        return "-" if value != value else f"{value:.4f}"
    return str(value)[5:16].replace("T", " ") if name == "begun" else str(value)
