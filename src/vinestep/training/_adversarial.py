"""A generator and a critic that are trained in turn, as one training."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from .._activations import softplus
from ..autodiff.tensor import Tensor, held
from ..autodiff.tracking import untracked
from ..data.batches._batch import Batch
from ..data.batches._partition import Partition, own_rows, whole_size
from ..distributed._current import communicator
from ..distributed._settings import Ranks
from ..errors import DataError, LayerError, SettingError
from ..evaluation._scores import Assessment
from ..evaluation.metrics._base import Metric
from ..generation._adversarial_networks import LatentGenerator
from ..generation._sample_scores import SampleScores
from ..layers._base import Layer
from ..layers._learning_pass import observed
from ..losses import gradient_penalty
from ..optimisers._adam import Adam
from ..optimisers._base import Optimiser
from ..parts._describe import describe
from ..schedules import Schedule
from ..tasks._generative import Generative
from ._training import Training
from .step._averaging import WeightAverage
from .step._batch_checks import AnyBatches, as_batches, checked_batch
from .step._derivation import Watch, outputs_to
from .step._descent import Descent, learning_pass
from .step._rank_sums import check_equal_batches
from .step._step import Step

if TYPE_CHECKING:
    from numpy.typing import DTypeLike

    from .._model import Model

__all__ = ["AdversarialTraining", "SampleAssessment"]

AdversarialLoss = Literal["wasserstein", "clipped", "non_saturating", "hinge"]
LOSSES = ("wasserstein", "clipped", "non_saturating", "hinge")
PENALTIES = {"wasserstein": 10.0}
LATENT, BETWEEN = 1, 2  # what random numbers are for
SCORED, DRAWS = 256, 20


def _conclude(counts: np.ndarray) -> float:
    return float(counts[0] / counts[1])


def _count(outputs: Any, targets: Any) -> np.ndarray:
    raise NotImplementedError("Figures of the critic are counted by its steps.")


FIGURES = [Metric(name, _count, _conclude, better="neither") for name in ("critic", "margin")]
"""Of the critic's steps, averaged over an epoch."""


class AdversarialTraining(Training):
    """A generator that learns to make examples which a critic cannot tell from real ones, and the
    critic, trained in turn: several steps of the critic, each on a batch of its own, then one of
    the generator.

    It runs, is recorded, resumed and planned as any `Training`. In the curves ``loss`` is the
    generator's, ``critic`` the critic's, and ``margin`` by how much the critic scores real examples
    higher. What is made is judged by ``validation_loss``, which is the
    `vinestep.generation.energy_distance` between the validation part and examples made of fixed
    noise.

    Parameters
    ----------
    generator : LatentGenerator
        What models are made of.
    critic : Layer
        One number for each example; `vinestep.generation.Critic`, or one of your own.
    loss : {"wasserstein", "clipped", "non_saturating", "hinge"}
        Wasserstein with a gradient penalty (I. Gulrajani et al., NIPS 2017, algorithm 1); with
        weights of the critic cut to `limit` (M. Arjovsky, S. Chintala and L. Bottou, ICML 2017,
        algorithm 1); the non-saturating loss (I. Goodfellow et al., NIPS 2014, section 3); the
        hinge loss (T. Miyato et al., ICLR 2018, equations 16 and 17).
    penalty : float, optional
        What the gradient penalty weighs; by default 10 with "wasserstein", otherwise 0. With the
        other losses it is that of L. Mescheder, A. Geiger and S. Nowozin, ICML 2018, equation 9, on
        real examples.
    limit : float
    critic_steps : int, or function of the generator's step
    optimiser, critic_optimiser : Optimiser, optional
        Adam with a rate of 1e-4 and beta1 of 0 by default.
    schedule, critic_schedule : Schedule, optional
    clip, critic_clip : float, optional
        Largest norm of the gradients.
    average : WeightAverage, optional
        Of the generator's weights.
    ranks : Ranks, optional
        What ranks that train together share besides examples.
    seed : int

    Examples
    --------
    >>> points = np.random.default_rng(0).normal(size=(256, 2)).astype(np.float32)
    >>> generator = vs.generation.LatentGenerator(
    ...     vs.Stack(vs.Dense(16, vs.relu), vs.Dense(2)), latent=2
    ... )
    >>> critic = vs.generation.Critic(vs.Dense(16, vs.relu))
    >>> training = vs.AdversarialTraining(generator, critic, critic_steps=2)
    >>> outcome = training.run(vs.data.Dataset(points).batches(32), epochs=1)
    >>> training.step_number, training.critic_descent.step_number
    (4, 8)
    >>> training.model().sample(3, seed=1).shape
    (3, 2)
    """

    takes_examples = False

    def __init__(
        self,
        generator: LatentGenerator,
        critic: Layer,
        *,
        loss: AdversarialLoss = "wasserstein",
        penalty: float | None = None,
        limit: float = 0.01,
        critic_steps: int | Callable[[int], int] = 5,
        optimiser: Optimiser | None = None,
        critic_optimiser: Optimiser | None = None,
        schedule: Schedule | Callable[[int], float] | None = None,
        critic_schedule: Schedule | Callable[[int], float] | None = None,
        clip: float | None = None,
        critic_clip: float | None = None,
        average: WeightAverage | None = None,
        ranks: Ranks | None = None,
        seed: int = 0,
    ) -> None:
        if not isinstance(generator, LatentGenerator):
            raise SettingError(
                f"AdversarialTraining: the generator is a {type(generator).__name__}. Give a "
                "vinestep.generation.LatentGenerator(body, latent=64)."
            )
        if loss not in LOSSES:
            raise SettingError(
                f"AdversarialTraining: loss is one of {', '.join(LOSSES)}; got {loss!r}."
            )
        if not callable(critic_steps) and (
            isinstance(critic_steps, bool)
            or not isinstance(critic_steps, int | np.integer)
            or critic_steps < 1
        ):
            raise SettingError(
                "AdversarialTraining: critic_steps is a whole number of at least 1, or a function "
                f"of the generator's step; got {critic_steps!r}."
            )
        if not limit > 0 or (penalty is not None and not penalty >= 0):
            raise SettingError(
                "AdversarialTraining: limit is above 0, penalty not negative; got "
                f"{limit!r}, {penalty!r}."
            )
        super().__init__(
            generator,
            task=Generative(),
            optimiser=optimiser or Adam(1e-4, beta1=0.0),
            schedule=schedule,
            clip=clip,
            average=average,
            ranks=ranks,
            seed=seed,
        )
        self.critic_descent = Descent(
            critic,
            optimiser=critic_optimiser or Adam(1e-4, beta1=0.0),
            schedule=critic_schedule,
            clip=critic_clip,
            ranks=ranks,
            seed=seed + 1,
        )
        self.adversarial_loss = loss
        self.penalty = PENALTIES.get(loss, 0.0) if penalty is None else float(penalty)
        self.limit, self.critic_steps = float(limit), critic_steps
        self._scored_on: tuple[AnyBatches, SampleScores] | None = None

    @property
    def critic(self) -> Layer:
        return self.critic_descent.network

    @property
    def generator(self) -> LatentGenerator:
        network = self.descent.network
        assert isinstance(network, LatentGenerator)
        return network

    @property
    def step_metrics(self) -> Sequence[Metric]:
        return FIGURES

    @property
    def parts(self) -> dict[str, Any]:
        return {"": self.descent, "critic": self.critic_descent}

    def settings(self) -> dict[str, Any]:
        steps = self.critic_steps
        return {
            "adversarial": {
                "loss": self.adversarial_loss,
                "penalty": self.penalty,
                "limit": self.limit,
                "critic_steps": describe(steps, opaque=True) if callable(steps) else steps,
                "critic": describe(self.critic, opaque=True),
                "critic_optimiser": describe(self.critic_descent.optimiser, opaque=True),
                "critic_schedule": describe(self.critic_descent.schedule, opaque=True),
                "critic_clip": self.critic_descent.clip,
            }
        }

    # before the first step

    def initialise(self, batch: Batch, *, dtype: DTypeLike | None = None) -> None:
        if not isinstance(batch.inputs, np.ndarray):
            raise DataError(
                "AdversarialTraining: examples are one array each; this batch has several inputs."
            )
        generator = self.generator
        if generator.arena is None:
            generator.initialise((generator.latent,), seed=self.seed, dtype=dtype)
        if self.critic.arena is None:
            self.critic.initialise(batch.inputs[:2], seed=self.seed + 1, dtype=dtype)
        with untracked():
            made = np.shape(held(generator(np.zeros((1, generator.latent)))))[1:]
            score = np.shape(held(self.critic(batch.inputs[:2])))
        if made != batch.inputs.shape[1:]:
            raise LayerError(
                f"AdversarialTraining: the generator makes {made}, and examples are "
                f"{batch.inputs.shape[1:]}. Let its body end in that shape."
            )
        n = len(batch.inputs[:2])
        if score not in ((n,), (n, 1)):
            raise LayerError(
                f"AdversarialTraining: the critic gives {score[1:]} for an example, and has to "
                "give one number. Let it end in vinestep.Dense(1), or wrap its body: "
                "vinestep.generation.Critic(body)."
            )

    def prepare(self, batches: AnyBatches) -> None:
        if self.critic.arena is None:
            self.initialise(batches.sample())
        super().prepare(batches)
        self.critic_descent.schedule.begin(None)
        self.critic_descent.begin()

    def grouped(self, batches: Iterable[Batch]) -> Iterator[tuple[int, Any]]:
        done, left, step = 0, iter(batches), self.step_number
        while group := list(itertools.islice(left, self._critic_steps_at(step))):
            yield done, group
            done, step = done + len(group), step + 1

    def _critic_steps_at(self, step: int) -> int:
        rule = self.critic_steps
        if not callable(rule):
            return int(rule)
        found = rule(step)
        if not isinstance(found, int | np.integer) or found < 1:
            raise SettingError(
                f"AdversarialTraining: critic_steps gave {found!r} for step {step}; a whole number "
                "of at least 1 is wanted."
            )
        return int(found)

    def updates_an_epoch(self, batches: AnyBatches) -> int | None:
        length = batches.steps_an_epoch
        if length is None or callable(self.critic_steps):
            return None
        return -(-length // int(self.critic_steps))

    # one step

    def make_step(
        self,
        batch: Any,
        epoch: int,
        position: int,
        *,
        before_update: Any = None,
        watch: Watch | None = None,
    ) -> tuple[Step, dict[str, np.ndarray]]:
        """The critic's steps, one for each batch, and a step of the generator; a bad number ends
        the run, the critic's steps before it stand.
        """
        begun = time.perf_counter()
        several = [
            checked_batch(part, self.task) for part in (batch if type(batch) is list else [batch])
        ]
        if self.descent.network.arena is None or self.critic.arena is None:
            self.initialise(several[0])
        comm = communicator()
        if comm.size > 1:
            check_equal_batches(comm, several)
            several = [Partition(comm.rank, comm.size).of(part) for part in several]
        number = self.descent.step_number
        figures = [self._critic_step(part, number, k) for k, part in enumerate(several)]
        last = several[-1]
        z = self._latent(last, number, len(several))
        labels = self._labels(last)

        def loss() -> Any:
            if watch is None:
                made = self.generator(z, targets=labels)
            else:
                with observed(outputs_to(watch)):
                    made = self.generator(z, targets=labels)
            return self._generator_loss(self._scored(made, labels))

        step = self.descent.step(loss, part=last, before_update=before_update)
        counts = {
            metric.name: np.array([np.sum(column), len(column)], float)
            for metric, column in zip(self.step_metrics, zip(*figures, strict=True), strict=True)
        }
        examples = sum(whole_size(part) for part in several)
        return Step(
            step.number,
            epoch + 1,
            position + 1,
            step.loss,
            {metric.name: metric.conclude(counts[metric.name]) for metric in self.step_metrics},
            step.gradients,
            step.norm,
            step.rate,
            time.perf_counter() - begun,
            examples,
            float(examples),
        ), counts

    def _critic_step(self, batch: Batch, number: int, k: int) -> tuple[float, float]:
        """Loss of the critic, and by how much it scores real examples higher."""
        real = np.asarray(batch.inputs, self.critic.dtype)
        labels = self._labels(batch)
        z = self._latent(batch, number, k)
        with (
            untracked(),
            learning_pass(
                self.seed, self.critic_descent.step_number, guarded=True, rows=batch.rows
            ),
        ):
            made = np.asarray(held(self.generator(z, targets=labels))) if len(real) else real
        found: dict[str, float] = {}

        def loss() -> Any:
            on_real, on_made = self._scored(real, labels), self._scored(made, labels)
            found["margin"] = float(np.mean(held(on_real)) - np.mean(held(on_made)))
            return self._critic_loss(on_real, on_made) + self._penalty(
                batch, real, made, labels, number, k
            )

        step = self.critic_descent.step(loss, part=batch)
        if self.adversarial_loss == "clipped":
            arena = self.critic_descent.ready()
            arena.memory.written()
            np.clip(arena.values, -self.limit, self.limit, out=arena.values)
        told = communicator().all_gather((found.get("margin", 0.0), len(batch)))
        return step.loss, sum(margin * n for margin, n in told) / sum(n for _, n in told)

    def _scored(self, x: Any, labels: Any) -> Any:
        score = self.critic(x) if labels is None else self.critic(x, targets=labels)
        return score if len(score.shape) == 1 else score[:, 0]

    def _critic_loss(self, real: Any, made: Any) -> Any:
        if self.adversarial_loss == "hinge":
            return np.mean(np.maximum(1 - real, 0)) + np.mean(np.maximum(1 + made, 0))
        if self.adversarial_loss == "non_saturating":
            return np.mean(softplus(-real)) + np.mean(softplus(made))
        return np.mean(made) - np.mean(real)

    def _generator_loss(self, made: Any) -> Any:
        if self.adversarial_loss == "non_saturating":
            return np.mean(softplus(-made))
        return -np.mean(made)

    def _penalty(self, batch: Batch, real: Any, made: Any, labels: Any, number: int, k: int) -> Any:
        if not self.penalty:
            return 0.0
        if self.adversarial_loss == "wasserstein":
            rng = np.random.default_rng([self.seed, BETWEEN, number, k])
            share = rng.random((whole_size(batch), *(1,) * (real.ndim - 1))).astype(real.dtype)
            share = own_rows(batch, share)
            at, target = real * share + made * (1 - share), 1.0
        else:
            at, target = real, 0.0
        return gradient_penalty(lambda x: self._scored(x, labels), Tensor(at), target=target) * (
            real.dtype.type(self.penalty if target else self.penalty / 2)
        )

    def _latent(self, batch: Batch, number: int, k: int) -> np.ndarray:
        rng = np.random.default_rng([self.seed, LATENT, number, k])
        whole = rng.normal(size=(whole_size(batch), self.generator.latent))
        return own_rows(batch, whole.astype(self.generator.dtype))

    def _labels(self, batch: Batch) -> Any:
        """Classes that both networks are told."""
        wanted = max(self.generator.classes, getattr(self.critic, "classes", 0))
        return np.asarray(batch.targets) if wanted else None

    # scores

    def scores(self, batches: AnyBatches) -> dict[str, float]:
        known = self._scored_on
        if known is None or known[0] is not batches:  # main directions are worked out once
            known = self._scored_on = batches, _sample_scores(self.generator, batches)
        return _with_loss(known[1](self.generator))

    def __getstate__(self) -> dict[str, Any]:
        return super().__getstate__() | {"_scored_on": None}

    def assess(
        self, batches: AnyBatches, *, state: Literal["best", "last"] | None = None
    ) -> Assessment:
        """What is made, held against a part of the data; ``loss`` is the distance."""
        batches = as_batches(batches, "assess: the data")
        self._count_test(batches)
        network = self._chosen_model(state).network
        assert isinstance(network, LatentGenerator)
        return SampleAssessment(network, batches)

    def directions(self, parts: Iterable[str] = ("validation",)) -> dict[str, str]:
        judged = {"loss": "lower", "precision": "higher", "recall": "higher"}
        judged["coverage"] = "higher"
        return {f"{part}_{name}": way for part in parts for name, way in judged.items()}

    def _sample_inputs(self, batches: AnyBatches) -> Any:
        return np.zeros((1, self.generator.latent), self.generator.dtype)

    def _model(
        self, network: Layer, row: Mapping[str, float], step: int, state: Literal["best", "last"]
    ) -> Model:
        model = super()._model(network, row, step, state)
        model.loss, model.metrics = None, ()
        return model

    def state(self) -> dict[str, Any]:
        raise SettingError(
            "An adversarial training has two networks. Save what training.parts holds, each part "
            "by its state(), or record the run."
        )

    def restore(self, state: Mapping[str, Any]) -> None:
        raise SettingError(
            "An adversarial training has two networks: restore each of training.parts."
        )


class SampleAssessment(Assessment):
    """Scores of what a generator makes, held against a part of the data; ``loss`` is the distance.
    Intervals are those of other random numbers to make examples of.
    """

    def __init__(self, generator: LatentGenerator, batches: AnyBatches) -> None:
        self._generator = generator
        self._scores = _sample_scores(generator, batches)
        super().__init__(_with_loss(self._scores(generator)), lambda: (), Generative(), ())

    @property
    def size(self) -> int:
        return self._scores.size

    @cached_property
    def intervals(self) -> dict[str, tuple[float, float]]:
        seeds = range(1, DRAWS + 1)
        every = [_with_loss(self._scores(self._generator, seed=seed)) for seed in seeds]
        result = {}
        for name in self:
            low, high = np.quantile([one[name] for one in every], [0.025, 0.975])
            result[name] = (float(low), float(high))
        return result


def _sample_scores(generator: LatentGenerator, batches: AnyBatches) -> SampleScores:
    return SampleScores(batches, count=SCORED, labels=generator.labels_in_turn(SCORED))


def _with_loss(scores: dict[str, float]) -> dict[str, float]:
    """The distance under the name of a loss, by which runs are judged."""
    return {"loss": scores.pop("distance"), **scores}
