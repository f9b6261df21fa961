"""What `vinestep peek` looks at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from ..data.checks._summary import Peek, peek
from ..errors import DataError

__all__ = ["looks_of"]

TABLES = (".csv", ".parquet")


def looks_of(what: Path, target: str, examples: int, own: Sequence[Any]) -> Iterator[Peek]:
    """A look at a file or folder, or at each part of the data of a plan."""
    suffix = what.suffix.lower()
    if suffix == ".toml":
        from ..training.plans._plan import read_plan
        from ..training.plans._planned_run import PlannedRun

        planned = PlannedRun(read_plan(what, own=own), what.parent, own=own)
        for name, part in planned.parts.items():
            look = peek(part, examples)
            yield Peek(
                f"{name}: {look.what}", look.fields, look.classes, look.examples, look.findings
            )
    elif suffix in TABLES:
        yield _table(what, target, examples)
    elif suffix == ".npz" or (what.is_dir() and (what / "inputs.npy").exists()):
        from ..data.sources._files import arrays

        yield peek(arrays(what, targets=target or "targets"), examples)
    elif what.is_dir():
        from ..data.pictures._pictures import PictureFolder

        yield peek(PictureFolder(what), examples)
    else:
        raise DataError(
            f"{what}: there is no such file, or it is none that can be looked at: .toml, .csv, "
            ".parquet, .npz, or a folder."
        )


def _table(what: Path, target: str, examples: int) -> Peek:
    from ..data._table_files import read_frame
    from ..data.tabular._table import Table

    if not target:
        frame, _ = read_frame(what)
        raise DataError(
            f"{what}: say which column is to be learned: --target COLUMN. It has "
            f"{', '.join(frame.columns)}."
        )
    return peek(Table(what, target=target), examples)
