"""A run that goes on: its state read, checked, held against how the run is set up now, and
restored.
"""

from __future__ import annotations

import logging
from collections.abc import Sequence
from os import PathLike
from pathlib import Path
from typing import Any

from ..._public_names import did_you_mean
from ...distributed._current import communicator
from ...errors import CheckpointError, RunError
from ...parts._added_settings import without_new_defaults
from ...storage.checkpoint_schema import checked_meta, step_of
from ...storage.json_values import nan_for_none, rows_with_nan
from ...storage.run_store import RunStore, SavedState
from ...storage.settings import differences
from ._ending import Ending
from ._results import Position
from ._run import MOST_ROWS, Run

__all__ = ["continue_run"]

log = logging.getLogger("vinestep")
FREE = ("epochs", "steps", "until", "written_by")
"""What may change freely."""


def continue_run(
    run: Run,
    resume: RunStore | str | PathLike[str],
    changed: Sequence[str],
    ending: Ending | None = None,
) -> dict[str, Any]:
    """Bring a run to where it was saved; returns what the state said besides arrays.

    Parameters
    ----------
    run : Run
    resume : store or path
        The run, or one of its states.
    changed : sequence of str
        Names of settings that are meant to differ.
    ending : Ending, optional
        When it ends, of a training's run.

    Raises
    ------
    RunError
        If it is finished and nothing more is asked of it, or it was set up differently.
    CheckpointError
        If no state can be trusted, or it belongs to another training.
    """
    store = run.store
    assert store is not None
    comm = communicator()
    result: SavedState = comm.broadcast(_found(run, store, resume) if comm.rank == 0 else None)
    before = result.meta["settings"]
    more = any(before.get(name) != run.settings.get(name) for name in ("epochs", "steps", "until"))
    if not more:
        store.check_resumable()
    _check_settings(run, store, result, changed)
    states = run.part_states(result.arrays, result.meta["parts"])
    for name, part in run.parts.items():
        try:
            part.restore(states[name])
        except CheckpointError as error:
            raise CheckpointError(f"{result.name}: {error}") from error
    for later in store.states():
        if step_of(later) > step_of(result.name):
            store.rename_state(later, f"{later}.refused")
    run.position = Position(**nan_for_none({"weight": None, **result.meta["position"]}))
    store.trim(run.position.step)
    run.rows[:] = (
        rows_with_nan(result.meta["curves"])
        if run.epochs
        else comm.broadcast(_steps_so_far(run, store))
    )
    run.looks[:] = rows_with_nan(result.meta.get("looks", []))
    run.name = result.meta["name"]
    if result.meta["stop_reason"] and not more:
        run.stop(result.meta["stop_reason"])
    _restore_observers(run, result)
    was_finished = comm.broadcast(store.read_status().get("status") == "finished")
    if more and ending is not None and was_finished:
        ending.begin()
        if ending.reason_at(run.position):
            store.check_resumable()
    return result.meta


def _found(run: Run, store: RunStore, resume: RunStore | str | PathLike[str]) -> SavedState:
    def accept(state: SavedState) -> None:
        checked_meta(state)
        if state.meta["parts"].keys() != run.parts.keys():
            raise CheckpointError(
                f"{state.name}: refused: it holds the parts "
                f"{', '.join(map(repr, state.meta['parts']))}; this run has "
                f"{', '.join(map(repr, run.parts))}."
            )
        _restore_observers(run, state)

    named = Path(resume) if not isinstance(resume, RunStore) else None
    if named is not None and named.is_file():
        result = store.read_state(named.stem)
        accept(result)
        return result
    result, refused = store.newest_state(accept)
    for reason in refused:
        log.warning("%s The sound one before it is used: %s.", reason, result.name)
        store.write_console(f"{reason} The sound one before it is used: {result.name}.")
    return result


def _restore_observers(run: Run, state: SavedState) -> None:
    for key, observer in run.keyed_observers().items():
        observer.restore(state.meta["observers"].get(key, {}))


def _steps_so_far(run: Run, store: RunStore) -> list[dict[str, float]]:
    rows = store.read_series("steps")
    while len(rows) > MOST_ROWS:
        del rows[1::2]
    return rows


def _check_settings(run: Run, store: RunStore, state: SavedState, changed: Sequence[str]) -> None:
    """A run goes on as it was set up, but for what is named as meant."""
    before = state.meta["settings"]
    settings = differences(before, without_new_defaults(before, run.settings))
    settings = {name: what for name, what in settings.items() if name.split(".")[0] not in FREE}
    meant = {
        name
        for name in settings
        if any(name == own or name.startswith(f"{own}.") for own in changed)
    }
    strange = [
        own
        for own in changed
        if not any(name == own or name.startswith(f"{own}.") for name in settings)
    ]
    if strange:
        raise RunError(
            f"{store.label}: {strange[0]!r} was named as changed, and is not. "
            f"{did_you_mean(strange[0], settings)}"
        )
    if left := [f"{name}: {what}" for name, what in settings.items() if name not in meant]:
        listed = "".join(f"\n  {text}" for text in left[:12]) + (
            f"\n  and {len(left) - 12} more" if len(left) > 12 else ""
        )
        raise RunError(
            f"{store.label}: this run was set up differently:{listed}\nSet it up as it was, or "
            "name what is meant: "
            f"changed={sorted({text.partition(':')[0].split('.')[0] for text in left})}. It is "
            "recorded then."
        )
    if "batches.size" in meant and state.meta["position"]["batch"]:
        raise RunError(
            f"{store.label}: the size of batches can change between epochs only, and the run "
            "stands within one."
        )
    if meant:
        words = [f"{name}: {settings[name]}" for name in sorted(meant)]
        store.write_status({"changes": words})
        store.write_console(f"Continued with changes: {'; '.join(words)}.")
