"""An observer that lets a network make examples as a run goes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from ...data.encoding._codec import Codec
from ...errors import SettingError
from ...generation._sample_scores import SampleScores, examples_of, nearest_neighbours
from ...parts._registry import part
from ..run._run import Observer
from ._recorders import descent_of

if TYPE_CHECKING:
    from ..run._results import Outcome
    from ..run._run import Run

__all__ = ["GeneratedSamples"]

SERIES = "generated"
TABLE_ROWS, POINTS = 12, 1000


@part("generated_samples", "observer")
class GeneratedSamples(Observer):
    """Lets the network make examples of the same random numbers as a run goes, records them, and
    scores them against the validation part: the series ``generated``.

    Pictures are recorded as one picture, points of two numbers as a figure, rows of tables and
    others as a table; at the end pictures stand beside the nearest ones of the training. Scores are
    those of `vinestep.generation.SampleScores`.

    Parameters
    ----------
    count : int
        How many are shown.
    scored : int
        How many are made for the scores; 0 for none.
    every : int, optional
        Epochs; by default after the epochs 1, 2, 4, 8 and so on, and after the last.
    seed : int
    settings : mapping, optional
        For ``network.sample``, such as ``{"steps": 20}``.

    Examples
    --------
    >>> x = np.random.default_rng(0).normal(size=(64, 2)).astype(np.float32)
    >>> store = vs.training.MemoryStore()
    >>> network = vs.generation.Diffusion(vs.layers.ConditionedDense(2, width=8, depth=1))
    >>> outcome = vs.Training(network, task=vs.tasks.Generative()).run(
    ...     vs.data.Dataset(x).batches(32),
    ...     epochs=2,
    ...     observers=[vs.observers.GeneratedSamples(scored=16, settings={"steps": 3})],
    ...     record=store,
    ... )
    >>> [row["step"] for row in store.read_series("generated")]
    [0.0, 2.0, 4.0]
    """

    on_every_rank = False
    calls_network = True

    def __init__(
        self,
        count: int = 16,
        *,
        scored: int = 128,
        every: int | None = None,
        seed: int = 0,
        settings: dict[str, Any] | None = None,
    ) -> None:
        if count < 1 or scored < 0 or 0 < scored < 10 or (every is not None and every < 1):
            raise SettingError(
                "GeneratedSamples: count and every are at least 1, scored is 0 or at least 10; got "
                f"{count}, {every}, {scored}."
            )
        self.count, self.scored, self.every, self.seed = count, scored, every, seed
        self.settings = settings
        self.begin()

    def begin(self) -> None:
        self._scores: SampleScores | None = None
        self._codec: Codec | None = None
        self._looked = -1
        self._last: np.ndarray | None = None
        """What was made at the last look."""

    def before_run(self, run: Run) -> None:
        self._prepare(run)
        if run.store is not None and not run.position.step:
            self._look(run)

    def after_epoch(self, run: Run, row: dict[str, float]) -> None:
        epoch = run.position.epoch
        due = epoch & (epoch - 1) == 0 if self.every is None else epoch % self.every == 0
        if due:
            self._look(run)

    def after_run(self, run: Run, outcome: Outcome) -> None:
        self._look(run)
        self._beside_nearest(run)

    def _prepare(self, run: Run) -> None:
        network: Any = descent_of(run).network
        if not getattr(network, "can_sample", False):
            raise SettingError(
                f"GeneratedSamples: {type(network).__name__} makes no examples. See "
                "vinestep.generation for networks that do."
            )
        train = run.training_examples
        self._codec = Codec() if train is None else Codec.of(getattr(train, "dataset", None))
        if self.scored and run.examples is not None:
            same = run.examples is train
            self._scores = SampleScores(
                run.examples,
                None if same else train,
                count=self.scored,
                labels=network.labels_in_turn(self.scored),
                seed=self.seed + 1,
                **(self.settings or {}),
            )

    def _made(self, network: Any, count: int) -> np.ndarray:
        labels, settings = network.labels_in_turn(count), self.settings or {}
        return np.asarray(network.sample(count, seed=self.seed, labels=labels, **settings))

    def _look(self, run: Run) -> None:
        if run.store is None or self._looked == run.position.step:
            return
        self._looked = run.position.step
        descent = descent_of(run)
        with descent.averaged():
            self._last = self._made(descent.network, self.count)
            self._record(run, self._last)
            if self._scores is not None:
                row = {"step": float(run.position.step), "epoch": float(run.position.epoch)}
                run.add_row(SERIES, row | self._scores(descent.network))

    def _record(self, run: Run, made: np.ndarray) -> None:
        assert self._codec is not None
        shown = self._codec.decode(made)
        if isinstance(shown, np.ndarray) and shown.ndim == 4 and shown.shape[-1] in (1, 3):
            from ...figures._samples import picture_grid

            run.picture(SERIES, picture_grid(shown))
        elif isinstance(shown, np.ndarray) and shown.ndim == 2 and shown.shape[1] == 2:
            from ...figures._samples import sample_scatter

            network = descent_of(run).network
            real = examples_of(run.examples, POINTS)
            run.picture(SERIES, sample_scatter(real, self._made(network, POINTS)))
        elif isinstance(shown, np.ndarray):
            flat = shown.reshape(len(shown), -1)[:TABLE_ROWS, :TABLE_ROWS]
            rows = [{f"value {i}": float(v) for i, v in enumerate(row)} for row in flat]
            run.table(SERIES, rows)
        else:
            run.table(SERIES, shown.head(TABLE_ROWS).astype(object).to_dict("records"))

    def _beside_nearest(self, run: Run) -> None:
        """Pictures, each beside the nearest one of the training."""
        train, made = run.training_examples, self._last
        if run.store is None or train is None or self._codec is None or made is None:
            return
        if made.ndim != 4 or made.shape[-1] not in (1, 3):
            return
        from ...figures._samples import nearest_pictures

        known = examples_of(train, 4 * POINTS)
        places, _ = nearest_neighbours(known, made)
        drawn = nearest_pictures(self._codec.decode(made), self._codec.decode(known[places]))
        run.picture(f"{SERIES} and nearest", drawn)
