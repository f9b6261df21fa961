"""Made-up chalk marks on barrel heads."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from .._arguments import checked_seed

__all__ = ["CHARACTERS", "Chalk", "chalk"]

# strokes on a grid of 4 by 6, from the upper left; each a line through points
STROKES: dict[str, tuple[str, ...]] = {
    "0": ("10 30 41 45 36 16 05 01 10",),
    "1": (
        "11 20 26",
        "16 36",
    ),
    "2": ("01 10 30 41 42 06 46",),
    "3": ("00 40 22 43 45 36 16 05",),
    "4": ("36 30 04 44",),
    "5": ("40 00 02 32 43 45 36 06",),
    "6": ("40 10 02 05 16 36 45 44 33 03",),
    "7": ("00 40 16",),
    "8": (
        "10 30 41 32 12 01 10",
        "12 03 05 16 36 45 43 32",
    ),
    "9": ("06 36 44 41 30 10 01 02 13 43",),
    "A": (
        "06 20 46",
        "13 33",
    ),
    "B": (
        "00 06 36 45 44 33 03",
        "33 42 41 30 00",
    ),
    "C": ("41 30 10 01 05 16 36 45",),
    "D": ("00 06 26 44 42 20 00",),
    "E": (
        "40 00 06 46",
        "03 33",
    ),
    "F": (
        "40 00 06",
        "03 33",
    ),
    "H": (
        "00 06",
        "40 46",
        "03 43",
    ),
    "K": (
        "00 06",
        "40 03 46",
    ),
    "L": ("00 06 46",),
    "M": ("06 00 23 40 46",),
    "N": ("06 00 46 40",),
    "P": ("06 00 30 41 42 33 03",),
    "R": (
        "06 00 30 41 42 33 03",
        "23 46",
    ),
    "T": (
        "00 40",
        "20 26",
    ),
    "U": ("00 05 16 36 45 40",),
    "V": ("00 26 40",),
}
CHARACTERS = "".join(STROKES)
HEIGHT, EACH, MARGIN = 32, 18, 8
LENGTHS = (3, 4, 5, 6)
REACH = 4  # pixels from a line, beyond which nothing of it is seen


class Chalk(NamedTuple):
    """Pictures and the codes on them.

    Examples
    --------
    >>> found = chalk(2)
    >>> all(set(code) <= set(CHARACTERS) for code in found.codes)
    True
    """

    pictures: np.ndarray
    """Shape (n, 32, 124, 1), from 0 (dark wood) to 1 (chalk), float32."""
    codes: list[str]
    """Three to six letters and digits."""


def chalk(n: int = 250, *, seed: int = 31) -> Chalk:
    """Codes of letters and digits in chalk on barrel heads: slanted, smeared and noisy. All made
    up.

    Each character is strokes through points of a grid, moved a little at each point, drawn with a
    width that changes, and slanted and scaled with the whole code; a hand has smeared it to one
    side, and the wood has a grain.

    Parameters
    ----------
    n : int
    seed : int

    Examples
    --------
    >>> chalk(3).pictures.shape
    (3, 32, 124, 1)
    """
    rng = np.random.default_rng(checked_seed(seed, "chalk"))
    width = 2 * MARGIN + EACH * max(LENGTHS)
    pictures, codes = np.empty((n, HEIGHT, width, 1), np.float32), []
    for i in range(n):
        code = "".join(rng.choice(list(CHARACTERS), rng.choice(LENGTHS)))
        pictures[i, :, :, 0] = _drawn(rng, code, width)
        codes.append(code)
    return Chalk(pictures, codes)


def _drawn(rng: np.random.Generator, code: str, width: int) -> np.ndarray:
    rows, columns = np.mgrid[:HEIGHT, :width].astype(np.float64)
    slant, size, first, base = (
        rng.uniform(-0.3, 0.3),
        rng.uniform(2.6, 3.4),
        rng.uniform(4, 10),
        rng.uniform(4, 7),
    )
    marks = np.zeros((HEIGHT, width))
    thick = rng.uniform(0.9, 1.4)
    for place, character in enumerate(code):
        for stroke in STROKES[character]:
            points = np.array([[int(p[1]), int(p[0])] for p in stroke.split()], float) + rng.normal(
                0, 0.12, (len(stroke.split()), 2)
            )
            down = base + points[:, 0] * size
            right = first + place * EACH + points[:, 1] * size + slant * (HEIGHT / 2 - down)
            for k in range(len(points) - 1):
                pressure = rng.uniform(0.65, 1.0)
                here, there = (down[k], right[k]), (down[k + 1], right[k + 1])
                part = tuple(
                    slice(max(int(min(p) - REACH), 0), max(int(max(p) + REACH), 0))
                    for p in zip(here, there, strict=True)
                )
                near = _distance(rows[part], columns[part], here, there)
                marks[part] = np.maximum(marks[part], pressure * np.exp(-((near / thick) ** 2)))
    reach = rng.integers(1, 5)
    smeared = sum(
        np.roll(marks, step, axis=1) * 0.5**step for step in range(1, reach + 1)
    ) * rng.uniform(0, 0.6)
    grain = 0.16 + 0.06 * np.sin(
        rows / rng.uniform(1.2, 2.5) + rng.normal(0, 0.4, (1, width)).cumsum(axis=1) / 4
    )
    dust = rng.uniform(0.75, 1.0, marks.shape)
    result: np.ndarray = np.clip(
        grain + (marks + smeared) * dust * 0.8 + rng.normal(0, 0.05, marks.shape), 0, 1
    )
    return result


def _distance(
    rows: np.ndarray, columns: np.ndarray, begin: tuple[float, float], end: tuple[float, float]
) -> np.ndarray:
    """Of every pixel from a line."""
    down, right = end[0] - begin[0], end[1] - begin[1]
    along = ((rows - begin[0]) * down + (columns - begin[1]) * right) / max(
        down**2 + right**2, 1e-9
    )
    along = np.clip(along, 0, 1)
    result: np.ndarray = np.hypot(
        rows - begin[0] - along * down, columns - begin[1] - along * right
    )
    return result
