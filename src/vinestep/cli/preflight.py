"""Commands that look before training: peek, rehearse, kinds."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.markup import escape

from .shared import (
    LOOK,
    OwnOption,
    PlanArgument,
    SetOption,
    app,
    console,
    explained,
    own_parts_of,
)

__all__: list[str] = []


@app.command(rich_help_panel=LOOK)
def peek(
    what: Annotated[
        Path,
        typer.Argument(
            metavar="FILE_OR_PLAN",
            help="A plan, a CSV or Parquet file, an .npz file, or a folder of pictures, one "
            "subfolder a class.",
            show_default=False,
        ),
    ],
    target: Annotated[
        str,
        typer.Option("--target", metavar="COLUMN", help="Of a table: the column to be learned."),
    ] = "",
    examples: Annotated[
        int, typer.Option("--examples", metavar="N", min=0, help="How many examples are shown.")
    ] = 5,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Look at data before training: fields, ranges, gaps, examples, what is suspicious."""
    from .peek_sources import looks_of

    with explained():
        for look in looks_of(what, target, examples, own_parts_of(own)):
            console.print(look, highlight=False)


@app.command(rich_help_panel=LOOK)
def rehearse(plan: PlanArgument, settings: SetOption = [], own: OwnOption = []) -> None:  # noqa: B006
    """Look in seconds for what would waste hours: wrong data, shapes, gradients, rates.

    Ends with exit code 1 if something is wrong.
    """
    from ..training.plans._plan import read_plan
    from ..training.plans._planned_run import PlannedRun
    from .views import findings_view

    with explained():
        parts = own_parts_of(own)
        planned = PlannedRun(read_plan(plan, settings=settings, own=parts), plan.parent, own=parts)
        with console.status("Rehearsing") as status:
            found = planned.rehearse(
                progress=lambda subject: status.update(f"Rehearsing: {escape(subject)}")
            )
        console.print(findings_view(found.findings, f"Rehearsal of {plan}, {found.seconds:.1f} s"))
        if found.verdict == "wrong":
            raise typer.Exit(1)


@app.command(rich_help_panel=LOOK)
def kinds(
    kind: Annotated[
        str,
        typer.Argument(
            metavar="[KIND]",
            help="A kind, or a family such as layer, to be told more of.",
            show_default=False,
        ),
    ] = "",
) -> None:
    """List what a plan can name, or the settings of one kind with their defaults and meanings."""
    from ..parts._registry import kinds as all_kinds
    from .views import kind_view, kinds_view

    with explained():
        every = all_kinds()
        families = sorted({each.family for each in every})
        if not kind or kind in families:
            console.print(kinds_view([each for each in every if kind in ("", each.family)]))
            return
        named = [each for each in every if kind in (each.name, f"{each.family}.{each.name}")]
        if not named:
            from .._public_names import did_you_mean
            from ..errors import PartError

            raise PartError(
                f"There is no kind {kind!r}. "
                f"{did_you_mean(kind, [each.name for each in every] + families)}"
            )
        for each in named:
            console.print(kind_view(each))
