"""States saved as a run goes."""

from __future__ import annotations

import math
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from ...errors import CheckpointError, RunError, SettingError
from ...parts._registry import part
from ...storage.checkpoint_schema import step_of
from ...storage.json_values import integer, number
from ..run._criteria import judged_quantity, score_of
from ..run._run import Observer

if TYPE_CHECKING:
    from ...storage.run_store import RunStore
    from ..run._results import Outcome
    from ..run._run import Run
    from ..step._step import Step

__all__ = ["Checkpoints"]

BEST = "-best"


@part("checkpoints", "observer")
class Checkpoints(Observer):
    """Saves the run: the newest states to continue from and, if asked for, the best ones.

    A state is named by step, epoch and score; the best are marked in their names, and hold the
    model as `Model.save` writes it.

    Parameters
    ----------
    what : {"newest", "best"}
        "best" keeps the best states as well as the newest.
    by : str, optional
        Column of the curves that says what is best; by default the validation loss, or the loss.
    every : int, optional
        Save after every so many steps, besides after each epoch.
    keep : int
        How many of each kind to keep.
    seconds : float
        At least so long from one saving to the next, but for the best and the last state: for
        epochs that take less than saving does.
    keep_every : int, optional
        The states after every so many epochs are kept for ever.

    Examples
    --------
    >>> import tempfile
    >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
    >>> training = vs.Training(
    ...     vs.Dense(1, initialiser=vs.initialisers.ones), loss=vs.losses.squared_error
    ... )
    >>> keeper = vs.observers.Checkpoints("best", by="loss", keep=1)
    >>> outcome = training.run(
    ...     data.batches(4), epochs=3, observers=[keeper], record=tempfile.mkdtemp()
    ... )
    >>> outcome.store.states()
    ['step-00000006-epoch-3-loss-3.946-best']
    """

    on_every_rank = False
    saves_states = True

    order = 9
    ends_run = True

    def __init__(
        self,
        what: Literal["newest", "best"] = "newest",
        *,
        by: str | None = None,
        every: int | None = None,
        keep: int = 2,
        seconds: float = 0.0,
        keep_every: int | None = None,
    ) -> None:
        if what not in ("newest", "best"):
            raise SettingError(f'Checkpoints: what must be "newest" or "best", got {what!r}.')
        if keep < 1 or (every is not None and every < 1):
            raise SettingError(
                f"Checkpoints: keep and every must be at least 1, got {keep} and {every}."
            )
        if not seconds >= 0 or (keep_every is not None and keep_every < 1):
            raise SettingError(
                "Checkpoints: seconds must not be negative and keep_every at least 1, got "
                f"{seconds!r} and {keep_every!r}."
            )
        self.what = what
        self.by = by
        self.every = every
        self.keep = keep
        self.seconds = float(seconds)
        self.keep_every = keep_every
        self.begin()

    def begin(self) -> None:
        self.scores: list[tuple[float, int]] = []
        """Score, the lower the better, and step of the best so far, best first."""
        self._saved = -math.inf

    def before_run(self, run: Run) -> None:
        if run.store is None:
            raise RunError("Checkpoints need a place: training.run(..., record='records').")

    def after_step(self, run: Run, step: Step | None) -> None:
        within = not run.epochs or run.position.batch < run.batches_per_epoch
        if (
            self.every is not None
            and run.position.step % self.every == 0
            and within
            and run.agreed(self._is_time())
        ):
            self._save(run)

    def _is_time(self) -> bool:
        return time.monotonic() - self._saved >= self.seconds

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        score, is_best = "", False
        if run.validated:
            name, value = judged_quantity(row, self.by)
            score = f"-{name}-{value:.4g}"
            is_best = self.what == "best" and self._note_score(run, name, value)
        kept = self.keep_every is not None and run.position.epoch % self.keep_every == 0
        if is_best or kept or run.agreed(self._is_time()):
            self._save(run, score)

    def after_validation(self, run: Run, row: dict[str, float]) -> None:
        name, value = judged_quantity(row, self.by)
        if self.what == "best" and self._note_score(run, name, value):
            self._save(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        assert run.store is not None
        is_saved = any(step_of(name) == run.position.step for name in run.store.states())
        if run.agreed(not is_saved or bool(run.stop_reason)):
            self._save(run, self._score_in_names(run))

    def best_state(self, run: Run | Outcome) -> str | None:
        """The name of the best state of a run, if there is one yet."""
        if not self.scores or run.store is None:
            return None
        if hasattr(run, "finish_saving"):
            run.finish_saving()
        return next(
            (name for name in run.store.states() if step_of(name) == self.scores[0][1]), None
        )

    def best_file(self, run: Run | Outcome) -> Path | None:
        """The file of the best state of a run in a folder, if there is one yet."""
        name = self.best_state(run)
        return run.store.state_path(name) if name is not None and run.folder is not None else None  # type: ignore[union-attr]

    @staticmethod
    def _score_in_names(run: Run) -> str:
        """What a state of this step already says of its score."""
        assert run.store is not None
        for name in run.store.states():
            if step_of(name) == run.position.step:
                pieces = name.removesuffix(BEST).split("-", 4)
                return f"-{pieces[4]}" if len(pieces) > 4 else ""
        return ""

    def _save(self, run: Run, score: str = "") -> None:
        assert run.store is not None
        store, step = run.store, run.position.step
        best = {at for _, at in self.scores}
        epoch = f"-epoch-{run.position.epoch}" if run.epochs else ""
        new = f"step-{step:08d}{epoch}{score}{BEST if step in best else ''}"
        run.save(new, lambda: self._rotate(store, new, step, best))
        self._saved = time.monotonic()

    def _rotate(self, store: RunStore, new: str, step: int, best: set[int]) -> None:
        """Remove and rename the states before a new one."""
        known = [name for name in store.states() if name != new]
        for name in known:
            if step_of(name) == step:
                store.rename_state(name, None)
        others = [name for name in known if step_of(name) != step]
        for i, name in enumerate(others):
            plain = name.removesuffix(BEST)
            if step_of(name) in best:
                if name == plain:
                    store.rename_state(name, plain + BEST)
            elif len(others) - i >= self.keep and not self._is_kept(name):
                store.rename_state(name, None)
            elif name != plain:
                store.rename_state(name, plain)

    def _is_kept(self, name: str) -> bool:
        """Whether a state is one of those that are kept for ever."""
        pieces = name.removesuffix(BEST).split(
            "-"
        )  # after an epoch with its score, within one without
        if (
            self.keep_every is None
            or len(pieces) < 5
            or pieces[2] != "epoch"
            or not pieces[3].isdigit()
        ):
            return False
        return int(pieces[3]) > 0 and int(pieces[3]) % self.keep_every == 0

    def _note_score(self, run: Run, name: str, value: float) -> bool:
        """Whether this is one of the best so far."""
        score = score_of(run, name, value)
        if not math.isfinite(score) or (
            len(self.scores) >= self.keep and not score < self.scores[-1][0]
        ):
            return False
        self.scores = sorted([*self.scores, (score, run.position.step)], key=lambda item: item[0])[
            : self.keep
        ]
        return True

    def state(self) -> dict[str, Any]:
        return {"scores": [{"score": score, "step": step} for score, step in self.scores]}

    def restore(self, state: dict[str, Any]) -> None:
        found = state.get("scores", [])
        if not isinstance(found, list) or not all(isinstance(entry, dict) for entry in found):
            raise CheckpointError(
                f"The state of Checkpoints holds {str(found)[:40]!r} where its scores should be."
            )
        self.scores = [(number(entry, "score") or 0.0, integer(entry, "step")) for entry in found]
