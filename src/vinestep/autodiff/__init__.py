"""Reverse-mode differentiation of NumPy code."""

from . import rules
from .checking import GradientReport, check_gradients
from .derivatives import differentiate, directional, gradient_of, hessian_of, hessian_product, jacobian_of
from .fused import Fused
from .gradients import Gradients
from .own import differentiable, rule_for
from .state import untracked
from .tensor import Tensor, held
from .trails import Trail, trail

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
