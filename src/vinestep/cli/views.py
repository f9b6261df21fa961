"""Tables for the terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from rich.box import SIMPLE_HEAD
from rich.markup import escape
from rich.table import Table

from .._findings import VERDICTS
from ..data.encoding._codec import classes_in_words
from ..layers._adapters import adapters_of
from ..layers._quantised import codes_of

if TYPE_CHECKING:
    import pandas as pd

    from .._findings import Finding
    from .._model import Model
    from ..attribution._overview import Overview
    from ..evaluation._scores import Assessment
    from ..generation._generate import Generated
    from ..parts._registry import Kind

__all__ = [
    "assessment_view",
    "attribution_views",
    "confusion_view",
    "epoch_of",
    "files_view",
    "findings_view",
    "kind_view",
    "kinds_view",
    "model_view",
    "predictions_view",
    "scores_view",
    "table_of",
    "written_view",
]

MATRIX_WIDTH = 78


def table_of(title: str) -> Table:
    """The look that all tables share."""
    return Table(
        title=title, title_justify="left", title_style="bold", box=SIMPLE_HEAD, pad_edge=False
    )


def scores_view(parts: Mapping[str, Assessment], title: str) -> Table:
    """Loss and metrics of each part, with 95 % confidence intervals."""
    table = table_of(title)
    table.add_column("part")
    table.add_column("examples", justify="right")
    for name in next(iter(parts.values())):
        table.add_column(f"{name.replace('_', ' ')} (95 % interval)", justify="right", no_wrap=True)
    for part, found in parts.items():
        table.add_row(part, f"{found.size:,}", *(_with_interval(found, name) for name in found))
    return table


def epoch_of(model: Model) -> str:
    """Of which epoch a model is."""
    row = model.lineage.get("scores", {})
    return f"epoch {row['epoch']}" if "epoch" in row else "the start"


def _with_interval(found: Assessment, name: str) -> str:
    low, high = found.intervals[name]
    return f"{found[name]:.3f} [dim]({low:.3f} to {high:.3f})[/]"


def assessment_view(found: Assessment, title: str) -> Table:
    """Scores of one set of rows."""
    table = table_of(f"{title}: {found.size:,} examples")
    for name in ("score", "value", "95 % confidence"):
        table.add_column(name, justify="left" if name == "score" else "right")
    for name, value in found.items():
        low, high = found.intervals[name]
        table.add_row(name.replace("_", " "), f"{value:.4f}", f"{low:.4f} to {high:.4f}")
    return table


def decisions(
    model: Model, batches: Any, names: Any
) -> Iterator[tuple[str, list[str], list[str], Sequence[str]]]:
    """Of each target that is of classes its name, the true classes, those decided, and all; one
    alone has no name. Examples without a target are left out.
    """
    from ..training.step._scoring import outputs_and_targets

    if not names or (isinstance(names, dict) and not any(names.values())):
        return
    if model.can_sample or not model.task.needs_targets:
        return
    outputs, targets = outputs_and_targets(model.network, batches)
    for name, own, found, true in model.task.by_target(outputs, targets):
        classes = names.get(name) if isinstance(names, dict) else names
        if not classes:
            continue
        logits, labels = own.as_classes(found, true)
        if logits.ndim != 2 or labels.ndim != 1 or logits.shape[1] != len(classes):
            continue
        known = own.known(true) & (labels >= 0)
        best = logits.argmax(axis=1)
        yield (
            name,
            [classes[i] for i in labels[known]],
            [classes[i] for i in best[known]],
            classes,
        )


def confusion_view(
    actual: Sequence[str], predicted: Sequence[str], names: Sequence[str], of: str = ""
) -> Table:
    """The confusion matrix: rows actual, columns predicted, numbered where their names would not
    fit side by side.
    """
    counts = Counter(zip(actual, predicted, strict=True))
    table = table_of(f"Confusion matrix of the test part{f', {of}' if of else ''}")
    numbered = sum(len(name) + 3 for name in ("recall", *names, max(names, key=len))) > MATRIX_WIDTH
    shown = {name: f"{i} {name}" if numbered else name for i, name in enumerate(names)}
    table.add_column(r"true \ predicted")
    for i, name in enumerate(names):
        table.add_column(str(i) if numbered else name, justify="right")
    table.add_column("recall", justify="right")
    for true in names:
        total = sum(counts[true, other] for other in names)
        cells = [
            f"[bold]{counts[true, other]}[/]" if other == true else str(counts[true, other])
            for other in names
        ]
        table.add_row(shown[true], *cells, f"{counts[true, true] / total:.0%}" if total else "-")
    return table


def findings_view(findings: Sequence[Finding], title: str) -> Table:
    """Findings with their evidence and cures, what is wrong first."""
    table = table_of(title)
    for name in ("verdict", "what was looked at", "what was seen, and what to do"):
        table.add_column(name, no_wrap=name == "verdict")
    styles = {"wrong": "bold red", "suspicious": "yellow", "sound": "green"}
    for finding in sorted(findings, key=lambda found: -VERDICTS.index(found.verdict)):
        style = styles.get(finding.verdict, "dim")
        words = (
            f"{escape(finding.evidence)} "
            f"{f'[bold]{escape(finding.cure)}[/]' if finding.cure else ''}"
        ).rstrip()
        table.add_row(f"[{style}]{finding.verdict}[/]", escape(finding.subject), words)
    return table


def kinds_view(kinds: Sequence[Kind]) -> Table:
    """What a plan can name, by family."""
    from ..parts._setting_docs import summary

    table = table_of("Kinds of parts")
    for name in ("family", "kind", "what it is"):
        table.add_column(name, no_wrap=name != "what it is")
    before = ""
    for kind in kinds:
        table.add_row(
            kind.family if kind.family != before else "", kind.name, escape(summary(kind))
        )
        before = kind.family
    return table


def kind_view(kind: Kind) -> Table:
    """The settings of a kind."""
    from ..parts._setting_docs import settings, summary

    table = table_of(f"{kind.name} ({kind.family}): {escape(summary(kind))}")
    found = settings(kind)
    for name in ("setting", "default", "meaning"):
        table.add_column(name, no_wrap=name == "setting")
    for setting in found:
        table.add_row(
            setting.name,
            escape(setting.default) or "[dim]required[/]",
            escape(setting.meaning or setting.sort),
        )
    if not found:
        table.add_row("[dim]none[/]", "", "")
    return table


SHOWN_ROWS = 12


def predictions_view(frame: pd.DataFrame, title: str, width: int) -> Table:
    """The first rows with what was predicted for them first, and as many of their own columns as
    there is room for.
    """
    first = [name for name in frame.columns if str(name).startswith(("predicted", "probability"))]
    given = [name for name in frame.columns if name not in first]
    cells = {name: [_short(value) for value in frame[name].head(SHOWN_ROWS)] for name in given}
    cells |= {
        name: [
            f"{value:.3f}" if isinstance(value, float) else _short(value)
            for value in frame[name].head(SHOWN_ROWS)
        ]
        for name in first
    }
    room = width - sum(max(len(str(name)), *map(len, cells[name])) + 3 for name in first) - 6
    shown = []
    for name in given:
        room -= max(len(str(name)), *map(len, cells[name])) + 3
        if room < 0:
            break
        shown.append(name)
    left = (
        f"; {len(given) - len(shown)} more columns are in --out" if len(shown) < len(given) else ""
    )
    rows = (
        f"the first {SHOWN_ROWS} of {len(frame)} rows"
        if len(frame) > SHOWN_ROWS
        else f"{len(frame)} rows"
    )
    table = table_of(f"{title}: {rows}{left}")
    table.add_column("row", justify="right")
    for name in [*first, *shown]:
        table.add_column(
            str(name), justify="right" if frame[name].dtype.kind in "fi" else "left", no_wrap=True
        )
    for i in range(min(len(frame), SHOWN_ROWS)):
        table.add_row(str(i + 1), *(cells[name][i] for name in [*first, *shown]))
    return table


def written_view(prompts: Sequence[str], written: Sequence[Generated], width: int) -> Table:
    """What was written, beside what it was written for."""
    table = table_of(f"{len(written)} texts")
    table.add_column("for", max_width=max(width // 3, 20), overflow="fold")
    table.add_column("text", overflow="fold")
    table.add_column("ended by")
    for prompt, one in zip(prompts, written, strict=True):
        table.add_row(escape(prompt), escape(str(one)), one.reason)
    return table


def _text_facts(model: Model) -> str:
    form = model.codec.text_form
    if form is None:
        return ""
    result = [f"{type(form.tokeniser).__name__} of {len(form.tokeniser)} tokens"]
    result += [f"template {form.template.text!r}"] if form.template is not None else []
    result += (
        [f"reads by a {type(form.source_tokeniser).__name__}"]
        if form.source_tokeniser is not None
        else []
    )
    return ", ".join(result)


def _short(value: object) -> str:
    if value is None or value != value:
        return "-"
    return (
        f"{value:.4g}" if isinstance(value, float) and abs(value) < 10_000 else escape(str(value))
    )


def model_view(model: Model, name: str) -> list[Any]:
    """What a model is: its origin, what it takes, its layers."""
    from ..training.step._planned_step import planned_in_words, unplanned_because

    table = table_of(name)
    table.add_column("what")
    table.add_column("is")
    came = model.lineage
    encoding = model.codec.encoding
    facts = {
        "trained by": f"{came.get('run') or 'a run that was not recorded'}, step "
        f"{came.get('step', 0)}",
        "scores then": ", ".join(
            f"{key} {value:.4g}"
            for key, value in came.get("scores", {}).items()
            if isinstance(value, int | float)
        ),
        "numeric columns": ", ".join(encoding.numeric) if encoding else "",
        "categories": "; ".join(f"{c}: {', '.join(v)}" for c, v in encoding.categories.items())
        if encoding
        else "",
        "several inputs": "; ".join(
            f"{name}: {', '.join(c)}" for name, c in encoding.inputs.items()
        )
        if encoding
        else "",
        "unseen categories": encoding.unseen_categories if encoding else "",
        "missing columns": encoding.missing_columns if encoding else "",
        "inputs": ""
        if encoding
        else ", ".join(f"{shape} {dtype}" for shape, dtype in model.network.sample_like),
        "task": "" if model.loss is None else repr(model.task),
        "target": ", ".join(encoding.targets) if encoding else "",
        "classes": classes_in_words(model.codec.class_values),
        "calibrated by": ", ".join(
            f"{name} {type(made).__name__.lower()}".strip()
            for name, made in model.calibration.items()
        ),
        "holds the truth": ", ".join(
            f"{name} {made.coverage:.0%} of the time".strip()
            for name, made in model.conformal.items()
        ),
        "texts": _text_facts(model),
        "precision": str(model.network.dtype),
        "planned steps": ""
        if model.loss is None
        else planned_in_words(unplanned_because(model.network, model.loss)),
        "adapters": f"beside {len(beside)} weights"
        if (beside := adapters_of(model.network))
        else "",
        "weights in codes": ", ".join(
            sorted({f"{one['bits']} bits" for one in codes_of(model.network).values()})
        ),
        "data": str(came.get("data", "")),
        "versions": ", ".join(f"{key} {value}" for key, value in came.get("versions", {}).items()),
        "commit": str(came.get("commit", "")),
    }
    for key, value in facts.items():
        if value:
            table.add_row(key, escape(value))
    samples = [np.zeros((1, *shape), dtype) for shape, dtype in model.network.sample_like]
    return [table, model.network.describe(tuple(samples) if len(samples) > 1 else samples[0])]


def attribution_views(found: Overview, name: str) -> list[Any]:
    """What mattered to a model, as far as it is numbers and words; and which figures there are."""
    views: list[Any] = []
    if (rows := found.tables.get("importances")) is not None:
        table = table_of(f"{name}: by how much the loss rises without each column")
        for column in ("column", "importance", "95 % interval"):
            table.add_column(column, justify="left" if column == "column" else "right")
        for row in rows.to_dict("records"):
            table.add_row(
                escape(str(row["column"])),
                f"{row['importance']:.4f}",
                f"{row['low']:.4f} to {row['high']:.4f}",
            )
        views.append(table)
    if (rows := found.tables.get("nearest")) is not None:
        table = table_of(f"{name}: examples decided worst, and the nearest that were trained on")
        for title in rows:
            table.add_column(str(title))
        for row in rows.to_dict("records"):
            table.add_row(*(escape(_short(value)) for value in row.values()))
        views.append(table)
    listed = ", ".join(found.figures) or "none"
    return [*views, f"Figures: {listed}."]


def files_view(folder: Path) -> Table:
    """What a run wrote, and where."""
    what = {
        "plan.toml": "what was asked",
        "curves.csv": "one row per epoch",
        "curves.png": "the curves, drawn",
        "console.txt": "what was printed and logged",
        "states": "states to continue from, the best marked",
    }
    table = table_of("Written")
    table.add_column("file", no_wrap=True)
    table.add_column("what it holds")
    for name, text in what.items():
        if (folder / name).exists():
            table.add_row(str(folder / name), text)
    for model in sorted(folder.glob("*.vine")):
        table.add_row(str(model), "the best model, to hand on: vinestep predict")
    return table


def write_samples(made: Any, out: Path) -> None:
    """Write examples that a network made to a file of the kind that its name says, whole or not at
    all.
    """
    from ..errors import ModelError
    from ..storage.run_folder import write_bytes, write_text

    kind = out.suffix.lower()
    if hasattr(made, "to_csv"):
        if kind != ".csv":
            raise ModelError(f"{out}: rows of a table are written as .csv.")
        write_text(out, made.to_csv(index=False))
    elif kind == ".npy":
        content = BytesIO()
        np.save(content, made, allow_pickle=False)
        write_bytes(out, content.getvalue())
    elif kind == ".png" and made.ndim == 4:
        from PIL import Image

        from ..figures._samples import picture_grid

        grid = picture_grid(made)
        content = BytesIO()
        Image.fromarray(grid if grid.shape[-1] == 3 else grid[..., 0]).save(content, "PNG")
        write_bytes(out, content.getvalue())
    elif kind == ".png" and made.ndim == 2 and made.shape[1] == 2:
        from ..figures._samples import sample_scatter
        from ..figures._style import save

        save(sample_scatter(made, made), out)
    else:
        raise ModelError(
            f"{out}: an array of shape {made.shape} is written as .npy, pictures as .png, too."
        )
