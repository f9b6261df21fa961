"""What a layer is.

To write one, supply two methods and nothing else:

1. ``declare(self, shape)`` is called once, with the shape of the first input that is seen, and
  creates parameters by
   ``self.parameter(name, shape, initialiser)`` and running statistics by ``self.statistic(name,
   shape, value)``. Only the input's shape is ever given by the user; every later shape follows.
2. ``compute(self, x)`` is the layer's mathematics in NumPy.

Any attribute that is a layer, or a list or dict of layers, is part of the layer; paths are built
from attribute names. A plain callable such as `np.tanh` may stand wherever a layer may.
"""

from __future__ import annotations

import math
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from fnmatch import fnmatchcase
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import DTypeLike

from .._arguments import checked_seed
from .._ownership import Ownership
from .._public_names import did_you_mean
from ..autodiff.tensor import RAW_ERRORS, Tensor, held
from ..autodiff.tracking import STATE, untracked
from ..errors import (
    DTypeError,
    LayerError,
    NotFiniteError,
    ShapeError,
    VineStepError,
)
from ..initialisers import Initialiser
from ._arena import Arena
from ._description import Description, Survey, layer_name
from ._learning_pass import (
    PASS,
    DryPass,
    Watcher,
    observed,
)

__all__ = ["Layer", "LayerLike", "call_layer"]

LayerLike = Callable[..., Any]


class Layer:
    """Base of all layers; see the module's text for the two methods to supply.

    Examples
    --------
    >>> class Scale(Layer):
    ...     def declare(self, shape):
    ...         self.parameter("factor", shape[-1:], vs.initialisers.ones)
    ...
    ...     def compute(self, x):
    ...         return x * self.factor
    >>> network = Stack(Scale()).initialise(np.ones((1, 3)))
    >>> list(network.parameters())
    ['0/factor']
    """

    part_family: ClassVar[str] = "layer"
    path: str = ""
    arena: Arena | None = None
    takes_tokens: ClassVar[bool] = False
    """Whether whole numbers are meant as such: indices, tokens. Other layers of the library compute
    with them as floats.
    """
    axes: ClassVar[str] = ""
    """Names of the input's axes, where there have to be so many and the last as long as at
    initialisation.
    """
    _declared: bool = False
    _sample: tuple[tuple[tuple[int, ...], str], ...] = ()
    _declared_for: tuple[int, ...] = ()
    _owner: Ownership | None = None
    """Shared with the layers that were initialised together with this one."""
    _computes_in: np.dtype[Any] | None = None
    _whole_as_floats: bool = False
    statistics_change: ClassVar[bool] = True
    """Whether learning passes change the layer's statistics; codes of a weight are held with them
    and do not change.
    """
    estimates_gradients: ClassVar[bool] = False
    """Whether gradients through the layer are on purpose others than the derivative, as through
    rounding.
    """
    _caches: ClassVar[tuple[str, ...]] = ()
    """Attributes that are worked out again in a copy."""
    _planned_by: ClassVar[tuple[str, ...]] = ()
    """Attributes that plans of the layers around this one are made from: setting one makes them
    anew.
    """

    def __setattr__(self, name: str, value: Any) -> None:
        super().__setattr__(name, value)
        if name in self._planned_by:
            Arena.generation += 1

    # what a member supplies

    def declare(self, shape: tuple[int, ...]) -> None:
        """Create parameters for inputs of this shape. Layers without parameters leave it out."""

    def compute(self, *inputs: Any, **options: Any) -> Any:
        raise NotImplementedError(
            f"{type(self).__name__}.compute is not written: it has to return the layer's output."
        )

    def multiply_adds(self, shape: tuple[int, ...], output: tuple[int, ...]) -> int:
        """Multiplications followed by an addition in one pass, for `describe`."""
        return 0

    # what a member calls

    def parameter(self, name: str, shape: tuple[int, ...], initialiser: Initialiser) -> None:
        """Create a trainable parameter, available as the attribute `name` from now on."""
        dry = PASS.dry
        if dry is None:
            raise LayerError(
                f"{self._label}: parameters are created in declare(), during initialise()."
            )
        path = self._join(name)
        dry.room -= 8.0 * math.prod(shape)  # drawn in float64
        if dry.room < 0:
            raise LayerError(
                f"{path}: a parameter of shape {tuple(shape)} is more than there is room for."
            )
        rng = np.random.default_rng([dry.seed, *path.encode()])
        values = np.asarray(initialiser(rng, shape), dtype=dry.dtype)
        if values.shape != tuple(shape):
            raise ShapeError(
                f"{path}: the initialiser returned shape {values.shape} where {tuple(shape)} was "
                "asked for."
            )
        self._own_parameters()[name] = Tensor(values, name=path)
        setattr(self, name, self._own_parameters()[name])

    def statistic(self, name: str, shape: tuple[int, ...], value: float) -> None:
        """Create a running statistic: an array that is saved with the weights but not trained."""
        dry = PASS.dry
        if dry is None:
            raise LayerError(
                f"{self._label}: statistics are created in declare(), during initialise()."
            )
        array = np.full(shape, value, dtype=dry.dtype)
        self._own_statistics()[name] = array
        setattr(self, name, array)

    # calling

    def __call__(self, *inputs: Any, **options: Any) -> Any:
        now = STATE.now
        before = now.place
        now.place = self.path
        try:
            if self.arena is not None or self._whole_as_floats:
                inputs = self._in_own_precision(inputs)
            if not self._declared:
                self._declare(inputs)
            elif self.axes:
                self._check_axes(inputs[0])
            output = self.compute(*inputs, **options)
        except VineStepError:
            raise
        except RAW_ERRORS as error:
            raise explained(error, self._label, inputs) from error
        finally:
            now.place = before
        if PASS.observer is not None:
            PASS.observer(self, self.path, inputs, output)
        return output

    def _declare(self, inputs: tuple[Any, ...]) -> None:
        if PASS.dry is None:
            raise LayerError(
                f"{self._label} has no parameters yet. Call network.initialise(sample) once, with "
                "one example or batch, "
                "before the network is used."
            )
        self._computes_in = PASS.dry.dtype
        shape = np.shape(held(inputs[0]))
        if self.axes and len(shape) != len(self.axes.split()):
            raise ShapeError(
                f"{self._label}: expected input of shape ({', '.join(self.axes.split())}), got "
                f"{shape}."
            )
        self.declare(shape)
        self._declared, self._declared_for = True, shape

    def _check_axes(self, x: Any) -> None:
        wanted, shape = self._declared_for, np.shape(x) if type(x) is list else x.shape
        if len(shape) != len(wanted) or shape[-1] != wanted[-1]:
            names = ", ".join([*self.axes.split()[:-1], str(wanted[-1])])
            raise ShapeError(
                f"{self._label}: expected input of shape ({names}), got {tuple(shape)}. Make what "
                f"comes before it {wanted[-1]} wide, or "
                "initialise the network again on a sample of this shape."
            )

    # the tree of layers

    def children(self) -> Iterator[tuple[str, Layer]]:
        """The layers directly inside this one, with the last part of their paths."""
        for name, value in vars(self).items():
            if not name.startswith("_") and name != "arena":
                yield from _layers_in(name, value)

    def walk(self) -> Iterator[Layer]:
        """This layer and all inside it, each once, outer before inner."""
        seen: set[int] = set()
        stack = [self]
        while stack:
            layer = stack.pop()
            if id(layer) in seen:
                continue
            seen.add(id(layer))
            yield layer
            stack += reversed([child for _, child in layer.children()])

    def _set_paths(self, path: str = "", seen: set[int] | None = None) -> None:
        seen = seen if seen is not None else set()
        seen.add(id(self))
        self.path = path
        for name, child in self.children():
            if id(child) not in seen:
                child._set_paths(f"{path}/{name}" if path else name, seen)

    def _own_parameters(self) -> dict[str, Tensor]:
        own: dict[str, Tensor] = self.__dict__.setdefault("_parameters", {})
        return own

    def _own_statistics(self) -> dict[str, np.ndarray]:
        own: dict[str, np.ndarray] = self.__dict__.setdefault("_statistics", {})
        return own

    @property
    def divides_layers(self) -> bool:
        """Whether this process has some of its layers only; see `Pipeline`."""
        return False

    def keep_whole(self) -> None:
        """Have all layers here, also where other processes divide such a network."""

    def not_settings(self) -> set[str]:
        """Attributes that belong to the network at hand, not to what the layer is."""
        return {*self._own_parameters(), *self._own_statistics(), "path", "arena"}

    def _join(self, name: str) -> str:
        return f"{self.path}/{name}" if self.path else name

    @property
    def _label(self) -> str:
        return f"{self.path or 'the network'} ({type(self).__name__})"

    @property
    def random_key(self) -> int:
        """A number for this layer's path, which keeps the random streams of layers apart."""
        return zlib.crc32(self.path.encode())

    # a network as a whole

    def initialise(
        self,
        sample: Any,
        seed: int = 0,
        *,
        dtype: DTypeLike | None = None,
        most_bytes: float = math.inf,
        keep_weights: bool | None = None,
    ) -> Self:
        """Create every parameter by one dry pass, and pack the arena.

        A layer belongs to one network. A trained body moves into a new one with
        ``keep_weights=True``; a copy of it, `copy.deepcopy`, leaves the former network as it is.

        Parameters
        ----------
        sample : array_like, tuple of array_like, or tuple of int
            One batch of inputs of the kind the network will see; only its shape and its finiteness
            matter. Whole numbers are the shape of one example: ``(5,)``, ``(28, 28, 1)``.
        seed : int
            Same seed, same weights: each parameter is drawn from its own stream, keyed by seed and
            path.
        dtype : dtype, optional
            float32 by default.
        most_bytes : float
            Refuse a network whose parameters take more than this.
        keep_weights : bool, optional
            Whether layers that have weights keep them, frozen ones frozen, and only the others are
            drawn; or all are drawn. It has to be said where layers with and without weights, or of
            several networks, come together.

        Returns
        -------
        network : Layer
            Itself, so that it can be written ``network = Stack(...).initialise(sample)``.

        Raises
        ------
        ShapeError
            If a layer does not fit its input, with the layer's path.
        LayerError
            If a layer belongs to another network, or what becomes of its weights was not said.
        """
        kind = np.dtype(dtype if dtype is not None else np.float32)
        if kind.kind != "f":
            raise LayerError(f"initialise: dtype must be a float type, got {kind}.")
        layers = list(self.walk())
        sample = _sample_of(sample, tokens=any(layer.takes_tokens for layer in layers))
        self._check_owners(layers, keep_weights)
        before = [(layer, dict(vars(layer))) for layer in layers]
        try:
            self._draw(
                layers,
                sample,
                DryPass(checked_seed(seed, "initialise"), kind, most_bytes),
                bool(keep_weights),
            )
        except BaseException:
            for layer, held_before in before:
                vars(layer).clear()
                vars(layer).update(held_before)
            raise
        given = sample if isinstance(sample, tuple) else (sample,)
        self._sample = tuple((np.shape(held(x))[1:], np.asarray(held(x)).dtype.str) for x in given)
        return self

    def _draw(self, layers: list[Layer], sample: Any, dry: DryPass, keep_weights: bool) -> None:
        kind = dry.dtype
        self._set_paths()
        own_or_tokens = any(layer.takes_tokens or not _is_of_the_library(layer) for layer in layers)
        for layer in layers:
            layer._whole_as_floats = (
                not layer.takes_tokens
                and _is_of_the_library(layer)
                and not any(True for _ in layer.children())
            )
            layer._computes_in = kind
        self._whole_as_floats = not own_or_tokens
        frozen: set[str] = set()
        for layer in layers:
            if layer._declared and keep_weights:
                frozen |= layer._move_in(kind)
                continue
            layer._declared = False
            layer.__dict__.pop("_parameters", None)
            layer.__dict__.pop("_statistics", None)
        self._dry_pass(sample, dry, lambda *call: None)
        layers = list(self.walk())
        tensors = {t.name: t for layer in layers for t in layer._own_parameters().values()}
        owner = Ownership()
        for layer in layers:
            layer.arena, layer._owner = None, owner
        self.arena = Arena(tensors, kind, frozen)
        if frozen:
            self._point_to_parameters()

    def _check_owners(self, layers: list[Layer], keep_weights: bool | None) -> None:
        """Whether these layers may be initialised together."""
        moving_in = {id(layer._owner) for layer in layers if layer.arena is not None}
        for layer in layers:
            owner = layer._owner
            if owner is not None and owner.in_use and id(owner) not in moving_in:
                raise LayerError(
                    f"{layer._label} belongs to another network, which would lose its weights or "
                    "compute with changed ones. Give a copy, copy.deepcopy(layer), or, to train "
                    "it in both, make both parts of one network; vinestep.networks.with_head puts "
                    "a new head on a copied body."
                )
        with_weights = [layer for layer in layers if layer._parameters_or_statistics()]
        alike = all(layer._owner is self._owner for layer in layers)
        if with_weights and not alike and keep_weights is None:
            raise LayerError(
                f"initialise: {len(with_weights)} of {len(layers)} layers have weights already, "
                f"such as {with_weights[0]._label}. Say initialise(sample, keep_weights=True) to "
                "keep them and to draw the others only, or keep_weights=False to draw all anew."
            )

    def _parameters_or_statistics(self) -> bool:
        return self._declared and bool(self._own_parameters() or self._own_statistics())

    def _move_in(self, dtype: np.dtype[Any]) -> set[str]:
        """Take the weights along into another network: which of them are frozen."""
        frozen = {
            self._join(name)
            for name in self._own_parameters()
            if not isinstance(getattr(self, name), Tensor)
        }
        self._parameters = {
            name: Tensor(np.array(tensor._array, dtype), name=self._join(name))
            for name, tensor in self._own_parameters().items()
        }
        self._statistics = {
            name: np.array(array, dtype) for name, array in self._own_statistics().items()
        }
        for name, value in (self._parameters | self._statistics).items():
            setattr(self, name, value)
        return frozen

    @property
    def sample_like(self) -> tuple[tuple[tuple[int, ...], str], ...]:
        """Shape of an example and dtype of each input that the network was initialised for."""
        self._ready_arena()
        return self._sample

    def _dry_pass(self, sample: Any, dry: DryPass, observer: Watcher) -> None:
        inputs = sample if isinstance(sample, tuple) else (sample,)
        cast = [
            self._converted(np.asarray(held(x)), dry.dtype, self._whole_as_floats) for x in inputs
        ]
        with untracked(), observed(observer, dry):
            self(*cast)

    def _in_own_precision(self, inputs: tuple[Any, ...]) -> tuple[Any, ...]:
        """Numbers in the parameters' dtype, so that a float64 table does not promote a float32
        network unnoticed, nor pictures of bytes wrap around. Truth values further on are masks.
        """
        dtype = self._computes_in
        if dtype is None or not inputs:
            return inputs
        first = inputs[0]
        if type(first) in (np.ndarray, Tensor) and len(inputs) == 1 and first.dtype == dtype:
            return inputs
        floats = self.arena is not None
        head = first if isinstance(first, np.ndarray | Tensor) else np.asarray(first)
        rest = [
            self._converted(x, dtype, self._whole_as_floats and x.dtype != bool, floats)
            if isinstance(x, np.ndarray | Tensor)
            else x
            for x in inputs[1:]
        ]
        return (self._converted(head, dtype, self._whole_as_floats, floats), *rest)

    @staticmethod
    def _converted(x: Any, dtype: np.dtype[Any], whole: bool, floats: bool = True) -> Any:
        kind = x.dtype.kind
        wanted = (floats and kind == "f" and x.dtype != dtype) or (whole and kind in "iub")
        return x.astype(dtype) if wanted else x

    # copies

    def __getstate__(self) -> dict[str, Any]:
        return {name: None if name in self._caches else value for name, value in vars(self).items()}

    def __setstate__(self, state: dict[str, Any]) -> None:
        vars(self).update(state)
        if self.arena is not None:
            if self._owner is not None:
                self._owner.in_use = True
            self._point_to_parameters()

    def _ready_arena(self) -> Arena:
        if self.arena is None:
            if self._declared:
                raise LayerError(
                    f"{self._label} is part of a network, whose parameters it shares. Use that "
                    "network, or initialise a copy: copy.deepcopy(layer).initialise(sample, "
                    "keep_weights=True)."
                )
            raise LayerError(
                f"{type(self).__name__} has no parameters yet. Call network.initialise(sample) "
                "first, with one example or batch."
            )
        return self.arena

    @property
    def is_initialised(self) -> bool:
        return self.arena is not None

    @property
    def dtype(self) -> np.dtype[Any]:
        return self._ready_arena().dtype

    def parameters(self) -> Mapping[str, Tensor]:
        """Trainable parameters by path."""
        return self._ready_arena().trainable

    def weights(self) -> dict[str, np.ndarray]:
        """All parameters by path, frozen ones too, as plain arrays: views, not copies."""
        arena = self._ready_arena()
        arena.hand_out()
        return arena.arrays()

    def outputs_of(self, path: str, *inputs: Any) -> np.ndarray:
        """What a layer within puts out in inference for inputs of the whole network.

        Parameters
        ----------
        path : str
            As `describe` lists it, such as ``"body/2"``; the last call counts where a layer is
            called several times.
        *inputs : array

        Raises
        ------
        LayerError
            If there is no such layer, or it takes no part.

        Examples
        --------
        >>> network = vs.Stack(vs.Dense(3, vs.relu), vs.Dense(1)).initialise(np.ones((1, 2)))
        >>> network.outputs_of("0", np.ones((5, 2))).shape
        (5, 3)
        """
        seen: dict[str, Any] = {}

        def told(layer: Any, where: str, given: tuple[Any, ...], output: Any) -> None:
            seen[where] = output

        with untracked(), observed(told):
            self(*inputs)
        if path not in seen:
            raise LayerError(
                f"There is no layer {path!r} that takes part. {did_you_mean(path, seen)}"
            )
        result = seen[path]
        return np.asarray(held(result[0] if isinstance(result, tuple) else result))

    def statistics(self, *, changing: bool = False) -> dict[str, np.ndarray]:
        """Running statistics by path, as plain arrays: views, not copies; only those that learning
        passes change, if that is asked.
        """
        layers = (layer for layer in self.walk() if layer.statistics_change or not changing)
        return {
            layer._join(name): a for layer in layers for name, a in layer._own_statistics().items()
        }

    def load(self, source: Any, *, partial: bool = False) -> Self:
        """Overwrite parameters and running statistics by path: all that belongs to the network, or
        nothing is changed.

        Parameters
        ----------
        source : Archive, or mapping of path to array
            Of a checkpoint its weights and statistics.
        partial : bool
            Whether some may be missing and stay as they are.

        Raises
        ------
        LayerError
            If something of the network is missing: what.
        ShapeError
            If a path does not exist or a shape differs.
        DTypeError, NotFiniteError
            If an array holds other things than finite numbers.
        """
        given: Mapping[str, np.ndarray] = (
            source.group("weights") | source.group("statistics")
            if hasattr(source, "group")
            else source
        )
        arena, statistics = self._ready_arena(), self.statistics()
        for path, array in given.items():
            _check_numbers(path, array)
            if path in statistics and np.shape(array) != statistics[path].shape:
                raise ShapeError(
                    f"{path}: expected shape {statistics[path].shape}, got {np.shape(array)}."
                )
        weights = {path: a for path, a in given.items() if path not in statistics}
        arena.check(weights)
        missing = [path for path in [*arena.tensors, *statistics] if path not in given]
        if missing and not partial:
            raise LayerError(
                f"load: {len(missing)} of {len(arena.tensors) + len(statistics)} arrays of the "
                "network are missing: "
                f"{', '.join(missing[:5])}{' and more' if len(missing) > 5 else ''}. Load a whole "
                "checkpoint, "
                "network.load(checkpoints.read(file)), or say partial=True to keep these as they "
                "are."
            )
        arena.load(weights)
        for path in statistics:
            if path in given:
                statistics[path][...] = given[path]
        for layer in self.walk():
            layer.loaded({name for name in layer._own_statistics() if layer._join(name) in given})
        return self

    def loaded(self, names: set[str]) -> None:
        """Told which of its statistics were loaded."""

    def set_frozen(self, paths: Iterable[str]) -> Self:
        """Freeze these parameters and no others.

        Raises
        ------
        LayerError
            If there is no parameter of such a path.
        """
        arena, wanted = self._ready_arena(), set(paths)
        for path in sorted(wanted - arena.tensors.keys()):
            raise LayerError(
                f"There is no parameter {path!r} to freeze. {did_you_mean(path, arena.tensors)}"
            )
        if wanted != arena.frozen_paths:
            arena.pack(wanted)
            self._point_to_parameters()
        return self

    def freeze(self, pattern: str = "*") -> list[str]:
        """Take parameters out of training, by a pattern over paths such as ``features/*``.

        Returns
        -------
        paths : list of str
            Those frozen by this call.

        Raises
        ------
        LayerError
            If nothing matches.
        """
        arena = self._ready_arena()
        return self._refreeze(pattern, arena.frozen_paths | self._matching(pattern))

    def thaw(self, pattern: str = "*") -> list[str]:
        """Let parameters train again, by a pattern over paths; the counterpart of `freeze`."""
        arena = self._ready_arena()
        return self._refreeze(pattern, arena.frozen_paths - self._matching(pattern))

    def all_paths(self) -> list[str]:
        """Of all parameters, wherever they are."""
        return list(self._ready_arena().tensors)

    def _matching(self, pattern: str) -> set[str]:
        """The parameters that are here among those that match."""
        paths = self.all_paths()
        result = {
            path
            for path in paths
            if fnmatchcase(path, pattern) or path.startswith(pattern.rstrip("/*") + "/")
        }
        if not result:
            raise LayerError(f"No parameter matches {pattern!r}. {did_you_mean(pattern, paths)}")
        return result & self._ready_arena().tensors.keys()

    def _refreeze(self, pattern: str, frozen: set[str]) -> list[str]:
        arena = self._ready_arena()
        changed = sorted(frozen ^ arena.frozen_paths)
        arena.pack(frozen)
        self._point_to_parameters()
        return changed

    def _point_to_parameters(self) -> None:
        """Layers see trainable parameters as Tensors, frozen ones as arrays."""
        frozen = self._ready_arena().frozen_paths
        for layer in self.walk():
            for name, tensor in layer._own_parameters().items():
                setattr(layer, name, tensor._array if tensor.name in frozen else tensor)

    def _trainable_tensors(self) -> list[Tensor]:
        """The parameters that train, of this layer and those within it."""
        return [
            value
            for layer in self.walk()
            for name in layer._own_parameters()
            if isinstance(value := getattr(layer, name), Tensor)
        ]

    @property
    def is_frozen(self) -> bool:
        """Whether the layer has parameters and all its own are frozen."""
        own = self._own_parameters()
        return bool(own) and not any(isinstance(getattr(self, name), Tensor) for name in own)

    def describe(self, sample: Any) -> Description:
        """A table of path, output shape, parameters, multiply-adds and activation memory.

        Parameters
        ----------
        sample : array_like
            A batch of the shape to describe the network for.
        """
        arena = self._ready_arena()
        survey = Survey(arena.dtype.itemsize)
        self._dry_pass(sample, DryPass(0, arena.dtype), survey)
        return Description(
            survey.rows,
            trainable=arena.layout.size,
            frozen=arena.frozen.size,
            itemsize=arena.dtype.itemsize,
        )

    def first_bad_layer(self, *inputs: Any) -> str:
        """Path of the first layer whose output is not finite, in words; empty if there is none."""
        for path, array in self._ready_arena().arrays().items():
            if not np.all(np.isfinite(array)):
                return f"the parameter {path}"
        bad: list[str] = []

        def watch(layer: Any, path: str, inputs: tuple[Any, ...], output: Any) -> None:
            if not bad and not np.all(np.isfinite(held(output))):
                bad.append(f"{path or 'the network'} ({layer_name(layer)})")

        with untracked(), observed(watch), np.errstate(all="ignore"):
            self(*inputs)
        return bad[0] if bad else ""


def call_layer(layer: LayerLike, x: Any, path: str) -> Any:
    """Call a layer or a plain callable; the latter is reported under `path`."""
    if isinstance(layer, Layer):
        return layer(x)
    try:
        output = layer(x)
    except VineStepError as error:
        error.add_note(
            f"In {path} ({layer_name(layer)}), whose input had shape {np.shape(held(x))}."
        )
        raise
    except RAW_ERRORS as error:
        raise explained(error, f"{path} ({layer_name(layer)})", (x,)) from error
    if PASS.observer is not None:
        PASS.observer(layer, path, (x,), output)
    return output


def explained(error: Exception, label: str, inputs: tuple[Any, ...]) -> LayerError:
    """A mistake met in a layer, told with where it is and what came in."""
    came = ", ".join(
        f"{np.shape(held(x))} {getattr(x, 'dtype', type(x).__name__)}"
        for x in inputs
        if not isinstance(x, dict)
    )
    return LayerError(f"{label}: {type(error).__name__}: {error} (input {came or 'none'}).")


def _sample_of(sample: Any, *, tokens: bool) -> Any:
    """A batch of one example, where its shape alone is given."""
    if not (isinstance(sample, tuple) and sample and all(type(n) is int for n in sample)):
        return sample
    if min(sample) < 1:
        raise ShapeError(
            f"initialise: an example cannot have the shape {sample}. Give the sizes of its axes, "
            "without the batch, such as (5,)."
        )
    return np.zeros((1, *sample), np.int64 if tokens else np.float32)


def _is_of_the_library(layer: Layer) -> bool:
    return type(layer).__module__.startswith("vinestep.")


def _check_numbers(path: str, array: Any) -> None:
    values = np.asarray(array)
    if values.dtype.kind not in "fiu":
        raise DTypeError(f"{path}: weights have to be real numbers, got {values.dtype}.")
    if values.dtype.kind == "f" and not np.isfinite(values).all():
        raise NotFiniteError(
            f"{path}: {int(np.sum(~np.isfinite(values)))} of {values.size} weights are NaN or "
            "infinite. They are not loaded."
        )


def _layers_in(name: str, value: Any) -> Iterator[tuple[str, Layer]]:
    if isinstance(value, Layer):
        yield name, value
    elif isinstance(value, list | tuple):
        for i, item in enumerate(value):
            yield from _layers_in(f"{name}/{i}", item)
    elif isinstance(value, dict):
        for key, item in value.items():
            yield from _layers_in(f"{name}/{key}", item)
