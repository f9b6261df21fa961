"""Loops of the convolution. Inputs have three spatial axes, channels last; a row is an output position.

``geometry`` holds, a line each and for the three axes: window, stride, dilation, padding before, number of windows.
"""

from __future__ import annotations

from .compiling import kernel

__all__ = ["depthwise", "depthwise_adjoint", "fold", "unfold", "unfold_across"]


@kernel
def _corner(row, geometry):
    """Example, and the first element of the window in each axis of the padded input."""
    windows = geometry[4, 0] * geometry[4, 1] * geometry[4, 2]
    rest = row % windows
    d = rest // (geometry[4, 1] * geometry[4, 2]) * geometry[1, 0]
    h = rest // geometry[4, 2] % geometry[4, 1] * geometry[1, 1]
    w = rest % geometry[4, 2] * geometry[1, 2]
    return row // windows, d, h, w


@kernel
def unfold(x, patches, start, stop, geometry):
    """Rows ``start:stop`` of the matrix of windows of an input that is padded already.

    Neighbours along the last axis lie together in memory, so they are copied in one run where the window has no holes.
    """
    depth, height, width, n_channels = x.shape[1], x.shape[2], x.shape[3], x.shape[4]
    flat = x.reshape(-1)
    run = geometry[0, 2] * n_channels if geometry[2, 2] == 1 else n_channels
    pieces = 1 if geometry[2, 2] == 1 else geometry[0, 2]
    for row in range(start, stop):
        example, d0, h0, w0 = _corner(row, geometry)
        out = patches[row - start]
        place = 0
        for i in range(geometry[0, 0]):
            for j in range(geometry[0, 1]):
                line = ((example * depth + d0 + i * geometry[2, 0]) * height + h0 + j * geometry[2, 1]) * width + w0
                for k in range(pieces):
                    source = flat[(line + k * geometry[2, 2]) * n_channels :]
                    target = out[place:]
                    for c in range(run):
                        target[c] = source[c]
                    place += run


@kernel
def unfold_across(x, patches, start, stop, geometry):
    """As `unfold`, transposed, for one channel and stride 1 along the last axis: whole lines of windows are copied at once.

    `start` and `stop` are numbers of lines; `patches` has a column a window.
    """
    depth, height, width = x.shape[1], x.shape[2], x.shape[3]
    flat = x.reshape(-1)
    n = geometry[4, 2]
    for line in range(start, stop):
        example, d0, h0, _ = _corner(line * n, geometry)
        place = 0
        for i in range(geometry[0, 0]):
            for j in range(geometry[0, 1]):
                first = ((example * depth + d0 + i * geometry[2, 0]) * height + h0 + j * geometry[2, 1]) * width
                for k in range(geometry[0, 2]):
                    source = flat[first + k * geometry[2, 2] :]
                    target = patches[place, (line - start) * n :]
                    for c in range(n):
                        target[c] = source[c]
                    place += 1


@kernel
def fold(patches, x, start, stop, geometry):
    """Add rows ``start:stop`` of the matrix of windows back to where they came from in the padded input."""
    depth, height, width, n_channels = x.shape[1], x.shape[2], x.shape[3], x.shape[4]
    flat = x.reshape(-1)
    run = geometry[0, 2] * n_channels if geometry[2, 2] == 1 else n_channels
    pieces = 1 if geometry[2, 2] == 1 else geometry[0, 2]
    for row in range(start, stop):
        example, d0, h0, w0 = _corner(row, geometry)
        values = patches[row - start]
        place = 0
        for i in range(geometry[0, 0]):
            for j in range(geometry[0, 1]):
                line = ((example * depth + d0 + i * geometry[2, 0]) * height + h0 + j * geometry[2, 1]) * width + w0
                for k in range(pieces):
                    target = flat[(line + k * geometry[2, 2]) * n_channels :]
                    source = values[place:]
                    for c in range(run):
                        target[c] += source[c]
                    place += run


@kernel
def depthwise(x, weight, y, geometry):
    """Each output channel from one input channel; weight (window, channels out)."""
    per_channel = weight.shape[1] // x.shape[4]
    y[:, :] = y.dtype.type(0)
    for row in range(y.shape[0]):
        example, d0, h0, w0 = _corner(row, geometry)
        d0, h0, w0 = d0 - geometry[3, 0], h0 - geometry[3, 1], w0 - geometry[3, 2]
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
        d0, h0, w0 = d0 - geometry[3, 0], h0 - geometry[3, 1], w0 - geometry[3, 2]
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
