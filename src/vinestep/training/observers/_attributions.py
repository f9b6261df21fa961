"""An observer that looks, at the end of a run, at what mattered to the model."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ...errors import SettingError
from ...parts._registry import part
from ..run._run import Observer
from ..run._status import Status

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run

__all__ = ["Attributions"]


@part("attributions", "observer")
class Attributions(Observer):
    """Records, when a run has ended, what mattered to the model of its best state, on the
    validation part; see `vinestep.attribution.overview`.

    Parameters
    ----------
    count : int
        How many single examples are shown.

    Examples
    --------
    >>> data, store = (
    ...     vs.data.Dataset(np.eye(8, 3), np.eye(8, 1)),
    ...     vs.training.MemoryStore(),
    ... )
    >>> outcome = vs.Training(vs.Dense(1), task=vs.tasks.Numbers()).run(
    ...     data.batches(4), epochs=1, observers=[vs.observers.Attributions()], record=store
    ... )
    >>> [name for name in store.file_names() if name.endswith("2.csv")]
    ['attribution-importances-00000002.csv']
    """

    on_every_rank = False
    calls_network = True

    order = 10  # when it is known which state is the best, and that is saved

    def __init__(self, count: int = 6) -> None:
        if isinstance(count, bool) or not isinstance(count, int) or count < 1:
            raise SettingError(
                f"Attributions: count is a number of examples of at least 1, got {count!r}."
            )
        self.count = count

    def after_run(self, run: Run, outcome: Outcome) -> None:
        if run.store is None or outcome.status is not Status.FINISHED:
            return
        if run.model is None:
            raise SettingError(
                "Attributions: this run has no model of its own. Record what mattered by "
                "vinestep.attribution.overview(model, rows).record(run)."
            )
        from ...attribution._overview import overview  # which draws figures

        overview(run.model(), run.examples, train=run.training_examples, count=self.count).record(
            run
        )
