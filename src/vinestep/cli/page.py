"""The command that serves the live page."""

from __future__ import annotations

from importlib.util import find_spec
from typing import Annotated

import typer

from .shared import (
    RECORDS,
    RUNS,
    LedgerOption,
    RecordOption,
    app,
    console,
    explained,
    opened_runs,
)

__all__: list[str] = []


@app.command(rich_help_panel=RUNS)
def page(
    host: Annotated[
        str,
        typer.Option(
            "--host",
            metavar="ADDRESS",
            help="Where to listen; beyond this machine a token is needed.",
        ),
    ] = "127.0.0.1",
    port: Annotated[int, typer.Option("--port", min=0, max=65535, help="0 for a free one.")] = 8765,
    called: Annotated[
        list[str],
        typer.Option(
            "--called",
            metavar="NAME",
            help="A further name of this machine that the page may be called by.",
        ),
    ] = [],  # noqa: B006  # typer reads it, nobody writes to it
    record: RecordOption = RECORDS,
    ledger: LedgerOption = "",
) -> None:
    """Serve a live page that answers questions about runs, in a browser."""
    from ..errors import RunError

    with explained():
        missing = [name for name in ("fastapi", "uvicorn", "jinja2") if find_spec(name) is None]
        if missing:
            raise RunError(f"The page needs {', '.join(missing)}: pip install 'vinestep[page]'.")
        from ..page import serve

        record.mkdir(parents=True, exist_ok=True) if not ledger else None
        runs = opened_runs(record, ledger)
        serve(
            runs,
            host=host,
            port=port,
            names=tuple(called),
            told=lambda address: console.print(
                f"{address}  (Ctrl-C ends it)", highlight=False, soft_wrap=True
            ),
        )
