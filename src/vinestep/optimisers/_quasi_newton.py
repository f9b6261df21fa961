"""L-BFGS with a line search by the strong Wolfe conditions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..autodiff.gradients import Layout
from ..errors import NotFiniteError, SettingError
from ..parts._registry import part
from ._base import Optimiser, positive

__all__ = ["LBFGS", "strong_wolfe"]

Evaluate = Callable[[np.ndarray], tuple[float, np.ndarray]]
"""From parameters to loss and gradient."""
CURVATURE = 1e-10  # of the lengths of a pair: below it the pair says nothing of curvature
MOST_LOOKS = 25  # evaluations in one line search


@part("lbfgs", "optimiser")
class LBFGS(Optimiser):
    """Quasi-Newton steps from the last few changes of parameters and gradient [1]_, for full or
    very large batches.

    The direction comes from the two-loop recursion over the pairs kept, the length from a search
    for a point that satisfies the strong Wolfe conditions [2]_, which looks at the loss several
    times a step. The loss has to be the same function each time: without dropout, and on the same
    batch.

    Parameters
    ----------
    rate : float
        The first length tried; 1 is Newton's.
    history : int
        How many pairs are kept.
    decrease, curvature : float
        The constants c1 and c2 of the Wolfe conditions, ``0 < decrease < curvature < 1``.

    References
    ----------
    .. [1] D. C. Liu and J. Nocedal, "On the Limited Memory BFGS Method for Large Scale
       Optimization", Mathematical Programming 45, 1989.
    .. [2] J. Nocedal and S. J. Wright, "Numerical Optimization", second edition, 2006, algorithms
       3.5, 3.6 and 7.4.

    Examples
    --------
    >>> theta, optimiser = np.array([3.0, -2.0]), LBFGS()
    >>> for _ in range(3):
    ...     loss = optimiser.minimise(theta, lambda x: (float(np.sum(x**2)), 2 * x))
    >>> bool(np.abs(theta).max() < 1e-8)
    True
    """

    def __init__(
        self,
        rate: float = 1.0,
        *,
        history: int = 10,
        decrease: float = 1e-4,
        curvature: float = 0.9,
    ) -> None:
        super().__init__(rate)
        if not isinstance(history, int) or history < 1:
            raise SettingError(
                f"LBFGS: history must be a whole number of at least 1, got {history!r}."
            )
        self.keeps_finite = False
        self.history = history
        self.decrease, self.curvature = (
            positive(decrease, "LBFGS: decrease"),
            positive(curvature, "LBFGS: curvature"),
        )
        if not self.decrease < self.curvature < 1:
            raise SettingError(
                f"LBFGS: 0 < decrease < curvature < 1 is needed, got {decrease} and {curvature}."
            )

    def new_state(self, layout: Layout, dtype: np.dtype[Any]) -> dict[str, np.ndarray]:
        pairs = (self.history, layout.size)
        return {
            "s": np.zeros(pairs, dtype),
            "y": np.zeros(pairs, dtype),
            "pairs": np.zeros(1, np.int64),
        }

    def apply_update(
        self, theta: np.ndarray, g: np.ndarray, rate: float, decay: float, start: int, stop: int
    ) -> None:
        raise SettingError(
            "LBFGS looks at the loss several times a step: use Training or Descent, or "
            "minimise(theta, evaluate)."
        )

    def minimise(
        self,
        theta: np.ndarray,
        evaluate: Evaluate,
        rate: float | None = None,
        *,
        known: tuple[float, np.ndarray] | None = None,
    ) -> float:
        """One step, in place: to a point that satisfies the strong Wolfe conditions.

        Parameters
        ----------
        theta : ndarray, shape (n,)
        evaluate : callable
            From parameters to loss and gradient.
        rate : float, optional
            The first length tried, by default the optimiser's own.
        known : pair of loss and gradient, optional
            At `theta`, if they are known.

        Returns
        -------
        loss : float
            Where the step led.

        Raises
        ------
        NotFiniteError
            If loss or gradient are not finite where the step begins.
        """
        if self.layout is None:
            self.begin(Layout([("theta", theta.shape)]), theta.dtype)
        value, g = known if known is not None else evaluate(theta)
        g = np.array(g, theta.dtype)
        if not np.isfinite(value) or not np.isfinite(g).all():
            raise NotFiniteError(
                f"LBFGS: loss or gradient are not finite where update {self.count + 1} begins."
            )
        self.count += 1
        if not g.any():
            return float(value)
        before = theta.copy()
        direction = self._direction(g)
        slope = float(direction @ g)
        if not slope < 0:  # what was learned of curvature misleads: steepest descent, from anew
            self.state["pairs"][0] = 0
            direction, slope = -g, -float(g @ g)
        first = self.rate if rate is None else rate
        if not self.state["pairs"][0]:
            first = min(first, first / float(np.abs(g).sum()))

        def along(length: float) -> tuple[float, float, np.ndarray]:
            theta[...] = before + np.asarray(length, theta.dtype) * direction
            result, gradient = evaluate(theta)
            gradient = np.array(gradient, theta.dtype)
            return float(result), float(gradient @ direction), gradient

        length, value, reached = strong_wolfe(
            along, float(value), slope, first, self.decrease, self.curvature
        )
        if reached is None:
            theta[...] = before
            self.state["pairs"][0] = 0
            return value
        theta[...] = before + np.asarray(length, theta.dtype) * direction
        self._keep(theta - before, reached - g)
        return value

    def _keep(self, s: np.ndarray, y: np.ndarray) -> None:
        if float(s @ y) <= CURVATURE * float(np.linalg.norm(s)) * float(np.linalg.norm(y)):
            return
        pairs = int(self.state["pairs"][0])
        for name, new in (("s", s), ("y", y)):
            array = self.state[name]
            if pairs == self.history:
                array[:-1] = array[1:]
            array[min(pairs, self.history - 1)] = new
        self.state["pairs"][0] = min(pairs + 1, self.history)

    def _direction(self, g: np.ndarray) -> np.ndarray:
        """The two-loop recursion: minus the inverse Hessian, as far as the pairs tell, times the
        gradient.
        """
        pairs = int(self.state["pairs"][0])
        s, y = self.state["s"], self.state["y"]
        q, alphas = g.copy(), np.zeros(pairs)
        for i in range(pairs - 1, -1, -1):
            alphas[i] = float(s[i] @ q) / float(s[i] @ y[i])
            q -= np.asarray(alphas[i], q.dtype) * y[i]
        if pairs:
            last = pairs - 1
            q *= np.asarray(float(s[last] @ y[last]) / float(y[last] @ y[last]), q.dtype)
        for i in range(pairs):
            beta = float(y[i] @ q) / float(s[i] @ y[i])
            q += np.asarray(alphas[i] - beta, q.dtype) * s[i]
        return -q


Along = Callable[[float], tuple[float, float, np.ndarray]]
Point = tuple[float, float, float, np.ndarray | None]
"""Length, loss, slope along the line, gradient."""


def strong_wolfe(
    along: Along, value: float, slope: float, first: float, decrease: float, curvature: float
) -> tuple[float, float, np.ndarray | None]:
    """A length at which the loss is low enough and the slope flat enough: Nocedal and Wright, 2006,
    algorithms 3.5 and 3.6.

    Parameters
    ----------
    along : callable
        From a length to the loss there, its slope along the line, and its gradient.
    value, slope : float
        At length 0; the slope is negative.
    first : float
        The length tried first.
    decrease, curvature : float
        c1 and c2.

    Returns
    -------
    length, loss, gradient
        Where the search ended; no gradient if it found no lower loss.
    """
    before: Point = (0.0, value, slope, None)
    length, looks = first, 0
    best: Point = before
    while looks < MOST_LOOKS:
        result = (length, *along(length))
        looks += 1
        if not np.isfinite(result[1]):  # too far: the loss has no value there
            length = (before[0] + length) / 2
            continue
        if result[1] < best[1]:
            best = result
        if result[1] > value + decrease * length * slope or (looks > 1 and result[1] >= before[1]):
            return _zoomed(
                along, value, slope, before, result, decrease, curvature, MOST_LOOKS - looks, best
            )
        if abs(result[2]) <= -curvature * slope:
            return result[0], result[1], result[3]
        if result[2] >= 0:
            return _zoomed(
                along, value, slope, result, before, decrease, curvature, MOST_LOOKS - looks, best
            )
        before, length = result, 2 * length
    return best[0], best[1], best[3]


def _zoomed(
    along: Along,
    value: float,
    slope: float,
    low: Point,
    high: Point,
    decrease: float,
    curvature: float,
    looks: int,
    best: Point,
) -> tuple[float, float, np.ndarray | None]:
    for _ in range(looks):
        length = _between(low, high)
        result = (length, *along(length))
        if result[1] < best[1]:
            best = result
        if result[1] > value + decrease * length * slope or result[1] >= low[1]:
            high = result
        else:
            if abs(result[2]) <= -curvature * slope:
                return result[0], result[1], result[3]
            if result[2] * (high[0] - low[0]) >= 0:
                high = low
            low = result
        if abs(high[0] - low[0]) <= 1e-14 * max(abs(low[0]), abs(high[0])):
            break
    return best[0], best[1], best[3]


def _between(low: Point, high: Point) -> float:
    """The minimiser of the cubic through both ends (equation 3.59), kept well inside; the middle
    where there is none.
    """
    (a, fa, ga, _), (b, fb, gb, _) = low, high
    inner = 0.1 * abs(b - a)
    nearest, farthest = min(a, b) + inner, max(a, b) - inner
    if not np.isfinite(fb) or not np.isfinite(gb):
        return (a + b) / 2
    d1 = ga + gb - 3 * (fa - fb) / (a - b)
    square = d1 * d1 - ga * gb
    if square < 0:
        return (a + b) / 2
    d2 = np.sign(b - a) * np.sqrt(square)
    divisor = gb - ga + 2 * d2
    if divisor == 0:
        return (a + b) / 2
    return float(np.clip(b - (b - a) * (gb + d2 - d1) / divisor, nearest, farthest))
