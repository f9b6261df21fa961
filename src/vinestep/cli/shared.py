"""What the commands share: the application, the console, options, and how refusals are told."""

from __future__ import annotations

import errno
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console

from ..errors import PeerError, VineStepError

__all__ = [
    "BAD_INPUT",
    "INTERRUPTED",
    "LOOK",
    "MODELS",
    "RECORDS",
    "RUNS",
    "STEER",
    "TRAIN",
    "LedgerOption",
    "ModelArgument",
    "OwnOption",
    "PlanArgument",
    "RecordOption",
    "RowsArgument",
    "SetOption",
    "app",
    "console",
    "explained",
    "opened_runs",
    "own_parts_of",
]

app = typer.Typer(
    help="Train layered networks on NumPy arrays, record what happens, continue where it stopped, "
    "and hand on what was trained.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
console = Console()
BAD_INPUT = 2
REFUSALS_OF_THE_SYSTEM = (
    errno.ENOSPC,
    errno.EDQUOT,
    errno.EROFS,
    errno.EACCES,
    errno.EPERM,
    errno.EIO,
    errno.ENAMETOOLONG,
    errno.ELOOP,
    errno.ENOTDIR,
    errno.EISDIR,
    errno.EINVAL,
)
INTERRUPTED = 130
PASSWORD = re.compile(r"(://[^/\s:@]{1,200}:)[^@\s]{1,200}@")
LONGEST = 300  # characters of a path that are told
RECORDS = Path("records")
LOOK, TRAIN, RUNS = "Look at data, before training", "Train", "Look at runs"
STEER, MODELS = "Steer, name and clear away runs", "Models"

RecordOption = Annotated[
    Path, typer.Option("--record", metavar="FOLDER", help="Where run folders are made.")
]
OwnOption = Annotated[
    list[Path],
    typer.Option(
        "--with",
        metavar="FILE.py",
        help="Parts of your own: a Python file that is run; may be given again.",
    ),
]
SetOption = Annotated[
    list[str],
    typer.Option(
        "--set",
        metavar="NAME=VALUE",
        help="What is to differ from the plan, such as optimiser.rate=0.01 or layers.0.width=64.",
    ),
]
PlanArgument = Annotated[
    Path,
    typer.Argument(
        metavar="PLAN.toml",
        help="What to do; the demo's plan is a model of one.",
        show_default=False,
    ),
]
LedgerOption = Annotated[
    str,
    typer.Option(
        "--ledger",
        metavar="URL",
        envvar="VINESTEP_LEDGER",
        help="Where all runs are listed, "
        "such as postgresql://host/name; by default "
        "a file among the run folders.",
        show_default=False,
        show_envvar=False,
    ),
]
ModelArgument = Annotated[
    Path,
    typer.Argument(
        metavar="MODEL",
        help="A model file, such as barrels.vine, or a state of a run.",
        show_default=False,
    ),
]
RowsArgument = Annotated[
    Path,
    typer.Argument(
        metavar="ROWS",
        help="A CSV or Parquet file with the columns of the training data; or a file or folder of "
        "pictures or texts.",
        show_default=False,
    ),
]


@contextmanager
def explained() -> Iterator[None]:
    """Refusals of the library are told in words and end with exit code 2; anything else is a bug
    and keeps its traceback.
    """
    try:
        yield
    except VineStepError as error:
        if not _is_reported_elsewhere(error):
            _refuse(str(error))
        raise typer.Exit(BAD_INPUT) from error
    except OSError as error:
        if error.errno not in REFUSALS_OF_THE_SYSTEM:
            raise
        place = str(error.filename or "The disk")
        _refuse(f"{place if len(place) <= LONGEST else place[:LONGEST] + '...'}: {error.strerror}.")
        raise typer.Exit(BAD_INPUT) from error


def _is_reported_elsewhere(error: VineStepError) -> bool:
    """Whether another rank of the run says it."""
    from ..distributed._current import communicator

    comm = communicator()
    if comm.size == 1:
        return False
    if not getattr(error, "of_all_ranks", False):
        comm.fail(error)
        return comm.rank > 0 and comm.first_failed
    return comm.rank > 0 or (isinstance(error, PeerError) and not comm.failed)


def _refuse(text: str) -> None:
    told = PASSWORD.sub(r"\1***@", text)
    Console(stderr=True).print(
        f"vinestep: {told}", style="red", highlight=False, markup=False, soft_wrap=True
    )


def own_parts_of(paths: Sequence[Path]) -> list[Any]:
    """The parts of one's own in Python files."""
    from ..training.plans._overrides import own_parts_of as of_files

    return of_files(paths)


def opened_runs(record: Path, ledger: str = "", runs: Sequence[str] = ()) -> Any:
    """The runs of a folder and its ledger; what a run's name says of its folder counts for more."""
    from ..runs._query import open_runs as open_runs

    place = record
    for run in runs:
        if (Path(run) / "run.json").is_file():
            place = Path(run).resolve().parent
    return (
        open_runs(place, ledger=ledger or None)
        if place.is_dir() or not ledger
        else open_runs(ledger)
    )
