"""The page and its JSON interface, as an ASGI application."""

from __future__ import annotations

import io
from collections.abc import Callable
from importlib.metadata import version
from pathlib import Path
from typing import Annotated, Any

from fastapi import Body, FastAPI, HTTPException, Query, Request
from fastapi.responses import HTMLResponse, JSONResponse, Response, StreamingResponse
from fastapi.staticfiles import StaticFiles
from jinja2 import Environment, PackageLoader, select_autoescape

from .. import catalogue
from ..errors import RunError, VineStepError
from ..runs._query import RunRecord, Runs
from ..runs._setting_effects import effects
from . import views as looking
from .security import Door
from .selection import add_selection
from .watcher import Watch

__all__ = ["make_app"]

HERE = Path(__file__).parent
MOST_RUNS = 60  # in one figure

Against = Annotated[str, Query(description="epoch, step, examples or seconds")]
Labels = Annotated[str, Query(alias="runs", description="Labels of runs, with commas between")]


def make_app(runs: Runs, door: Door | None = None) -> FastAPI:
    """The application for a folder or ledger of runs.

    Parameters
    ----------
    runs : Runs
    door : Door, optional
        Who may ask for what; by default only this machine.

    Examples
    --------
    >>> app = make_app(vs.runs.Runs(vs.runs.Ledger("sqlite://"), None))
    >>> app.title
    'vinestep'
    """
    app = FastAPI(
        title="vinestep",
        version=version("vinestep"),
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
    )
    app.state.door = door or Door()
    app.state.watch = Watch(runs)
    app.middleware("http")(app.state.door)
    app.add_exception_handler(VineStepError, _refused)
    app.add_exception_handler(Exception, _failed)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    templates = Environment(loader=PackageLoader("vinestep.page"), autoescape=select_autoescape())

    @app.get("/", response_class=HTMLResponse, include_in_schema=False)
    def page(request: Request) -> HTMLResponse:
        place = str(runs.root) if runs.root is not None else runs.ledger.name
        return HTMLResponse(
            templates.get_template("page.html").render(
                token=app.state.door.token, place=place, version=app.version
            )
        )

    _add_looks(app, runs)
    _add_run(app, runs)
    _add_changes(app, runs)
    add_selection(app, runs, _chosen)
    return app


def _refused(request: Request, error: Exception) -> JSONResponse:
    return JSONResponse(
        {"detail": str(error)},
        404 if "There is no run" in str(error) or "was removed" in str(error) else 400,
    )


def _failed(request: Request, error: Exception) -> JSONResponse:
    return JSONResponse(
        {"detail": f"The page could not answer this: {type(error).__name__}: {error}"[:500]}, 500
    )


def _as_file(content: str, kind: str, name: str) -> Response:
    headers = {"Content-Disposition": f'attachment; filename="{_plain(name)}"'}
    return Response(content, media_type=kind, headers=headers)


def _chosen(runs: Runs, labels: str) -> list[RunRecord]:
    wanted = [label for label in labels.split(",") if label]
    if not wanted or len(wanted) > MOST_RUNS:
        raise RunError(f"Give 1 to {MOST_RUNS} runs, with commas between; got {len(wanted)}.")
    return [runs[label] for label in wanted]


def _add_looks(app: FastAPI, runs: Runs) -> None:
    series = looking.Series()
    app.state.series = series

    @app.get("/api/curves", summary="One figure of several runs: points, trend and band")
    def curves(
        runs_: Labels,
        figure: str,
        against: Against = "epoch",
        low: float | None = None,
        high: float | None = None,
        of: str = "",
    ) -> Any:
        return {
            "curves": looking.curves(
                _chosen(runs, runs_), figure, against, low, high, series, of=of
            )
        }

    @app.get("/api/curves.csv", summary="One figure of several runs, every point, as CSV")
    def points(runs_: Labels, figure: str, against: Against = "epoch") -> Response:
        content = looking.points(_chosen(runs, runs_), figure, against, series)
        return _as_file(content, "text/csv", f"{figure}.csv")

    @app.get(
        "/api/compare",
        summary="Runs side by side: settings that differ, scores, the first to leave the others",
    )
    def compared(runs_: Labels, figure: str = "validation_loss", against: Against = "epoch") -> Any:
        return looking.comparison(_chosen(runs, runs_), figure, against)

    @app.get(
        "/api/effects", summary="What each setting does to a score, ranked, with 95 % intervals"
    )
    def ranked(figure: str = "best validation_loss", runs_: Labels = "") -> Any:
        try:
            result = effects(runs, figure, [label for label in runs_.split(",") if label] or None)
        except RunError as error:
            return {"effects": [], "reason": str(error)}
        return {"effects": looking.finite(result.to_dict("records")), "reason": ""}

    @app.get("/api/models", summary="The catalogue of kept models")
    def models() -> Any:
        return {
            "models": looking.finite(
                [vars(entry) | {"about": _short(entry.about)} for entry in catalogue.entries(runs)]
            )
        }

    @app.get(
        "/api/models/{name}/{version}/differences",
        summary="What differs between a kept model and a run",
    )
    def differences(name: str, version: int, run: str) -> Any:
        entry, other = catalogue.entry(runs, name, version), runs[run]
        mine, theirs = entry.about.get("settings") or {}, other.settings
        rows = [
            [key, mine.get(key), theirs.get(key)]
            for key in sorted({*mine, *theirs})
            if str(mine.get(key)) != str(theirs.get(key))
        ]
        return looking.finite(
            {
                "model": entry.label,
                "run": other.label,
                "settings": rows,
                "about": _short(entry.about),
            }
        )

    @app.get(
        "/api/events", summary="Server-sent events: which runs changed", include_in_schema=True
    )
    async def events() -> StreamingResponse:
        return StreamingResponse(
            app.state.watch.events(),
            media_type="text/event-stream",
            headers={"Cache-Control": "no-store"},
        )


def _short(about: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in about.items() if key != "settings"}


def _add_run(app: FastAPI, runs: Runs) -> None:
    series = app.state.series

    @app.get("/api/runs/{label}", summary="All that is known of a run but its series")
    def one(label: str) -> Any:
        return looking.summary(runs[label])

    @app.get("/api/runs/{label}/answers", summary="What the record says of how it went")
    def answers(label: str) -> Any:
        return {"answers": looking.answers(runs[label])}

    @app.get("/api/runs/{label}/progress", summary="How far and how fast it is, and its best score")
    def progress(label: str) -> Any:
        return looking.progress(runs[label], series)

    @app.get("/api/runs/{label}/layers", summary="Norms by parameter, and the layers")
    def layers(label: str) -> Any:
        return looking.layers(runs[label], series)

    @app.get(
        "/api/runs/{label}/looks",
        summary="The fixed examples: truth beside decision, at every look",
    )
    def looks(label: str) -> Any:
        return looking.looks(runs[label])

    @app.get("/api/runs/{label}/generated", summary="What the network made as the run went")
    def generated(label: str) -> Any:
        return looking.generated(runs[label])

    @app.get("/api/runs/{label}/attributions", summary="What was found to matter to the model")
    def attributions(label: str) -> Any:
        return looking.attributions(runs[label])

    @app.get("/api/runs/{label}/study", summary="The search or cross-validation it belongs to")
    def study(label: str) -> Any:
        return looking.study(runs[label])

    @app.get("/api/runs/{label}/series/{name}", summary="A series whole, as CSV or JSON")
    def whole(label: str, name: str, form: str = "csv") -> Response:
        run = runs[label]
        if name not in run.series_names:
            raise HTTPException(
                404, f"{label} has no series {name!r}; it has {', '.join(run.series_names)}."
            )
        frame = run.series(name)
        file = f"{run.label}-{name}.{'json' if form == 'json' else 'csv'}"
        room = io.StringIO()
        if form == "json":
            frame.to_json(room, orient="records", double_precision=15)
        else:
            frame.to_csv(room, index=False)
        kind = "application/json" if form == "json" else "text/csv"
        return _as_file(room.getvalue(), kind, file)

    @app.get("/api/runs/{label}/files/{name}", summary="A recorded file")
    def file(label: str, name: str) -> Response:
        run = runs[label]
        if name not in run.file_names:
            raise HTTPException(404, f"{label} has no file of that name.")
        kinds = {".png": "image/png", ".csv": "text/csv", ".json": "application/json"}
        kind = kinds.get(Path(name).suffix, "text/plain; charset=utf-8")
        return Response(
            run.read_file(name),
            media_type=kind,
            headers={"Content-Disposition": f'inline; filename="{_plain(name)}"'},
        )

    @app.get("/api/runs/{label}/console", summary="What the run printed")
    def console(label: str) -> Any:
        return {"console": runs[label].console[-100_000:]}


def _plain(name: str) -> str:
    return "".join(c if c.isalnum() or c in "-_." else "-" for c in name)


def _add_changes(app: FastAPI, runs: Runs) -> None:
    def changed(label: str, act: Callable[[RunRecord], Any]) -> Any:
        run = runs[label]
        act(run)
        return {"run": run.label}

    @app.post("/api/runs/{label}/ask", summary="Ask a run to stop, or to finish as good enough")
    def ask(
        label: str, what: Annotated[str, Body()], why: Annotated[str, Body(max_length=2000)] = ""
    ) -> Any:
        return changed(label, lambda run: run.ask(what, why))

    @app.post("/api/runs/{label}/notes", summary="Write a note down")
    def note(
        label: str, text: Annotated[str, Body(embed=True, min_length=1, max_length=20_000)]
    ) -> Any:
        return changed(label, lambda run: run.note(text))

    @app.post("/api/runs/{label}/tags", summary="Add and remove tags")
    def tags(
        label: str,
        add: Annotated[list[str] | None, Body(max_length=100)] = None,
        remove: Annotated[list[str] | None, Body(max_length=100)] = None,
    ) -> Any:
        return changed(label, lambda run: run.tag(add or [], remove or []))
