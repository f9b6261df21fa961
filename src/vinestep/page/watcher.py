"""What is new: the record is looked at now and then, and whoever listens is told."""

from __future__ import annotations

import asyncio
import json
import logging
from collections.abc import AsyncIterator
from typing import Any

import sqlalchemy as sa

from ..errors import VineStepError
from ..runs import _schema as t
from ..runs._query import Runs

__all__ = ["Watch"]

log = logging.getLogger("vinestep")
SECONDS = 0.7
ALIVE = 15.0


class Watch:
    """Takes in what runs record while somebody listens, and says which runs changed."""

    def __init__(self, runs: Runs) -> None:
        self.runs = runs
        self._listeners: set[asyncio.Queue[str]] = set()
        self._task: asyncio.Task[None] | None = None
        self._known: dict[str, Any] = {}
        self._told = False
        self.closing = False

    async def events(self) -> AsyncIterator[str]:
        """Server-sent events, one for each look that found something."""
        queue: asyncio.Queue[str] = asyncio.Queue(maxsize=32)
        self._listeners.add(queue)
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._look())
        try:
            yield "retry: 1000\nevent: hello\ndata: {}\n\n"
            while not self.closing:
                try:
                    yield await asyncio.wait_for(queue.get(), ALIVE)
                except TimeoutError:
                    yield ": still here\n\n"
        finally:
            self._listeners.discard(queue)

    async def _look(self) -> None:
        while self._listeners and not self.closing:
            try:
                changed = await asyncio.to_thread(self.changes)
                self._told = False
            except VineStepError as error:
                changed = {} if self._told else {"trouble": str(error)}
                self._told = True
            if changed:
                message = f"event: changed\ndata: {json.dumps(changed)}\n\n"
                for queue in list(self._listeners):
                    if queue.full():  # it is behind, and will ask for all anyway
                        queue.get_nowait()
                    queue.put_nowait(message)
            await asyncio.sleep(SECONDS)

    def changes(self) -> dict[str, Any]:
        """Runs that are new or changed, and those that are gone, since the last look."""
        self.runs.refresh()
        query = sa.select(t.runs.c.label, t.runs.c.status, t.runs.c.step, t.runs.c.changed).where(
            t.runs.c.label != ""
        )
        with self.runs.ledger.reading() as connection:
            now = {
                label: [status, step, changed]
                for label, status, step, changed in connection.execute(query)
            }
        gone = [label for label in self._known if label not in now]
        new = {label: state for label, state in now.items() if self._known.get(label) != state}
        self._known = now
        return {"runs": new, "gone": gone} if new or gone else {}
