"""What the page asks of the record, as JSON can hold it; long series are thinned so that peaks
survive.
"""

from __future__ import annotations

import csv
import io
import math
import re
from collections import OrderedDict
from threading import Lock
from typing import Any

import numpy as np
import pandas as pd

from .._trend import slope_of, thinned, trend_of
from ..errors import RunError
from ..runs._comparison import (
    check_axis,
    compare,
    curve_of,
    leading_run,
    places_of,
)
from ..runs._difference import compared_groups, groups_of
from ..runs._query import RunRecord
from ..runs._study import study_of
from ..runs.diagnosis import QUESTIONS

__all__ = [
    "Series",
    "answers",
    "as_rows",
    "attributions",
    "comparison",
    "curves",
    "finite",
    "generated",
    "layers",
    "looks",
    "points",
    "progress",
    "study",
    "summary",
    "told_apart",
]

MOST_BYTES = 192 << 20  # of series kept in memory
MOST_POINTS = 1200
MOST_EXAMPLES = 200
ATTRIBUTION = "attribution-"
MOST_IN_WORDS = 4  # columns that a sentence names
BEYOND, TINY = 1e6, 1e-300  # times the usual size: a trend of such numbers says nothing
RECENT = 50  # rows that tell how fast a run is now
FEW = 4  # points: a stretch that is looked at holds more, or those around it are shown too


class Series:
    """Series of runs that were read not long ago, up to a number of bytes."""

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple[int, str, str], pd.DataFrame] = OrderedDict()
        self._bytes = 0
        self._lock = Lock()

    def get(self, run: RunRecord, name: str) -> pd.DataFrame:
        """A series as it stands."""
        key = (run.store.key, name, f"{run.changed} {run.step} {run.status}")
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        frame = run.series(name)
        size = int(frame.memory_usage(index=False).sum())
        with self._lock:
            for old in [k for k in self._kept if k[:2] == key[:2]]:
                self._forget(old)
            self._kept[key] = frame
            self._bytes += size
            while self._bytes > MOST_BYTES and len(self._kept) > 1:
                self._forget(next(iter(self._kept)))
        return frame

    def _forget(self, key: tuple[int, str, str]) -> None:
        frame = self._kept.pop(key)
        self._bytes -= int(frame.memory_usage(index=False).sum())


def finite(value: Any) -> Any:
    """JSON without NaN."""
    if isinstance(value, dict):
        return {str(key): finite(one) for key, one in value.items()}
    if isinstance(value, list | tuple | np.ndarray):
        return [finite(one) for one in value]
    if isinstance(value, float | np.floating):
        return float(value) if math.isfinite(value) else None
    if isinstance(value, np.integer):
        return int(value)
    if value is pd.NA or value is None:
        return None
    return value if isinstance(value, str | int | bool) else str(value)


def summary(run: RunRecord) -> dict[str, Any]:
    """A run without its series."""
    known = run.as_dict()
    result: dict[str, Any] = finite(
        known | {"questions": QUESTIONS, "better": run.better, "running": run.status == "running"}
    )
    return result


def progress(run: RunRecord, series: Series) -> dict[str, Any]:
    """How fast a run is, how long it has trained and will yet, and its best score."""
    found: dict[str, Any] = {"total_steps": _total_steps(run, series), "best": _best_of(run)}
    frames = (series.get(run, name) for name in ("steps", "machine"))
    frame = next((f for f in frames if len(f) > 1 and {"step", "seconds"} <= {*f}), None)
    if frame is None:
        return finite(found)  # type: ignore[no-any-return]
    lately = frame.tail(max(RECENT, len(frame) // 10))
    passed = float(lately["seconds"].iloc[-1] - lately["seconds"].iloc[0])
    found["seconds"] = float(frame["seconds"].max())
    if passed > 0:
        found["steps_a_second"] = float(lately["step"].iloc[-1] - lately["step"].iloc[0]) / passed
        if "examples" in lately:
            more = float(lately["examples"].iloc[-1] - lately["examples"].iloc[0])
            found["examples_a_second"] = more / passed
        if found["total_steps"] and found["steps_a_second"] > 0:
            left = max(found["total_steps"] - run.step, 0)
            found["left"] = left / found["steps_a_second"]
    return finite(found)  # type: ignore[no-any-return]


def _total_steps(run: RunRecord, series: Series) -> int | None:
    """How many steps a run is to have, where that is known."""
    if not run.epochs:
        steps = run.about.get("steps")
        return int(steps) if isinstance(steps, int | float) else None
    ends = series.get(run, "epochs")
    if not len(ends) or not {"step", "epoch"} <= {*ends}:
        return None
    return round(float(ends["step"].iloc[-1]) / float(ends["epoch"].iloc[-1]) * run.epochs)


def _best_of(run: RunRecord) -> dict[str, Any] | None:
    """The best value of what the run is judged by, and where that was."""
    scores: dict[str, dict[str, Any]] = run.scores.to_dict("index")  # type: ignore[assignment]
    name = next((n for n in ("validation_loss", "loss") if n in scores), None)
    row = finite(scores[name]) if name is not None else {}
    for where in ("epoch", "step"):
        if row.get("best") is not None and row[f"best_{where}"] is not None:
            place = {"where": where, "at": row[f"best_{where}"]}
            return {"figure": name, "value": row["best"]} | place
    return None


def answers(run: RunRecord) -> list[dict[str, Any]]:
    """What the record says, by question."""
    return [finite(answer.as_dict()) for answer in run.diagnose()]


def _within(
    x: np.ndarray, y: np.ndarray, low: float | None, high: float | None
) -> tuple[np.ndarray, np.ndarray]:
    if low is None and high is None:
        return x, y
    first = 0 if low is None else int(np.searchsorted(x, low))
    last = len(x) if high is None else int(np.searchsorted(x, high, "right"))
    if last - first < FEW:
        first, last = max(0, first - FEW // 2), min(len(x), last + FEW // 2)
    return x[first:last], y[first:last]


def told_apart(table: pd.DataFrame) -> pd.DataFrame:
    """A table of runs with the key by which each is asked for in place of ``uid``: its label, or
    its identity where several have that label, as those of a team's members may.
    """
    if table.empty:
        return table
    alike = table["run"].duplicated(keep=False)
    return table.assign(key=table["run"].where(~alike, table["uid"])).drop(columns="uid")


def as_rows(table: pd.DataFrame) -> str:
    """A table as JSON, an object for each row; what is no finite number is null."""
    return table.to_json(orient="records", double_precision=15)


def _axis(run: RunRecord, name: str, against: str, series: Series) -> np.ndarray | None:
    """The places of a series' rows on an axis; within epochs, parts of them."""
    frame = series.get(run, name)
    if against == "epoch" and name != "epochs" and "step" in frame:
        epochs = series.get(run, "epochs")
        if len(epochs):
            ends = epochs[["step", "epoch"]].to_numpy(float)
            ends = np.vstack([[0.0, 0.0], ends])
            steps = frame["step"].to_numpy(float)
            after = (ends[-1, 1] - ends[-2, 1]) / max(ends[-1, 0] - ends[-2, 0], 1.0)
            beyond = np.maximum(steps - ends[-1, 0], 0) * after  # the epoch that has not ended
            return np.asarray(np.interp(steps, ends[:, 0], ends[:, 1]) + beyond)
    return places_of(frame, against, lambda: series.get(run, "steps"))


def _figure_of(
    run: RunRecord, figure: str, against: str, series: Series, of: str = ""
) -> tuple[np.ndarray, np.ndarray] | None:
    """All points of a figure that are numbers; None if it was not recorded, or the axis was not."""
    names = [of] if of else ["epochs", "steps", "norms", "machine", "validation"]
    name = next((name for name in names if figure in series.get(run, name)), None)
    x = None if name is None else _axis(run, name, against, series)
    if name is None or x is None:
        return None
    y = series.get(run, name)[figure].to_numpy(float)
    sound = np.isfinite(y) & np.isfinite(x)
    return x[sound], y[sound]


def points(runs: list[RunRecord], figure: str, against: str, series: Series) -> str:
    """A figure of several runs as CSV, with every point that was recorded."""
    check_axis(against)
    room = io.StringIO()
    writer = csv.writer(room)
    writer.writerow(["run", against, figure])
    for run in runs:
        found = _figure_of(run, figure, against, series)
        if found is not None:
            writer.writerows(
                [run.label, x, y] for x, y in zip(*(part.tolist() for part in found), strict=True)
            )
    return room.getvalue()


def curves(
    runs: list[RunRecord],
    figure: str,
    against: str,
    low: float | None,
    high: float | None,
    series: Series,
    *,
    of: str = "",
    most: int = MOST_POINTS,
) -> list[dict[str, Any]]:
    """One figure of several runs: thinned points, the trend with its band, and what the trend is
    worth at its end.
    """
    check_axis(against)
    result = []
    for run in runs:
        found = _figure_of(run, figure, against, series, of)
        if found is None:
            continue
        x, y = _within(*found, low, high)
        if not len(x):
            continue
        kept = thinned(x, y, most)
        middle = np.linspace(0, len(x) - 1, min(len(x), 4 * most)).astype(int)
        trend = trend_of(x[middle], y[middle], share=0.2)
        tail = x >= x[-1] - 0.25 * (x[-1] - x[0])
        slope, error = slope_of(x[tail], y[tail])
        result.append(
            {
                "run": run.label,
                "uid": run.uid,
                "figure": figure,
                "x": x[kept],
                "y": y[kept],
                "points": len(x),
                "trend": {"x": trend.at, "y": trend.value, "low": trend.low, "high": trend.high},
                "slope": slope,
                "slope_error": error,
                "diverges": bool(np.abs(y[tail]).max() > BEYOND * max(np.median(np.abs(y)), TINY)),
                "better": run.better.get(figure, ""),
            }
        )
    return [finite(one) for one in result]


def comparison(runs: list[RunRecord], figure: str, against: str) -> dict[str, Any]:
    """Runs side by side, and which left the others first."""
    found = compare(runs)
    leader = leading_run(runs, figure, against)

    def rows(frame: pd.DataFrame) -> list[list[Any]]:
        return [
            [name, *values]
            for name, values in zip(frame.index, frame.to_numpy().tolist(), strict=True)
        ]

    told: dict[str, Any] = finite(
        {
            "runs": [run.label for run in runs],
            "settings": rows(found.settings),
            "scores": rows(found.scores),
            "assessments": rows(found.assessments),
            "facts": rows(found.facts),
            "difference": _difference(runs, figure),
            "leader": None if leader is None else leader._asdict() | {"against": against},
            "per_axis": {axis: _best_at_end(runs, figure, axis) for axis in ("step", "seconds")},
        }
    )
    return told


def _difference(runs: list[RunRecord], figure: str) -> dict[str, Any] | None:
    """Whether one is better by more than chance; None of a figure that one of them lacks."""
    try:
        groups = groups_of(runs, figure)
        return compared_groups(groups, figure).as_dict() | {"of_seeds": len(groups) < len(runs)}
    except RunError:
        return None


def _best_at_end(runs: list[RunRecord], figure: str, against: str) -> dict[str, Any] | None:
    """Which run has the best value where the shortest ends."""
    known = {
        run.label: found for run in runs if len((found := curve_of(run, figure, against))[0]) > 1
    }
    if len(known) < 2:
        return None
    end = min(float(x[-1]) for x, _ in known.values())
    lower = (
        next((run.better.get(figure, "lower") for run in runs if run.label in known), "lower")
        == "lower"
    )
    values = {
        label: float((np.min if lower else np.max)(y[x <= end]))
        for label, (x, y) in known.items()
        if (x <= end).any()
    }
    if len(values) < 2:
        return None
    best = min(values, key=lambda label: values[label] if lower else -values[label])
    return {"run": best, "at": end, "value": values[best]}


def layers(run: RunRecord, series: Series) -> dict[str, Any]:
    """Norms by parameter, first and last, and what distributions were recorded."""
    norms, spread = series.get(run, "norms"), series.get(run, "distributions")
    paths = [
        str(name).removesuffix(" gradient") for name in norms if str(name).endswith(" gradient")
    ]
    rows = []
    for path in paths:
        row: dict[str, Any] = {"path": path}
        for what in ("norm", "gradient", "update", "ratio"):
            values = norms[f"{path} {what}"].to_numpy(float)
            row[what], row[f"first {what}"] = values[-1], values[0]
        rows.append(row)
    quantiles = [str(name).removesuffix(" 50%") for name in spread if str(name).endswith(" 50%")]
    told: dict[str, Any] = finite(
        {"parameters": rows, "distributions": quantiles, "network": run.about.get("network") or []}
    )
    return told


def looks(run: RunRecord) -> dict[str, Any]:
    """The fixed examples: every look, and the pictures of the inputs."""
    tables = run.at_steps("samples", "csv")
    found = {}
    for step, file in tables.items():
        found[step] = run.table_at(file).head(MOST_EXAMPLES).astype(object).to_dict("records")
    pictures = {}
    for file in run.file_names:
        if file.startswith("samples-input-") and file.endswith(".png"):
            pictures[int(file.split("-")[2])] = file
    inputs = run.at_steps("samples-inputs", "csv")
    table = (
        run.table_at(next(iter(inputs.values())))
        .head(MOST_EXAMPLES)
        .astype(object)
        .to_dict("records")
        if inputs
        else []
    )
    others = [
        file
        for file in run.file_names
        if file.endswith((".png", ".txt")) and not file.startswith(("samples", ATTRIBUTION))
    ]
    told: dict[str, Any] = finite(
        {
            "steps": list(tables),
            "looks": found,
            "pictures": pictures,
            "inputs": table,
            "others": others,
        }
    )
    return told


def attributions(run: RunRecord) -> dict[str, Any]:
    """What was found to matter to the model: tables, and the names of pictures, of the last time
    it was looked at.
    """
    pattern = re.compile(rf"^{ATTRIBUTION}(.+)-(\d{{8}})\.(csv|png)$")
    found = [match for file in run.file_names if (match := pattern.match(file))]
    last = max((match[2] for match in found), default="")
    newest = [match for match in found if match[2] == last]
    tables = {
        match[1]: _texts_of_columns(run.table_at(match[0])) for match in newest if match[3] == "csv"
    }
    pictures = {
        match[1].replace("-", " "): match[0]
        for match in newest
        if match[3] == "png" and match[1] not in tables
    }
    told: dict[str, Any] = finite(
        {
            "step": int(last) if last else None,
            "importances": tables.get("importances", []),
            "nearest": tables.get("nearest", []),
            "pictures": pictures,
            "sentence": _sentence(tables.get("importances", [])),
        }
    )
    return told


def generated(run: RunRecord) -> dict[str, Any]:
    """What a network made as the run went: scores by step, the names of pictures, and the first and
    the latest table.
    """
    rows = run.series("generated")
    pattern = re.compile(r"^generated(-and-nearest)?-(\d{8})\.(csv|png)$")
    found = sorted(
        ((int(match[2]), match) for file in run.file_names if (match := pattern.match(file))),
        key=lambda pair: pair[0],
    )
    pictures = [
        {"step": step, "file": match[0]}
        for step, match in found
        if match[3] == "png" and not match[1]
    ]
    nearest = [{"step": step, "file": match[0]} for step, match in found if match[1]]
    tables = []
    looks = [(step, match[0]) for step, match in found if match[3] == "csv"]
    for step, file in dict.fromkeys([*looks[:1], *looks[-1:]]):
        frame = run.table_at(file)
        kept = frame.astype(object).where(frame.notna(), None)
        tables.append({"step": step, "columns": list(frame), "rows": kept.to_numpy().tolist()})
    scores = {name: rows[name].tolist() for name in rows if name not in ("step", "epoch")}
    told: dict[str, Any] = finite(
        {
            "steps": rows["step"].tolist() if "step" in rows else [],
            "scores": scores,
            "pictures": pictures,
            "nearest": nearest[-1] if nearest else None,
            "tables": tables,
        }
    )
    return told


def _texts_of_columns(frame: pd.DataFrame) -> list[dict[Any, Any]]:
    """Rows of a table; names of columns are texts, though they look like numbers."""
    rows = frame.astype(object)
    if "column" in rows:
        rows["column"] = rows["column"].map(str)
    return rows.to_dict("records")


def _sentence(columns: list[dict[Any, Any]]) -> str:
    """What the importances say, in words."""
    if not columns:
        return ""
    sure = [row for row in columns if row["low"] > 0]
    if not sure:
        return (
            "No column matters more than chance, as far as these rows tell: the model decides as "
            "well when any of them is dealt out anew."
        )
    first = sure[0]
    told = (
        f"Without {first['column']} the loss rises by {first['importance']:.3g} (95 % interval "
        f"{first['low']:.3g} to {first['high']:.3g})"
    )
    if len(sure) > 1:
        others = ", ".join(
            f"{row['column']} ({row['importance']:.3g})" for row in sure[1:MOST_IN_WORDS]
        )
        told += f"; then {others}"
    idle = len(columns) - len(sure)
    left = f" {idle} of {len(columns)} columns matter no more than chance." if idle else ""
    return f"{told}.{left} Columns that say the same stand in for one another."


def study(run: RunRecord) -> dict[str, Any]:
    """The search or cross-validation that a run belongs to; empty of one that belongs to none."""
    if not run.about.get("study"):
        return {}
    found = study_of(run)
    table, importance, together = found.table(), found.importance(), found.summary()
    if "repeat" in table:
        table = table.assign(repeat=table["repeat"] + 1).rename(columns={"repeat": "division"})
    told: dict[str, Any] = finite(
        {
            "kind": found.kind,
            "name": found.name,
            "by": found.by,
            "columns": list(table),
            "rows": table.astype(object).to_numpy().tolist(),
            "importance": importance.to_dict("records"),
            "summary": together.to_dict("records"),
            "running": sum(one.status == "running" for one in found.runs),
            "failed": sum(one.status == "failed" for one in found.runs),
        }
    )
    return told
