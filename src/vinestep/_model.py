"""Models: a trained network with what is done to raw rows before it and after it, and where it came
from; one file to hand on.
"""

from __future__ import annotations

import copy
import html
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ._arguments import checked_path
from ._ensemble import Ensemble, averaged
from ._findings import Finding, tell
from ._model_inputs import ModelInputs, model_inputs
from ._public_names import own_names
from .autodiff.tensor import held
from .autodiff.tracking import untracked
from .data._table_files import Source
from .data.batches._batch import joined_parts, mapped
from .data.encoding._codec import Codec, classes_in_words
from .data.encoding._columns import weights_of
from .data.encoding._text_form import TextForm
from .errors import (
    ArchiveError,
    DataError,
    ModelError,
    PartError,
    SettingError,
    VineStepError,
)
from .evaluation._scores import Assessment, assess
from .evaluation.metrics._base import Metric
from .layers._adapters import adapters_of, with_adapters
from .layers._base import Layer
from .layers._dropout import Dropout, Noise
from .layers._learning_pass import dropout_on
from .layers._named_inputs import inputs_in_order, takes
from .layers._quantised import codes_of, with_codes
from .parts._build import LAYERS, Builder
from .parts._describe import describe
from .storage import archive
from .tasks._base import Task
from .tasks._calibration import Calibration, Conformal, calibration_of, conformal_of
from .tasks._classes import Binary, Classes, Ordered
from .tasks._task_of import task_of

if TYPE_CHECKING:
    import pandas as pd

    from .generation._generate import Piece

__all__ = ["Model", "open_model"]

AT_ONCE = 1024  # rows
MOST_VALUES = 1e7  # of one example, beyond which a file is not believed
MOST_PACKED = 16  # bytes of a number in float64 to one of it in codes


class Unresolved(NamedTuple):
    """What a file says of a loss and metrics that were not handed over."""

    loss: Any
    metrics: list[Any]
    reason: str


@dataclass
class Model:
    """A network, what is done to raw inputs before it and to outputs after it, and where it came
    from.

    Parameters
    ----------
    network : Layer
        Initialised.
    codec : Codec, optional
        How raw rows, pictures or texts become its inputs, and its outputs answers; without one
        inputs are arrays.
    loss, metrics : optional
        What it is scored by.
    lineage : dict
        Run, step, settings, scores, fingerprint of the data, versions, commit: JSON.

    Examples
    --------
    >>> import tempfile
    >>> barrels = vs.demo.barrels(200)
    >>> (train,) = vs.data.scaled(vs.data.Table(barrels, target="state"))
    >>> training = vs.Training(
    ...     vs.Stack(vs.Dense(8, vs.relu), vs.Dense(3)), loss=vs.losses.cross_entropy
    ... )
    >>> outcome = training.run(train.batches(32), epochs=5)
    >>> file = training.model().save(tempfile.mkdtemp() + "/barrels.vine")
    >>> predicted = vs.open_model(file).predict(barrels.drop(columns="state"))
    >>> list(predicted)[-4:]
    ['predicted', 'probability sound', 'probability spoiling', 'probability stuck']
    """

    network: Layer
    codec: Codec = field(default_factory=Codec)
    loss: Callable[[Any, Any], Any] | None = None
    metrics: Sequence[Metric] = ()
    lineage: dict[str, Any] = field(default_factory=dict)
    half: bool = False
    """Whether weights that are float16 numbers take two bytes each in a file."""
    calibration: dict[str, Calibration] = field(default_factory=dict)
    """What outputs go through before they become answers, by target; one alone has no name."""
    conformal: dict[str, Conformal] = field(default_factory=dict)
    """Intervals and sets beside the answers, by target; one alone has no name."""
    unresolved: Unresolved | None = None
    """Loss and metrics of a file whose code was not handed over: it predicts, and is not scored."""

    def __repr__(self) -> str:
        n = sum(a.size for a in self.network._ready_arena().arrays().values())
        came = self.lineage.get("run") or "no recorded run"
        return (
            f"<Model of {n:,} parameters, {self._takes()}, from {came}, step "
            f"{self.lineage.get('step', 0)}>"
        )

    @property
    def reads(self) -> str:
        """What a network that reads before it writes reads: "texts" or "pictures"; empty of
        others.
        """
        if not hasattr(self.network, "read"):
            return ""
        return (
            "pictures"
            if self.codec.text_form is not None and self.codec.text_form.source_tokeniser is None
            else "texts"
        )

    @property
    def writes(self) -> bool:
        """Whether the network writes token after token."""
        return hasattr(self.network, "new_caches")

    def _repr_html_(self) -> str:
        from ._notebook_html import html_table

        came = self.lineage
        facts = {
            "takes": self._takes(),
            "classes": classes_in_words(self.codec.class_values),
            "from run": came.get("run", ""),
        }
        facts |= {
            "step": came.get("step", 0),
            "data": came.get("data", ""),
            "commit": came.get("commit", ""),
        }
        scores = [[name, value] for name, value in came.get("scores", {}).items()]
        known = html_table(
            "", ["what", "is"], [[name, value] for name, value in facts.items() if value]
        )
        then = html_table("Scores then", ["figure", "value"], scores)
        return f"<div><b>{html.escape(repr(self))}</b></div>{known}{then}"

    def _takes(self) -> str:
        if self.codec.encoding is not None:
            encoding = self.codec.encoding
            return f"rows of {len(encoding.numeric) + len(encoding.categories)} columns"
        if self.writes:
            return f"{self.reads or 'texts'}, and writes"
        if self.codec.text_form is not None:
            return "texts"
        return " and ".join(f"inputs {shape}" for shape, _ in self.network.sample_like)

    # predicting

    def predict(
        self, rows: Source | Any, *, beside: bool = True, draws: int = 0, seed: int = 0
    ) -> pd.DataFrame:
        """Predictions for raw rows, or for an array of inputs.

        Parameters
        ----------
        rows : DataFrame, list of dict, CSV or Parquet file, or array; or a source or batches
            A target column may be there and is not looked at. Of a model that was trained on
            pictures or texts also these, or the paths of their files or of a folder of them.
        beside : bool
            Whether the columns of the rows come first.
        draws : int
            Passes with dropout left on, of which the mean is predicted, and beside it how far they
            are apart (Y. Gal and Z. Ghahramani, ICML 2016). An ensemble of the network says how
            far its members are apart without.
        seed : int
            Of dropout.

        Returns
        -------
        predictions : DataFrame, one row for each given
            The class ``predicted`` and a probability for each, or ``predicted`` numbers; then what
            `conformal` says, and ``spread`` or ``disagreement`` of passes and members.

        Raises
        ------
        DataError
            If a column is missing, or a category was never seen, unless settled otherwise at
            training.
        """
        import pandas as pd

        if self.writes:
            raise ModelError(
                "This model writes texts: use model.generate(...), or model.outputs(...) for "
                "logits."
            )
        given = self._inputs(rows)
        frame = given.beside
        result = self._predicted(given.inputs, draws, seed)
        if frame is None or not beside:
            return result
        if self.codec.encoding is not None:
            tell(self.findings(frame))
        kept = frame.rename(
            columns={name: f"{name} (given)" for name in frame.columns if name in result.columns}
        )
        return pd.concat([kept, result], axis=1)

    def generate(self, prompts: Any, **settings: Any) -> Any:
        """What the model writes after prompts, or of pictures or texts that it reads; see
        `vinestep.generate` for the settings.

        Parameters
        ----------
        prompts : str, mapping of fields, picture; or several of them
            Of a model with a template its fields by name, or a text where there is one; of one that
            reads before it writes, what is read.

        Returns
        -------
        found : Generated, or list of Generated for several

        Raises
        ------
        ModelError
            If the model writes nothing, or says nothing of a tokeniser.
        DataError
            If a field of the template is missing, or a character is unknown.

        Examples
        --------
        >>> source = vs.data.Documents(["dense and taut"] * 8, vs.data.ByteTokeniser(), length=16)
        >>> training = vs.Training(
        ...     vs.networks.LanguageModel(260, width=8, depth=1, heads=2), loss=vs.losses.next_token
        ... )
        >>> outcome = training.run(source.batches(4), epochs=1)
        >>> len(training.model().generate("dense", most=3).tokens)
        3
        """
        from .generation._generate import generate

        form = self._form_to_write(settings)
        if self.reads:
            given = prompts if form.source_tokeniser else self.codec.pictures(prompts)
            return generate(
                self.network,
                given=given,
                tokeniser=form.tokeniser,
                source_tokeniser=form.source_tokeniser,
                **settings,
            )
        if form.template is None:
            return generate(self.network, prompts, tokeniser=form.tokeniser, **settings)
        one = isinstance(prompts, str | Mapping)
        requests = [form.template.request(fields) for fields in ([prompts] if one else prompts)]
        result = [
            replace(written, text=form.template.answer_of(written.text))
            for written in generate(self.network, requests, tokeniser=form.tokeniser, **settings)
        ]
        return result[0] if one else result

    @property
    def can_sample(self) -> bool:
        """Whether the network makes examples."""
        return bool(getattr(self.network, "can_sample", False))

    def sample(self, count: int, *, seed: int = 0, label: Any = None, **settings: Any) -> Any:
        """New examples like those of the training, the same for the same seed.

        Parameters
        ----------
        count : int
        seed : int
        label : class or sequence of classes, optional
            Of which class, as it stands in the data: one for all, or one for each.
        **settings
            Of the network's kind; see `vinestep.generation.Diffusion.draw`.

        Returns
        -------
        made : ndarray or DataFrame
            Arrays of the shape and range of the training's examples as they were before `prepare`;
            of a model of rows a table with their columns.

        Raises
        ------
        ModelError
            If the model makes none.
        DataError
            If there is no such class.

        Examples
        --------
        >>> points = np.random.default_rng(0).normal(size=(64, 2)).astype(np.float32)
        >>> network = vs.generation.Diffusion(vs.layers.ConditionedDense(2, width=8, depth=1))
        >>> training = vs.Training(network, task=vs.tasks.Generative())
        >>> outcome = training.run(vs.data.Dataset(points).batches(32), epochs=1)
        >>> training.model().sample(3, steps=4).shape
        (3, 2)
        """
        if not self.can_sample:
            raise ModelError(
                "This model makes no examples: use model.predict(...), or model.generate(...) of "
                "one that writes texts."
            )
        labels = None if label is None else self.codec.class_numbers(label)
        made = self.network.sample(count, seed=seed, labels=labels, **settings)  # type: ignore[attr-defined]
        return self.codec.decode(made)

    def stream(self, prompt: str | Mapping[str, Any], **settings: Any) -> Iterator[Piece]:
        """The same as `generate` for one prompt, piece by piece as it is written; see
        `vinestep.generation.stream`.

        Raises
        ------
        ModelError
            If the model writes nothing, or reads something before it writes.
        """
        from .generation._generate import stream

        form = self._form_to_write(settings)
        if self.reads:
            raise ModelError("This model reads before it writes: use model.generate(...).")
        text = str(prompt) if form.template is None else form.template.request(prompt)
        return stream(self.network, text, tokeniser=form.tokeniser, **settings)

    def _form_to_write(self, settings: dict[str, Any]) -> TextForm:
        """How texts are written; a tokeniser among the settings has to be the model's."""
        if not self.writes:
            raise ModelError("This model writes no texts: use model.predict(...).")
        form = self.codec.text_form
        if form is None:
            raise ModelError(
                "This model has no tokeniser. Train on Documents, Requests or Pairs of "
                "vinestep.data, or use vs.generate."
            )
        if (other := settings.pop("tokeniser", form.tokeniser)) != form.tokeniser:
            raise ModelError(
                f"generate: {other!r} ({other.fingerprint()[:12]}) is the tokeniser of another "
                f"model; this one has {form.tokeniser!r} "
                f"({form.tokeniser.fingerprint()[:12]})."
            )
        return form

    def outputs(self, inputs: Any, *, size: int = AT_ONCE, targets: Any = None) -> Any:
        """What the network puts out in inference for encoded inputs: an array, or several as a
        tuple, or as a dict by name. A network whose `compute` takes targets is told these.
        """
        return self._calibrated(_outputs_of(self.network, inputs, size, targets))

    def _predicted(self, inputs: Any, draws: int, seed: int) -> pd.DataFrame:
        """Answers, and how far several passes or members are apart."""
        import pandas as pd

        if isinstance(draws, bool) or not isinstance(draws, int | np.integer) or draws < 0:
            raise SettingError(f"predict: draws is a whole number, not negative; got {draws!r}.")
        members = getattr(self.network, "members", ())
        if not draws and len(members) < 2:
            return self.answers(self.outputs(inputs))
        if draws and not any(_drops(layer) for layer in self.network.walk()):
            raise ModelError("predict: the network has no dropout to leave on. Leave out draws.")
        passes = []
        for i in range(draws or len(members)):
            if draws:
                with dropout_on(seed, i):
                    passes.append(self.outputs(inputs))
            else:
                passes.append(self._calibrated(_outputs_of(members[i], inputs, AT_ONCE)))
        result = self.answers(averaged(self.task, passes))
        apart = {
            f"{name} {column}".strip(): values
            for name, own, _, _ in self.task.by_target(passes[0])
            for column, values in own.uncertainty(
                np.stack([np.asarray(one[name] if name else one) for one in passes])
            ).items()
        }
        return pd.concat([result, pd.DataFrame(apart)], axis=1)

    def answers(self, outputs: Any) -> pd.DataFrame:
        """Outputs of the network as a table: classes and probabilities, or numbers."""
        result = self.codec.answers(outputs, self.task)
        if not self.conformal:
            return result
        import pandas as pd

        columns = [result]
        for name, own, values, _ in self.task.by_target(outputs):
            if name in self.conformal:
                known = self.codec.class_values
                classes = known.get(name, ()) if isinstance(known, Mapping) else known
                found = self.conformal[name].columns(own, values, classes, self.codec.back)
                columns.append(found.add_prefix(f"{name} ") if name else found)
        return pd.concat(columns, axis=1)

    def _calibrated(self, outputs: Any) -> Any:
        if not self.calibration:
            return outputs
        found = {
            name: self.calibration[name](np.asarray(values)) if name in self.calibration else values
            for name, _, values, _ in self.task.by_target(outputs)
        }
        return found.get("", found)

    # how sure answers are

    def calibrated(
        self, rows: Source | Any, targets: Any = None, *, how: str = "temperature"
    ) -> Model:
        """A model whose probabilities are as often right as they say, learned on examples that the
        network was not trained on, such as the validation part.

        Parameters
        ----------
        rows, targets
            As for `assess`.
        how : {"temperature", "isotonic"}
            One number that all logits are divided by, or a rising staircase for each class, which
            wants some hundred examples.

        Raises
        ------
        DataError
            If no target has probabilities.

        Examples
        --------
        >>> rng = np.random.default_rng(0)
        >>> x = rng.normal(size=(300, 1))
        >>> data = vs.data.Dataset(x, (x[:, 0] + rng.normal(size=300) > 0).astype(int))
        >>> training = vs.Training(vs.Dense(2), task=vs.tasks.Classes())
        >>> outcome = training.run(data.batches(50), epochs=2)
        >>> model = training.model()
        >>> model.calibrated(data).assess(data)["loss"] < model.assess(data)["loss"]
        True
        """
        plain = replace(self, calibration={}, conformal={})
        pairs = plain._by_target(rows, targets, "calibrated")
        fitting = [name for name, own, _, _ in pairs if isinstance(own, Classes | Binary | Ordered)]
        if len(pairs) > 1 and not fitting:
            raise DataError("calibrated: no target has probabilities.")
        found = {
            name: calibration_of(own, values, true, how)
            for name, own, values, true in pairs
            if len(pairs) == 1 or name in fitting
        }
        return replace(plain, calibration=found)

    def with_coverage(
        self, rows: Source | Any, targets: Any = None, *, coverage: float = 0.9
    ) -> Model:
        """A model that says beside each answer an interval, or a set of classes, which holds the
        truth as often as is asked; learned on examples that nothing else was learned or chosen by.

        Parameters
        ----------
        rows, targets
            As for `assess`.
        coverage : float
            How often, from 0 to 1.

        Raises
        ------
        DataError
            If there are too few examples for this coverage, or a task has no intervals.

        Examples
        --------
        >>> rng = np.random.default_rng(0)
        >>> x = rng.normal(size=(200, 1))
        >>> network = vs.Dense(1).initialise(x)
        >>> model = vs.Model(network, loss=vs.losses.squared_error)
        >>> sure = model.with_coverage(x, x + rng.normal(size=(200, 1)), coverage=0.8)
        >>> list(sure.predict(x[:2]))
        ['predicted', 'low', 'high']
        """
        found = {
            name: conformal_of(own, values, true, coverage)
            for name, own, values, true in self._by_target(rows, targets, "with_coverage")
        }
        return replace(self, conformal=found)

    def _by_target(self, rows: Any, targets: Any, method: str) -> list[tuple[str, Task, Any, Any]]:
        """Name, task, outputs and targets of each target of rows."""
        given = self._with_targets(rows, targets, method)
        return self.task.by_target(self.outputs(given.inputs), given.targets)

    def _with_targets(self, rows: Any, targets: Any, method: str) -> ModelInputs:
        """Inputs of rows, with the targets that stand in them or are given.

        Raises
        ------
        DataError
            If there are none.
        """
        given = self._inputs(rows)
        if self.codec.encoding is not None and given.beside is not None:
            targets = self.codec.targets(given.beside)
        elif targets is None:
            targets = given.targets
        if targets is None and not self.task.needs_targets:
            return given
        if targets is None:
            raise DataError(
                f"{method}: inputs need their targets: model.{method}(inputs, targets)."
            )
        return given._replace(targets=targets)

    @classmethod
    def joined(cls, models: Sequence[Model]) -> Model:
        """Several models of one task and encoding as one: an ensemble, whose answers are the mean
        of theirs, and which says how far they are apart.

        Parameters
        ----------
        models : sequence of Model
            Of several seeds, or states of a run.

        Raises
        ------
        ModelError
            If they do not take or mean the same.

        Examples
        --------
        >>> data = vs.data.Dataset(np.ones((8, 2)), np.zeros((8, 1)))
        >>> models = []
        >>> for seed in range(3):
        ...     training = vs.Training(vs.Dense(1), task=vs.tasks.Numbers(), seed=seed)
        ...     outcome = training.run(data.batches(4), epochs=1)
        ...     models.append(training.model())
        >>> list(vs.Model.joined(models).predict(np.ones((2, 2))))
        ['predicted', 'spread']
        """
        models = list(models)
        if not models:
            raise ModelError("joined: there are no models.")
        first = models[0]
        for number, other in enumerate(models[1:], 2):
            same = (
                other.codec.described(opaque=True) == first.codec.described(opaque=True)
                and repr(other.task) == repr(first.task)
                and other.network.sample_like == first.network.sample_like
            )
            if not same:
                raise ModelError(
                    f"joined: model {number} takes other inputs, encodes or scales them otherwise, "
                    "or its outputs mean something else than those of the first. Train all on "
                    "parts of one table that were scaled together."
                )
        members = [copy.deepcopy(model.network) for model in models]
        network = Ensemble(*members, task=first.task)
        shapes = [np.zeros((1, *shape), kind) for shape, kind in first.network.sample_like]
        network.initialise(
            tuple(shapes) if len(shapes) > 1 else shapes[0],
            dtype=first.network.dtype,
            keep_weights=True,
        )
        runs = [str(model.lineage.get("run", "")) for model in models]
        lineage = {**first.lineage, "run": ", ".join(filter(None, runs)), "members": len(models)}
        return cls(network, first.codec, first.loss, first.metrics, lineage)

    @property
    def task(self) -> Task:
        """What the outputs mean."""
        return task_of(self.loss if self.unresolved is None else self.unresolved)

    # looking

    def assess(self, rows: Source | Any, targets: Any = None) -> Assessment:
        """Loss and metrics on rows with their target, on a source, batches or a folder of pictures
        with a subfolder a class, or on inputs and targets.

        Raises
        ------
        DataError
            If the target is missing.
        ModelError
            If the model was made without a loss.
        """
        return self._assessed(rows, targets, told=True)

    def _assessed(self, rows: Any, targets: Any, *, told: bool) -> Assessment:
        if self.unresolved is not None:
            raise ModelError(
                "The loss or a metric of this model was not handed over when it was opened, so it "
                f"predicts and cannot be scored. {self.unresolved.reason}"
            )
        if self.loss is None:
            raise ModelError(
                "This model says nothing of a loss or metrics, so it cannot be scored."
            )
        given = self._with_targets(rows, targets, "assess")
        encoding, weights = self.codec.encoding, given.weights
        if encoding is not None and given.beside is not None:
            if encoding.weight:
                weights = weights_of(given.beside, encoding.weight, "The rows")
            if told:
                tell(self.findings(given.beside))
        outputs = self.outputs(given.inputs, targets=given.targets)
        wanted = given.targets
        if wanted is None:
            wanted = self.task.without_targets(len(outputs))
        return assess(outputs, wanted, self.loss, self.metrics, weights=weights)

    def _inputs(self, rows: Any) -> ModelInputs:
        return model_inputs(self.codec, self.network.sample_like[0][0], rows)

    def findings(self, rows: Source) -> list[Finding]:
        """How rows differ from those trained on: ranges, categories, gaps, missing columns."""
        return self.codec.findings(rows)

    # files

    def save(self, path: str | os.PathLike[str]) -> Path:
        """Write the model to one file, whole or not at all; see docs/formats.md.

        Raises
        ------
        PartError
            If a layer, the loss or a metric has no kind, so that the file could not be opened.
        ArchiveError
            If the disk does not take it.
        """
        path = checked_path(path, "save")
        return archive.write(path, self.arrays(), {"model": self.described()})

    def arrays(self) -> dict[str, np.ndarray]:
        """Weights and statistics, as they stand in a file."""
        kept = archive.in_half if self.half else lambda array: array
        named = {
            f"weights/{path}": kept(a) for path, a in self.network._ready_arena().arrays().items()
        }
        return named | {f"statistics/{path}": a for path, a in self.network.statistics().items()}

    def described(self, *, opaque: bool = False) -> dict[str, Any]:
        """All but the arrays, as JSON can hold it."""
        return {
            "network": describe(self.network, opaque=opaque),
            "precision": str(self.network.dtype),
            "inputs": [
                {"shape": list(shape), "dtype": dtype} for shape, dtype in self.network.sample_like
            ],
            "frozen": sorted(self.network._ready_arena().frozen_paths),
            **self.codec.described(opaque=opaque),
            **self._described_scoring(opaque),
            **{
                kind: {name: describe(made) for name, made in found.items()}
                for kind, found in (
                    ("calibration", self.calibration),
                    ("conformal", self.conformal),
                )
                if found
            },
            "lineage": self.lineage,
            **({"half": True} if self.half else {}),
            **({"codes": codes} if (codes := codes_of(self.network)) else {}),
            **({"adapters": adapters} if (adapters := adapters_of(self.network)) else {}),
        }

    def _described_scoring(self, opaque: bool) -> dict[str, Any]:
        if self.unresolved is not None:
            return {
                "loss": self.unresolved.loss,
                "loss_is_task": False,
                "metrics": self.unresolved.metrics,
            }
        return {
            "loss": describe(self.loss, opaque=opaque),
            "loss_is_task": isinstance(self.loss, Task),
            "metrics": describe(list(self.metrics), opaque=opaque),
        }


def _outputs_of(network: Layer, inputs: Any, size: int, targets: Any = None) -> Any:
    placed = inputs_in_order(network, inputs)
    several = placed if isinstance(placed, tuple) else (placed,)
    n = len(several[0]) if np.ndim(several[0]) else 0
    if not n:
        raise DataError(
            f"There are no inputs: shape {np.shape(several[0])}. Give a batch of at least one."
        )
    told = targets is not None and takes(network, "targets")
    parts = []
    with untracked():
        for i in range(0, n, size):
            options = {"targets": targets[i : i + size]} if told else {}
            parts.append(mapped(held, network(*(x[i : i + size] for x in several), **options)))
    return joined_parts(parts)


def _drops(layer: Layer) -> bool:
    """Whether dropout can be left on in a layer."""
    return isinstance(layer, Dropout | Noise) and bool(
        getattr(layer, "probability", 0) or getattr(layer, "deviation", 0)
    )


def open_model(file: str | os.PathLike[str], *, own: Iterable[Any] = ()) -> Model:
    """The model in a file: one that was saved, or a checkpoint of a run.

    Parameters
    ----------
    file : path
    own : sequence of classes and functions
        Parts of one's own that occur in it; a file never imports code. Without a loss or metric of
        one's own the model predicts, and is not scored.

    Raises
    ------
    ArchiveError
        If the file was changed, cut short, or holds anything but arrays and JSON.
    ModelError
        If it says nothing of a network, or of one whose parts are not at hand: which.

    Examples
    --------
    >>> import tempfile
    >>> model = vs.Model(vs.Dense(2).initialise(np.ones((1, 3))))
    >>> vs.open_model(model.save(tempfile.mkdtemp() + "/small.vine")).network.width
    2
    """
    saved = archive.read(checked_path(file, "open_model"))
    described = saved.meta.get("model")
    if not isinstance(described, Mapping):
        raise ModelError(
            f"{saved.path}: it holds no model. Files of Model.save and states of runs do."
        )
    try:
        return _opened(saved, described, own)
    except ArchiveError:
        raise
    except (
        VineStepError,
        LookupError,
        AttributeError,
        TypeError,
        ValueError,
        OverflowError,
        MemoryError,
    ) as error:
        raise ModelError(f"{saved.path}: this model cannot be opened: {_reason(error)}") from error


HAND_OVER = (
    "Hand parts of your own over: open_model(file, own=[...]), or --with FILE.py on the command "
    "line."
)


def _reason(error: BaseException) -> str:
    if isinstance(error, PartError):
        return f"{error}\n{HAND_OVER}"
    return str(error) if isinstance(error, VineStepError) else f"{type(error).__name__}: {error}"


def _opened(found: archive.Archive, known: Mapping[str, Any], own: Iterable[Any]) -> Model:
    builder = Builder(own)
    network = builder.part(known["network"], "network", LAYERS)
    loss, metrics, unresolved = _scoring(known, own)
    codec = Codec.built(known, builder)
    calibrations = {
        kind: {
            str(name): builder.part(item, f"{kind}.{name}", ("calibration",))
            for name, item in (known.get(kind) or {}).items()
        }
        for kind in ("calibration", "conformal")
    }
    builder.refuse_faults()
    if not isinstance(network, Layer):
        raise ModelError(f"{found.path}: its network is no layer.")
    network.keep_whole()
    weights = archive.model_arrays(found.arrays, known.get("average_share"))
    _initialise(network, known, found, sum(a.nbytes for a in weights.values()))
    if known.get("codes"):
        network = with_codes(network, known["codes"])
    if known.get("adapters"):
        network = with_adapters(network, known["adapters"])
    network.load(weights)
    network.set_frozen(map(str, known.get("frozen") or []))
    lineage = known.get("lineage")
    return Model(
        network,
        codec,
        loss,
        metrics,
        dict(lineage) if isinstance(lineage, Mapping) else {},
        known.get("half") is True,
        **calibrations,
        unresolved=unresolved,
    )


def _scoring(
    known: Mapping[str, Any], own: Iterable[Any]
) -> tuple[Any, list[Metric], Unresolved | None]:
    """Loss and metrics; where they are code that is not at hand, what the file says of them. A task
    has to be at hand: it says what outputs mean.
    """
    builder = Builder(own)
    told, listed = known.get("loss"), list(known.get("metrics") or [])
    loss = None if told is None else builder.part(told, "loss", ("loss", "task"))
    metrics = [builder.part(item, f"metrics.{i}", ("metric",)) for i, item in enumerate(listed)]
    needed = loss is None and told is not None and known.get("loss_is_task") is not False
    if builder.faults and (needed or len(builder.faults) > len(builder.missing)):
        builder.refuse_faults()
    if not builder.faults:
        return loss, metrics, None
    reason = "; ".join(map(str, builder.faults))
    return None, [], Unresolved(told, listed, f"{reason} {HAND_OVER}")


def _initialise(
    network: Layer, known: Mapping[str, Any], found: archive.Archive, held_bytes: int
) -> None:
    """Parameters of the shapes that the file holds; no more memory is asked for than it gives
    reason to.
    """
    samples = []
    for given in known["inputs"]:
        shape = [int(n) for n in given["shape"]]
        if any(n < 1 for n in shape) or np.prod(shape, dtype=float) > MOST_VALUES:
            raise ModelError(f"{found.path}: it says an input has the shape {tuple(shape)}.")
        samples.append(np.ones((1, *shape), np.dtype(str(given["dtype"]))))
    sample = tuple(samples) if len(samples) > 1 else samples[0]
    times = 2 * MOST_PACKED if known.get("codes") else 8
    network.initialise(
        sample, dtype=np.dtype(str(known["precision"])), most_bytes=times * held_bytes + (1 << 20)
    )


__getattr__, __dir__ = own_names(__name__, __all__)
