"""A search over the settings of a plan, its trials in processes of their own; it can be interrupted
and continued.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...distributed._current import refuse_ranks
from ...errors import CheckpointError, RunError, SettingError, VineStepError
from ...storage.run_folder import locked
from ...storage.run_schema import ABOUT as ABOUT_SCHEMA, valid_fields
from ..run._results import Outcome
from ..run._run_metadata import ABOUT
from ..run._status import Status
from ..run._study import new_study, part_of_study
from ._trials import (
    How,
    Space,
    Trial,
    Trials,
)
from ._worker_pool import worker_pool

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from ...storage.run_store import RunStore
    from ..plans._planned_run import PlannedRun

__all__ = ["Search", "search"]

LOCK = ".search.lock"
UNTIL_FREE = -1.0
FILE = "search.json"


class Search:
    """A search in a folder.

    Attributes
    ----------
    trials : Trials
    folder : Path
        Holds ``search.json`` and the recorded runs of the trials.

    Examples
    --------
    >>> vs.training.Search.open("no-such-folder")
    Traceback (most recent call last):
    vinestep.errors.RunError: no-such-folder/search.json: there is no search to go on with: ...
    """

    def __init__(
        self, trials: Trials, folder: Path, asked: dict[str, Any], study: str = ""
    ) -> None:
        self.trials, self.folder, self.asked = trials, folder, asked
        self.study = study or new_study()

    @classmethod
    def open(cls, folder: str | os.PathLike[str]) -> Search:
        """One that was begun.

        Raises
        ------
        RunError
            If there is none in this folder.
        """
        path = Path(folder) / FILE
        try:
            known = json.loads(path.read_text(encoding="utf-8"))
            trials = [Trial(**trial) for trial in known["trials"]]
            asked = known["asked"]
            return cls(
                Trials(
                    trials,
                    asked["how"],
                    asked["epochs"],
                    asked["factor"],
                    known["rungs"],
                    Space(asked["space"]),
                    asked["trials"] if asked["how"] == "gaussian_process" else len(trials),
                    asked["seed"],
                ),
                Path(folder),
                asked,
                str(known.get("study", "")),
            )
        except (OSError, ValueError, LookupError, TypeError) as error:
            raise RunError(f"{path}: there is no search to go on with: {error}.") from error

    def save(self) -> None:
        """Write down where the search is, whole or not at all."""
        from ...storage.run_folder import write_text

        known = {
            "asked": self.asked,
            "study": self.study,
            "rungs": self.trials.rungs,
            "trials": [asdict(trial) for trial in self.trials.trials],
        }
        write_text(self.folder / FILE, json.dumps(known, indent=1))

    @property
    def best(self) -> Trial | None:
        return self.trials.best

    def table(self) -> pd.DataFrame:
        """A row for each trial: its settings, epochs, score and run; the best first."""
        import pandas as pd

        rows = [
            {
                "trial": t.number,
                **t.settings,
                "epochs": t.epochs,
                self.asked["by"]: t.value,
                "run": t.run,
                "failure": t.failure,
            }
            for t in sorted(self.trials.trials, key=lambda t: (-t.epochs, t.score is None, t.score))
        ]
        return pd.DataFrame(rows)

    def importance(self) -> pd.DataFrame:
        """Which settings mattered: of each the share of the differences between the trials that it
        explains, with an interval of 95 %, how likely as much would be if it did nothing, and
        whether that is below 5 % for all settings together. Empty of fewer than 6 trials.
        """
        from ._importance import importance_of_trials

        return importance_of_trials([(t.settings, t.epochs, t.score) for t in self.trials.trials])

    def figure(self) -> Figure:
        """The score against each setting."""
        from ...figures._tuning import trials

        done = [t for t in self.trials.trials if t.value is not None]
        return trials(
            [t.settings for t in done],
            [float(t.value) for t in done if t.value is not None],
            self.asked["by"],
        )


def search(
    plan: str | os.PathLike[str] | Callable[..., Any],
    space: Mapping[str, Any],
    *,
    folder: str | os.PathLike[str],
    how: How = "random",
    trials: int = 12,
    epochs: int | None = None,
    by: str = "validation_loss",
    processes: int = 2,
    seed: int = 0,
    factor: int = 3,
    own: Sequence[str] = (),
    cluster: str = "",
) -> Search:
    """Try a plan, or a function that trains, with other settings, several trials at once.

    Every trial is a recorded run in `folder`. A search that was interrupted goes on when it is
    called again with the same arguments: trials that were under way are continued from their newest
    state.

    Parameters
    ----------
    plan : path, or callable
        A function ``trial(settings, **options)`` trains with these settings, hands the options on,
        ``training.run(..., **options)``, and returns the `Outcome`. With more than one process it
        has to be defined in a module.
    space : mapping of dotted name to values
        As of `Space`: ``{"optimiser.rate": {"low": 1e-4, "high": 1e-1, "log": True},
        "layers.0.width": [16, 64]}``.
    folder : path
    how : {"grid", "random", "halving", "quasi_random", "gaussian_process"}
        See `Trials.new`.
    trials : int
        How many are made, but of a grid.
    epochs : int, optional
        Of a whole trial, by default the plan's.
    by : str
        Column of the curves that is judged, at its best epoch.
    processes : int
    seed : int
    factor : int
        Of halving.
    own : sequence of path
        Python files with parts of your own.
    cluster : str
        Address of a Dask scheduler, such as ``"tcp://cellar1:8786"``, whose workers make the trials
        in place of processes of this machine. They need the same files at the same paths, and Vine
        Step.

    A trial whose process was killed is tried again, from its newest state.

    Raises
    ------
    PlanError
        If the plan, or the plan with the settings of the first trial, cannot be followed.
    RunError
        If the folder holds another search.

    Examples
    --------
    >>> import tempfile
    >>> from pathlib import Path
    >>> root = Path(tempfile.mkdtemp())
    >>> _ = vs.demo.barrels(60).to_csv(root / "barrels.csv", index=False)
    >>> data = {"source": "barrels.csv", "target": "state"}
    >>> layers = [{"kind": "dense", "width": "classes"}]
    >>> import tomli_w
    >>> asked = tomli_w.dumps({"epochs": 1, "data": data, "layers": layers})
    >>> _ = (root / "plan.toml").write_text(asked)
    >>> rates = {"optimiser.rate": [0.01]}
    >>> found = vs.training.search(
    ...     root / "plan.toml", rates, folder=root / "s", how="grid", processes=1
    ... )
    >>> len(found.table())
    1
    """
    refuse_ranks("search")
    function = plan if callable(plan) else None
    whole = epochs or (None if function is not None else _epochs_of(plan, own))  # type: ignore[arg-type]
    if not whole:
        raise RunError("search: say how many epochs a whole trial has: epochs=20.")
    asked = {
        "plan": _name_of(plan),
        "space": {name: _plain(allowed) for name, allowed in space.items()},
        "how": how,
        "epochs": whole,
        "by": by,
        "factor": factor,
    }
    asked |= {"trials": trials, "seed": seed, "own": [str(Path(file).resolve()) for file in own]}
    asked = json.loads(json.dumps(asked))
    folder = Path(folder)
    if (folder / FILE).exists():
        result = Search.open(folder)
        if result.asked != asked:
            differs = sorted(name for name in asked if result.asked.get(name) != asked[name])
            raise RunError(
                f"{folder}: it holds a search with other {', '.join(differs)}. Give another "
                "folder, or the same arguments."
            )
    else:
        result = Search(
            Trials.new(Space(space), how, epochs=whole, trials=trials, seed=seed, factor=factor),
            folder,
            asked,
        )
        if function is None:
            _check_first(plan, result.trials.trials[0].settings, own)  # type: ignore[arg-type]
        folder.mkdir(parents=True, exist_ok=True)
        result.save()
    if function is not None:
        _check_function(function, 2 if cluster else processes)
    _run(result, processes, function, cluster)
    return result


def _name_of(plan: Any) -> str:
    if callable(plan):
        return f"{getattr(plan, '__module__', '')}:{getattr(plan, '__qualname__', repr(plan))}"
    return str(Path(plan).resolve())


def _plain(allowed: Any) -> Any:
    return dict(allowed) if isinstance(allowed, Mapping) else list(allowed)


def _epochs_of(plan: str | os.PathLike[str], own: Sequence[str]) -> int | None:
    from ..plans._overrides import own_parts_of
    from ..plans._plan import read_plan

    return read_plan(plan, own=own_parts_of(own)).epochs


def _check_first(
    plan: str | os.PathLike[str], settings: Mapping[str, Any], own: Sequence[str]
) -> None:
    """Refuse a plan that cannot be followed before anything is written."""
    _planned(plan, own, _as_settings(settings))


def _check_function(function: Callable[..., Any], processes: int) -> None:
    """Refuse a function that other processes cannot find."""
    if processes > 1:
        import pickle

        try:
            pickle.dumps(function)
        except (pickle.PicklingError, AttributeError, TypeError) as error:
            raise RunError(
                f"search: {function!r} cannot be handed to other processes: {error}. Define it at "
                "the top of a module, or say processes=1."
            ) from error


def _run(search: Search, processes: int, function: Callable[..., Any] | None, cluster: str) -> None:
    busy = f"{search.folder}: another search is at work in this folder."
    with locked(search.folder / LOCK, 0, busy):
        if processes == 1 and not cluster:
            while wanted := _wanted(search, 1):
                for trial, epochs in wanted:
                    _take(
                        search, trial, epochs, _trial(*_arguments(search, trial, epochs, function))
                    )
            return
        with worker_pool(processes, cluster) as pool:
            while wanted := _wanted(search, pool.size):
                trials = {f"trial {trial.number}": (trial, epochs) for trial, epochs in wanted}
                tasks = {
                    name: _arguments(search, trial, epochs, function)
                    for name, (trial, epochs) in trials.items()
                }
                for name, found in pool.completed(_trial, tasks):
                    _take(search, *trials[name], found)


def _arguments(
    search: Search, trial: Trial, epochs: int, function: Callable[..., Any] | None
) -> tuple[Any, ...]:
    """Of `_trial`, which another process may call."""
    study = {
        "id": search.study,
        "kind": "search",
        "name": search.folder.resolve().name,
        "by": search.asked["by"],
        "number": trial.number,
        "settings": trial.settings,
    }
    return search.asked, str(search.folder.resolve()), study, trial.run, epochs, function


def _wanted(search: Search, count: int) -> list[tuple[Trial, int]]:
    """The trials to be run now; a search that chooses them as it goes chooses more."""
    wanted = search.trials.wanted()
    if not wanted:
        search.trials.propose(count)
        search.save()
        wanted = search.trials.wanted()
    return wanted


def _take(
    search: Search, trial: Trial, epochs: int, found: tuple[str, float | None, bool, str]
) -> None:
    trial.run, trial.value, lower, trial.failure = found
    trial.epochs = epochs
    trial.score = None if trial.value is None else trial.value if lower else -trial.value
    search.save()


def _as_settings(settings: Mapping[str, Any]) -> list[str]:
    return [f"{name}={json.dumps(value)}" for name, value in settings.items()]


def _trial(
    asked: Mapping[str, Any],
    folder: str,
    study: Mapping[str, Any],
    run: str,
    epochs: int,
    function: Callable[..., Any] | None = None,
) -> tuple[str, float | None, bool, str]:
    """A trial up to so many epochs: its run, its best value, whether lower is better, and why it
    failed, if it did by itself. What stops any trial, such as a full disk, is raised. A process of
    a search that was killed may be at work on it still, which is waited for.
    """
    number, settings = study["number"], study["settings"]
    with locked(Path(folder) / f".trial{number}.lock", UNTIL_FREE, ""), part_of_study(study):
        name = f"trial{number}"
        before = run or next(
            (str(path) for path in sorted(Path(folder).glob(f"{name}-*")) if path.is_dir()), ""
        )
        try:
            folder_of_run = _opened(before)
            done = folder_of_run.read_series("epochs") if folder_of_run is not None else []
            ended = folder_of_run is not None and folder_of_run.read_status()["status"] not in (
                "running",
                "interrupted",
            )
            finished = len(done) >= epochs and ended  # before the search was interrupted
            going = folder_of_run is not None and bool(folder_of_run.states())
            if function is not None:
                better = _directions(folder_of_run)
                if not finished:
                    options = {"epochs": epochs, "name": name}
                    options |= {"resume": before} if going else {"record": folder}
                    outcome = _outcome_of(function, settings, options)
            else:
                changed = [*_as_settings(settings), f"epochs={epochs}", f"name={json.dumps(name)}"]
                planned = _planned(asked["plan"], asked["own"], changed)
                better = planned.training.directions()
                if not finished:
                    outcome = planned.run(resume=before) if going else planned.run(record=folder)
            if not finished and outcome.status is Status.INTERRUPTED:
                raise RunError(
                    f"The search was interrupted in trial {number}. What is done is kept: the same "
                    "call goes on, with this trial from its newest state."
                )
            if finished:
                outcome = Outcome(done[:epochs], Status.FINISHED, "", Path(before), 0.0, better)
            best = float(outcome.best(asked["by"])[asked["by"]])
            is_lower = outcome.better.get(asked["by"], "lower") == "lower"
            return str(outcome.folder), best, is_lower, ""
        except (RunError, CheckpointError):
            raise
        except VineStepError as error:
            return before, None, True, " ".join(str(error).split())[:300]


def _directions(store: RunStore | None) -> dict[str, str]:
    """Whether more or less of each figure is better, as a recorded run says."""
    if store is None or ABOUT not in store.file_names():
        return {}
    known = valid_fields(json.loads(store.read_file(ABOUT)), ABOUT_SCHEMA)
    return dict(known.get("better", {}))


def _planned(
    plan: str | os.PathLike[str], own: Sequence[str], changed: Sequence[str]
) -> PlannedRun:
    """The run of a plan with other settings."""
    from ..plans._overrides import own_parts_of
    from ..plans._plan import read_plan
    from ..plans._planned_run import PlannedRun

    parts = own_parts_of(own)
    return PlannedRun(read_plan(plan, settings=changed, own=parts), Path(plan).parent, own=parts)


def _outcome_of(
    function: Callable[..., Any], settings: Mapping[str, Any], options: Mapping[str, Any]
) -> Any:
    outcome = function(dict(settings), **options)
    if not isinstance(outcome, Outcome) or outcome.folder is None:
        raise SettingError(
            f"search: the function returned {outcome!r}. Return the Outcome of "
            "training.run(..., **options), which records the trial."
        )
    return outcome


def _opened(path: str) -> RunStore | None:
    """The run of a trial that was begun before; None if there is none."""
    from ...storage.run_folder import RunFolder

    try:
        return RunFolder.open(path) if path else None
    except VineStepError:
        return None
