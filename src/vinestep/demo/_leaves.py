"""Made-up pictures of vine leaves."""

from __future__ import annotations

from typing import Any, Literal, NamedTuple

import numpy as np

from .._arguments import checked_seed
from ..errors import SettingError

__all__ = ["CONDITIONS", "CULTIVARS", "LeafSpots", "Leaves", "leaf_spots", "leaves"]

CONDITIONS = ("healthy", "downy mildew", "powdery mildew", "black rot", "leafroll", "chlorosis")
CULTIVARS = ("Fosca", "Grisette", "Lindell", "Marquin")
PIXELS = ("ground", "leaf", "spot")
SIZE = 32


class Leaves(NamedTuple):
    """Pictures and what is to be seen on them.

    Examples
    --------
    >>> vs.demo.leaves(2, kind="cultivar").names
    ('Fosca', 'Grisette', 'Lindell', 'Marquin')
    """

    pictures: np.ndarray
    """Shape (n, 32, 32, 3), red, green and blue from 0 to 1, float32."""
    labels: np.ndarray
    """Shape (n,), whole numbers."""
    names: tuple[str, ...]
    """What the labels mean."""


def leaves(
    n: int = 1200, *, kind: Literal["condition", "cultivar"] = "condition", seed: int = 17
) -> Leaves:
    """Drawings of vine leaves, varied in shape, size, angle, place, light and background. All made
    up.

    A leaf is drawn in polar coordinates as lobes around its stalk, with veins, on soil or sky. Its
    condition shows in its colours and spots: pale yellow patches between the veins (downy mildew),
    a grey-white film in blotches (powdery mildew), small dark spots with a rim (black rot),
    reddening between green veins (leafroll), yellowing between green veins (chlorosis). Its
    cultivar shows in its outline: how many lobes, how deep, how toothed. Colour alone does not
    tell, since light and background vary.

    Parameters
    ----------
    n : int
        Number of pictures.
    kind : {"condition", "cultivar"}
        What is labelled: six conditions, or, on healthy leaves, four cultivars.
    seed : int

    Notes
    -----
    Guessing reaches 0.17 (0.25 for cultivars) of accuracy, a linear model on the pixels about 0.78
    of conditions, a small convolutional network 0.95 and more.

    Examples
    --------
    >>> found = leaves(4)
    >>> found.pictures.shape, found.pictures.dtype.name
    ((4, 32, 32, 3), 'float32')
    """
    if kind not in ("condition", "cultivar"):
        raise SettingError(f'leaves: kind must be "condition" or "cultivar", got {kind!r}.')
    rng = np.random.default_rng([checked_seed(seed, "leaves"), kind == "cultivar"])
    names = CONDITIONS if kind == "condition" else CULTIVARS
    labels = rng.integers(0, len(names), n)
    pictures = np.empty((n, SIZE, SIZE, 3), np.float32)
    for i, label in enumerate(labels):
        condition, cultivar = (label, rng.integers(0, 4)) if kind == "condition" else (0, label)
        pictures[i] = _draw(rng, int(condition), int(cultivar))[0]
    return Leaves(pictures, labels, names)


class LeafSpots(NamedTuple):
    """Pictures and what each of their pixels shows.

    Examples
    --------
    >>> vs.demo.leaf_spots(2).names
    ('ground', 'leaf', 'spot')
    """

    pictures: np.ndarray
    """Shape (n, 32, 32, 3), float32."""
    masks: np.ndarray
    """Shape (n, 32, 32), whole numbers."""
    names: tuple[str, ...]


def leaf_spots(n: int = 400, *, seed: int = 19) -> LeafSpots:
    """Leaves with black rot, as those of `leaves`, and which pixels are ground, leaf or spot. All
    made up.

    Parameters
    ----------
    n : int
    seed : int

    Examples
    --------
    >>> leaf_spots(3).masks.shape
    (3, 32, 32)
    """
    rng = np.random.default_rng([checked_seed(seed, "leaf_spots"), 3])
    drawn = [_draw(rng, CONDITIONS.index("black rot"), int(rng.integers(0, 4))) for _ in range(n)]
    pictures = np.array([picture for picture, _ in drawn], np.float32)
    masks = np.array([mask for _, mask in drawn], np.int64)
    return LeafSpots(pictures.reshape(n, SIZE, SIZE, 3), masks.reshape(n, SIZE, SIZE), PIXELS)


def _smooth(rng: np.random.Generator, cells: int) -> Any:
    """Soft random patches from 0 to 1, interpolated from a coarse grid."""
    coarse = rng.random((cells, cells))
    place = np.linspace(0, cells - 1, SIZE)
    low = np.minimum(place.astype(int), cells - 2)
    part = place - low
    rows = coarse[low] * (1 - part)[:, None] + coarse[low + 1] * part[:, None]
    return rows[:, low] * (1 - part) + rows[:, low + 1] * part


def _draw(rng: np.random.Generator, condition: int, cultivar: int) -> tuple[Any, Any]:
    """A picture, and what its pixels are."""
    grid = (np.arange(SIZE) + 0.5) / SIZE * 2 - 1
    centre = rng.uniform(-0.15, 0.15, 2)
    x, y = grid[None, :] - centre[0], grid[:, None] - centre[1]
    angle = np.arctan2(y, x) + rng.uniform(-np.pi, np.pi)
    radius = np.hypot(x, y)
    lobes, depth, teeth = [(5, 0.28, 0.02), (3, 0.18, 0.07), (5, 0.1, 0.07), (3, 0.34, 0.02)][
        cultivar
    ]
    size = rng.uniform(0.62, 0.8)
    outline = size * (
        1
        + depth * np.cos(lobes * angle)
        + teeth * np.cos(23 * angle)
        - 0.25 * np.exp(-((angle / 0.25) ** 2))
    )
    inside = 1 / (1 + np.exp((radius - outline) * 30))
    veins = np.exp(-((np.sin(lobes * angle / 2) / 0.16) ** 2)) * (radius < outline)
    colour, marked = _leaf_colour(rng, condition, veins, radius / outline)
    ground = rng.choice([0, 1])
    back = np.array([[0.42, 0.33, 0.24], [0.62, 0.72, 0.85]][ground]) * rng.uniform(
        0.7, 1.2
    ) + 0.15 * (_smooth(rng, 6)[..., None] - 0.5)
    picture = back * (1 - inside[..., None]) + colour * inside[..., None]
    light = rng.uniform(0.65, 1.25) * (
        1 + rng.uniform(-0.3, 0.3) * grid[None, :] + rng.uniform(-0.3, 0.3) * grid[:, None]
    )
    tint = rng.uniform(0.92, 1.08, 3)
    seen = picture * light[..., None] * tint + rng.normal(0, 0.03, picture.shape)
    on_leaf = radius < outline
    return np.clip(seen, 0, 1).astype(np.float32), on_leaf + (on_leaf & marked).astype(int)


def _leaf_colour(
    rng: np.random.Generator, condition: int, veins: np.ndarray, out: np.ndarray
) -> tuple[Any, Any]:
    """Colours of the leaf, and where it has spots."""
    marked = np.zeros(veins.shape, bool)
    green = np.array([0.25, 0.5, 0.18]) * rng.uniform(0.85, 1.15, 3)
    colour = green + (veins * 0.12)[..., None] + 0.08 * (_smooth(rng, 5)[..., None] - 0.5)
    between = (1 - veins)[..., None]
    strength = rng.uniform(0.6, 1.0)
    if condition == 1:
        patches = (_smooth(rng, 7) > 0.58)[..., None] * between
        colour = colour + strength * patches * (np.array([0.78, 0.75, 0.3]) - colour)
    elif condition == 2:
        film = np.clip((_smooth(rng, 6) - 0.45) * 5, 0, 1)[..., None]
        colour = colour + strength * film * (np.array([0.82, 0.84, 0.8]) - colour)
    elif condition == 3:
        colour, marked = _spotted(rng, colour)
    elif condition == 4:
        red = np.clip(out * 1.3, 0, 1)[..., None] * between
        colour = colour + strength * red * (np.array([0.62, 0.15, 0.18]) - colour)
    elif condition == 5:
        colour = colour + strength * 0.9 * between * (np.array([0.85, 0.82, 0.35]) - colour)
    return colour, marked


def _spotted(rng: np.random.Generator, colour: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    rows, columns = np.mgrid[:SIZE, :SIZE]
    marked = np.zeros(rows.shape, bool)
    for _ in range(rng.integers(6, 12)):
        distance = np.hypot(rows - rng.uniform(6, 26), columns - rng.uniform(6, 26)) / rng.uniform(
            1.2, 2.2
        )
        colour = np.where((distance < 1)[..., None], np.array([0.16, 0.09, 0.06]), colour)
        colour = np.where(
            ((distance >= 1) & (distance < 1.6))[..., None], np.array([0.5, 0.38, 0.2]), colour
        )
        marked |= distance < 1.6
    return colour, marked
