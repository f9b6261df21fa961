"""What the page does with many runs at once: the table of them, their scores by settings, views
kept by name, and tags, reports and removals of those that are chosen.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Annotated, Any

from fastapi import Body, FastAPI, Query
from fastapi.responses import Response

from .. import catalogue
from ..errors import RunError, VineStepError
from ..runs._query import RunRecord, Runs
from ..runs._report import report
from ..runs._saved_views import remove_view, save_view, saved_views
from ..runs._seed_means import scores_by_settings
from .views import as_rows, finite, told_apart

__all__ = ["add_selection"]

MOST_AT_ONCE = 200  # runs that one request changes

Conditions = Annotated[
    list[str] | None, Query(description="On settings, scores, columns or tags; repeated")
]
Texts = Annotated[
    list[str] | None, Query(description="In the label, tags, notes or settings; repeated")
]
Labels = Annotated[list[str], Body(min_length=1, max_length=MOST_AT_ONCE)]


def _wanted(given: list[str] | None) -> list[str]:
    return [one for one in given or [] if one.strip()]


def add_selection(app: FastAPI, runs: Runs, chosen: Callable[[Runs, str], list[RunRecord]]) -> None:
    """Add the addresses to an application."""

    @app.get("/api/runs", summary="Runs that meet conditions, with their last and best figures")
    def listed(
        name: str = "",
        tag: str = "",
        status: str = "",
        where: Conditions = None,
        text: Texts = None,
        sort: str = "",
        columns: str = "",
    ) -> Response:
        wanted = [*(one.strip() for one in columns.split(",") if one.strip()), "uid"]
        table = runs.table(
            name=name or None,
            tag=tag or None,
            status=status or None,
            where=_wanted(where),
            text=_wanted(text),
            sort=sort or None,
            columns=wanted,
        )
        rows = as_rows(told_apart(table))
        names = json.dumps(runs.names())
        return Response(f'{{"runs":{rows},"names":{names}}}', media_type="application/json")

    @app.get("/api/settings", summary="A score beside the settings in which runs differ")
    def settings(
        figure: str = "best validation_loss", where: Conditions = None, text: Texts = None
    ) -> Any:
        try:
            found = scores_by_settings(runs, figure, where=_wanted(where), text=_wanted(text))
        except RunError as error:
            return {"rows": [], "settings": [], "means": [], "reason": str(error)}
        return finite(
            {
                "rows": found.rows.astype(object).to_dict("records"),
                "settings": found.settings,
                "means": found.means().astype(object).to_dict("records"),
                "reason": "",
            }
        )

    @app.get("/api/report", summary="One HTML file on some runs")
    def reported(runs_: Annotated[str, Query(alias="runs")]) -> Response:
        found = chosen(runs, runs_)
        headers = {"Content-Disposition": 'attachment; filename="report.html"'}
        return Response(report(found), media_type="text/html; charset=utf-8", headers=headers)

    @app.get("/api/views", summary="Views of the page that were kept by name")
    def views() -> Any:
        return {"views": saved_views(runs.ledger)}

    @app.post("/api/views", summary="Keep a view by name")
    def keep(name: Annotated[str, Body()], query: Annotated[str, Body()]) -> Any:
        save_view(runs.ledger, name, query)
        return {"views": saved_views(runs.ledger)}

    @app.post("/api/views/remove", summary="Remove a view")
    def forget(name: Annotated[str, Body(embed=True)]) -> Any:
        remove_view(runs.ledger, name)
        return {"views": saved_views(runs.ledger)}

    @app.post("/api/runs/{label}/keep", summary="Keep its best model in the catalogue")
    def kept(
        label: str,
        name: Annotated[str, Body(max_length=100)],
        note: Annotated[str, Body(max_length=20_000)] = "",
    ) -> Any:
        return {"model": catalogue.keep(runs[label], name, note=note).label}

    @app.post("/api/selected/tags", summary="Add and remove tags of several runs")
    def tagged(
        labels: Labels,
        add: Annotated[list[str] | None, Body(max_length=100)] = None,
        remove: Annotated[list[str] | None, Body(max_length=100)] = None,
    ) -> Any:
        return _each(runs, labels, lambda run: run.tag(add or [], remove or []))

    @app.post("/api/selected/remove", summary="Remove several runs with all they recorded")
    def removed(labels: Annotated[Labels, Body(embed=True)]) -> Any:
        return _each(runs, labels, lambda run: run.remove())


def _each(runs: Runs, labels: list[str], act: Callable[[RunRecord], Any]) -> dict[str, Any]:
    """What was done with each of several runs; a refusal of one leaves the others."""
    done, refused = [], []
    for label in labels:
        try:
            act(runs[label])
            done.append(label)
        except VineStepError as error:
            refused.append(str(error))
    return {"done": done, "refused": refused}
