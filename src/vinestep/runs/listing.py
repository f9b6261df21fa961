"""The runs recorded in a folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from ..training.folders import RunFolder, numbered

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["find_runs", "runs_table"]


def find_runs(root: str | os.PathLike[str] = "runs") -> Iterator[RunFolder]:
    """The runs recorded in a folder, by number."""
    for _, path in numbered(Path(root)):
        if (path / "run.json").is_file():
            yield RunFolder(path)


def runs_table(root: str | os.PathLike[str] = "runs") -> pd.DataFrame:
    """One row a run: run, status, epochs, step, when it began, and the last figures."""
    import pandas as pd

    rows = []
    for folder in find_runs(root):
        known = folder.info()
        row = {"run": folder.path.name, "status": known["status"], "epochs": f"{known['epoch']}/{known['epochs']}"}
        rows.append(row | {"step": known["step"], "begun": known["begun"]} | known["last"])
    return pd.DataFrame(rows)
