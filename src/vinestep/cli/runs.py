"""Commands that look at runs and steer them."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from .shared import (
    RECORDS,
    RUNS,
    STEER,
    LedgerOption,
    OwnOption,
    RecordOption,
    app,
    console,
    explained,
    opened_runs,
    own_parts_of,
)

__all__: list[str] = []

RunArgument = Annotated[
    str,
    typer.Argument(
        metavar="RUN",
        help="Label, number or folder: barrels-7, 7, records/barrels-7.",
        show_default=False,
    ),
]
RunsArgument = Annotated[
    list[str],
    typer.Argument(metavar="RUN ...", help="Labels, numbers or folders.", show_default=False),
]


@app.command(rich_help_panel=RUNS)
def runs(
    name: Annotated[
        str, typer.Option("--name", metavar="PATTERN", help="Such as 'barrels*'.")
    ] = "",
    tag: Annotated[str, typer.Option("--tag", metavar="TAG")] = "",
    status: Annotated[
        str,
        typer.Option("--status", metavar="STATUS", help="running, finished, interrupted, failed."),
    ] = "",
    where: Annotated[
        list[str],
        typer.Option(
            "--where",
            metavar="CONDITION",
            help="On any setting, score or tag: 'optimiser.rate>0.01', 'validation_loss<0.4'.",
        ),
    ] = [],  # noqa: B006  # typer reads it, nobody writes to it
    text: Annotated[
        list[str],
        typer.Option(
            "--text", metavar="TEXT", help="That is in the label, tags, notes or settings."
        ),
    ] = [],  # noqa: B006
    sort: Annotated[
        str,
        typer.Option(
            "--sort", metavar="NAME", help="A column, setting or score; -NAME from high to low."
        ),
    ] = "",
    columns: Annotated[
        str,
        typer.Option(
            "--columns", metavar="NAMES", help="Settings and scores to show, with commas between."
        ),
    ] = "",
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
    as_csv: Annotated[bool, typer.Option("--csv", help="As CSV.")] = False,
    refresh: Annotated[bool, typer.Option("--refresh", help="Read every run folder anew.")] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """List the recorded runs: all, or those that meet conditions."""
    from .run_views import runs_view

    with explained():
        if not record.is_dir() and not ledger:
            console.print(f"No runs in {record}. Make one: vinestep demo", highlight=False)
            return
        found = opened_runs(record, ledger)
        if refresh:
            found.refresh(anew=True)
        wanted = [one.strip() for one in columns.split(",") if one.strip()]
        table = found.table(
            name=name or None,
            tag=tag or None,
            status=status or None,
            where=where,
            text=text,
            sort=sort or None,
            columns=wanted,
        )
        if as_json:
            typer.echo(table.to_json(orient="records", indent=1))
        elif as_csv:
            typer.echo(table.to_csv(index=False), nl=False)
        elif table.empty:
            what = "No run is so" if len(found) else f"No runs in {record}. Make one: vinestep demo"
            console.print(f"{what}, of {len(found)}." if len(found) else what, highlight=False)
        else:
            console.print(runs_view(table, wanted, console.width))


@app.command(rich_help_panel=RUNS)
def show(
    run: RunArgument,
    as_json: Annotated[
        bool, typer.Option("--json", help="All that is known of it, as JSON.")
    ] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Show a run: what it was asked, how it went, what its record says, its curve."""
    from .run_views import run_view

    with explained():
        found = opened_runs(record, ledger, [run])[run]
        if as_json:
            typer.echo(
                json.dumps(
                    found.as_dict()
                    | {"answers": [answer.as_dict() for answer in found.diagnose()]},
                    indent=1,
                    default=str,
                )
            )
            return
        for view in run_view(found, console.width):
            console.print(view, highlight=False)


@app.command(rich_help_panel=RUNS)
def compare(
    names: RunsArgument,
    quantity: Annotated[
        str, typer.Option("--figure", metavar="NAME", help="Whose curves are drawn together.")
    ] = "",
    out: Annotated[
        Path | None,
        typer.Option("--out", metavar="FILE.png", help="Draw the curves with their trends."),
    ] = None,
    decisions: Annotated[
        bool, typer.Option("--decisions", help="Let both models answer the same test examples.")
    ] = False,
    equal: Annotated[
        bool, typer.Option("--equal", help="They should be equal: where do they part?")
    ] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Hold runs against one another: the settings that differ, scores, time, curves."""
    from ..errors import RunError
    from ..runs import _comparison as comparing
    from ..runs._difference import difference
    from .run_views import comparison_view

    with explained():
        opened = opened_runs(record, ledger, names)
        chosen = [opened[name] for name in names]
        found = comparing.compare(chosen)
        quantity = quantity or (
            "validation_loss"
            if any("validation_loss" in run.scores.index for run in chosen)
            else "loss"
        )
        for view in comparison_view(found, quantity, console.width):
            console.print(view, highlight=False)
        console.print(str(difference(chosen, quantity)), highlight=False, soft_wrap=True)
        if (decisions or equal) and len(chosen) != 2:
            raise RunError("--decisions and --equal hold two runs against one another.")
        if decisions:
            from ..runs._paired_runs import prediction_lines

            for told in prediction_lines(*chosen, own=own_parts_of(own)):
                console.print(told, highlight=False, soft_wrap=True)
        if equal:
            parting = comparing.first_difference(*chosen)
            told = (
                str(parting)
                if parting is not None
                else "All figures that both recorded are equal, to the last bit."
            )
            console.print(told, highlight=False, soft_wrap=True)
        if out is not None:
            from .. import figures

            drawn = figures.save(figures.compared(found.curves(quantity), quantity=quantity), out)
            console.print(f"Drawn in {drawn}.", highlight=False)


@app.command(rich_help_panel=RUNS)
def follow(
    run: RunArgument,
    seconds: Annotated[float, typer.Option("--seconds", min=0.1, help="Between two looks.")] = 0.5,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Print what a run prints, from another window, until it ends."""
    with explained():
        found = opened_runs(record, ledger, [run])[run]
        printed, told = 0, -1
        while True:
            found = found.refresh()
            text = found.console
            if len(text) > printed:
                typer.echo(text[printed:], nl=False)
                printed = len(text)
            curves = found.series("epochs")
            for _, row in curves.iloc[
                max(told, 0) if told >= 0 else max(len(curves) - 1, 0) :
            ].iterrows():
                figures = "  ".join(
                    f"{name} {value:.4g}"
                    for name, value in row.items()
                    if name not in ("epoch", "step")
                )
                typer.echo(f"epoch {row['epoch']:.0f}/{found.epochs}  {figures}")
            told = len(curves)
            if found.status != "running":
                typer.echo(f"{found.label} {found.status}: {found.reason}")
                return
            time.sleep(seconds)


@app.command(rich_help_panel=RUNS)
def export(
    run: RunArgument,
    out: Annotated[
        Path,
        typer.Option(
            "--out", metavar="FOLDER", help="Made if it is not there.", show_default=False
        ),
    ],
    form: Annotated[
        str, typer.Option("--form", metavar="csv|json|parquet", help="Of the series.")
    ] = "csv",
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Write all that is known of a run into a folder: its series, files and facts."""
    from ..runs._export import export_run

    with explained():
        written = export_run(opened_runs(record, ledger, [run])[run], out, form)
        console.print(f"{len(written)} files written to {out}.", highlight=False, soft_wrap=True)


@app.command(rich_help_panel=RUNS)
def report(
    names: RunsArgument,
    out: Annotated[Path, typer.Option("--out", metavar="FILE.html")] = Path("report.html"),
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Write one HTML file on one or several runs, which needs no server and no network."""
    from ..runs._report import report as made
    from ..storage.run_folder import write_text

    with explained():
        opened = opened_runs(record, ledger, names)
        write_text(out, made([opened[name] for name in names]))
        console.print(f"Written to {out}.", highlight=False, soft_wrap=True)


def _ask(run: str, what: str, why: str, record: Path, ledger: str) -> None:
    with explained():
        found = opened_runs(record, ledger, [run])[run]
        found.ask(what, why)
        console.print(
            f"Asked {found.label} to {what}; it will after the present step.", highlight=False
        )


WhyArgument = Annotated[
    str, typer.Argument(metavar="[WHY]", help="For the record.", show_default=False)
]


@app.command(rich_help_panel=STEER)
def stop(
    run: RunArgument,
    why: WhyArgument = "",
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Let a run end after its present step, saved, to be resumed some other time."""
    _ask(run, "stop", why, record, ledger)


@app.command(rich_help_panel=STEER)
def finish(
    run: RunArgument,
    why: WhyArgument = "",
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Let a run end now as good enough: with its best state, scores and model."""
    _ask(run, "finish", why, record, ledger)


@app.command(rich_help_panel=STEER)
def note(
    run: RunArgument,
    text: Annotated[str, typer.Argument(metavar="TEXT", show_default=False)],
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Write a note into a run's record, with the time."""
    with explained():
        opened_runs(record, ledger, [run])[run].note(text)


@app.command(rich_help_panel=STEER)
def tag(
    run: RunArgument,
    tags: Annotated[
        list[str],
        typer.Argument(metavar="TAG ...", help="-TAG after -- removes one.", show_default=False),
    ],
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Add tags to a run, or remove them: vinestep tag 7 -- -old."""
    with explained():
        found = opened_runs(record, ledger, [run])[run]
        now = found.tag(
            [one for one in tags if not one.startswith("-")],
            [one[1:] for one in tags if one.startswith("-")],
        )
        console.print(f"{found.label}: {', '.join(now) or 'no tags'}.", highlight=False)


def _confirmed(runs: list[Any], question: str, yes: bool) -> list[Any]:
    """The runs, unless somebody who is asked says no."""
    listed = ", ".join(run.label for run in runs)
    if not yes and not typer.confirm(question.format(listed)):
        raise typer.Exit(1)
    return runs


@app.command(rich_help_panel=STEER)
def thin(
    names: RunsArgument,
    rows: Annotated[int, typer.Option("--rows", help="At most so many of each series.")] = 2000,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Make long series of ended runs shorter; asks first.

    Of equal stretches the first row is kept, and those in which the loss is lowest and highest;
    epochs and scores stay whole.
    """
    from ..runs._thinning import rows_text

    with explained():
        opened = opened_runs(record, ledger, names)
        question = f"Keep at most {rows:,} rows of each series of {{}}?"
        for run in _confirmed([opened[name] for name in names], question, yes):
            done = rows_text(run.thin(rows))
            console.print(f"{run.label}: {done or 'nothing to thin'}.", highlight=False)


@app.command(rich_help_panel=STEER)
def remove(
    names: RunsArgument,
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask.")] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Remove runs with all they recorded; asks first. Refuses running and needed ones."""
    with explained():
        opened = opened_runs(record, ledger, names)
        question = "Remove {}, with states and all?"
        for run in _confirmed([opened[name] for name in names], question, yes):
            run.remove()
            console.print(f"{run.label} removed.", highlight=False)
