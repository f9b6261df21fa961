"""Layers whose weights are held in 8 or 4 bits; they do not train, and adapters may stand beside
them.
"""

from __future__ import annotations

import copy
from typing import Any

import numpy as np

from .. import kernels
from ..autodiff.fused import Fused
from ..autodiff.signatures import Signature, misfit
from ..kernels.machinery.grain_sizes import RATE, TILE
from ..kernels.machinery.pool import helpers
from ..kernels.products import places
from ..parts._registry import described_as
from ._base import Layer
from ._block_codes import Coded, CodeForm, coded
from ._dense import Dense, SeparateDense, sum_of_rows
from ._embedding import Embedding, check_tokens
from ._replace_layers import Patterns, chosen_layers, replace_layers

__all__ = ["QuantisedDense", "QuantisedEmbedding", "quantised"]

PARTS = ("codes", "scales", "ranges")


def _definition(x: Any, bias: Any, *, weight: Coded, transposed: bool = False) -> Any:
    plain = weight.decoded(x.dtype)
    return np.matmul(x, plain.T if transposed else plain) + bias


def _multiplied(x: np.ndarray, weight: Coded, bias: np.ndarray, transposed: bool) -> np.ndarray:
    """``x @ weight + bias`` or ``x @ weight.T + bias`` of rows."""
    n, width = len(x), len(bias)
    rows = x if n >= TILE else np.concatenate([x, np.zeros((TILE - n, x.shape[1]), x.dtype)])
    result = np.empty((len(rows), width), x.dtype)
    working = helpers(max(x.size // RATE, x.shape[1]) * width)
    values = weight.table.astype(x.dtype).reshape(-1)
    codes = (
        weight.codes,
        weight.plain_scales().astype(x.dtype),
        values,
        8 // weight.bits,
        weight.block,
    )
    loop = (
        kernels.block_codes.product_with_transposed if transposed else kernels.block_codes.product
    )
    loop(
        *working,
        *places(*rows.shape),
        rows.reshape(-1),
        *codes,
        bias,
        result.reshape(-1),
        width,
        x.dtype.type(-np.inf),
    )
    return result if n >= TILE else result[:n].copy()


def _forward(x: Any, bias: Any, *, weight: Coded, transposed: bool = False) -> tuple[Any, Any]:
    result = _multiplied(x.reshape(-1, x.shape[-1]), weight, bias, transposed)
    return result.reshape(*x.shape[:-1], len(bias)), None


def _adjoint(
    g: Any, saved: Any, inputs: Any, options: dict[str, Any], wanted: Any, places: Any
) -> list[Any]:
    x, bias = inputs
    rows = np.ascontiguousarray(g, x.dtype).reshape(-1, len(bias))
    gx = None
    if wanted[0]:
        zeros = np.zeros(x.shape[-1], x.dtype)
        gx = _multiplied(
            rows, options["weight"], zeros, not options.get("transposed", False)
        ).reshape(x.shape)
    place = places[1] if places[1] is not None else np.empty(bias.shape, bias.dtype)
    return [gx, sum_of_rows(rows, place) if wanted[1] else None]


def _check_weight(sizes: Any, arrays: Any, options: Any) -> None:
    shape = options["weight"].shape[::-1] if options.get("transposed") else options["weight"].shape
    if (sizes["n_in"], sizes["n_out"]) != shape:
        raise misfit(
            "coded product",
            f"inputs and bias are {sizes['n_in']} and {sizes['n_out']} wide, the weight has shape "
            f"{shape}.",
        )


def _has_values(sizes: Any, options: Any) -> bool:
    return bool(np.prod(sizes["*n"], dtype=np.int64) and sizes["n_in"] and sizes["n_out"])


coded_product = Fused(
    "coded product",
    definition=_definition,
    forward=_forward,
    adjoint=_adjoint,
    form=Signature(also=_check_weight, suits=_has_values, x="*n n_in", bias="n_out"),
)


class _Quantised:
    """What layers with a coded weight have in common: its parts are running statistics that do not
    run.
    """

    statistics_change = False
    coded: Coded

    def hold(self, of: Layer, weight: Coded) -> None:
        """Take the place of a layer, with this weight in codes."""
        vars(self).update(vars(of))
        parameters = dict(of._own_parameters())
        parameters.pop("weight")
        vars(self).pop("weight")
        vars(self)["_parameters"] = parameters
        vars(self)["_statistics"] = {name: getattr(weight, name) for name in PARTS}
        self.coded = weight

    def not_settings(self) -> set[str]:
        return {*super().not_settings(), "coded"}  # type: ignore[misc]

    def weight_settings(self) -> dict[str, Any]:
        """How the weight is coded."""
        return {
            "bits": self.coded.bits,
            "codes": self.coded.form,
            "block": self.coded.block,
            "double": bool(len(self.coded.ranges)),
        }


@described_as(Dense)
class QuantisedDense(_Quantised, SeparateDense):
    """A dense layer whose weight is held in codes. Made by `quantised`."""

    def affine(self, x: Any) -> Any:
        return coded_product(x, self.bias, weight=self.coded)

    @property
    def weight_shape(self) -> tuple[int, ...]:
        return self.coded.shape


@described_as(Embedding)
class QuantisedEmbedding(_Quantised, Embedding):
    """An embedding whose vectors are held in codes. Made by `quantised`."""

    def vectors(self, ids: np.ndarray) -> Any:
        check_tokens(ids, self.count)
        return self.coded.rows(ids.reshape(-1), self._computes_in).reshape(*ids.shape, self.width)

    def logits(self, x: Any) -> Any:
        return coded_product(x, np.zeros(self.count, x.dtype), weight=self.coded)


KINDS: dict[type[Layer], type] = {Dense: QuantisedDense, Embedding: QuantisedEmbedding}


def quantised(
    network: Layer,
    patterns: Patterns = "*",
    *,
    bits: int = 4,
    codes: CodeForm = "normal",
    block: int = 64,
    double: bool = True,
) -> Layer:
    """A copy of a trained network that holds chosen weights in 8 or 4 bits: as a base for adapters,
    or to take less memory.

    Weights in codes do not train. Products with them decode a few outputs at a time, never the
    whole weight.

    Parameters
    ----------
    network : Layer
        Initialised; it is left as it is.
    patterns : str or sequence of str
        Of paths of dense and embedding layers, those of attention among them.
    bits : {4, 8}
    codes : {"normal", "symmetric"}
        Quantiles of a normal distribution, or evenly spaced; see `vinestep.layers.code_values`.
    block : int
        Values that share a scale.
    double : bool
        Whether scales are held in 8 bits, too.

    Raises
    ------
    LayerError
        If a pattern matches no dense or embedding layer, or a setting is out of its range.

    Examples
    --------
    >>> network = vs.Stack(vs.Dense(64, np.tanh), vs.Dense(3)).initialise(np.ones((1, 256)))
    >>> small = vs.layers.quantised(network, "0")
    >>> (
    ...     list(small.parameters()),
    ...     small.statistics()["0/codes"].nbytes / network.weights()["0/weight"].nbytes,
    ... )
    (['0/bias', '1/weight', '1/bias'], 0.125)
    """
    settings = {"bits": bits, "codes": codes, "block": block, "double": double}
    return with_codes(
        copy.deepcopy(network),
        dict.fromkeys(chosen_layers(network, patterns, KINDS, "quantised"), settings),
    )


def with_codes(network: Layer, settings: dict[str, dict[str, Any]]) -> Layer:
    """The network with weights in codes, by path of the layer as `codes_of` tells them; it is
    changed.
    """
    new: dict[int, Layer] = {}
    for path, layer in chosen_layers(network, tuple(settings), KINDS, "quantised").items():
        how = dict(settings[path])
        weight = layer._own_parameters()["weight"]._array
        outputs_last = weight if isinstance(layer, Dense) else weight.T
        other: Any = object.__new__(KINDS[type(layer)])
        other.hold(layer, coded(outputs_last, form=how.pop("codes"), **how))
        new[id(layer)] = other
    return replace_layers(network, new)


def codes_of(network: Layer) -> dict[str, dict[str, Any]]:
    """How weights are coded, by path of the layer; those held as numbers are not there."""
    return {
        layer.path: layer.weight_settings()
        for layer in network.walk()
        if isinstance(layer, _Quantised)
    }
