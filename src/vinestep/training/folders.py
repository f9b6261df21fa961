"""Run folders: numbered, each with plan, curves, log and checkpoints."""

from __future__ import annotations

import json
import os
import re
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import RunError

if TYPE_CHECKING:
    from .loop import Run

__all__ = ["RunFolder", "numbered", "write_text"]

_NAME = re.compile(r"^(\d{4,})-(.+)$")


def write_text(path: Path, text: str) -> None:
    """Write a text file whole or not at all."""
    temporary = path.with_name(f".{path.name}.part")
    temporary.write_text(text)
    os.replace(temporary, path)


class RunFolder:
    """The folder of one run.

    Parameters
    ----------
    path : path
        Such as ``runs/0007-barrels``.

    Examples
    --------
    >>> import tempfile
    >>> folder = vs.runs.RunFolder.create(tempfile.mkdtemp(), "barrels")
    >>> folder.path.name, folder.number
    ('0001-barrels', 1)
    """

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.path = Path(path)

    @classmethod
    def create(cls, root: str | os.PathLike[str] | None, name: str) -> RunFolder:
        """Make the next folder; numbers only rise, also when several runs start at once."""
        safe = re.sub(r"[^A-Za-z0-9._-]+", "-", name).strip("-.") or "run"
        parent = Path(root if root is not None else "runs")
        try:
            parent.mkdir(parents=True, exist_ok=True)
            number = max((n for n, _ in numbered(parent)), default=0)
            while True:
                number += 1
                path = parent / f"{number:04d}-{safe}"
                if any(n == number for n, _ in numbered(parent)):
                    continue
                try:
                    path.mkdir()
                    break
                except FileExistsError:
                    continue
            (path / "checkpoints").mkdir()
        except OSError as error:
            raise RunError(f"{parent}: a run folder can not be made there: {error.strerror}.") from error
        return cls(path)

    @classmethod
    def open(cls, path: str | os.PathLike[str]) -> RunFolder:
        """The folder of a run that exists.

        Raises
        ------
        RunError
            If there is none.
        """
        folder = cls(path)
        if not (folder.path / "run.json").is_file():
            near = ", ".join(p.name for _, p in numbered(folder.path.parent)[-5:])
            raise RunError(f"{folder.path}: there is no such run. {f'Newest there: {near}.' if near else 'See: vinestep runs.'}")
        return folder

    @property
    def number(self) -> int:
        match = _NAME.match(self.path.name)
        return int(match[1]) if match else 0

    def write_plan(self, plan: dict[str, Any]) -> None:
        import tomli_w

        write_text(self.path / "plan.toml", tomli_w.dumps(plan))

    def note(self, text: str) -> None:
        """Add a line to the log, with the time."""
        with (self.path / "log.txt").open("a") as file:
            file.write(f"{datetime.now().astimezone().isoformat(timespec='seconds')}  {text}\n")

    def info(self) -> dict[str, Any]:
        """What is known of the run: status, reason, counts, last figures."""
        known: dict[str, Any] = json.loads((self.path / "run.json").read_text())
        return known

    def record_status(self, run: Run, reason: str) -> None:
        """Write down where the run stands."""
        now = datetime.now().astimezone().isoformat(timespec="seconds")
        known = self.info() if (self.path / "run.json").is_file() else {"begun": now}
        known |= {
            "name": run.name,
            "status": run.status.value,
            "reason": reason,
            "changed": now,
            "epoch": run.position.epoch,
            "epochs": run.epochs,
            "step": run.position.step,
            "process": os.getpid(),
            "last": run.rows[-1] if run.rows else {},
        }
        write_text(self.path / "run.json", json.dumps(known, indent=1))
        self.note(f"{run.status.value}: epoch {run.position.epoch} of {run.epochs}, step {run.position.step}. {reason}".rstrip())

    def check_resumable(self) -> None:
        """
        Raises
        ------
        RunError
            If the run is finished, or is still running in another process.
        """
        known = self.info()
        if known["status"] == "finished":
            raise RunError(f"{self.path}: this run is finished: {known['reason']} To go on from its weights, start a new run.")
        if known["status"] == "running" and known["process"] != os.getpid() and _is_training(known["process"]):
            raise RunError(f"{self.path}: this run is still running, as process {known['process']}. Stop it first, with Ctrl-C there.")


def _is_training(process: int) -> bool:
    """Whether a process of that number is alive and a Python one; numbers are used again by others."""
    import psutil

    try:
        return "python" in " ".join(psutil.Process(process).cmdline()).lower() and psutil.Process(process).status() != psutil.STATUS_ZOMBIE
    except psutil.Error:
        return False


def numbered(root: Path) -> list[tuple[int, Path]]:
    """The folders in a place that are named as runs are, with their numbers, in order."""
    if not root.is_dir():
        return []
    found = [(int(match[1]), path) for path in root.iterdir() if (match := _NAME.match(path.name)) and path.is_dir()]
    return sorted(found)
