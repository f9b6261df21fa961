"""Commands for models: keep, models, predict, generate, sample, assess, calibrate, attribute,
inspect.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from ..errors import ModelError
from .shared import (
    MODELS,
    RECORDS,
    LedgerOption,
    ModelArgument,
    OwnOption,
    RecordOption,
    RowsArgument,
    app,
    console,
    explained,
    opened_runs,
    own_parts_of,
)

if TYPE_CHECKING:
    from ..generation._generate import Generated

__all__: list[str] = []


@app.command(rich_help_panel=MODELS)
def keep(
    run: Annotated[
        str, typer.Argument(metavar="RUN", help="Such as barrels-7.", show_default=False)
    ],
    name: Annotated[
        str,
        typer.Option(
            "--as",
            metavar="NAME",
            help="Name in the catalogue; its version rises.",
            show_default=False,
        ),
    ],
    state: Annotated[
        str, typer.Option("--state", metavar="STATE", help="By default the best one.")
    ] = "",
    note: Annotated[str, typer.Option("--note", metavar="TEXT")] = "",
    use: Annotated[bool, typer.Option("--use", help="Mark it as the version in use.")] = False,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
    own: OwnOption = [],  # noqa: B006  # typer reads it, nobody writes to it
) -> None:
    """Put the best model of a run into the catalogue, which outlives the run."""
    from .. import catalogue

    with explained():
        runs = opened_runs(record, ledger, [run])
        entry = catalogue.keep(
            runs[run], name, state=state or None, note=note, own=own_parts_of(own)
        )
        if use:
            entry = catalogue.mark_in_use(runs, entry.name, entry.version)
        words = (
            "kept, and in use from now on"
            if use
            else f"kept. To mark it as the one in use: vinestep models {name} --use {entry.version}"
        )
        console.print(f"{entry.label}: {words}.", highlight=False, soft_wrap=True)


@app.command(rich_help_panel=MODELS)
def models(
    name: Annotated[
        str,
        typer.Argument(metavar="[NAME]", help="A model to be told more of.", show_default=False),
    ] = "",
    use: Annotated[
        str, typer.Option("--use", metavar="VERSION", help="Mark this version as the one in use.")
    ] = "",
    version: Annotated[
        str,
        typer.Option("--version", metavar="VERSION", help="With --out: by default the one in use."),
    ] = "",
    out: Annotated[
        Path | None,
        typer.Option("--out", metavar="FILE.vine", help="Write the model's file, to be handed on."),
    ] = None,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """List the catalogue of kept models; mark the version in use; write one out."""
    from .. import catalogue
    from ..errors import RunError
    from .run_views import catalogue_view, entry_view

    with explained():
        if (use or out is not None) and not name:
            raise RunError("Say which model: vinestep models NAME --use 3.")
        runs = opened_runs(record, ledger)
        if use:
            catalogue.mark_in_use(runs, name, use)
        if out is not None:
            content = catalogue.content(runs, name, version or None)
            temporary = out.with_name(f".{out.name}.part")
            temporary.write_bytes(content)
            temporary.replace(out)
            console.print(
                f"{catalogue.entry(runs, name, version or None).label} written to {out}.",
                highlight=False,
                soft_wrap=True,
            )
            return
        entries = [entry for entry in catalogue.entries(runs) if not name or entry.name == name]
        if not entries:
            if name:
                catalogue.entry(runs, name)
            console.print(
                "The catalogue is empty. Keep a model: vinestep keep barrels-7 --as barrels",
                highlight=False,
            )
            return
        console.print(catalogue_view(entries))
        if name:
            console.print(entry_view(catalogue.entry(runs, name)))


@app.command(rich_help_panel=MODELS)
def predict(
    model: ModelArgument,
    rows: RowsArgument,
    out: Annotated[
        Path | None,
        typer.Option(
            "--out", metavar="FILE.csv", help="Where to write; else the first rows are shown."
        ),
    ] = None,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Predict for raw rows, with the predictions beside them."""
    from .._model import open_model
    from .views import predictions_view

    with explained():
        predicted = open_model(model, own=own_parts_of(own)).predict(rows)
        if out is None:
            console.print(predictions_view(predicted, str(rows), console.width))
            return
        from ..storage.run_folder import write_text

        write_text(out, predicted.to_csv(index=False))
        console.print(
            f"{len(predicted)} rows with their predictions written to {out}.",
            highlight=False,
            soft_wrap=True,
        )


@app.command(rich_help_panel=MODELS)
def generate(
    model: ModelArgument,
    prompts: Annotated[
        list[str],
        typer.Argument(
            metavar="PROMPT",
            help="Texts, or picture files of a model that reads them.",
            show_default=False,
        ),
    ] = [],  # noqa: B006
    rows: Annotated[
        Path | None,
        typer.Option(
            "--rows", metavar="FILE.csv", help="Fields of the model's template, a request a row."
        ),
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option("--out", metavar="FILE.csv", help="Where to write; else it is shown."),
    ] = None,
    most: Annotated[int, typer.Option("--most", metavar="TOKENS", help="Longest text.")] = 100,
    temperature: Annotated[
        float,
        typer.Option("--temperature", help="0 for the likeliest token; above, tokens are drawn."),
    ] = 0.0,
    top_k: Annotated[
        int | None, typer.Option("--top-k", help="Draw from the k likeliest only.")
    ] = None,
    nucleus: Annotated[
        float | None,
        typer.Option("--nucleus", help="Draw from the fewest likeliest that have this share."),
    ] = None,
    beams: Annotated[int, typer.Option("--beams", help="Sequences that beam search follows.")] = 1,
    stop: Annotated[
        list[str],
        typer.Option("--stop", metavar="TEXT", help="Text that ends it; may be given again."),
    ] = [],  # noqa: B006
    seed: Annotated[int, typer.Option("--seed", help="Of what is drawn.")] = 0,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Write on after prompts, answer requests, or write what pictures or texts say."""
    from .._model import open_model
    from .._model_inputs import read_pictures
    from ..data.text._texts import fields_of
    from ..errors import DataError
    from .views import written_view

    with explained():
        found = open_model(model, own=own_parts_of(own))
        settings = {
            "most": most,
            "temperature": temperature,
            "top_k": top_k,
            "nucleus": nucleus,
            "stop": stop,
            "seed": seed,
        }
        if (rows is None) == (not prompts):
            raise DataError(
                "Say what to write on from: vinestep generate MODEL.vine PROMPT, or --rows "
                "FILE.csv; one of the two."
            )
        if rows is None and len(prompts) == 1 and beams == 1 and out is None and not found.reads:
            for piece in found.stream(prompts[0], **settings):
                console.print(piece.text, end="", highlight=False, markup=False, soft_wrap=True)
            console.print()
            return
        requests = [] if rows is None else fields_of(rows)
        asked = requests or (
            read_pictures(prompts, found.network.sample_like[0][0])
            if found.reads == "pictures"
            else prompts
        )
        written = found.generate(asked, beams=beams, **settings)
        shown = [", ".join(map(str, fields.values())) for fields in requests] or prompts
        if out is None:
            console.print(written_view(shown, written, console.width))
            return
        from ..storage.run_folder import write_text

        write_text(out, _csv_of(shown, written))
        console.print(f"{len(written)} texts written to {out}.", highlight=False, soft_wrap=True)


@app.command(rich_help_panel=MODELS)
def sample(
    model: ModelArgument,
    out: Annotated[
        Path,
        typer.Option(
            "--out",
            metavar="FILE",
            help="Pictures as .png, in one; arrays as .npy; rows of a table as .csv.",
            show_default=False,
        ),
    ],
    count: Annotated[int, typer.Option("--count", min=1, help="How many are made.")] = 16,
    seed: Annotated[int, typer.Option("--seed", min=0, help="The same makes the same.")] = 0,
    label: Annotated[
        list[str],
        typer.Option("--label", metavar="CLASS", help="Of which class; may be given again."),
    ] = [],  # noqa: B006
    steps: Annotated[
        int, typer.Option("--steps", min=0, help="Of a diffusion; 0 for the usual number.")
    ] = 0,
    guidance: Annotated[
        float, typer.Option("--guidance", help="How far a diffusion goes beyond its class.")
    ] = 1.0,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Make new examples like those that a model was trained on."""
    from .._model import open_model
    from .views import write_samples

    with explained():
        found = open_model(model, own=own_parts_of(own))
        settings: dict[str, float] = {"steps": steps} if steps else {}
        settings |= {"guidance": guidance} if guidance != 1 else {}
        labels = [label[i % len(label)] for i in range(count)] if label else None
        made = found.sample(count, seed=seed, label=labels, **settings)
        write_samples(made, out)
        console.print(f"{count} written to {out}.", highlight=False, soft_wrap=True)


@app.command(rich_help_panel=MODELS)
def assess(model: ModelArgument, rows: RowsArgument, own: OwnOption = []) -> None:  # noqa: B006
    """Score a model on rows that have their target."""
    from .._model import open_model
    from .views import assessment_view

    with explained():
        console.print(
            assessment_view(open_model(model, own=own_parts_of(own)).assess(rows), str(rows))
        )


@app.command(rich_help_panel=MODELS)
def calibrate(
    model: ModelArgument,
    rows: RowsArgument,
    out: Annotated[
        Path, typer.Option("--out", metavar="FILE.vine", help="The new model.", show_default=False)
    ],
    how: Annotated[
        str,
        typer.Option("--how", metavar="HOW", help="temperature, isotonic, or none."),
    ] = "temperature",
    coverage: Annotated[
        float,
        typer.Option(
            "--coverage",
            help="Intervals or sets of classes beside answers that hold the truth so often; 0 for "
            "none.",
        ),
    ] = 0.0,
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Learn how sure a model is, on rows with their target that it was not trained on."""
    from .._model import open_model
    from .views import assessment_view

    with explained():
        found = open_model(model, own=own_parts_of(own))
        made = found if how == "none" else found.calibrated(rows, how=how)
        if coverage:
            made = made.with_coverage(rows, coverage=coverage)
        made.save(out)
        console.print(assessment_view(found.assess(rows), f"{rows}, as it was"))
        if how != "none":
            console.print(assessment_view(made.assess(rows), f"{rows}, calibrated on it"))
        console.print(f"Written to {out}.", highlight=False, soft_wrap=True)


@app.command(rich_help_panel=MODELS)
def attribute(
    what: Annotated[
        str,
        typer.Argument(
            metavar="RUN|MODEL",
            help="A run, such as barrels-7, or a model file.",
            show_default=False,
        ),
    ],
    rows: Annotated[
        Path | None,
        typer.Argument(
            metavar="[ROWS]",
            help="Rows to look at, with their target; by default the validation part of the run's "
            "plan.",
            show_default=False,
        ),
    ] = None,
    out: Annotated[
        Path | None,
        typer.Option(
            "--out", metavar="FOLDER", help="Where figures and tables are written, as PNG and CSV."
        ),
    ] = None,
    count: Annotated[
        int, typer.Option("--count", min=1, help="Single examples that are shown.")
    ] = 6,
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
    own: OwnOption = [],  # noqa: B006
) -> None:
    """Look at what mattered to a model: columns, parts of pictures, times, attention, near rows."""
    from .views import attribution_views

    with explained():
        parts = own_parts_of(own)
        if Path(what).is_file():
            from .._model import open_model
            from ..attribution._overview import overview

            if rows is None or out is None:
                raise ModelError(
                    f"{what}: a model file is looked at on rows, and what is found is written "
                    "somewhere: vinestep attribute MODEL ROWS --out FOLDER."
                )
            found = overview(open_model(what, own=parts), rows, count=count)
        else:
            from ..runs._attribute import attribute as of_run

            run = opened_runs(record, ledger, [what])[what]
            found = of_run(run, rows, own=parts, count=count)
            console.print(
                f"In the record of {run.label} now; the page shows it: vinestep page.",
                highlight=False,
                soft_wrap=True,
            )
        for view in attribution_views(found, what):
            console.print(view)
        if out is not None:
            written = found.save(out)
            console.print(
                f"Written to {out}: {', '.join(path.name for path in written)}.",
                highlight=False,
                soft_wrap=True,
            )


@app.command(rich_help_panel=MODELS)
def inspect(model: ModelArgument, own: OwnOption = []) -> None:  # noqa: B006
    """Show what a model is, what it takes, and where it came from."""
    from .._model import open_model
    from .views import model_view

    with explained():
        found = open_model(model, own=own_parts_of(own))
        for view in model_view(found, str(model)):
            console.print(view)


def _csv_of(prompts: list[str], written: list[Generated]) -> str:
    """A row for each text."""
    import pandas as pd

    rows = [
        [prompt, one.text, one.log_probability, one.reason]
        for prompt, one in zip(prompts, written, strict=True)
    ]
    return pd.DataFrame(rows, columns=["prompt", "text", "log probability", "reason"]).to_csv(
        index=False
    )
