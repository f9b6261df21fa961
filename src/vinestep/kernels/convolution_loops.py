"""Loops of the convolution. Inputs have three spatial axes, channels last; a row is an output position.

``geometry`` holds, a line each and for the three axes: window, stride, dilation, padding before, number of windows.
"""

from __future__ import annotations

from .compiling import kernel

__all__ = ["depthwise", "depthwise_adjoint", "fold", "unfold"]


@kernel
def unfold(x, patches, start, stop, geometry):
    """Rows ``start:stop`` of the matrix of windows."""
    n_channels = x.shape[4]
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    zero = x.dtype.type(0)
    for row in range(start, stop):
        example, rest = row // windows, row % windows
        d0 = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
        h0 = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
        w0 = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
        place = 0
        for i in range(geometry[0, 0]):
            d = d0 + i * geometry[2, 0]
            for j in range(geometry[0, 1]):
                h = h0 + j * geometry[2, 1]
                inside = 0 <= d < x.shape[1] and 0 <= h < x.shape[2]
                for k in range(geometry[0, 2]):
                    w = w0 + k * geometry[2, 2]
                    if inside and 0 <= w < x.shape[3]:
                        source = x[example, d, h, w]
                        for c in range(n_channels):
                            patches[row - start, place + c] = source[c]
                    else:
                        for c in range(n_channels):
                            patches[row - start, place + c] = zero
                    place += n_channels


@kernel
def fold(patches, x, start, stop, geometry):
    """Add rows ``start:stop`` of the matrix of windows back to where they came from."""
    n_channels = x.shape[4]
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    for row in range(start, stop):
        example, rest = row // windows, row % windows
        d0 = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
        h0 = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
        w0 = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
        place = 0
        for i in range(geometry[0, 0]):
            d = d0 + i * geometry[2, 0]
            for j in range(geometry[0, 1]):
                h = h0 + j * geometry[2, 1]
                inside = 0 <= d < x.shape[1] and 0 <= h < x.shape[2]
                for k in range(geometry[0, 2]):
                    w = w0 + k * geometry[2, 2]
                    if inside and 0 <= w < x.shape[3]:
                        target = x[example, d, h, w]
                        for c in range(n_channels):
                            target[c] += patches[row - start, place + c]
                    place += n_channels


@kernel
def depthwise(x, weight, y, geometry):
    """Each output channel from one input channel; weight (window, channels out)."""
    per_channel = weight.shape[1] // x.shape[4]
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    y[:, :] = y.dtype.type(0)
    for row in range(y.shape[0]):
        example, rest = row // windows, row % windows
        d0 = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
        h0 = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
        w0 = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
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
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    for row in range(g.shape[0]):
        example, rest = row // windows, row % windows
        d0 = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0] - geometry[3, 0]
        h0 = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1] - geometry[3, 1]
        w0 = rest % geometry[4, 2] * geometry[1, 2] - geometry[3, 2]
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
