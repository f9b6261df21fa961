"""Where to look next: a Gaussian process of the scores found so far, and the improvement that it
expects elsewhere.
"""

from __future__ import annotations

import math

import numpy as np
from scipy.linalg import cho_solve, cholesky, solve_triangular
from scipy.optimize import minimize
from scipy.special import ndtr
from scipy.stats import qmc

__all__ = ["GaussianProcess", "propose"]

ROOT_FIVE = math.sqrt(5)
CANDIDATES = 1024
NEAR = 64  # candidates around the best
SPREAD = 0.05
PRIOR = 0.7  # deviation of the logarithms of lengths and noise about their usual values
USUAL_LENGTH, USUAL_NOISE = 0.4, 0.05


class GaussianProcess:
    """Regression with a Matern 5/2 kernel of one length a dimension, chosen by the marginal
    likelihood and a weak prior.

    C. E. Rasmussen and C. K. I. Williams, Gaussian Processes for Machine Learning, 2006, algorithm
    2.1 and equation 4.17.

    Parameters
    ----------
    x : ndarray, shape (n, d)
        In the unit cube.
    y : ndarray, shape (n,)

    Examples
    --------
    >>> x = np.linspace(0, 1, 9)[:, None]
    >>> mean, deviation = GaussianProcess(x, np.sin(3 * x[:, 0])).predict(np.array([[0.3]]))
    >>> bool(abs(mean[0] - np.sin(0.9)) < 0.02)
    True
    """

    def __init__(self, x: np.ndarray, y: np.ndarray) -> None:
        self.x = x
        self.mean, self.scale = float(y.mean()), float(y.std()) or 1.0
        self.y = (y - self.mean) / self.scale
        usual = np.log([*[USUAL_LENGTH] * x.shape[1], USUAL_NOISE])
        found = minimize(self._objective, usual, args=(usual,), method="L-BFGS-B")
        self.lengths, self.noise = np.exp(found.x[:-1]), float(np.exp(found.x[-1]))
        self.factor = cholesky(self._covariance(self.lengths, self.noise), lower=True)
        self.alpha = cho_solve((self.factor, True), self.y)

    def _covariance(self, lengths: np.ndarray, noise: float) -> np.ndarray:
        n = len(self.x)
        return _matern(self.x, self.x, lengths) + (noise**2 + 1e-8) * np.eye(n)

    def _objective(self, logs: np.ndarray, usual: np.ndarray) -> float:
        """Minus the logarithm of likelihood and prior."""
        factor = cholesky(self._covariance(np.exp(logs[:-1]), float(np.exp(logs[-1]))), lower=True)
        fit = self.y @ cho_solve((factor, True), self.y) / 2
        return float(
            fit + np.log(np.diag(factor)).sum() + np.sum(((logs - usual) / PRIOR) ** 2) / 2
        )

    def predict(self, places: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Mean and deviation of the score at places, shape (m, d)."""
        across = _matern(places, self.x, self.lengths)
        mean = across @ self.alpha
        rest = solve_triangular(self.factor, across.T, lower=True)
        variance = np.maximum(1 - np.sum(rest**2, axis=0), 1e-12)
        return self.mean + self.scale * mean, self.scale * np.sqrt(variance)


def _matern(a: np.ndarray, b: np.ndarray, lengths: np.ndarray) -> np.ndarray:
    apart = ROOT_FIVE * np.sqrt(np.sum(((a[:, None] - b[None]) / lengths) ** 2, axis=2))
    return np.asarray((1 + apart + apart**2 / 3) * np.exp(-apart))


def propose(x: np.ndarray, y: np.ndarray, count: int, seed: int) -> np.ndarray:
    """So many places where the score, the lower the better, is expected to improve most: one after
    another, each as if the mean had been found at those before.

    D. R. Jones, M. Schonlau and W. J. Welch, J. Glob. Optim. 13, 455-492, 1998, equation 15.

    Parameters
    ----------
    x : ndarray, shape (n, d)
    y : ndarray, shape (n,)
    count, seed : int

    Returns
    -------
    places : ndarray, shape (count, d)
    """
    d = x.shape[1]
    result = np.empty((count, d))
    for i in range(count):
        rng = np.random.default_rng([seed, len(x)])
        model = GaussianProcess(x, y)
        spread = qmc.Halton(d, rng=rng).random(CANDIDATES)
        around = x[np.argmin(y)] + rng.normal(0, SPREAD, (NEAR, d))
        candidates = np.concatenate([spread, np.clip(around, 0, 1)])
        mean, deviation = model.predict(candidates)
        gain = (y.min() - mean) / deviation
        improvement = deviation * (
            gain * ndtr(gain) + np.exp(-(gain**2) / 2) / math.sqrt(2 * math.pi)
        )
        best = int(np.argmax(improvement))
        result[i] = candidates[best]
        x, y = np.vstack([x, candidates[best]]), np.append(y, mean[best])
    return result
