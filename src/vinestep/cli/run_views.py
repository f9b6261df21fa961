"""Runs and models of the catalogue in the terminal."""

from __future__ import annotations

import itertools
import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from rich.markup import escape
from rich.table import Table
from rich.text import Text

from .views import findings_view, table_of

if TYPE_CHECKING:
    import pandas as pd

    from ..catalogue import Entry
    from ..runs._comparison import Comparison
    from ..runs._query import RunRecord
    from ..training.tuning._cross_validation import CrossValidation

__all__ = [
    "catalogue_view",
    "comparison_view",
    "entry_view",
    "run_view",
    "runs_view",
    "trials_view",
]

FIRST = ("run", "status", "epoch", "step", "tags")
USUAL = (
    "best validation_loss",
    "best validation_accuracy",
    "validation_loss",
    "validation_accuracy",
    "loss",
    "accuracy",
    "begun",
)
SHORT = {
    "validation_loss": "val. loss",
    "validation_accuracy": "val. acc.",
    "absolute_error": "abs. error",
    "validation_absolute_error": "val. error",
}
BARS = " ▁▂▃▄▅▆▇█"
CURVE_WIDTH, CURVE_HEIGHT = 60, 6
MOST_SETTINGS = 24
OF_NOTE = (
    "optimiser",
    "schedule",
    "seed",
    "epochs",
    "steps",
    "until",
    "batches",
    "loss",
    "clip",
    "accumulate",
    "precision",
)
OF_RECORDING = ("written_by", "parts")  # of a loop of one's own: all others are of note


def runs_view(runs: pd.DataFrame, wanted: Sequence[str], width: int) -> Table:
    """One row per run, with what was asked for and as many figures as there is room for."""
    table = table_of("Runs")
    names = [
        name for name in FIRST if name in runs and (name != "tags" or (runs[name] != "").any())
    ]
    names += [name for name in wanted if name in runs and name not in names]
    room = width - sum(_width(runs, name) for name in names)
    for name in USUAL:
        if name in runs and name not in names and (room := room - _width(runs, name)) >= 0:
            names.append(name)
    for name in names:
        table.add_column(
            _short_name(name),
            justify="right" if runs[name].dtype.kind in "fi" else "left",
            no_wrap=True,
        )
    for _, row in runs.iterrows():
        table.add_row(*(_cell(name, row[name], row) for name in names))
    return table


def _short_name(name: str) -> str:
    plain = name.removeprefix("best ")
    return f"{'best ' if name != plain else ''}{SHORT.get(plain, plain)}".replace(
        "epoch", "epochs" if name == "epoch" else "epoch"
    )


def _width(runs: pd.DataFrame, name: str) -> int:
    return (
        max(
            len(_short_name(name)),
            *(len(_cell(name, row[name], row)) for _, row in runs.iterrows()),
            1,
        )
        + 3
    )


def _cell(name: str, value: object, row: Any) -> str:
    if name == "epoch":
        return f"{int(row['epoch'])}/{int(row['epochs'])}" if row["epochs"] else "-"
    if isinstance(value, float):
        return (
            "-"
            if value != value
            else f"{value:.4g}"
            if abs(value) < 1e-3 or abs(value) >= 1e4
            else f"{value:.4f}"
        )
    if value is None:
        return "-"
    return str(value)[5:16].replace("T", " ") if name == "begun" else escape(str(value))


def run_view(run: RunRecord, width: int) -> list[Any]:
    """A run: facts, settings, scores, answers, and its curve."""
    facts = table_of(run.label)
    facts.add_column("what", no_wrap=True)
    facts.add_column("is")
    about = run.about
    known = {
        "status": f"{run.status}: {run.reason}" if run.reason else run.status,
        "done": f"epoch {run.epoch} of {run.epochs}, step {run.step}"
        if run.epochs
        else f"step {run.step}",
        "begun": run.begun.replace("T", " "),
        "training took": f"{run.seconds():,.1f} s" if np.isfinite(run.seconds()) else "",
        "tags": ", ".join(run.tags),
        "data": f"{str(about.get('data', ''))[:16]}",
        "commit": str(about.get("commit", ""))[:12]
        + (
            " with changes, in uncommitted.patch"
            if str(about.get("commit", "")).endswith("+")
            else ""
        ),
        "machine": ", ".join(f"{value}" for value in (about.get("machine") or {}).values()),
        "versions": ", ".join(
            f"{key} {value}" for key, value in (about.get("versions") or {}).items()
        ),
        "begun from": " ".join(
            str((about.get("parent") or {}).get(key, "")) for key in ("run", "source")
        ).strip(),
        "study": _place_in_study(about.get("study") or {}),
        "folder": _from_here(run.folder.path) if run.folder is not None else "on another machine",
    }
    for name, value in known.items():
        if value.strip():
            facts.add_row(name, escape(value))
    for note in run.notes:
        facts.add_row(f"note {note['at'][5:16].replace('T', ' ')}", escape(note["text"]))
    views: list[Any] = [facts]
    answers = run.diagnose()
    if answers:
        views.append(findings_view(answers, "What the record says"))
    return [
        *views,
        _scores_view(run),
        *_curve_views(run, min(width - 20, CURVE_WIDTH)),
        _settings_view(run),
    ]


def _place_in_study(known: Mapping[str, Any]) -> str:
    if not known:
        return ""
    place = (
        f"trial {known.get('number', 0)}"
        if known.get("kind") == "search"
        else f"fold {known.get('fold', 0)} of division {known.get('repeat', 0) + 1}"
    )
    return f"{place} of the {known.get('kind')} {known.get('name')}"


def _from_here(path: Path) -> str:
    """A path as short as it can be written here."""
    return str(path.relative_to(Path.cwd())) if path.is_relative_to(Path.cwd()) else str(path)


def _settings_view(run: RunRecord) -> Table:
    table = table_of("Settings of note; all: vinestep show --json")
    table.add_column("setting", no_wrap=True)
    table.add_column("value")
    own = run.settings.get("written_by") == "recorded_run"
    shown = [
        (name, value)
        for name, value in run.settings.items()
        if name.split(".")[0] in OF_NOTE or (own and name.split(".")[0] not in OF_RECORDING)
    ]
    for name, value in shown[:MOST_SETTINGS]:
        table.add_row(
            escape(name), escape(f"{value:g}" if isinstance(value, float) else str(value))
        )
    return table


def _scores_view(run: RunRecord) -> Table:
    table = table_of("Scores")
    where = "epoch" if run.epochs else "step"
    for name in ("figure", "last", "best", f"at {where}"):
        table.add_column(name, justify="left" if name == "figure" else "right")
    for label, row in run.scores.iterrows():
        place = row[f"best_{where}"]
        at = "-" if place is None or place != place else f"{place:.0f}"
        table.add_row(
            escape(str(label).replace("_", " ")), _number(row["last"]), _number(row["best"]), at
        )
    return table


def _number(value: Any) -> str:
    return (
        "-"
        if value is None or value != value
        else f"{value:.5g}"
        if isinstance(value, int | float)
        else escape(str(value))
    )


def _curve_views(run: RunRecord, width: int) -> list[Any]:
    curves = run.curves
    views = []
    for name in ("loss", "validation_loss"):
        if name in curves and curves[name].notna().sum() > 1:
            x = curves["epoch" if "epoch" in curves else "step"].to_numpy(float)
            views.append(
                curve(
                    x,
                    curves[name].to_numpy(float),
                    name.replace("_", " "),
                    width,
                    "epoch" if "epoch" in curves else "step",
                )
            )
    return views


def curve(x: np.ndarray, y: np.ndarray, name: str, width: int, axis: str) -> Text:
    """A curve of blocks, eight levels to a line."""
    sound = np.isfinite(y)
    x, y = x[sound], y[sound]
    edges = np.linspace(0, len(y), min(width, len(y)) + 1).astype(int)
    values = np.array([y[a:b].mean() for a, b in itertools.pairwise(edges)])
    low, high = float(values.min()), float(values.max())
    levels = (
        np.round((values - low) / ((high - low) or 1.0) * (8 * CURVE_HEIGHT - 1)).astype(int) + 1
    )
    text = Text(f"{'':>10} {name}\n", style="bold")
    for line in range(CURVE_HEIGHT - 1, -1, -1):
        label = f"{high:.4g}" if line == CURVE_HEIGHT - 1 else f"{low:.4g}" if line == 0 else ""
        text.append(f"{label:>10} ", style="dim")
        text.append("".join(BARS[int(np.clip(level - 8 * line, 0, 8))] for level in levels) + "\n")
    first, last = f"{axis} {x[0]:g}", f"{x[-1]:g}"
    text.append(f"{'':>10} {first}{last:>{max(len(levels) - len(first), 1)}}\n", style="dim")
    return text


def comparison_view(found: Comparison, quantity: str, width: int) -> list[Any]:
    """Runs side by side."""
    views: list[Any] = []
    for frame, title in (
        (found.settings, "Settings that differ"),
        (found.scores, "Scores"),
        (found.assessments, "Scores of the best states (95 % interval)"),
        (found.facts, "Time, memory, origin"),
    ):
        if len(frame):
            views.append(_side_by_side(frame, title))
        elif title == "Settings that differ":
            views.append(Text("Their settings are equal.\n"))
    for label, (x, y) in found.curves(quantity).items():
        views.append(
            curve(
                x,
                y,
                f"{quantity.replace('_', ' ')} of {label}",
                min(width - 24, CURVE_WIDTH),
                "epoch",
            )
        )
    return views


def _side_by_side(frame: pd.DataFrame, title: str) -> Table:
    table = table_of(title)
    table.add_column("")
    for column in frame.columns:
        table.add_column(escape(str(column)), justify="right")
    for name, row in frame.iterrows():
        table.add_row(
            escape(str(name).replace("_", " ") if title != "Settings that differ" else str(name)),
            *(_number(value) for value in row),
        )
    return table


def trials_view(frame: pd.DataFrame, title: str) -> Table:
    """Trials of a search."""
    table = table_of(title)
    names = [name for name in frame.columns if name != "failure" or (frame[name] != "").any()]
    for name in names:
        table.add_column(
            escape(str(name)), justify="right" if frame[name].dtype.kind in "fi" else "left"
        )
    for _, row in frame.iterrows():
        table.add_row(
            *(
                _number(row[name]) if frame[name].dtype.kind in "fi" else escape(str(row[name]))
                for name in names
            )
        )
    return table


def folds_view(found: CrossValidation, title: str) -> list[Table]:
    """Scores of each held-out fold, and what they say together."""
    each = table_of(title)
    recorded = any(row["run"] for row in found.rows)
    shown = [name for name in found.rows[0] if name != "run" or recorded]
    for name in shown:
        each.add_column(
            escape(name).replace("_", " "), justify="left" if name == "run" else "right"
        )
    for row in found.rows:
        numbered = row | {"repeat": row["repeat"] + 1}
        cells = [numbered[name] for name in shown]
        each.add_row(*(f"{v:.4g}" if isinstance(v, float) else escape(str(v)) for v in cells))
    together = table_of("Over the folds")
    for name in ("score", "mean", "deviation", "95 % interval"):
        together.add_column(name, justify="left" if name == "score" else "right")
    for one in found.summary().to_dict("records"):
        together.add_row(
            str(one["score"]).replace("_", " "),
            f"{one['mean']:.4g}",
            f"{one['deviation']:.3g}",
            f"{one['low']:.4g} to {one['high']:.4g}",
        )
    return [each, together]


def importance_view(frame: pd.DataFrame) -> Table:
    """Which settings of a search mattered."""
    table = table_of("Share of the differences between trials that a setting explains")
    for name in ("setting", "share", "95 % interval", "p", "it matters"):
        table.add_column(name, justify="left" if name in ("setting", "it matters") else "right")
    for _, row in frame.iterrows():
        told = "yes" if row["matters"] else "not more than chance, as far as these trials tell"
        table.add_row(
            escape(str(row["setting"])),
            f"{row['share']:.0%}",
            f"{row['low']:.0%} to {row['high']:.0%}",
            f"{row['p']:.2g}",
            told,
        )
    return table


def catalogue_view(entries: Sequence[Entry]) -> Table:
    """Models of the catalogue."""
    table = table_of("Catalogue of models")
    for name in ("model", "in use", "from run", "scores", "kept"):
        table.add_column(name, no_wrap=name == "model")
    for entry in entries:
        every = entry.about.get("scores", {})
        scores = {
            key: value for key, value in every.items() if key.startswith("validation_")
        } or every
        told = ", ".join(
            f"{SHORT.get(key, key)} {value:.4g}"
            for key, value in scores.items()
            if isinstance(value, int | float)
        )
        use = f"since {entry.used_since[:10]} ({entry.used_by})" if entry.in_use else ""
        run = f"{entry.about.get('run', '')}, step {entry.about.get('step', 0)}"
        table.add_row(
            escape(entry.label),
            escape(use),
            escape(run),
            escape(told),
            escape(f"{entry.kept[:10]} ({entry.kept_by})"),
        )
    return table


def entry_view(entry: Entry) -> Table:
    """All that is known of a version."""
    table = table_of(f"{entry.label}{', in use' if entry.in_use else ''}")
    table.add_column("what", no_wrap=True)
    table.add_column("is")
    facts = {
        "file": f"{entry.size:,} bytes, SHA-256 {entry.digest}",
        "note": entry.note,
        **entry.about,
    }
    for name, value in facts.items():
        if value and name != "settings":
            table.add_row(name, escape(value if isinstance(value, str) else json.dumps(value)))
    return table
