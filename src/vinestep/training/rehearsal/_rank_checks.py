"""What a rehearsal asks of the ranks that are to train together."""

from __future__ import annotations

import time
from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from ..._findings import Finding
from ...data.batches._batches import Batches
from ...distributed._current import communicator
from ...errors import RunError
from ..run._ranks import check_equal_ranks

if TYPE_CHECKING:
    from ..step._base import TrainingBase
    from ..step._batch_checks import AnyBatches

__all__ = ["rank_findings"]

SLOW = 1.5  # times the median
WIDTH, PRODUCTS = 384, 12


def rank_findings(training: TrainingBase, train: AnyBatches) -> Iterator[Finding]:
    """Asked of all ranks at once: are they equal, has each its part of a batch, is one slow?"""
    comm = communicator()
    if comm.size == 1:
        return
    own = {"the data": train.fingerprint(), "the batches": str(train.settings())}
    try:
        check_equal_ranks(training.network, own)
    except RunError as error:
        yield Finding("the ranks", "wrong", str(error), "See what each of them starts with.")
        return
    if isinstance(train, Batches) and train.size < comm.size:
        yield Finding(
            "the ranks",
            "suspicious",
            f"a batch has {train.size} examples, and there are {comm.size} ranks: some have none.",
            "Larger batches, or fewer ranks.",
        )
    seconds = np.array(comm.all_gather(_seconds_of_products()))
    slowest, median = int(np.argmax(seconds)), float(np.median(seconds))
    words = (
        f"a matrix product takes {1000 * seconds.min():.2g} to {1000 * seconds.max():.2g} ms on "
        f"the {comm.size} ranks"
    )
    if seconds[slowest] > SLOW * median:
        yield Finding(
            "the ranks",
            "suspicious",
            f"{words}, longest on rank {slowest}, for which the others would wait.",
            "See what else runs on its machine, and how many threads it has.",
        )
    else:
        said = f"code, versions, data and clocks are equal; {words}."
        yield Finding("the ranks", "sound", said)


def _seconds_of_products() -> float:
    """The median of some."""
    array = np.random.default_rng(0).normal(size=(WIDTH, WIDTH)).astype(np.float32)
    times = []
    for _ in range(PRODUCTS):
        begun = time.perf_counter()
        array @ array
        times.append(time.perf_counter() - begun)
    return float(np.median(times))
