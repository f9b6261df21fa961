"""A process beside a run that hands on what its folder records to a ledger elsewhere, and requests
from there to the folder.

The run itself never waits for the ledger. While the ledger is slow or gone the folder keeps
everything; if it stays away, the next command that opens the ledger catches up.
"""

from __future__ import annotations

import sys
import time
from pathlib import Path

from ..errors import RunError, VineStepError
from ..storage.run_folder import RunFolder
from ._ledger import Ledger, ledger_url

__all__ = ["replicate"]

SECONDS = 0.5
PATIENCE = 20.0  # seconds after the end of the run in which the ledger may come back


def replicate(folder: RunFolder, url: str) -> None:
    """Hand on until the run has ended and everything is there."""
    ledger: Ledger | None = None
    told, ended = False, 0.0
    while folder.path.is_dir():
        over = not folder.is_held()
        try:
            ledger = ledger or Ledger(url)
            _copy_news(folder, ledger)
            if over:
                return
        except VineStepError as error:
            if not told:
                folder.write_console(
                    f"warning: {error} The run goes on, its folder keeps what is recorded, and "
                    "the next command catches up."
                )
                told = True
        if over:
            ended = ended or time.monotonic()
            if time.monotonic() - ended > PATIENCE:
                return
        time.sleep(SECONDS)


def _copy_news(folder: RunFolder, ledger: Ledger) -> None:
    from ._ingest import ingest

    ingest(folder, ledger)
    for request in _asked(folder, ledger):
        try:
            folder.ask(request)
        except RunError as error:  # the run ended meanwhile
            folder.write_console(f"warning: {error}")


def _asked(folder: RunFolder, ledger: Ledger) -> list:  # type: ignore[type-arg]
    from ._query import store_of

    store = store_of(ledger, folder.read_status().get("uid", ""))
    return store.requests() if store is not None else []


if __name__ == "__main__":
    replicate(RunFolder(Path(sys.argv[1])), ledger_url(Path(sys.argv[1]).parent))
