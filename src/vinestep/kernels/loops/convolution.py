"""Loops of the convolution. Inputs have three spatial axes, channels last; a row is an output
position.

``geometry`` holds, a line each and for the three axes: window, stride, dilation, padding before,
number of windows.
"""

from __future__ import annotations

from ..machinery.array_access import flat, line
from ..machinery.compilation import inner_kernel, kernel

__all__ = ["depthwise", "depthwise_adjoint", "pad"]


@inner_kernel
def _corner(row, geometry):
    """Example, and where its window begins in each axis; before 0 in the padding."""
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    rest = row % windows
    d = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
    h = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
    w = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
    return row // windows, d, h, w


@kernel
def pad(x, wide, befores, fill):
    """`x` in the middle of `fill`; `befores` says how many go before it along each spatial axis."""
    width, length = x.shape[3] * x.shape[4], wide.shape[3] * wide.shape[4]
    before = befores[2] * x.shape[4]
    source, target = flat(x), flat(wide)
    place = 0
    for example in range(x.shape[0]):
        for d in range(wide.shape[1]):
            for h in range(wide.shape[2]):
                own_d, own_h = d - befores[0], h - befores[1]
                out = line(target, place, length)
                begin = end = length
                if 0 <= own_d < x.shape[1] and 0 <= own_h < x.shape[2]:
                    begin, end = before, before + width
                    seen = line(
                        source, ((example * x.shape[1] + own_d) * x.shape[2] + own_h) * width, width
                    )
                    for i in range(width):
                        out[begin + i] = seen[i]
                for i in range(begin):
                    out[i] = fill
                for i in range(end, length):
                    out[i] = fill
                place += length


@kernel
def depthwise(x, weight, y, geometry):
    """Each output channel from one input channel; weight (window, channels out)."""
    per_channel = weight.shape[1] // x.shape[4]
    y[:, :] = y.dtype.type(0)
    for row in range(y.shape[0]):
        example, d0, h0, w0 = _corner(row, geometry)
        place = 0
        for i in range(geometry[0, 0]):
            d = d0 + i * geometry[2, 0]
            for j in range(geometry[0, 1]):
                h = h0 + j * geometry[2, 1]
                for k in range(geometry[0, 2]):
                    w = w0 + k * geometry[2, 2]
                    if 0 <= d < x.shape[1] and 0 <= h < x.shape[2] and 0 <= w < x.shape[3]:
                        source = x[example, d, h, w]
                        for c in range(weight.shape[1]):
                            y[row, c] += source[c // per_channel] * weight[place, c]
                    place += 1


@kernel
def depthwise_adjoint(g, x, weight, gx, g_weight, geometry):
    per_channel = weight.shape[1] // x.shape[4]
    for row in range(g.shape[0]):
        example, d0, h0, w0 = _corner(row, geometry)
        place = 0
        for i in range(geometry[0, 0]):
            d = d0 + i * geometry[2, 0]
            for j in range(geometry[0, 1]):
                h = h0 + j * geometry[2, 1]
                for k in range(geometry[0, 2]):
                    w = w0 + k * geometry[2, 2]
                    if 0 <= d < x.shape[1] and 0 <= h < x.shape[2] and 0 <= w < x.shape[3]:
                        source = x[example, d, h, w]
                        target = gx[example, d, h, w]
                        for c in range(weight.shape[1]):
                            g_weight[place, c] += source[c // per_channel] * g[row, c]
                            target[c // per_channel] += weight[place, c] * g[row, c]
                    place += 1
