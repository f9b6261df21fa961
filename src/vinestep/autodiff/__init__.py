"""Reverse-mode differentiation of NumPy code."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from . import rules
from .derivatives import differentiate, directional, gradient_of, hessian_of, hessian_product, jacobian_of
from .fused import Fused
from .gradients import Gradients
from .own import differentiable, rule_for
from .state import untracked
from .tensor import Tensor, held

if TYPE_CHECKING:
    from .checking import GradientReport, check_gradients
    from .trails import Trail, trail

_LATER = {"GradientReport": ".checking", "check_gradients": ".checking", "Trail": ".trails", "trail": ".trails"}

__all__ = [
    "Fused",
    "GradientReport",
    "Gradients",
    "Tensor",
    "Trail",
    "check_gradients",
    "differentiable",
    "differentiate",
    "directional",
    "gradient_of",
    "held",
    "hessian_of",
    "hessian_product",
    "jacobian_of",
    "rule_for",
    "rules",
    "trail",
    "untracked",
]


def __getattr__(name: str) -> Any:
    """What is for looking, not for computing, is loaded when it is first asked for."""
    if name in _LATER:
        return getattr(import_module(_LATER[name], __name__), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
