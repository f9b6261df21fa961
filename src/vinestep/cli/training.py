"""Commands that train: demo, train, resume, search."""

from __future__ import annotations

import json
import os
from collections.abc import Sequence
from importlib.resources import as_file, files
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NoReturn, cast

import typer

from ..errors import RunError
from .shared import (
    BAD_INPUT,
    INTERRUPTED,
    RECORDS,
    TRAIN,
    LedgerOption,
    OwnOption,
    PlanArgument,
    RecordOption,
    SetOption,
    app,
    console,
    explained,
    own_parts_of,
)

if TYPE_CHECKING:
    from ..training.plans._planned_run import PlannedRun
    from ..training.run._results import Outcome
    from ..training.tuning._trials import How

__all__: list[str] = []

ProcessesOption = Annotated[
    int,
    typer.Option(
        "--processes", min=1, help="Train in so many processes, each with its part of each batch."
    ),
]
ClusterOption = Annotated[
    str,
    typer.Option(
        "--cluster",
        metavar="ADDRESS",
        help="Of a Dask scheduler, whose workers train in place of processes here.",
        show_default=False,
    ),
]
RestartsOption = Annotated[
    int,
    typer.Option("--restarts", min=0, help="How often to go on by itself after a process ended."),
]


@app.command(rich_help_panel=TRAIN)
def demo(record: RecordOption = RECORDS) -> None:
    """Train a network on made-up barrels of a cellar, and show what came of it."""
    import numpy as np

    from ..training.plans._plan import read_plan
    from ..training.plans._planned_run import PlannedRun

    with explained(), as_file(files("vinestep.demo") / "barrels.toml") as path:
        plan = read_plan(path)
        planned = PlannedRun(plan, path.parent)
        console.print(
            f"{len(planned.source)} made-up barrels, {np.size(planned.train[0][0])} features, "
            f"states {', '.join(planned.source.class_names)}. Training on {len(planned.train)}.",
            highlight=False,
        )
        _train(planned, record=record)


@app.command(rich_help_panel=TRAIN)
def train(
    plan: PlanArgument,
    record: RecordOption = RECORDS,
    settings: SetOption = [],  # noqa: B006  # typer reads it, nobody writes to it
    own: OwnOption = [],  # noqa: B006
    unrehearsed: Annotated[
        bool,
        typer.Option(
            "--unrehearsed", help="Begin without a look at what may go wrong, which takes a second."
        ),
    ] = False,
    ledger: LedgerOption = "",
    processes: ProcessesOption = 1,
    restarts: RestartsOption = 0,
) -> None:
    """Train as a plan says, in a new run folder; over several processes, if that is asked."""
    from ..training.plans._plan import read_plan
    from ..training.plans._planned_run import PlannedRun

    _use_ledger(ledger)
    if processes > 1 or restarts:
        asked = ["train", str(plan), "--record", str(record), *_repeated_option("--set", settings)]
        asked += [*_repeated_option("--with", own), *(["--unrehearsed"] if unrehearsed else [])]
        _on_ranks(asked, processes, restarts, own)
    with explained():
        _mute_other_ranks()
        parts = own_parts_of(own)
        planned = PlannedRun(read_plan(plan, settings=settings, own=parts), plan.parent, own=parts)
        if planned.loaded is not None:
            console.print(
                f"Weights of {planned.plan.start_from}: {planned.loaded}",
                highlight=False,
                markup=False,
                soft_wrap=True,
            )
        if not unrehearsed:
            for finding in planned.rehearse(quick=True).troubles:
                console.print(
                    str(finding), style="yellow", highlight=False, markup=False, soft_wrap=True
                )
        _train(planned, record=record)


@app.command(rich_help_panel=TRAIN)
def resume(
    run: Annotated[
        Path,
        typer.Argument(
            metavar="RUN",
            help="Folder of the run, such as records/barrels-7, or one of its states.",
            show_default=False,
        ),
    ],
    changed: Annotated[
        list[str],
        typer.Option(
            "--changed",
            metavar="NAME",
            help="A setting that is meant to differ from what the run began with, such as data or "
            "optimiser.rate; may be given again.",
        ),
    ] = [],  # noqa: B006
    settings: SetOption = [],  # noqa: B006
    own: OwnOption = [],  # noqa: B006
    ledger: LedgerOption = "",
    processes: ProcessesOption = 1,
    restarts: RestartsOption = 0,
) -> None:
    """Continue an interrupted run, or a named state, exactly as if it had never stopped.

    A finished run goes on if more is asked of it: --set epochs=90.
    """
    from ..storage.run_folder import RunFolder, run_of_state
    from ..training.plans._plan import read_plan
    from ..training.plans._planned_run import PlannedRun

    _use_ledger(ledger)
    if processes > 1 or restarts:
        asked = [
            "resume",
            str(run),
            *_repeated_option("--changed", changed),
            *_repeated_option("--set", settings),
        ]
        _on_ranks([*asked, *_repeated_option("--with", own)], processes, restarts, own)
    with explained():
        _mute_other_ranks()
        folder = RunFolder.open(run_of_state(run))
        if not settings:
            folder.check_resumable()
        parts = own_parts_of(own)
        plan = read_plan(folder.path / "plan.toml", settings=settings, own=parts)
        _train(PlannedRun(plan, folder.path, own=parts, resuming=True), resume=run, changed=changed)


@app.command(rich_help_panel=TRAIN)
def search(
    plan: PlanArgument,
    over: Annotated[
        list[str],
        typer.Option(
            "--over",
            metavar="NAME=VALUES",
            help="Values to try, 16,32,64, or a range, 1e-4..1e-1; a range of which both ends are "
            "whole "
            "numbers gives whole ones. May be given again.",
            show_default=False,
        ),
    ],
    how: Annotated[
        str,
        typer.Option(
            "--how",
            metavar="HOW",
            help="Which trials are made: grid, random, halving, quasi_random, gaussian_process.",
        ),
    ] = "random",
    trials: Annotated[
        int, typer.Option("--trials", min=1, help="How many are made, but of a grid.")
    ] = 12,
    epochs: Annotated[
        int, typer.Option("--epochs", min=0, help="Of a whole trial; 0 for the plan's.")
    ] = 0,
    by: Annotated[
        str, typer.Option("--by", metavar="FIGURE", help="Column of the curves that is judged.")
    ] = "validation_loss",
    processes: Annotated[
        int, typer.Option("--processes", min=1, help="How many trials run at once.")
    ] = 2,
    seed: Annotated[int, typer.Option("--seed", min=0)] = 0,
    record: RecordOption = Path("search"),
    own: OwnOption = [],  # noqa: B006  # typer reads it, nobody writes to it
    cluster: ClusterOption = "",
    ledger: LedgerOption = "",
) -> None:
    """Try a plan with other settings, several at once; given again, it goes on."""
    from ..training.tuning._search import search as run_search
    from .run_views import importance_view, trials_view

    _use_ledger(ledger)
    with explained():
        found = run_search(
            plan,
            _space(over),
            folder=record,
            how=_how(how),
            trials=trials,
            epochs=epochs or None,
            by=by,
            processes=processes,
            seed=seed,
            own=[str(path) for path in own],
            cluster=cluster,
        )
        console.print(trials_view(found.table(), f"Trials of {plan}, the best first"))
        mattered = found.importance()
        if len(mattered):
            console.print(importance_view(mattered))
        if found.best is not None:
            from ..figures._style import save

            drawn = save(found.figure(), record / "trials.png")
            console.print(
                f"Best: {found.best.words}. Each trial is a run in {record}; drawn in {drawn}.",
                highlight=False,
                soft_wrap=True,
            )


@app.command(rich_help_panel=TRAIN)
def cross_validate(
    plan: PlanArgument,
    folds: Annotated[int, typer.Option("--folds", min=2, help="Parts of each division.")] = 5,
    repeats: Annotated[
        int, typer.Option("--repeats", min=1, help="Divisions, each with another seed.")
    ] = 1,
    seeds: Annotated[
        int, typer.Option("--seeds", min=1, help="Trainings of each fold, from different seeds.")
    ] = 1,
    against: Annotated[
        Path | None,
        typer.Option(
            "--against",
            metavar="PLAN",
            help="Another plan, trained on the same folds and held against this one.",
        ),
    ] = None,
    by: Annotated[
        str, typer.Option("--by", metavar="SCORE", help="With --against: what is compared.")
    ] = "loss",
    seed: Annotated[int, typer.Option("--seed", min=0)] = 0,
    processes: Annotated[
        int, typer.Option("--processes", min=1, help="How many folds are trained at once.")
    ] = 1,
    settings: SetOption = [],  # noqa: B006
    record: RecordOption = Path("folds"),
    own: OwnOption = [],  # noqa: B006
    cluster: ClusterOption = "",
    ledger: LedgerOption = "",
) -> None:
    """Train on all folds but one and score on that one, each in turn; given again, it goes on."""
    from ..training.tuning._cross_validation import cross_validate as run_folds
    from .run_views import folds_view

    options: dict[str, Any] = {
        "folds": folds,
        "repeats": repeats,
        "seeds": seeds,
        "seed": seed,
        "processes": processes,
        "settings": settings,
        "record": record,
        "cluster": cluster,
    }
    _use_ledger(ledger)
    with explained():
        options["own"] = own_parts_of(own)
        found = run_folds(plan, **options)
        for view in folds_view(found, f"Held-out folds of {plan}"):
            console.print(view)
        if against is None:
            return
        other = run_folds(against, **options, name=f"{against.stem}-against")
        for view in folds_view(other, f"Held-out folds of {against}"):
            console.print(view)
        console.print(
            f"First {plan}, second {against}. {found.difference(other, by)}",
            highlight=False,
            soft_wrap=True,
        )


def _how(text: str) -> How:
    from ..errors import SettingError
    from ..training.tuning._trials import HOW

    if text not in HOW:
        raise SettingError(f"--how {text}: say {', '.join(HOW)}.")
    return cast("How", text)


def _space(over: Sequence[str]) -> dict[str, Any]:
    from ..errors import SettingError

    space: dict[str, Any] = {}
    for text in over:
        name, found, values = text.partition("=")
        if not found or not name or not values:
            raise SettingError(
                f"--over {text}: write a setting, =, and its values: optimiser.rate=1e-4..1e-1 or "
                "layers.0.width=16,32."
            )
        low, is_range, high = values.partition("..")
        try:
            if is_range:
                ends = [float(low), float(high)]
                whole = all(
                    end == int(end) and "." not in piece and "e" not in piece
                    for end, piece in zip(ends, (low, high), strict=True)
                )
                space[name] = {
                    "low": ends[0],
                    "high": ends[1],
                    "log": ends[0] > 0 and ends[1] / ends[0] >= 20,
                    "whole": whole,
                }
            else:
                space[name] = [_value(piece) for piece in values.split(",")]
        except ValueError:
            raise SettingError(
                f"--over {text}: {values!r} is no range of numbers such as 1e-4..1e-1."
            ) from None
    return space


def _value(text: str) -> Any:
    try:
        return json.loads(text)
    except ValueError:
        return text


def _use_ledger(url: str) -> None:
    """What runs record is handed on to a ledger elsewhere by a process of its own, which finds its
    address there.
    """
    if url:
        os.environ["VINESTEP_LEDGER"] = url


def _repeated_option(option: str, values: Sequence[Any]) -> list[str]:
    """An option of the command line, once for each value."""
    return [word for value in values for word in (option, str(value))]


def _mute_other_ranks() -> None:
    """Of several ranks the first one speaks."""
    from ..distributed._current import communicator

    console.quiet = communicator().rank > 0


def _on_ranks(asked: Sequence[str], processes: int, restarts: int, own: Sequence[Path]) -> NoReturn:
    """Do it on ranks that are started for it; after a failure go on from the newest state."""
    from ..distributed._launch import launch

    with explained():
        for left in range(restarts, -1, -1):
            done = launch(asked, processes)
            if done.code in (0, BAD_INPUT, INTERRUPTED) or done.signal:
                raise typer.Exit(INTERRUPTED if done.signal else done.code)
            if done.folder is None:
                raise RunError(f"The {processes} processes ended with code {done.code}.")
            told = f"A process of the run ended (code {done.code}); its states are sound."
            if left:
                console.print(f"{told} It goes on; {left - 1} restarts are left.", highlight=False)
            asked = ["resume", str(done.folder), *_repeated_option("--with", own)]
        raise RunError(
            f"{told} To continue: vinestep resume {done.folder} --processes {processes}."
        )


def _train(
    planned: PlannedRun,
    *,
    record: Path | None = None,
    resume: Path | None = None,
    changed: Sequence[str] = (),
) -> None:
    from ..distributed._current import communicator
    from ..training.observers._progress import Progress
    from ..training.run._status import Status

    outcome = planned.run(
        record=record, resume=resume, changed=changed, observers=[Progress(console)]
    )
    if communicator().rank == 0:
        _show(planned, outcome)
    elif planned.training.network.divides_layers and outcome.status is not Status.INTERRUPTED:
        planned.training.model("last")  # all stages give the first what they have
    elif outcome.status is Status.INTERRUPTED:
        raise typer.Exit(INTERRUPTED)


def _show(planned: PlannedRun, outcome: Outcome) -> None:
    from ..training.run._run_metadata import count_test_scoring, write_assessment
    from ..training.run._status import Status
    from .views import (
        confusion_view,
        decisions,
        epoch_of,
        files_view,
        scores_view,
    )

    console.print(outcome.reason, highlight=False, soft_wrap=True)
    if outcome.status is Status.INTERRUPTED:
        raise typer.Exit(INTERRUPTED)
    console.print()
    last = planned.training.model("last")
    best = planned.best_model(outcome)
    chosen = best or last
    assert outcome.store is not None
    count_test_scoring(outcome.store)
    same = epoch_of(chosen) == epoch_of(last)
    state = "best and last" if same and best is not None else "last" if best is None else "best"
    assessed = planned.assess(chosen)
    console.print(scores_view(assessed, f"Scores of the {state} state, {epoch_of(chosen)}"))
    if not same:
        console.print(
            scores_view(planned.assess(last), f"Scores of the last state, {epoch_of(last)}")
        )
    for name, actual, predicted, classes in decisions(
        chosen, planned.scored_batches(planned.test), planned.source.class_names
    ):
        console.print(confusion_view(actual, predicted, classes, of=name))
    assert outcome.folder is not None
    write_assessment(outcome.store, assessed)
    console.print(files_view(outcome.folder))
