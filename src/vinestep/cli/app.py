"""Commands of `vinestep`."""

from __future__ import annotations

import errno
import logging
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from importlib.resources import as_file, files
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.console import Console

from ..errors import VineStepError

if TYPE_CHECKING:
    from ..training.loop import Outcome
    from ..training.plans import PlannedRun

__all__ = ["app", "main"]

app = typer.Typer(
    help="Train layered networks on NumPy arrays, record what happens, and continue where it stopped.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
console = Console()
BAD_INPUT = 2
REFUSALS_OF_THE_SYSTEM = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM, errno.EIO)
INTERRUPTED = 130

RecordOption = Annotated[Path, typer.Option("--record", metavar="FOLDER", help="Where run folders are made.")]


@contextmanager
def _explained() -> Iterator[None]:
    """Refusals of the library are told in words and end with exit code 2; anything else is a bug and keeps its traceback."""
    try:
        yield
    except VineStepError as error:
        _refuse(str(error))
        raise typer.Exit(BAD_INPUT) from error
    except OSError as error:
        if error.errno not in REFUSALS_OF_THE_SYSTEM:
            raise
        _refuse(f"{error.filename or 'The disk'}: {error.strerror}.")
        raise typer.Exit(BAD_INPUT) from error


def _refuse(text: str) -> None:
    Console(stderr=True).print(f"vinestep: {text}", style="red", highlight=False, markup=False, soft_wrap=True)


@app.command()
def demo(record: RecordOption = Path("runs")) -> None:
    """Train a network on made-up barrels of a cellar, and show what came of it."""
    from ..training.plans import PlannedRun, read_plan

    with _explained(), as_file(files("vinestep.demo") / "barrels.toml") as path:
        plan = read_plan(path)
        planned = PlannedRun(plan, path.parent)
        console.print(
            f"{len(planned.table)} made-up barrels, {len(planned.table.feature_names)} features, "
            f"states {', '.join(planned.table.class_names)}. Training on {len(planned.train)}.",
            highlight=False,
        )
        _train(planned, record=record)


@app.command()
def train(
    plan: Annotated[Path, typer.Argument(metavar="PLAN.toml", help="What to do; the demo's plan is a model of one.", show_default=False)],
    record: RecordOption = Path("runs"),
) -> None:
    """Train as a plan says, in a new run folder."""
    from ..training.plans import PlannedRun, read_plan

    with _explained():
        _train(PlannedRun(read_plan(plan), plan.parent), record=record)


@app.command()
def resume(
    run: Annotated[Path, typer.Argument(metavar="RUN", help="Folder of the run, such as runs/0007-barrels.", show_default=False)],
    changed: Annotated[
        list[str],
        typer.Option(
            "--changed",
            metavar="NAME",
            help="A setting that is meant to differ from what the run began with, such as data or optimiser.rate; may be given again.",
        ),
    ] = [],  # noqa: B006  # typer reads it, nobody writes to it
) -> None:
    """Continue an interrupted run from its newest sound checkpoint, exactly as if it had never stopped."""
    from ..training.folders import RunFolder
    from ..training.plans import PlannedRun, read_plan

    with _explained():
        folder = RunFolder.open(run)
        folder.check_resumable()
        plan = read_plan(folder.path / "plan.toml")
        _train(PlannedRun(plan, folder.path), folder=folder.path, changed=changed)


@app.command()
def runs(record: RecordOption = Path("runs")) -> None:
    """List the recorded runs."""
    from ..runs import runs_table
    from .views import runs_view

    table = runs_table(record)
    if table.empty:
        console.print(f"No runs in {record}. Make one: vinestep demo", highlight=False)
        return
    console.print(runs_view(table))


def _train(planned: PlannedRun, *, record: Path | None = None, folder: Path | None = None, changed: Sequence[str] = ()) -> None:
    from ..training.observers import Progress

    outcome = planned.run(record=record, resume=folder, changed=changed, observers=[Progress(console)])
    _show(planned, outcome)


def _show(planned: PlannedRun, outcome: Outcome) -> None:
    from ..training.status import Status
    from .views import confusion_view, files_view, scores_view

    console.print(outcome.reason, highlight=False, soft_wrap=True)
    if outcome.status is Status.INTERRUPTED:
        raise typer.Exit(INTERRUPTED)
    console.print()
    console.print(scores_view(planned.scores(), {"training": planned.train, "validation": planned.validation, "test": planned.test}))
    if planned.table.class_names:
        decided = planned.training.predict(planned.test)["decided"].tolist()
        truth = [planned.table.class_names[i] for i in planned.test.targets]
        console.print(confusion_view(truth, decided, planned.table.class_names))
    assert outcome.folder is not None
    console.print(files_view(outcome.folder))


def main() -> None:
    """Entry point of the command `vinestep`."""
    logging.basicConfig(stream=sys.stderr, format="vinestep: %(message)s")
    app(prog_name="vinestep")
