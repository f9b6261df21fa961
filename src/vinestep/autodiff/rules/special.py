"""Rules of SciPy's special functions that are ufuncs. Loaded once the user has imported
`scipy.special`.

Derivatives follow F. W. J. Olver et al. (eds.), NIST Digital Library of Mathematical Functions,
chapters 5, 7 and 8.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy import special

from ...errors import MissingRuleError
from ..registry import ufunc_rule
from ..tensor import held

__all__: list[str] = []

IN = "x"
OUT = "y"
TWO_OVER_ROOT_PI = 2.0 / np.sqrt(np.pi)
ROOT_TWO_PI = np.sqrt(2.0 * np.pi)
ROOT_TWO_OVER_PI = np.sqrt(2.0 / np.pi)
ROOT_HALF = np.sqrt(0.5)


def _refused(name: str, argument: str) -> Any:
    """The adjoint of an argument by which the derivative is not known in closed form."""

    def adjoint(g: Any, y: Any, *inputs: Any) -> Any:
        raise MissingRuleError(
            f"scipy.special.{name} has no derivative rule by its {argument}. If it is constant "
            "for your purpose, give vinestep.held of it."
        )

    return adjoint


def _log_ndtr(g: Any, y: Any, x: Any) -> Any:
    """By the scaled function, in which no large numbers are subtracted."""
    return g * (ROOT_TWO_OVER_PI / special.erfcx(x * -ROOT_HALF))


def _beta(g: Any, y: Any, a: Any, b: Any) -> Any:
    return g * y * (special.digamma(a) - special.digamma(a + b))


def _betaln(g: Any, y: Any, a: Any, b: Any) -> Any:
    return g * (special.digamma(a) - special.digamma(a + b))


def _log_ratio(a: Any, b: Any) -> Any:
    """Of the ratio, where that is within the range of the dtype."""
    with np.errstate(over="ignore", under="ignore", divide="ignore"):
        ratio = a / b
        odd = (held(ratio) == 0) | np.isinf(held(ratio))
        if not np.any(odd):
            return np.log(ratio)
        return np.where(odd, np.log(a) - np.log(b), np.log(np.where(odd, 1.0, ratio)))


def _xlogy_by_x(g: Any, y: Any, a: Any, b: Any) -> Any:
    """Convention: 0 where both are 0."""
    return g * np.where(
        np.asarray(held(b)) == 0, 0.0, np.log(np.where(np.asarray(held(b)) == 0, 1.0, b))
    )


ufunc_rule(special.erf, lambda g, y, x: g * (TWO_OVER_ROOT_PI * np.exp(-np.square(x))), keeps=IN)
ufunc_rule(special.erfc, lambda g, y, x: g * (-TWO_OVER_ROOT_PI * np.exp(-np.square(x))), keeps=IN)
ufunc_rule(special.erfcx, lambda g, y, x: g * (2 * x * y - TWO_OVER_ROOT_PI), keeps=IN + OUT)
ufunc_rule(special.erfinv, lambda g, y, x: g * (np.exp(np.square(y)) / TWO_OVER_ROOT_PI), keeps=OUT)
ufunc_rule(
    special.erfcinv, lambda g, y, x: g * (np.exp(np.square(y)) / -TWO_OVER_ROOT_PI), keeps=OUT
)
ufunc_rule(special.ndtr, lambda g, y, x: g * (np.exp(-0.5 * np.square(x)) / ROOT_TWO_PI), keeps=IN)
ufunc_rule(special.ndtri, lambda g, y, x: g * (np.exp(0.5 * np.square(y)) * ROOT_TWO_PI), keeps=OUT)
ufunc_rule(special.log_ndtr, _log_ndtr, keeps=IN)
ufunc_rule(special.expit, lambda g, y, x: g * (y * special.expit(-x)), keeps=IN + OUT)
ufunc_rule(special.logit, lambda g, y, x: g / (x * (1 - x)), keeps=IN)
ufunc_rule(special.log_expit, lambda g, y, x: g * special.expit(-x), keeps=IN)
ufunc_rule(special.gammaln, lambda g, y, x: g * special.digamma(x), keeps=IN)
ufunc_rule(special.gamma, lambda g, y, x: g * (y * special.digamma(x)), keeps=IN + OUT)
ufunc_rule(special.rgamma, lambda g, y, x: g * (-y * special.digamma(x)), keeps=IN + OUT)
ufunc_rule(special.digamma, lambda g, y, x: g * special.zeta(2.0, x), keeps=IN)
ufunc_rule(
    special._ufuncs._zeta,
    _refused("zeta", "first argument"),
    lambda g, y, s, q: g * (-s * special.zeta(s + 1.0, q)),
    keeps=IN,
)
ufunc_rule(special.beta, _beta, lambda g, y, a, b: _beta(g, y, b, a), keeps=IN + OUT)
ufunc_rule(special.betaln, _betaln, lambda g, y, a, b: _betaln(g, y, b, a), keeps=IN)
ufunc_rule(special.xlogy, _xlogy_by_x, lambda g, y, a, b: g * (a / b), keeps=IN)
ufunc_rule(
    special.xlog1py,
    lambda g, y, a, b: g * np.log1p(b),
    lambda g, y, a, b: g * (a / (b + 1)),
    keeps=IN,
)
ufunc_rule(special.entr, lambda g, y, x: g * (-1 - np.log(x)), keeps=IN)
ufunc_rule(
    special.rel_entr,
    lambda g, y, a, b: g * (_log_ratio(a, b) + 1),
    lambda g, y, a, b: -g * (a / b),
    keeps=IN,
)
ufunc_rule(
    special.kl_div,
    lambda g, y, a, b: g * _log_ratio(a, b),
    lambda g, y, a, b: g * (1 - a / b),
    keeps=IN,
)
ufunc_rule(special.i0, lambda g, y, x: g * special.i1(x), keeps=IN)
ufunc_rule(special.i1, lambda g, y, x: g * (0.5 * (special.i0(x) + special.iv(2.0, x))), keeps=IN)
ufunc_rule(special.j0, lambda g, y, x: -g * special.j1(x), keeps=IN)
ufunc_rule(special.j1, lambda g, y, x: g * (0.5 * (special.j0(x) - special.jv(2.0, x))), keeps=IN)
ufunc_rule(special.i0e, lambda g, y, x: g * (special.i1e(x) - np.sign(held(x)) * y), keeps=IN + OUT)
ufunc_rule(
    special.i1e,
    lambda g, y, x: g * (0.5 * (special.i0e(x) + special.ive(2.0, x)) - np.sign(held(x)) * y),
    keeps=IN + OUT,
)
ufunc_rule(
    special.ive,
    _refused("ive", "order"),
    lambda g, y, v, x: (
        g * (0.5 * (special.ive(v - 1.0, x) + special.ive(v + 1.0, x)) - np.sign(held(x)) * y)
    ),
    keeps=IN + OUT,
)
for _bessel, _sign in ((special.iv, 1.0), (special.jv, -1.0)):
    ufunc_rule(
        _bessel,
        _refused(_bessel.__name__, "order"),
        lambda g, y, v, x, f=_bessel, sign=_sign: (
            g * (0.5 * (f(v - 1.0, x) + sign * f(v + 1.0, x)))
        ),
        keeps=IN,
    )
if hasattr(special, "softplus"):
    ufunc_rule(special.softplus, lambda g, y, x: g * special.expit(x), keeps=IN)
