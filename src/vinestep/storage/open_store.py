"""From what a caller names to a store: the one place that knows of folders."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from os import PathLike
from pathlib import Path
from typing import Any

from .._arguments import checked_name, checked_path
from ..errors import RunError
from .run_store import RunStore

__all__ = ["opened_store", "weights_of"]


@contextmanager
def opened_store(
    record: RunStore | str | PathLike[str] | None,
    resume: RunStore | str | PathLike[str] | None,
    name: str,
) -> Iterator[RunStore | None]:
    """The store of a new run or of one that goes on; nobody else can continue that run
    meanwhile.
    """
    from .run_folder import RunFolder, run_of_state

    checked_name(name, "run")
    for place, role in ((record, "record"), (resume, "resume")):
        if place is not None and not isinstance(place, RunStore):
            checked_path(place, role)
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


def weights_of(source: Any) -> tuple[Any, dict[str, Any]]:
    """Arrays by path, and where they come from: of a model, a file of one, a state, a run's folder,
    a layer or a mapping.

    Raises
    ------
    RunError
        If a run has no states.
    ArchiveError
        If a file is damaged.
    """
    if not isinstance(source, str | PathLike):
        network = getattr(source, "network", None)
        if network is None:
            return source, {"source": type(source).__name__}
        lineage = getattr(source, "lineage", {})
        return network, {
            "source": "model",
            "run": lineage.get("run", ""),
            "step": lineage.get("step", 0),
        }
    from . import archive

    path = Path(source)
    if path.is_dir():
        from .run_folder import RunFolder

        store = RunFolder.open(path)
        names = store.states()
        if not names:
            raise RunError(f"{path}: this run has no states to begin from.")
        path = store.state_path(store.best_state() or names[-1])
    saved = archive.read(path)
    model = saved.meta.get("model")
    lineage = model.get("lineage", {}) if isinstance(model, dict) else {}
    return saved, {
        "source": str(path),
        "run": str(lineage.get("run", "")),
        "step": lineage.get("step", 0),
    }
