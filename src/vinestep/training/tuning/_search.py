"""A search over the settings of a plan, its trials in processes of their own; it can be interrupted
and continued.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ...errors import CheckpointError, RunError, VineStepError
from ...storage.run_folder import locked
from ._trials import (
    How,
    Space,
    Trial,
    Trials,
)

if TYPE_CHECKING:
    import pandas as pd
    from matplotlib.figure import Figure

    from ...storage.run_store import RunStore

__all__ = ["Search", "search"]

LOCK = ".search.lock"
UNTIL_FREE = -1.0
WATCH_SECONDS, GRACE_SECONDS = 0.5, 5.0  # of processes whose parent is gone
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

    def __init__(self, trials: Trials, folder: Path, asked: dict[str, Any]) -> None:
        self.trials, self.folder, self.asked = trials, folder, asked

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
                Trials(trials, asked["how"], asked["epochs"], asked["factor"], known["rungs"]),
                Path(folder),
                asked,
            )
        except (OSError, ValueError, LookupError, TypeError) as error:
            raise RunError(f"{path}: there is no search to go on with: {error}.") from error

    def save(self) -> None:
        """Write down where the search is, whole or not at all."""
        from ...storage.run_folder import write_text

        known = {
            "asked": self.asked,
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
    plan: str | os.PathLike[str],
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
) -> Search:
    """Try a plan with other settings, several trials at once.

    Every trial is a recorded run in `folder`. A search that was interrupted goes on when it is
    called again with the same arguments: trials that were under way are continued from their newest
    state.

    Parameters
    ----------
    plan : path
    space : mapping of dotted name to values
        As of `Space`: ``{"optimiser.rate": {"low": 1e-4, "high": 1e-1, "log": True},
        "layers.0.width": [16, 64]}``.
    folder : path
    how : {"grid", "random", "halving"}
    trials : int
        How many are drawn at random.
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
    >>> found = vs.training.search(root / "plan.toml", rates, folder=root / "s", how="grid")
    >>> len(found.table())
    1
    """
    from ..plans._overrides import own_parts
    from ..plans._plan import read_plan
    from ..plans._planned_run import PlannedRun

    parts = [part for file in own for part in own_parts(Path(file))]
    whole = epochs or read_plan(plan, own=parts).epochs
    if not whole:
        raise RunError("search: say how many epochs a whole trial has: epochs=20.")
    asked = {
        "plan": str(Path(plan).resolve()),
        "space": dict(space),
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
        first = result.trials.trials[0]
        PlannedRun(
            read_plan(plan, settings=_as_settings(first.settings), own=parts),
            Path(plan).parent,
            own=parts,
        )
        folder.mkdir(parents=True, exist_ok=True)
        result.save()
    _run(result, processes)
    return result


def _run(search: Search, processes: int) -> None:
    context = multiprocessing.get_context("spawn")
    with (
        locked(
            search.folder / LOCK, 0, f"{search.folder}: another search is at work in this folder."
        ),
        ProcessPoolExecutor(
            processes, mp_context=context, initializer=_exit_with, initargs=(os.getpid(),)
        ) as pool,
    ):
        while wanted := search.trials.wanted():
            under_way: dict[Future[Any], tuple[Trial, int]] = {
                pool.submit(
                    _trial,
                    search.asked,
                    str(search.folder),
                    trial.settings,
                    trial.number,
                    trial.run,
                    epochs,
                ): (trial, epochs)
                for trial, epochs in wanted
            }
            try:
                _gather(search, under_way)
            except BaseException:
                for future in under_way:
                    future.cancel()
                raise


def _gather(search: Search, under_way: dict[Future[Any], tuple[Trial, int]]) -> None:
    left = set(under_way)
    while left:
        done, left = wait(left, return_when=FIRST_COMPLETED)
        for future in done:
            trial, epochs = under_way[future]
            trial.run, trial.value, lower, trial.failure = future.result()
            trial.epochs = epochs
            trial.score = None if trial.value is None else trial.value if lower else -trial.value
            search.save()


def _as_settings(settings: Mapping[str, Any]) -> list[str]:
    return [f"{name}={json.dumps(value)}" for name, value in settings.items()]


def _trial(
    asked: Mapping[str, Any],
    folder: str,
    settings: Mapping[str, Any],
    number: int,
    run: str,
    epochs: int,
) -> tuple[str, float | None, bool, str]:
    """A trial up to so many epochs: its run, its best value, whether lower is better, and why it
    failed, if it did by itself. What stops any trial, such as a full disk, is raised. A process of
    a search that was killed may be at work on it still, which is waited for.
    """
    from ..plans._overrides import own_parts
    from ..plans._plan import read_plan
    from ..plans._planned_run import PlannedRun
    from ..run._results import Outcome
    from ..run._status import Status

    with locked(Path(folder) / f".trial{number}.lock", UNTIL_FREE, ""):
        parts = [part for file in asked["own"] for part in own_parts(Path(file))]
        name = f"trial{number}"
        before = run or next(
            (str(path) for path in sorted(Path(folder).glob(f"{name}-*")) if path.is_dir()), ""
        )
        try:
            changed = [*_as_settings(settings), f"epochs={epochs}", f"name={json.dumps(name)}"]
            path = Path(asked["plan"])
            plan = read_plan(path, settings=changed, own=parts)
            planned = PlannedRun(plan, path.parent, own=parts)
            folder_of_run = _opened(before)
            done = folder_of_run.read_series("epochs") if folder_of_run is not None else []
            better = planned.training.directions()
            ended = folder_of_run is not None and folder_of_run.read_status()["status"] not in (
                "running",
                "interrupted",
            )
            if len(done) >= epochs and ended:  # before the search was interrupted
                outcome = Outcome(done[:epochs], Status.FINISHED, "", Path(before), 0.0, better)
            elif folder_of_run is not None and folder_of_run.states():
                outcome = planned.run(resume=before)
            else:
                outcome = planned.run(record=folder)
            best = float(outcome.best(asked["by"])[asked["by"]])
            is_lower = outcome.better.get(asked["by"], "lower") == "lower"
            return str(outcome.folder), best, is_lower, ""
        except (RunError, CheckpointError):
            raise
        except VineStepError as error:
            return before, None, True, " ".join(str(error).split())[:300]


def _exit_with(parent: int) -> None:
    """Let this process end when the one that started it is gone: the run is stopped as by Ctrl-C,
    so that its state is saved, and then the process leaves.
    """

    def watch() -> None:
        while os.getppid() == parent:
            time.sleep(WATCH_SECONDS)
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(GRACE_SECONDS)
        os._exit(1)

    threading.Thread(target=watch, daemon=True).start()


def _opened(path: str) -> RunStore | None:
    """The run of a trial that was begun before; None if there is none."""
    from ...storage.run_folder import RunFolder

    try:
        return RunFolder.open(path) if path else None
    except VineStepError:
        return None
