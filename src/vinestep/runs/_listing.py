"""The runs recorded in a folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..storage.run_folder import RECORDS, RunFolder, numbered

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["find_runs", "runs_table"]


def find_runs(root: str | os.PathLike[str] = RECORDS) -> Iterator[RunFolder]:
    """The runs recorded in a folder, by number.

    Examples
    --------
    >>> list(vs.runs.find_runs("a folder that is not there"))
    []
    """
    for _, path in numbered(Path(root)):
        if (path / "run.json").is_file():
            yield RunFolder(path)


def runs_table(root: str | os.PathLike[str] = RECORDS) -> pd.DataFrame:
    """One row per run: run, status, epochs, step, when it began, and the last figures.

    Examples
    --------
    >>> import tempfile
    >>> root = tempfile.mkdtemp()
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> outcome = vs.Training(vs.Dense(1), loss=vs.losses.squared_error).run(
    ...     data.batches(4), epochs=1, record=root
    ... )
    >>> vs.runs.runs_table(root)[["run", "status", "epochs"]].values.tolist()
    [['run-1', 'finished', '1/1']]
    """
    import pandas as pd

    rows = []
    for folder in find_runs(root):
        known = folder.read_status()
        row: dict[str, Any] = {
            "run": folder.path.name,
            "status": known["status"],
            "epochs": f"{known['epoch']}/{known['epochs']}",
        }
        rows.append(row | {"step": known["step"], "begun": known["begun"]} | known["last"])
    return pd.DataFrame(rows)
