"""Labels that contradict those of all examples around them."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import scipy

from ..._findings import Finding
from ._permutation_test import MOST_COLUMNS, nearest_others
from ._stage import Stage, by_name, subject_of

__all__ = ["label_noise"]

NEIGHBOURS = 8
LEAST = 160  # examples
FEWEST_AGREED = 25  # examples of a class whose neighbours agree
CONTRADICTED = 0.03  # of them: so many at least, with the level below
LEVEL = 0.05
SHOWN = 5


def label_noise(stage: Stage) -> Iterator[Finding]:
    """Labels that differ from those of all examples around them, which agree with one another.

    Only examples whose neighbours carry one label count, so that borders between classes do not. A
    rare class that the inputs do not tell is scattered over the neighbourhoods of one other class;
    mixed-up labels are found in those of several. So two classes at least have to hold more than
    chance explains.
    """
    features, index = stage.features, stage.sample_index
    if features is None or index is None:
        return
    for name, targets in by_name(stage.sample.targets).items():
        labels = np.asarray(targets)
        if labels.dtype.kind not in "iu" or labels.ndim != 1:
            continue
        rows = np.flatnonzero(labels >= 0)
        if len(rows) < LEAST or not 2 <= len(np.unique(labels[rows])) <= MOST_COLUMNS:
            continue
        squares = scipy.spatial.distance.cdist(features[rows], features[rows], "sqeuclidean")
        around, own = labels[rows][nearest_others(squares, NEIGHBOURS)], labels[rows]
        agreed = (around == around[:, :1]).all(axis=1)
        odd = agreed & (own != around[:, 0])
        by_class = [
            (int(np.sum(agreed & (around[:, 0] == one))), int(np.sum(odd & (around[:, 0] == one))))
            for one in np.unique(own)
        ]
        full = [(n, k) for n, k in by_class if n >= FEWEST_AGREED]
        beyond = [
            k > 0 and scipy.stats.beta.ppf(LEVEL, k, n - k + 1) > CONTRADICTED for n, k in full
        ]
        if sum(beyond) < 2:
            continue
        words = (
            f"of {int(agreed.sum())} examples whose {NEIGHBOURS} nearest carry one label, "
            f"{int(odd.sum())} carry another ({odd.sum() / agreed.sum():.0%}), in "
            f"{sum(beyond)} classes beyond chance; the first of the training part are "
            f"{', '.join(str(int(index[row])) for row in rows[odd][:SHOWN])}"
        )
        cure = "Look at these: labels may be mixed up. What contradicts itself is not learned."
        yield Finding(subject_of("the labels", name), "suspicious", f"{words}.", cure)
