"""A loop of a user's own as a recorded run."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from os import PathLike
from typing import TYPE_CHECKING, Any

from ..distributed._current import communicator
from ..errors import SettingError
from ..storage.run_store import RunStore
from .observers._defaults import with_default_observers
from .run._ranks import observers_of_rank, store_of_rank
from .run._resume import continue_run
from .run._run import Run, observers_attached
from .run._run_metadata import write_about
from .step._state import HasState

if TYPE_CHECKING:
    from .run._run import Observer

__all__ = ["recorded_run"]


@contextmanager
def recorded_run(
    parts: Mapping[str, HasState],
    *,
    steps: int,
    observers: Sequence[Observer] = (),
    record: RunStore | str | PathLike[str] | None = None,
    name: str = "run",
    resume: RunStore | str | PathLike[str] | None = None,
    plan: Mapping[str, Any] | None = None,
    better: Mapping[str, str] | None = None,
) -> Iterator[Run]:
    """A loop of one's own as a run: recorded, observed, stopped by Ctrl-C, and continued from where
    it was.

    Parameters
    ----------
    parts : mapping of name to what has a state
        All that changes: every `Descent`, every `RandomStream`, whatever else has ``state()`` and
        ``restore(state)``.
    steps : int
        In all, those before a resumption included.
    observers : sequence of Observer
    record : store or path, optional
        Where runs are recorded.
    name : str
    resume : store or path, optional
        The run to continue from its newest sound state.
    plan : mapping, optional
        What is asked, for the record.
    better : mapping of figure to "higher" or "lower", optional
        For observers that judge; losses are the better the lower.

    Raises
    ------
    RunError
        If the run to continue does not exist, is finished or running, or has other parts.

    Examples
    --------
    >>> store = vs.training.MemoryStore()
    >>> noise = vs.RandomStream(0)
    >>> with vs.recorded_run({"noise": noise}, steps=2, record=store) as run:
    ...     for number in run.steps():
    ...         run.numbers(draw=noise.rng.random())
    >>> store.read_status()["status"], len(store.read_series("steps"))
    ('finished', 2)
    """
    if not isinstance(steps, int) or steps < 1:
        raise SettingError(
            f"recorded_run: steps must be a whole number of at least 1, got {steps!r}."
        )
    for key, part in parts.items():
        if not isinstance(part, HasState) or not key or "/" in key:
            raise SettingError(
                f"recorded_run: the part {key!r} needs a name without / and the methods state() "
                "and restore(state)."
            )
    watchers = observers_of_rank(
        with_default_observers(observers, record is not None or resume is not None), parts
    )
    described = {"written_by": "recorded_run", "steps": steps, "parts": sorted(parts)}
    with ExitStack() as stack:
        stack.enter_context(communicator().guarded())
        stack.enter_context(observers_attached(watchers))
        store = stack.enter_context(store_of_rank(record, resume, name))
        run = Run(
            dict(parts),
            watchers,
            store,
            name,
            dict(plan or described),
            described,
            total_steps=steps,
            better=dict(better or {}),
        )
        if resume is not None:
            continue_run(run, resume, ())
        elif store is not None:
            run.save("step-00000000")
            run.finish_saving()
            run.record_status("")
            write_about(
                store, {**described, **(plan or {})}, {"better": run.better, "steps": steps}
            )
            store.begin(name, run.plan)
        begun = time.perf_counter()
        with run.under_way():
            yield run
            if run.position.step < run.total_steps and not run.stop_reason:
                run.stop("The loop ended before its last step", resumable=True)
        run.conclude(begun)
