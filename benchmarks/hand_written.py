"""Training steps as a strong engineer writes them in NumPy: vectorised, in place, parameters in one
flat vector.

Each step is given data and targets, changes the parameters by Adam, and returns the loss.
Parameters stand in the order in which a network of ours keeps them, so that one can begin as the
other; `tests/benchmarks` holds the losses of both against each other.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

__all__ = [
    "HandWritten",
    "HandWrittenConvolutional",
    "HandWrittenDense",
    "HandWrittenEmbedding",
    "HandWrittenLSTM",
    "HandWrittenResidual",
    "HandWrittenTransformer",
]


class HandWritten:
    """Parameters and gradients as views of flat vectors, and Adam over these."""

    def __init__(self, shapes: Sequence[tuple[int, ...]], rate: float) -> None:
        sizes = [int(np.prod(shape)) for shape in shapes]
        self.theta, self.g, self.m, self.v, self._work, self._update = np.zeros(
            (6, sum(sizes)), np.float32
        )
        ends = np.cumsum(sizes)
        self.weights, self.gradients = (
            [
                flat[end - size : end].reshape(shape)
                for shape, size, end in zip(shapes, sizes, ends, strict=True)
            ]
            for flat in (self.theta, self.g)
        )
        self.rate, self.t = rate, 0

    def dense(self, number: int, x: np.ndarray) -> np.ndarray:
        """A dense layer, whose weight and bias are parameters `number` and the next."""
        y = x @ self.weights[number]
        y += self.weights[number + 1]
        return y

    def dense_gradients(self, number: int, g: np.ndarray, x: np.ndarray) -> None:
        np.matmul(x.T, g, out=self.gradients[number])
        np.add.reduce(g, axis=0, out=self.gradients[number + 1])

    def dense_back(self, number: int, g: np.ndarray, x: np.ndarray) -> np.ndarray:
        """Its gradients, and what goes back to its input."""
        self.dense_gradients(number, g, x)
        back: np.ndarray = g @ self.weights[number].T
        return back

    def adam(self, beta1: float = 0.9, beta2: float = 0.999, epsilon: float = 1e-8) -> None:
        self.t += 1
        m, v, g, work, update = self.m, self.v, self.g, self._work, self._update
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


def _cross_entropy(logits: np.ndarray, labels: np.ndarray) -> tuple[float, np.ndarray]:
    """The mean loss, and its slopes in the place of the logits."""
    rows = np.arange(len(labels))
    logits -= logits.max(axis=1, keepdims=True)
    picked = logits[rows, labels]
    np.exp(logits, out=logits)
    total = logits.sum(axis=1, keepdims=True)
    loss = float((np.log(total[:, 0]) - picked).mean())
    logits /= total
    logits[rows, labels] -= 1
    logits *= np.float32(1 / len(labels))
    return loss, logits


def _squared_error(y: np.ndarray, target: np.ndarray) -> tuple[float, np.ndarray]:
    """The mean loss, and its slopes in the place of the outputs."""
    y -= target
    flat = y.reshape(-1)
    loss = float(flat @ flat) / flat.size
    y *= np.float32(2 / flat.size)
    return loss, y


class HandWrittenDense(HandWritten):
    """Dense layers with ReLU between, cross-entropy."""

    def __init__(self, widths: tuple[int, ...], rate: float = 1e-3, seed: int = 0) -> None:
        super().__init__([shape for a, b in pairwise(widths) for shape in ((a, b), (b,))], rate)
        rng = np.random.default_rng(seed)
        for weight in self.weights[::2]:
            weight[...] = rng.normal(0, np.sqrt(2 / len(weight)), weight.shape)

    def step(self, x: np.ndarray, labels: np.ndarray) -> float:
        inputs, h = [], x
        last = len(self.weights) // 2 - 1
        for i in range(last + 1):
            inputs.append(h)
            h = self.dense(2 * i, h)
            if i < last:
                np.maximum(h, 0, out=h)
        loss, h = _cross_entropy(h, labels)
        for i in range(last, -1, -1):
            if i == 0:
                self.dense_gradients(0, h, x)
                break
            h = self.dense_back(2 * i, h, inputs[i])
            h *= inputs[i] > 0
        self.adam()
        return loss


class _Unfolded:
    """A convolution of stride 1 with as many windows as places, by unfolding into a matrix whose
    room is kept.
    """

    def __init__(
        self, shape: tuple[int, int, int, int], window: int, parameters: Sequence[np.ndarray]
    ) -> None:
        n, height, width, n_in = shape
        self.weight, self.bias, self.g_weight, self.g_bias = parameters
        self.flat, self.g_flat = (w.reshape(-1, w.shape[-1]) for w in (self.weight, self.g_weight))
        self.shape, self.window, self.side = shape, window, window // 2
        self.expansion = np.zeros((n, height + window - 1, width + window - 1, n_in), np.float32)
        if n_in == 1:  # whole lines lie together in memory when places within the window come first
            room = np.empty((window, window, n, height, width, n_in), np.float32)
            self.columns = room
            self.matrix = room.reshape(window * window, -1).T
        else:
            room = np.empty((n, height, width, window, window, n_in), np.float32)
            self.columns = np.moveaxis(room, (3, 4), (0, 1))
            self.matrix = room.reshape(n * height * width, -1)
        self.y = np.empty((len(self.matrix), self.flat.shape[1]), np.float32)

    def _views(self, wide: np.ndarray) -> list[tuple[int, int, np.ndarray]]:
        _, height, width, _ = self.shape
        return [
            (i, j, wide[:, i : i + height, j : j + width])
            for i in range(self.window)
            for j in range(self.window)
        ]

    def forward(self, x: np.ndarray) -> np.ndarray:
        s = self.side
        self.expansion[:, s:-s, s:-s] = x
        for i, j, seen in self._views(self.expansion):
            self.columns[i, j] = seen
        np.matmul(self.matrix, self.flat, out=self.y)
        self.y += self.bias
        return self.y

    def backward(self, g: np.ndarray, *, to_input: bool) -> np.ndarray | None:
        np.matmul(self.matrix.T, g, out=self.g_flat)
        np.add.reduce(g, axis=0, out=self.g_bias)
        if not to_input:
            return None
        np.matmul(g, self.flat.T, out=self.matrix)  # the unfolded input is not needed any more
        wide = np.zeros_like(self.expansion)
        for i, j, target in self._views(wide):
            target += self.columns[i, j]
        return wide[:, self.side : -self.side, self.side : -self.side]


def _quarters(x: np.ndarray) -> list[np.ndarray]:
    """The four places of each window of 2 by 2."""
    return [x[:, i::2, j::2] for i in range(2) for j in range(2)]


def _pooled(x: np.ndarray) -> np.ndarray:
    a, b, c, d = _quarters(x)
    y = np.maximum(a, b)
    np.maximum(y, c, out=y)
    return np.maximum(y, d, out=y)


def _unpooled(g: np.ndarray, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    gx = np.empty_like(x)
    for part, target in zip(_quarters(x), _quarters(gx), strict=True):
        np.multiply(g, part == y, out=target)
    return gx


class HandWrittenConvolutional(HandWritten):
    """Convolution 3x3, pool 2, convolution 3x3, pool 2, dense; ReLU after the convolutions;
    cross-entropy.
    """

    def __init__(
        self, shape: tuple[int, int, int, int], channels: tuple[int, int], classes: int, rate: float
    ) -> None:
        n, side, _, n_in = shape
        a, b = channels
        last = (side // 4) ** 2 * b
        super().__init__(
            [(3, 3, n_in, a), (a,), (3, 3, a, b), (b,), (last, classes), (classes,)], rate
        )
        places = [shape, (n, side // 2, side // 2, a)]
        self.layers = [
            _Unfolded(
                shape, 3, [*self.weights[2 * i : 2 * i + 2], *self.gradients[2 * i : 2 * i + 2]]
            )
            for i, shape in enumerate(places)
        ]

    def step(self, x: np.ndarray, labels: np.ndarray) -> float:
        seen = []
        for layer in self.layers:
            y = layer.forward(x)
            np.maximum(y, 0, out=y)
            volume = y.reshape(*layer.shape[:3], -1)
            x = _pooled(volume)
            seen.append((volume, x))
        flat = x.reshape(len(labels), -1)
        loss, g = _cross_entropy(self.dense(4, flat), labels)
        back = self.dense_back(4, g, flat)
        for i in (1, 0):
            volume, pooled = seen[i]
            gx = _unpooled(back.reshape(pooled.shape), volume, pooled)
            gx *= volume > 0
            back = self.layers[i].backward(gx.reshape(-1, gx.shape[-1]), to_input=i > 0)
        self.adam()
        return loss


class _Normalised:
    """Batch normalisation over rows, its room kept."""

    def __init__(self, rows: int, parameters: Sequence[np.ndarray]) -> None:
        self.scale, self.shift, self.g_scale, self.g_shift = parameters
        self.normal = np.empty((rows, len(self.scale)), np.float32)

    def forward(self, x: np.ndarray) -> np.ndarray:
        np.subtract(x, x.mean(axis=0), out=self.normal)
        variance = np.einsum("ij,ij->j", self.normal, self.normal) / len(x)
        self.inverse = 1 / np.sqrt(variance + np.float32(1e-5))
        self.normal *= self.inverse
        y = self.normal * self.scale
        y += self.shift
        return y

    def backward(self, g: np.ndarray) -> np.ndarray:
        np.add.reduce(g, axis=0, out=self.g_shift)
        np.einsum("ij,ij->j", g, self.normal, out=self.g_scale)
        gx = self.normal
        gx *= -self.g_scale / np.float32(len(g))
        gx += g
        gx -= self.g_shift / np.float32(len(g))
        gx *= self.scale * self.inverse
        return gx


class HandWrittenResidual(HandWritten):
    """Convolution 3x3, batch norm, ReLU, convolution 3x3, batch norm, the input added, ReLU;
    squared error.
    """

    def __init__(self, shape: tuple[int, int, int, int], rate: float) -> None:
        c = shape[-1]
        super().__init__([(3, 3, c, c), (c,), (c,), (c,)] * 2, rate)
        rows = int(np.prod(shape[:-1]))
        both = [[*self.weights[k : k + 2], *self.gradients[k : k + 2]] for k in range(0, 8, 2)]
        self.convolutions = [_Unfolded(shape, 3, both[0]), _Unfolded(shape, 3, both[2])]
        self.norms = [_Normalised(rows, both[1]), _Normalised(rows, both[3])]

    def step(self, x: np.ndarray, target: np.ndarray) -> float:
        rows = x.reshape(-1, x.shape[-1])
        first = self.norms[0].forward(self.convolutions[0].forward(x))
        np.maximum(first, 0, out=first)
        y = self.norms[1].forward(self.convolutions[1].forward(first.reshape(x.shape)))
        y += rows
        np.maximum(y, 0, out=y)
        alive = y > 0
        loss, g = _squared_error(y, target.reshape(rows.shape))
        g *= alive
        back = self.convolutions[1].backward(self.norms[1].backward(g), to_input=True)
        assert back is not None
        through = back.reshape(rows.shape)
        through *= first > 0
        self.convolutions[0].backward(self.norms[0].backward(through), to_input=False)
        self.adam()
        return loss


def _sigmoid(z: np.ndarray) -> None:
    """In place; inputs are moderate here, so that the exponential does not overflow."""
    np.negative(z, out=z)
    np.exp(z, out=z)
    z += 1
    np.reciprocal(z, out=z)


class HandWrittenLSTM(HandWritten):
    """An LSTM, its last output to a dense layer; cross-entropy. Gates: input, output, forget,
    new.
    """

    def __init__(self, n: int, time: int, n_in: int, width: int, classes: int, rate: float) -> None:
        super().__init__(
            [(n_in, 4 * width), (width, 4 * width), (4 * width,), (width, classes), (classes,)],
            rate,
        )
        self.gates = np.empty((time, n, 4 * width), np.float32)
        self.gz = np.empty_like(self.gates)
        self.h, self.c = np.zeros((2, time + 1, n, width), np.float32)
        self.tanh_c = np.empty((time, n, width), np.float32)

    def step(self, x: np.ndarray, labels: np.ndarray) -> float:
        weight, memory, bias, *_ = self.weights
        g_weight, g_memory, g_bias, *_ = self.gradients
        gates, gz, h, c, tanh_c = self.gates, self.gz, self.h, self.c, self.tanh_c
        time, n, width = tanh_c.shape
        rows = np.ascontiguousarray(x.swapaxes(0, 1)).reshape(time * n, -1)
        np.matmul(rows, weight, out=gates.reshape(time * n, -1))
        gates += bias
        for t in range(time):
            z = gates[t]
            z += h[t] @ memory
            _sigmoid(z[:, : 3 * width])
            np.tanh(z[:, 3 * width :], out=z[:, 3 * width :])
            i, o, f, new = (z[:, k * width : (k + 1) * width] for k in range(4))
            np.multiply(f, c[t], out=c[t + 1])
            c[t + 1] += i * new
            np.tanh(c[t + 1], out=tanh_c[t])
            np.multiply(o, tanh_c[t], out=h[t + 1])
        loss, g = _cross_entropy(self.dense(3, h[time]), labels)
        gh, gc = self.dense_back(3, g, h[time]), np.zeros((n, width), np.float32)
        for t in range(time - 1, -1, -1):
            i, o, f, new = (gates[t, :, k * width : (k + 1) * width] for k in range(4))
            gi, go, gf, gnew = (gz[t, :, k * width : (k + 1) * width] for k in range(4))
            np.multiply(gh, tanh_c[t], out=go)
            go *= o
            go *= 1 - o
            gh *= o
            gh *= 1 - tanh_c[t] ** 2
            gc += gh
            np.multiply(gc, new, out=gi)
            gi *= i
            gi *= 1 - i
            np.multiply(gc, c[t], out=gf)
            gf *= f
            gf *= 1 - f
            np.multiply(gc, i, out=gnew)
            gnew *= 1 - new**2
            gc *= f
            np.matmul(gz[t], memory.T, out=gh)
        flat = gz.reshape(time * n, -1)
        np.matmul(rows.T, flat, out=g_weight)
        np.matmul(h[:-1].reshape(time * n, width).T, flat, out=g_memory)
        np.add.reduce(flat, axis=0, out=g_bias)
        self.adam()
        return loss


class _LayerNormalised:
    """Layer normalisation over rows."""

    def __init__(self, parameters: Sequence[np.ndarray]) -> None:
        self.scale, self.shift, self.g_scale, self.g_shift = parameters

    def forward(self, x: np.ndarray) -> np.ndarray:
        self.normal = x - x.mean(axis=1, keepdims=True)
        variance = np.einsum("ij,ij->i", self.normal, self.normal) / x.shape[1]
        self.inverse = (1 / np.sqrt(variance + np.float32(1e-5)))[:, None]
        self.normal *= self.inverse
        y = self.normal * self.scale
        y += self.shift
        return y

    def backward(self, g: np.ndarray) -> np.ndarray:
        np.add.reduce(g, axis=0, out=self.g_shift)
        np.einsum("ij,ij->j", g, self.normal, out=self.g_scale)
        gx = g * self.scale
        along = np.einsum("ij,ij->i", gx, self.normal)[:, None] / np.float32(g.shape[1])
        gx -= gx.mean(axis=1, keepdims=True)
        self.normal *= along
        gx -= self.normal
        gx *= self.inverse
        return gx


class HandWrittenTransformer(HandWritten):
    """A transformer block, normalised first, with the tanh form of GELU; squared error."""

    def __init__(self, n: int, time: int, width: int, heads: int, rate: float) -> None:
        square = [(width, width), (width,)] * 4
        norms = [(width,)] * 4
        super().__init__(
            [*square, *norms, (width, 4 * width), (4 * width,), (4 * width, width), (width,)], rate
        )
        self.norms = [
            _LayerNormalised([*self.weights[k : k + 2], *self.gradients[k : k + 2]])
            for k in (8, 10)
        ]
        self.sizes = n, time, heads, width // heads

    def _apart(self, rows: np.ndarray) -> np.ndarray:
        n, time, heads, each = self.sizes
        return rows.reshape(n, time, heads, each).swapaxes(1, 2)

    def _together(self, parts: np.ndarray) -> np.ndarray:
        n, time, heads, each = self.sizes
        return np.ascontiguousarray(parts.swapaxes(1, 2)).reshape(n * time, heads * each)

    def step(self, x: np.ndarray, target: np.ndarray) -> float:
        rows = x.reshape(-1, x.shape[-1])
        scale = np.float32(self.sizes[3] ** -0.5)
        # forward
        first = self.norms[0].forward(rows)
        q, k, v = (self._apart(self.dense(number, first)) for number in (0, 2, 4))
        q *= scale
        weights = q @ k.swapaxes(-1, -2)
        weights -= weights.max(axis=-1, keepdims=True)
        np.exp(weights, out=weights)
        weights /= weights.sum(axis=-1, keepdims=True)
        taken = self._together(weights @ v)
        middle = self.dense(6, taken)
        middle += rows
        second = self.norms[1].forward(middle)
        wide = self.dense(12, second)
        bent = wide * wide
        bent *= wide
        bent *= np.float32(0.044715)
        bent += wide
        bent *= np.float32(0.7978845608028654)
        np.tanh(bent, out=bent)
        out = bent + 1
        out *= wide
        out *= np.float32(0.5)
        y = self.dense(14, out)
        y += middle
        loss, g = _squared_error(y, target.reshape(rows.shape))
        # backward
        g_out = self.dense_back(14, g, out)
        slope = wide * wide
        slope *= np.float32(3 * 0.044715 * 0.7978845608028654)
        slope += np.float32(0.7978845608028654)
        slope *= wide
        slope *= 1 - bent * bent
        slope += 1
        slope += bent
        slope *= np.float32(0.5)
        g_out *= slope
        g = g + self.norms[1].backward(self.dense_back(12, g_out, second))
        g_taken = self._apart(self.dense_back(6, g, taken))
        gv = weights.swapaxes(-1, -2) @ g_taken
        gs = g_taken @ v.swapaxes(-1, -2)
        gs -= np.einsum("bhij,bhij->bhi", gs, weights)[..., None]
        gs *= weights
        gq = gs @ k
        gq *= scale
        gk = gs.swapaxes(-1, -2) @ q
        back = self.dense_back(0, self._together(gq), first)
        back += self.dense_back(2, self._together(gk), first)
        back += self.dense_back(4, self._together(gv), first)
        self.norms[0].backward(back)
        self.adam()
        return loss


class HandWrittenEmbedding(HandWritten):
    """Vectors of tokens to a dense layer; squared error."""

    def __init__(self, count: int, width: int, n_out: int, rate: float) -> None:
        super().__init__([(count, width), (width, n_out), (n_out,)], rate)

    def step(self, ids: np.ndarray, target: np.ndarray) -> float:
        table, g_table = self.weights[0], self.gradients[0]
        vectors = table[ids.reshape(-1)]
        y = self.dense(1, vectors)
        loss, g = _squared_error(y, target.reshape(y.shape))
        back = self.dense_back(1, g, vectors)
        order = np.argsort(ids.reshape(-1), kind="stable")
        found, starts = np.unique(ids.reshape(-1)[order], return_index=True)
        g_table[...] = 0
        g_table[found] = np.add.reduceat(back[order], starts, axis=0)
        self.adam()
        return loss
