"""Commands of `vinestep`."""

from __future__ import annotations

import errno
import logging
import sys
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from importlib.resources import as_file, files
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer
from rich.console import Console

from ..errors import VineStepError

if TYPE_CHECKING:
    from ..training.planned import PlannedRun
    from ..training.records import Outcome

__all__ = ["app", "main"]

app = typer.Typer(
    help="Train layered networks on NumPy arrays, record what happens, continue where it stopped, and hand on what was trained.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
console = Console()
BAD_INPUT = 2
REFUSALS_OF_THE_SYSTEM = (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EACCES, errno.EPERM, errno.EIO)
INTERRUPTED = 130
RECORDS = Path("records")

RecordOption = Annotated[Path, typer.Option("--record", metavar="FOLDER", help="Where run folders are made.")]
OwnOption = Annotated[
    list[Path], typer.Option("--with", metavar="FILE.py", help="Parts of your own: a Python file that is run; may be given again.")
]
SetOption = Annotated[
    list[str],
    typer.Option("--set", metavar="NAME=VALUE", help="What is to differ from the plan, such as optimiser.rate=0.01 or layers.0.width=64."),
]
PlanArgument = Annotated[
    Path, typer.Argument(metavar="PLAN.toml", help="What to do; the demo's plan is a model of one.", show_default=False)
]
ModelArgument = Annotated[
    Path, typer.Argument(metavar="MODEL", help="A model file, such as barrels.vine, or a state of a run.", show_default=False)
]
RowsArgument = Annotated[Path, typer.Argument(metavar="ROWS.csv", help="Rows with the columns of the training data.", show_default=False)]


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


def _own(paths: Sequence[Path]) -> list[Any]:
    from ..training.overrides import own_parts

    return [part for path in paths for part in own_parts(path)]


@app.command()
def demo(record: RecordOption = RECORDS) -> None:
    """Train a network on made-up barrels of a cellar, and show what came of it."""
    import numpy as np

    from ..training.planned import PlannedRun
    from ..training.plans import read_plan

    with _explained(), as_file(files("vinestep.demo") / "barrels.toml") as path:
        plan = read_plan(path)
        planned = PlannedRun(plan, path.parent)
        console.print(
            f"{len(planned.source)} made-up barrels, {np.size(planned.train[0][0])} features, "
            f"states {', '.join(planned.source.class_names)}. Training on {len(planned.train)}.",
            highlight=False,
        )
        _train(planned, record=record)


@app.command()
def train(
    plan: PlanArgument,
    record: RecordOption = RECORDS,
    settings: SetOption = [],  # noqa: B006  # typer reads it, nobody writes to it
    own: OwnOption = [],  # noqa: B006
    unrehearsed: Annotated[
        bool, typer.Option("--unrehearsed", help="Begin without a look at what may go wrong, which takes a second.")
    ] = False,
) -> None:
    """Train as a plan says, in a new run folder."""
    from ..training.planned import PlannedRun
    from ..training.plans import read_plan

    with _explained():
        parts = _own(own)
        planned = PlannedRun(read_plan(plan, settings=settings, own=parts), plan.parent, own=parts)
        if planned.loaded is not None:
            console.print(f"Weights of {planned.plan.start_from}: {planned.loaded}", highlight=False, markup=False, soft_wrap=True)
        if not unrehearsed:
            for finding in planned.rehearse(quick=True).troubles:
                console.print(str(finding), style="yellow", highlight=False, markup=False, soft_wrap=True)
        _train(planned, record=record)


@app.command()
def rehearse(plan: PlanArgument, settings: SetOption = [], own: OwnOption = []) -> None:  # noqa: B006
    """Look in seconds for what would waste hours: wrong data, shapes, gradients, rates. Nothing is recorded.

    Ends with exit code 1 if something is wrong.
    """
    from ..training.planned import PlannedRun
    from ..training.plans import read_plan
    from .views import findings_view

    with _explained():
        parts = _own(own)
        found = PlannedRun(read_plan(plan, settings=settings, own=parts), plan.parent, own=parts).rehearse()
        console.print(findings_view(found.findings, f"Rehearsal of {plan}, {found.seconds:.1f} s"))
        if found.verdict == "wrong":
            raise typer.Exit(1)


@app.command()
def resume(
    run: Annotated[
        Path, typer.Argument(metavar="RUN", help="Folder of the run, such as records/barrels-7, or one of its states.", show_default=False)
    ],
    changed: Annotated[
        list[str],
        typer.Option(
            "--changed",
            metavar="NAME",
            help="A setting that is meant to differ from what the run began with, such as data or optimiser.rate; may be given again.",
        ),
    ] = [],  # noqa: B006
    settings: SetOption = [],  # noqa: B006
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Continue an interrupted run from its newest sound state, exactly as if it had never stopped; or from a state that is named.

    A finished run goes on if more is asked of it: --set epochs=90.
    """
    from ..runs.folders import RunFolder, run_of_state
    from ..training.planned import PlannedRun
    from ..training.plans import read_plan

    with _explained():
        folder = RunFolder.open(run_of_state(run))
        if not settings:
            folder.check_resumable()
        parts = _own(own)
        plan = read_plan(folder.path / "plan.toml", settings=settings, own=parts)
        _train(PlannedRun(plan, folder.path, own=parts, resuming=True), resume=run, changed=changed)


@app.command()
def peek(
    what: Annotated[
        Path,
        typer.Argument(
            metavar="FILE_OR_PLAN",
            help="A plan, a CSV or Parquet file, an .npz file, or a folder of pictures, one subfolder a class.",
            show_default=False,
        ),
    ],
    target: Annotated[str, typer.Option("--target", metavar="COLUMN", help="Of a table: the column to be learned.")] = "",
    examples: Annotated[int, typer.Option("--examples", metavar="N", min=0, help="How many examples are shown.")] = 5,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Look at data before training: fields, ranges, gaps, classes, a few examples, and what is suspicious."""
    from .peeked import looks_of

    with _explained():
        for look in looks_of(what, target, examples, _own(own)):
            console.print(look, highlight=False)


@app.command()
def runs(record: RecordOption = RECORDS) -> None:
    """List the recorded runs."""
    from ..runs import runs_table
    from .views import runs_view

    table = runs_table(record)
    if table.empty:
        console.print(f"No runs in {record}. Make one: vinestep demo", highlight=False)
        return
    console.print(runs_view(table))


@app.command()
def ask(
    run: Annotated[Path, typer.Argument(metavar="RUN", help="Folder of a run that is running.", show_default=False)],
    what: Annotated[
        str, typer.Argument(metavar="stop|finish|note", help="Stop to go on later; finish now; or write a note down.", show_default=False)
    ],
    text: Annotated[str, typer.Argument(metavar="[TEXT]", help="The note, or why.", show_default=False)] = "",
) -> None:
    """Ask a run in another window to stop, to finish as it is, or to write a note into its record."""
    from ..runs.folders import RunFolder
    from ..training.store import Request

    with _explained():
        RunFolder.open(run).ask(Request(what, text))
        console.print(f"Asked {run} to {what}; it will after the present step.", highlight=False)


@app.command()
def kinds(
    kind: Annotated[
        str,
        typer.Argument(metavar="[KIND]", help="A kind, or a family such as layer, to be told more of.", show_default=False),
    ] = "",
) -> None:
    """List what a plan can name, or the settings of one kind with their defaults and meanings."""
    from ..parts.registry import kinds as all_kinds
    from .views import kind_view, kinds_view

    with _explained():
        every = all_kinds()
        families = sorted({each.family for each in every})
        if not kind or kind in families:
            console.print(kinds_view([each for each in every if kind in ("", each.family)]))
            return
        named = [each for each in every if kind in (each.name, f"{each.family}.{each.name}")]
        if not named:
            from ..errors import PartError, did_you_mean

            raise PartError(f"There is no kind {kind!r}. {did_you_mean(kind, [each.name for each in every] + families)}")
        for each in named:
            console.print(kind_view(each))


@app.command()
def predict(
    model: ModelArgument,
    rows: RowsArgument,
    out: Annotated[Path | None, typer.Option("--out", metavar="FILE.csv", help="Where to write; else the first rows are shown.")] = None,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Predict for raw rows, with the predictions beside them."""
    from ..model import open_model
    from .views import predictions_view

    with _explained():
        predicted = open_model(model, own=_own(own)).predict(rows)
        if out is None:
            console.print(predictions_view(predicted, str(rows), console.width))
            return
        from ..runs.folders import write_text

        write_text(out, predicted.to_csv(index=False))
        console.print(f"{len(predicted)} rows with their predictions written to {out}.", highlight=False, soft_wrap=True)


@app.command()
def assess(model: ModelArgument, rows: RowsArgument, own: OwnOption = []) -> None:  # noqa: B006
    """Score a model on rows that have their target."""
    from ..model import open_model
    from .views import assessment_view

    with _explained():
        console.print(assessment_view(open_model(model, own=_own(own)).assess(rows), str(rows)))


@app.command()
def inspect(model: ModelArgument, own: OwnOption = []) -> None:  # noqa: B006
    """Show what a model is, what it takes, and where it came from."""
    from ..model import open_model
    from .views import model_view

    with _explained():
        found = open_model(model, own=_own(own))
        for view in model_view(found, str(model)):
            console.print(view)


def _train(planned: PlannedRun, *, record: Path | None = None, resume: Path | None = None, changed: Sequence[str] = ()) -> None:
    from ..training.observers import Progress

    outcome = planned.run(record=record, resume=resume, changed=changed, observers=[Progress(console)])
    _show(planned, outcome)


def _show(planned: PlannedRun, outcome: Outcome) -> None:
    from ..training.asked import note_test_scored
    from ..training.looking import outputs_and_targets
    from ..training.status import Status
    from .views import confusion_view, epoch_of, files_view, scores_view

    console.print(outcome.reason, highlight=False, soft_wrap=True)
    if outcome.status is Status.INTERRUPTED:
        raise typer.Exit(INTERRUPTED)
    console.print()
    last = planned.training.model()
    best = planned.best_model(outcome)
    chosen = best or last
    assert outcome.store is not None
    note_test_scored(outcome.store)
    same = epoch_of(chosen) == epoch_of(last)
    state = "best and last" if same and best is not None else "last" if best is None else "best"
    console.print(scores_view(planned.assess(chosen), f"Scores of the {state} state, {epoch_of(chosen)}"))
    if not same:
        console.print(scores_view(planned.assess(last), f"Scores of the last state, {epoch_of(last)}"))
    names = planned.source.class_names
    if names:
        outputs, targets = outputs_and_targets(chosen.network, planned.scored_batches(planned.test))
        predicted = chosen.readable(outputs)["predicted"].map(str).tolist()
        console.print(confusion_view([names[i] for i in targets], predicted, names))
    assert outcome.folder is not None
    chosen.save(outcome.folder / f"{planned.plan.name}.vine")
    console.print(files_view(outcome.folder))


def main() -> None:
    """Entry point of the command `vinestep`."""
    logging.basicConfig(stream=sys.stderr, format="vinestep: %(message)s")
    app(prog_name="vinestep")
