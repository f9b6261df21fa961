"""Matrix products whose left operand is never stored: its elements are gathered from an array by
index.

Notation: ``a[i, k] = x[rows[i] + columns[k]]`` with `x` flat. The windows of a convolution or of
pooling form such a matrix: `rows` are the offsets of the windows, `columns` the offsets within one.
Its transpose is the same with the two exchanged. The right operand is copied into packed panels
where its rows are far apart; the micro-kernel keeps a tile of the result in registers.
"""

from __future__ import annotations

import numpy as np
from numba import types
from numba.extending import intrinsic

from ..machinery.array_access import (
    beyond,
    empty,
    larger,
    line,
    smaller,
    zeros,
)
from ..machinery.compilation import inner_kernel, kernel
from ..machinery.grain_sizes import (
    BLOCKS,
    DEEP,
    RATE,
    SHARES,
    TILE,
    WIDE,
)
from ..machinery.job_distribution import (
    distribute,
    job,
    parts_of,
    span,
)
from ..machinery.llvm_ir import INDEX, variable
from ..machinery.numba_internals import nothing
from ..machinery.symbol_calls import call
from ..machinery.vector_ir import (
    ROWS,
    VECTOR,
    Writer,
    carry_lines,
    carry_transposed,
    multiply_tile,
)

__all__ = ["largest", "largest_adjoint", "multiply", "product"]

CHUNK, DEPTH = (
    1024,
    768,
)  # about how many rows and columns of `a` stay in the cache until they are used again
BESIDE_DEPTH = 400  # the same where operands are packed into panels first
TOGETHER = 16  # columns of a matrix that lies transposed, to be read side by side
# bytes between the rows of an operand from which it is packed: such rows evict one another from the
# cache
FAR = 512
MANY_ROWS = 128  # rows of a part, compared with which packing the other matrix costs little
BY_ROWS, BY_COLUMNS, BY_DEPTH = range(3)
LANES = 8  # channels taken at once by pooling

_three, _two, _one, _half = (multiply_tile(n) for n in (3, 2, 1, 0.5))
_three_lines, _two_lines, _one_line, _half_lines = (carry_lines(n) for n in (3, 2, 1, 0.5))


@inner_kernel
def _strip(
    width,
    lanes,
    x,
    rows,
    i,
    stop,
    columns,
    first,
    depth,
    b,
    at_b,
    step_b,
    before,
    at_before,
    step_before,
    c,
    at_c,
    step_c,
    floor,
):
    """The column of tiles of one width, for rows ``i:stop``."""
    if width == 3 * lanes:
        for row in range(i, stop, ROWS):
            start, at = at_before + row * step_before, at_c + row * step_c
            _three(
                x,
                rows,
                row,
                columns,
                first,
                depth,
                b,
                at_b,
                step_b,
                before,
                start,
                step_before,
                c,
                at,
                step_c,
                floor,
            )
    elif width == 2 * lanes:
        for row in range(i, stop, ROWS):
            start, at = at_before + row * step_before, at_c + row * step_c
            _two(
                x,
                rows,
                row,
                columns,
                first,
                depth,
                b,
                at_b,
                step_b,
                before,
                start,
                step_before,
                c,
                at,
                step_c,
                floor,
            )
    elif width == lanes:
        for row in range(i, stop, ROWS):
            start, at = at_before + row * step_before, at_c + row * step_c
            _one(
                x,
                rows,
                row,
                columns,
                first,
                depth,
                b,
                at_b,
                step_b,
                before,
                start,
                step_before,
                c,
                at,
                step_c,
                floor,
            )
    else:
        for row in range(i, stop, ROWS):
            start, at = at_before + row * step_before, at_c + row * step_c
            _half(
                x,
                rows,
                row,
                columns,
                first,
                depth,
                b,
                at_b,
                step_b,
                before,
                start,
                step_before,
                c,
                at,
                step_c,
                floor,
            )


@inner_kernel
def _width(left, lanes):
    """Of the next tile where so many columns are left: three vectors, but for four two by two."""
    width = 3 * lanes if left >= 3 * lanes and left != 4 * lanes else 2 * lanes
    while width > left and width > lanes // 2:
        width //= 2
    return width


@inner_kernel
def _evenly(places, begin, end):
    """Whether they are as far apart as the first two."""
    evenly = True
    for i in range(begin + 2, end):
        evenly &= places[i] - places[i - 1] == places[begin + 1] - places[begin]
    return evenly


@inner_kernel
def _tiles_beside(x, first, step, n, depth, packed, begin):
    """Of n lines that lie transposed: those of a tile together for each of so many columns, which
    are `step` apart; tile after tile.
    """
    half = VECTOR // x.itemsize // 2
    for some in range(0, depth, TOGETHER):
        many = smaller(TOGETHER, depth - some)
        for row in range(0, n, half):
            at = begin + row // ROWS * ROWS * depth + some * ROWS + row % ROWS
            _half_lines(x, first + some * step + row, step, many, packed, at, ROWS)


@inner_kernel
def _strip_beside(b, at_b, step_b, transposed, first, last, o, width, packed, begin):
    """Rows ``first:last`` of the columns of a strip, one after another from `begin` on."""
    lanes, n = VECTOR // b.itemsize, last - first
    half, at = lanes // 2, at_b + first * step_b + o
    if transposed:
        whole = n // half * half
        for j in range(0, width, half):
            at = at_b + (o + j) * step_b + first
            for k in range(0, whole, half):
                carry_transposed(b, at + k, step_b, packed, begin + k * width + j, width)
            for k in range(whole, n):
                for each in range(half):
                    packed[begin + k * width + j + each] = b[at + each * step_b + k]
    elif width == 3 * lanes:
        _three_lines(b, at, step_b, n, packed, begin, width)
    elif width == 2 * lanes:
        _two_lines(b, at, step_b, n, packed, begin, width)
    elif width == lanes:
        _one_line(b, at, step_b, n, packed, begin, width)
    else:
        _half_lines(b, at, step_b, n, packed, begin, width)


@inner_kernel
def multiply(x, rows, columns, b, step_b, transposed, bias, c, step_c, n_out, begin, end, floor):
    """Rows ``begin:end`` of ``c = max(a @ b + bias, floor)``; NaN stays.

    All arrays are flat; rows of `b` and `c` are `step_b` and `step_c` elements apart, and of `b` it
    is the columns if it lies `transposed`. There are at least eight rows and eight columns in `c`,
    and at least one column in `a`. Where rows do not come out even, the last tile overlaps the one
    before it and computes the same again; where columns do not, it is summed beside `c`.
    """
    depth, lowest = columns.size, b.dtype.type(-np.inf)
    lanes = VECTOR // b.itemsize
    half = lanes // 2
    whole = n_out // half * half
    many = end - begin >= 4 * ROWS
    b_beside = transposed | many & (step_b * b.itemsize >= FAR)
    # what belongs to a tile of a matrix lies in as many places as it has rows, or columns if it is
    # a transpose
    step_x, step_rows = (
        np.int64(columns[smaller(1, depth - 1)] - columns[0]),
        np.int64(rows[begin + 1] - rows[begin]),
    )
    x_transposed = (step_rows == 1) & (step_x * b.itemsize >= FAR)
    x_straight = (
        (n_out >= 4 * 3 * lanes) & (depth >= ROWS) & (step_x == 1) & (step_rows * b.itemsize >= FAR)
    )
    x_beside = (
        many & (x_transposed | x_straight)
        and _evenly(rows, begin, end)
        and _evenly(columns, 0, depth)
    )
    around = BESIDE_DEPTH if x_beside else DEPTH
    pieces = larger(1, (depth + around // 2) // around)
    most, deep = (
        smaller(CHUNK, (end - begin + ROWS - 1) // ROWS * ROWS),
        (depth + pieces - 1) // pieces,
    )
    # workspace for the packed panels of b and x, and for the last columns, too few for a tile
    at_x = b_beside * 3 * deep * lanes
    at_rest = at_x + x_beside * most * deep
    room = empty(at_rest + (whole < n_out) * most * half, b.dtype)
    places = empty(x_beside * (deep + most), rows.dtype)
    for k in range(places.size):
        places[k] = k * ROWS
    i = begin
    while i < end:
        stop = smaller(i + CHUNK, end)
        if stop - i < ROWS:
            i = stop - ROWS
        elif (stop - i) % ROWS:
            stop = i + (stop - i) // ROWS * ROWS
        for first in range(0, depth, deep):
            last = smaller(first + deep, depth)
            least = floor if last == depth else lowest
            own_x, own_rows, own_columns, own, column, shift = x, rows, columns, i, first, 0
            if x_beside:
                for row in range(stop - i):
                    places[deep + row] = at_x + row // ROWS * ROWS * (last - first) + row % ROWS
                if x_transposed:
                    call(
                        _tiles_beside,
                        x,
                        rows[i] + columns[first],
                        step_x,
                        stop - i,
                        last - first,
                        room,
                        at_x,
                    )
                else:
                    for row in range(0, stop - i, ROWS):
                        at = at_x + row * (last - first)
                        call(
                            _strip_beside,
                            x,
                            rows[i] + columns[0],
                            step_rows,
                            True,
                            first,
                            last,
                            row,
                            ROWS,
                            room,
                            at,
                        )
                own_x, own_rows, own_columns, own, column, shift = (
                    room,
                    places,
                    places,
                    deep,
                    0,
                    i - deep,
                )
            o = 0
            while o < n_out:
                width = _width(n_out - o, lanes)
                left = smaller(o, n_out - width)
                source, at_b, step = b, first * step_b + left, step_b
                if b_beside:
                    call(_strip_beside, b, 0, step_b, transposed, first, last, left, width, room, 0)
                    source, at_b, step = room, 0, width
                target, to, step_to = c, left + shift * step_c, step_c
                if left < o:
                    target, to, step_to = room, at_rest + (shift - i) * half, half
                before, at, step_before = target, to, step_to
                if first == 0:
                    before, at, step_before = bias, left, 0
                call(
                    _strip,
                    width,
                    lanes,
                    own_x,
                    own_rows,
                    own,
                    own + stop - i,
                    own_columns,
                    column,
                    last - first,
                    source,
                    at_b,
                    step,
                    before,
                    at,
                    step_before,
                    target,
                    to,
                    step_to,
                    least,
                )
                o += width
        for row in range(i, stop):
            for o in range(whole, n_out):
                c[row * step_c + o] = room[at_rest + (row - i) * half + o - (n_out - half)]
        i = stop


@inner_kernel
def _part(
    way,
    multiple,
    x,
    rows,
    columns,
    b,
    step_b,
    transposed,
    bias,
    rooms,
    c,
    width,
    floor,
    parts,
    part,
):
    begin, end, n_out = 0, rows.size, width
    step_in, step_out = (1, step_b) if transposed else (step_b, 1)
    if way == BY_ROWS:
        begin, end = span(rows.size, parts, multiple, part)
    elif way == BY_COLUMNS:
        left, right = span(width, parts, multiple, part)
        b, bias, c, n_out = (
            beyond(b, left * step_out),
            beyond(bias, left),
            beyond(c, left),
            right - left,
        )
    else:
        first, last = span(columns.size, parts, multiple, part)
        columns, b, c = (
            line(columns, first, last - first),
            beyond(b, first * step_in),
            line(rooms, part * c.size, c.size),
        )
        if part > 0:
            bias = zeros(width, bias.dtype)
    call(
        multiply, x, rows, columns, b, step_b, transposed, bias, c, width, n_out, begin, end, floor
    )


@inner_kernel
def _share_product(board, threads, x, rows, columns, b, step_b, transposed, bias, c, width, floor):
    """`product` where there are as many rows and columns as the loops need."""
    depth = columns.size
    cost = depth * rows.size * width // RATE
    if depth >= DEEP * rows.size and floor == -np.inf:
        way, multiple, parts = BY_DEPTH, 1, parts_of(threads, depth, 1 + cost // depth, 1, 1)
    elif width >= larger(2 * rows.size, WIDE):
        way, multiple, parts = (
            BY_COLUMNS,
            BLOCKS[0],
            parts_of(threads, width, 1 + cost // width, BLOCKS[0], 1),
        )
    else:
        shares = smaller(
            SHARES, larger(1, rows.size // (MANY_ROWS * threads))
        )  # each part packs all of `b`
        way, multiple, parts = (
            BY_ROWS,
            TILE,
            parts_of(threads, rows.size, 1 + cost // rows.size, TILE, shares),
        )
    if parts == 1:
        way = BY_ROWS
    rooms = empty((way == BY_DEPTH) * parts * c.size, c.dtype)
    call(
        distribute,
        board,
        parts,
        job(
            _part,
            (
                way,
                multiple,
                x,
                rows,
                columns,
                b,
                step_b,
                transposed,
                bias,
                rooms,
                c,
                width,
                floor,
                parts,
            ),
        ),
    )
    if way == BY_DEPTH:
        for i in range(c.size):
            total = rooms[i]
            for place in range(c.size + i, rooms.size, c.size):
                total += rooms[place]
            c[i] = total


@inner_kernel
def _few_rows(x, rows, columns, b, step_b, transposed, bias, c, width, floor, parts, part):
    """Some columns, where there are too few rows for a tile: `b` is read once in the order in which
    it lies.
    """
    n, depth = rows.size, columns.size
    left, right = span(width, parts, BLOCKS[0], part)
    many = right - left
    own = empty(n * depth, b.dtype)
    for i in range(n):
        for k in range(depth):
            own[i * depth + k] = x[rows[i] + columns[k]]
    if transposed:
        for o in range(left, right):
            weights = line(b, o * step_b, depth)
            for i in range(n):
                values = line(own, i * depth, depth)
                total = bias[o]
                for k in range(depth):
                    total += values[k] * weights[k]
                c[i * width + o] = floor if total < floor else total
        return
    for i in range(n):
        found = line(c, i * width + left, many)
        for j in range(many):
            found[j] = bias[left + j]
    whole = depth // 4 * 4
    for k in range(0, whole, 4):
        at = k * step_b + left
        one, two = line(b, at, many), line(b, at + step_b, many)
        three, four = line(b, at + 2 * step_b, many), line(b, at + 3 * step_b, many)
        for i in range(n):
            found = line(c, i * width + left, many)
            x1, x2, x3, x4 = (
                own[i * depth + k],
                own[i * depth + k + 1],
                own[i * depth + k + 2],
                own[i * depth + k + 3],
            )
            for j in range(many):
                found[j] += x1 * one[j] + x2 * two[j] + x3 * three[j] + x4 * four[j]
    for k in range(whole, depth):
        one = line(b, k * step_b + left, many)
        for i in range(n):
            found, x1 = line(c, i * width + left, many), own[i * depth + k]
            for j in range(many):
                found[j] += x1 * one[j]
    for i in range(n):
        found = line(c, i * width + left, many)
        for j in range(many):
            found[j] = floor if found[j] < floor else found[j]


@kernel
def product(board, threads, x, rows, columns, b, step_b, transposed, bias, c, width, floor):
    """``c = max(a @ b + bias, floor)``, split over threads; `multiply` says more. Of any number of
    rows and columns.

    Sums over many places, as in the gradients of weights, are added up from as many parts as the
    number of threads asks for.
    """
    n, depth = rows.size, columns.size
    if depth == 0:
        for i in range(c.size):
            c[i] = floor if bias[i % width] < floor else bias[i % width]
    elif n >= TILE and width >= TILE:
        call(
            _share_product,
            board,
            threads,
            x,
            rows,
            columns,
            b,
            step_b,
            transposed,
            bias,
            c,
            width,
            floor,
        )
    elif width >= TILE and n:
        parts = parts_of(threads, width, n * depth, BLOCKS[0], 1)
        call(
            distribute,
            board,
            parts,
            job(_few_rows, (x, rows, columns, b, step_b, transposed, bias, c, width, floor, parts)),
        )
    elif c.size:  # the other rows and columns are padded
        many, wide = larger(n, TILE), larger(width, TILE)
        step_in, step_out = (1, step_b) if transposed else (step_b, 1)
        all_rows, wide_b, wide_bias = (
            empty(many, rows.dtype),
            empty(depth * wide, b.dtype),
            empty(wide, b.dtype),
        )
        for i in range(many):
            all_rows[i] = rows[smaller(i, n - 1)]
        for j in range(wide):
            own = smaller(j, width - 1)
            wide_bias[j] = bias[own]
            for k in range(depth):
                wide_b[k * wide + j] = b[own * step_out + k * step_in]
        found = empty(many * wide, b.dtype)
        call(
            _share_product,
            board,
            threads,
            x,
            all_rows,
            columns,
            wide_b,
            wide,
            False,
            wide_bias,
            found,
            wide,
            floor,
        )
        for i in range(n):
            for j in range(width):
                c[i * width + j] = found[i * wide + j]


POOL = "x place columns c y at"


def _largest_of(lanes):
    @intrinsic
    def largest_of(typing_context, x, place, columns, c, y, at):
        """The largest of a window, channels from `c` on."""

        def generate(context, builder, signature, arguments):
            w = Writer(context, builder, signature, POOL, arguments, lanes * x.dtype.bitwidth // 8)
            begin = w.plus(w["place"], w["c"])
            best = variable(builder, w.load("x", w.plus(begin, w.number("columns", INDEX(0)))))
            n = w.length["columns"]
            with w.count(n, 1) as k:
                found = w.load("x", w.plus(begin, w.number("columns", k)))
                kept = builder.load(best)
                taken = builder.or_(
                    builder.fcmp_ordered(">", found, kept),
                    builder.fcmp_unordered("!=", found, found),
                )
                builder.store(builder.select(taken, found, kept), best)
            w.store(builder.load(best), "y", w.plus(w["at"], w["c"]))
            return nothing(context)

        return types.void(x, place, columns, c, y, at), generate

    return largest_of


SHARE = POOL + " g gx"


def _share(lanes):
    @intrinsic
    def scatter(typing_context, x, place, columns, c, y, at, g, gx):
        """The cotangent of a window's largest value to all places that hold it, in equal parts."""

        def generate(context, builder, signature, arguments):
            w = Writer(context, builder, signature, SHARE, arguments, lanes * x.dtype.bitwidth // 8)
            begin, own = w.plus(w["place"], w["c"]), w.plus(w["at"], w["c"])
            n = w.length["columns"]
            zeros, ones = w.constant(0), w.constant(1)
            best = w.load("y", own)
            count = variable(builder, zeros)
            with w.count(n) as k:
                equal = builder.fcmp_ordered(
                    "==", w.load("x", w.plus(begin, w.number("columns", k))), best
                )
                builder.store(
                    builder.fadd(builder.load(count), builder.select(equal, ones, zeros)), count
                )
            part = builder.fdiv(w.load("g", own), builder.load(count))
            rest = builder.fdiv(
                zeros, builder.load(count)
            )  # 0, but NaN where the largest is NaN, which equals nothing
            with w.count(n) as k:
                place = w.plus(begin, w.number("columns", k))
                equal = builder.fcmp_ordered("==", w.load("x", place), best)
                w.store(
                    builder.fadd(w.load("gx", place), builder.select(equal, part, rest)),
                    "gx",
                    place,
                )
            return nothing(context)

        return types.void(x, place, columns, c, y, at, g, gx), generate

    return scatter


_largest_of_many, _largest_of_one = _largest_of(LANES), _largest_of(1)
_share_many, _share_one = _share(LANES), _share(1)


@kernel
def largest(x, rows, columns, y, begin, end):
    """Rows ``begin:end`` of ``y[i, c] = max over k of x[rows[i] + columns[k] + c]``; NaN wins."""
    n_channels = y.shape[1]
    whole = n_channels // LANES * LANES
    flat = y.reshape(-1)
    for i in range(begin, end):
        place = rows[i] + 0
        for c in range(0, whole, LANES):
            _largest_of_many(x, place, columns, c, flat, i * n_channels)
        for c in range(whole, n_channels):
            _largest_of_one(x, place, columns, c, flat, i * n_channels)


@kernel
def largest_adjoint(g, x, rows, columns, y, gx, begin, end):
    """Adds to `gx` what comes back from rows ``begin:end`` of `largest`."""
    n_channels = y.shape[1]
    whole = n_channels // LANES * LANES
    flat_y, flat_g = y.reshape(-1), g.reshape(-1)
    for i in range(begin, end):
        place = rows[i] + 0
        for c in range(0, whole, LANES):
            _share_many(x, place, columns, c, flat_y, i * n_channels, flat_g, gx)
        for c in range(whole, n_channels):
            _share_one(x, place, columns, c, flat_y, i * n_channels, flat_g, gx)
