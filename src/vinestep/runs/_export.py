"""All that is known of a run as files that other programs read."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import RunError
from ..storage.run_folder import locked

if TYPE_CHECKING:
    from ._query import RunRecord

__all__ = ["export_run"]

FORMS = ("csv", "json", "parquet")
PART, LOCK = ".export.part", ".lock"
PATIENCE = 60.0  # seconds to wait for another export into the same folder


def export_run(run: RunRecord, folder: Path, form: str = "csv") -> list[Path]:
    """Write a run's series, files and facts into a folder.

    Parameters
    ----------
    run : RunRecord
    folder : path
        Made if it is not there.
    form : {"csv", "json", "parquet"}
        Of the series.

    Raises
    ------
    RunError
        If the form is unknown, its library missing, or the disk does not take it.
    """
    if form not in FORMS:
        raise RunError(f"A run is exported as {', '.join(FORMS)}; got {form!r}.")
    if form == "parquet":
        from importlib.util import find_spec

        if find_spec("pyarrow") is None:
            raise RunError("Parquet needs a library: pip install 'vinestep[parquet]'.")
    try:
        part = folder / PART
        part.mkdir(parents=True, exist_ok=True)
        busy = f"{folder}: another process exports into this folder. Wait for it, or give another."
        with locked(part / LOCK, PATIENCE, busy):
            try:
                _clear(part)  # of what one that was killed left
                written = _write(run, part, form)
                return [_moved(part, path, folder) for path in written]
            finally:
                shutil.rmtree(part, ignore_errors=True)
    except OSError as error:
        raise RunError(f"{folder}: it could not be written: {error.strerror or error}.") from error


def _clear(part: Path) -> None:
    for path in part.iterdir():
        if path.is_dir():
            shutil.rmtree(path)
        elif path.name != LOCK:
            path.unlink()


def _moved(part: Path, path: Path, folder: Path) -> Path:
    """A file that is complete, put where it belongs in place of the one there."""
    target = folder / path.relative_to(part)
    target.parent.mkdir(exist_ok=True)
    os.replace(path, target)
    return target


def _write(run: RunRecord, folder: Path, form: str) -> list[Path]:
    written = [folder / "run.json"]
    written[0].write_text(json.dumps(run.as_dict(), indent=1, default=str))
    for name in run.series_names:
        path, frame = folder / f"{name}.{form}", run.series(name)
        if form == "csv":
            frame.to_csv(path, index=False)
        elif form == "json":
            frame.to_json(path, orient="records", double_precision=15)
        else:
            frame.to_parquet(path)
        written.append(path)
    for name in run.file_names:
        (folder / "files").mkdir(exist_ok=True)
        (folder / "files" / name).write_bytes(run.read_file(name))
        written.append(folder / "files" / name)
    (folder / "console.txt").write_text(run.console)
    return [*written, folder / "console.txt"]
