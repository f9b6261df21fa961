"""Training steps as a strong engineer writes them in NumPy: vectorised, in place, parameters in one flat vector."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

__all__ = ["HandWrittenDense"]


class HandWrittenDense:
    """Dense layers with ReLU between, cross-entropy, Adam."""

    def __init__(self, widths: tuple[int, ...], batch: int, rate: float = 1e-3, seed: int = 0) -> None:
        rng = np.random.default_rng(seed)
        sizes = [(a * b, b) for a, b in pairwise(widths)]
        total = sum(w + b for w, b in sizes)
        self.theta = np.zeros(total, np.float32)
        self.g = np.zeros(total, np.float32)
        self.m, self.v = np.zeros_like(self.theta), np.zeros_like(self.theta)
        self.work, self.work2 = np.empty_like(self.theta), np.empty_like(self.theta)
        self.layers, start = [], 0
        for (a, b), (w, _) in zip(pairwise(widths), sizes, strict=True):
            views = []
            for flat in (self.theta, self.g):
                views += [flat[start : start + w].reshape(a, b), flat[start + w : start + w + b]]
            views[0][...] = rng.normal(0, np.sqrt(2 / a), (a, b))
            self.layers.append(views)
            start += w + b
        self.rows = np.arange(batch)
        self.rate, self.t = rate, 0

    def step(self, x: np.ndarray, labels: np.ndarray) -> float:
        inputs, h = [], x
        for i, (w, b, _, _) in enumerate(self.layers):
            inputs.append(h)
            h = h @ w
            h += b
            if i < len(self.layers) - 1:
                np.maximum(h, 0, out=h)
        h -= h.max(axis=1, keepdims=True)
        picked = h[self.rows, labels]
        np.exp(h, out=h)
        total = h.sum(axis=1, keepdims=True)
        loss = float((np.log(total[:, 0]) - picked).mean())
        h /= total
        h[self.rows, labels] -= 1
        h *= np.float32(1 / len(labels))
        for i in range(len(self.layers) - 1, -1, -1):
            w, _, gw, gb = self.layers[i]
            np.matmul(inputs[i].T, h, out=gw)
            np.add.reduce(h, axis=0, out=gb)
            if i:
                h = h @ w.T
                h *= inputs[i] > 0
        self._adam()
        return loss

    def _adam(self, beta1: float = 0.9, beta2: float = 0.999, epsilon: float = 1e-8) -> None:
        self.t += 1
        m, v, g, work, update = self.m, self.v, self.g, self.work, self.work2
        m *= beta1
        np.multiply(g, 1 - beta1, out=work)
        m += work
        v *= beta2
        np.multiply(g, g, out=work)
        work *= 1 - beta2
        v += work
        np.sqrt(v, out=work)
        work *= 1 / np.sqrt(1 - beta2**self.t)
        work += epsilon
        np.divide(m, work, out=update)
        update *= self.rate / (1 - beta1**self.t)
        self.theta -= update
