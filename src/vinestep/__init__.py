"""Vine Step: layered networks, their gradients and their training, on NumPy arrays."""

from __future__ import annotations

from typing import TYPE_CHECKING

from . import activations, errors, initialisers, layers, losses, metrics, optimisers, schedules
from .activations import (
    celu,
    elu,
    gelu,
    gelu_tanh,
    hard_sigmoid,
    hard_swish,
    leaky_relu,
    log_softmax,
    logsumexp,
    mish,
    relu,
    selu,
    sigmoid,
    silu,
    softmax,
    softplus,
    softsign,
)
from .autodiff import (
    Fused,
    Gradients,
    Tensor,
    differentiable,
    differentiate,
    directional,
    gradient_of,
    held,
    hessian_of,
    hessian_product,
    jacobian_of,
    rule_for,
    untracked,
)
from .errors import VineStepError, names_of
from .layers import (
    GRU,
    LSTM,
    Attention,
    BatchNorm,
    Concat,
    Convolution,
    DecoderBlock,
    Dense,
    Dropout,
    Embedding,
    Flatten,
    GlobalMax,
    GlobalMean,
    GroupNorm,
    Layer,
    LayerNorm,
    MaxPool,
    MeanPool,
    Noise,
    ParametricRelu,
    Positions,
    Recurrent,
    Reshape,
    Residual,
    RMSNorm,
    Stack,
    Sum,
    TransformerBlock,
    TransposedConvolution,
    Upsample,
    learning,
)

if TYPE_CHECKING:
    from . import archive, catalogue, data, demo, figures, findings, networks, parts, runs, scores, training
    from .autodiff import GradientReport, Trail, check_gradients, trail
    from .findings import Finding
    from .model import Model, open_model
    from .training import Descent, Ending, HalfPrecision, Outcome, RandomStream, Run, Step, Training, WeightAverage, observers, recorded_run

__version__ = "0.1.0"

_LATER = {
    name: f".{name}"
    for name in ("archive", "catalogue", "data", "demo", "figures", "findings", "networks", "parts", "runs", "scores", "training")
}
_LATER |= dict.fromkeys(
    (
        "Descent",
        "Ending",
        "HalfPrecision",
        "Outcome",
        "RandomStream",
        "Run",
        "Step",
        "Training",
        "WeightAverage",
        "observers",
        "recorded_run",
    ),
    ".training",
)
_LATER |= {"Finding": ".findings", "Model": ".model", "open_model": ".model"}
_LATER |= dict.fromkeys(("GradientReport", "Trail", "check_gradients", "trail"), ".autodiff")

__all__ = [
    "GRU",
    "LSTM",
    "Attention",
    "BatchNorm",
    "Concat",
    "Convolution",
    "DecoderBlock",
    "Dense",
    "Descent",
    "Dropout",
    "Embedding",
    "Ending",
    "Finding",
    "Flatten",
    "Fused",
    "GlobalMax",
    "GlobalMean",
    "GradientReport",
    "Gradients",
    "GroupNorm",
    "HalfPrecision",
    "Layer",
    "LayerNorm",
    "MaxPool",
    "MeanPool",
    "Model",
    "Noise",
    "Outcome",
    "ParametricRelu",
    "Positions",
    "RMSNorm",
    "RandomStream",
    "Recurrent",
    "Reshape",
    "Residual",
    "Run",
    "Stack",
    "Step",
    "Sum",
    "Tensor",
    "Trail",
    "Training",
    "TransformerBlock",
    "TransposedConvolution",
    "Upsample",
    "VineStepError",
    "WeightAverage",
    "activations",
    "archive",
    "catalogue",
    "celu",
    "check_gradients",
    "data",
    "demo",
    "differentiable",
    "differentiate",
    "directional",
    "elu",
    "errors",
    "figures",
    "findings",
    "gelu",
    "gelu_tanh",
    "gradient_of",
    "hard_sigmoid",
    "hard_swish",
    "held",
    "hessian_of",
    "hessian_product",
    "initialisers",
    "jacobian_of",
    "layers",
    "leaky_relu",
    "learning",
    "log_softmax",
    "logsumexp",
    "losses",
    "metrics",
    "mish",
    "networks",
    "observers",
    "open_model",
    "optimisers",
    "parts",
    "recorded_run",
    "relu",
    "rule_for",
    "runs",
    "schedules",
    "scores",
    "selu",
    "sigmoid",
    "silu",
    "softmax",
    "softplus",
    "softsign",
    "trail",
    "training",
    "untracked",
]


__getattr__ = names_of(__name__, __all__, _LATER)


def __dir__() -> list[str]:
    return sorted([*__all__, "__version__"])
