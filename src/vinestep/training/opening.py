"""From what a caller names to a store: the one place that knows of folders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from os import PathLike

from .store import RunStore

__all__ = ["opened"]


@contextmanager
def opened(
    record: RunStore | str | PathLike[str] | None, resume: RunStore | str | PathLike[str] | None, name: str
) -> Iterator[RunStore | None]:
    """The store of a new run or of one that goes on; nobody else can continue that run meanwhile."""
    from ..runs.folders import RunFolder, run_of_state

    with ExitStack() as stack:
        store: RunStore | None = None
        if isinstance(resume, RunStore):
            store = resume
        elif resume is not None:
            store = stack.enter_context(RunFolder.open(run_of_state(resume)).held())
        elif isinstance(record, RunStore):
            store = record
        elif record is not None:
            store = stack.enter_context(RunFolder.new(record, name))
        try:
            yield store
        finally:
            if store is not None:
                store.end()
