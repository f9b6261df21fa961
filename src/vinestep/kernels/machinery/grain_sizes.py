"""What decides how work is split, for the interpreter and for compiled loops alike."""

from __future__ import annotations

__all__ = [
    "BLOCKS",
    "DEEP",
    "GRAIN",
    "LONG",
    "RATE",
    "SHARES",
    "TILE",
    "WIDE",
    "WORTH_SHARING",
    "parts_of",
    "rows_together",
    "span",
]

GRAIN = 1 << 14  # elements in a part, at least
WORTH_SHARING = (
    1 << 15
)  # elements below which handing parts to threads that are awake costs more than it saves
SHARES = 4  # parts a thread, so that one that is held up is not waited for
LONG = 64  # elements from which a loop along a row is as fast as a long one

# of products
TILE = 8  # rows and columns that the loops need at least
BLOCKS = 48, 32  # columns that go together: in float32 three vectors, or two
WIDE = 384  # columns from which the work may be split between them
DEEP = 16  # times as deep as it has rows: a product to be split along its depth
RATE = 32  # multiply-adds in the time of one element of a simple loop


def parts_of(threads: int, n: int, each: int, multiple: int, shares: int) -> int:
    """Into how many parts to split n things that stand for so many elements each, at multiples;
    `shares` a thread if it pays.

    This depends on the work and the number of threads only, so that sums over parts come out the
    same each time.
    """
    if threads == 1 or n * each < WORTH_SHARING:
        return 1
    return max(1, min(shares * threads, n * each // GRAIN, n // multiple))


def span(n: int, parts: int, multiple: int, part: int) -> tuple[int, int]:
    """Where a part of ``range(n)`` begins and ends: at multiples, but for the last."""
    end = n if part == parts - 1 else n * (part + 1) // parts // multiple * multiple
    return n * part // parts // multiple * multiple, end


def rows_together(n: int, width: int) -> int:
    """How many of n narrow rows to treat as one long row; a power of two that divides n."""
    together = 1
    while together * width < LONG and n % (2 * together) == 0 and n:
        together *= 2
    return together
