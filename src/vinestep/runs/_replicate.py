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
SHARE = 0.05
"""Of a processor that it takes at most. Where machine or ledger are busy, it pauses twice as long
as it took.
"""
LONGEST = 5.0
PATIENCE = 20.0  # seconds after the end of the run in which the ledger may come back


def replicate(folder: RunFolder, url: str) -> None:
    """Hand on until the run has ended and everything is there."""
    ledger: Ledger | None = None
    told, ended = False, 0.0
    while folder.path.is_dir():
        begun, worked = time.monotonic(), time.process_time()
        over = not folder.is_held()
        try:
            ledger = ledger or Ledger(url)
            _copy_news(folder, ledger)
            if over:
                return
        except VineStepError as error:
            begun = time.monotonic()  # one that does not answer is asked again soon
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
        took, work = time.monotonic() - begun, time.process_time() - worked
        time.sleep(min(max(SECONDS, 2 * took, work / SHARE), LONGEST))


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
