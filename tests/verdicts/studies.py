"""Studies of two ways of training, each by several seeds: equal ways, and ways that differ."""

import re
import tempfile
from functools import cache

import numpy as np

import vinestep as vs

from .sound import numbers

SEEDS = 3  # to begin with


@cache
def parts():
    train, validation = vs.data.Table(numbers(400, 0), target="yields").split(0.7, 0.3, seed=0)
    return vs.data.scaled(train, validation)


def runs_of(width, epochs, seeds):
    """Records of runs that differ in their seed only."""
    train, validation = parts()
    with tempfile.TemporaryDirectory() as folder:
        for seed in seeds:
            vs.Training(
                vs.Stack(vs.Dense(width, vs.relu), vs.Dense(1)),
                task=vs.tasks.Numbers(),
                optimiser=vs.optimisers.Adam(3e-3),
                seed=seed,
            ).run(
                train.batches(32, seed=seed),
                validation=validation.batches(256, shuffled=False),
                epochs=epochs,
                record=folder,
                observers=[],
            )
        runs = list(vs.runs.open(folder))
        for run in runs:  # what is read once is kept
            assert len(run.settings)
            assert len(run.scores)
    return runs


def equal_ways(study):
    """Whether a difference is told where there is none: one more unit of 24 tells nothing, but all
    that is drawn differs.
    """
    seeds = range(1000 * study, 1000 * study + 5)
    return vs.runs.difference(runs_of(24, 6, seeds) + runs_of(25, 6, seeds)).verdict == "sound"


def spreads_apart(width, epochs, pilot=30):
    """By how many spreads over seeds a way differs from 24 units and 6 epochs."""
    base, other = (
        np.array([run.scores["best"]["validation_loss"] for run in runs_of(w, e, range(pilot))])
        for w, e in ((24, 6), (width, epochs))
    )
    return (other.mean() - base.mean()) / np.sqrt((base.var(ddof=1) + other.var(ddof=1)) / 2)


def different_ways(study, width, epochs):
    """Whether a difference is found, at the latest with the seeds that were asked for."""
    first = 1000 * study
    one, other = (runs_of(w, e, range(first, first + SEEDS)) for w, e in ((24, 6), (width, epochs)))
    found = vs.runs.difference(one + other)
    asked = re.search(r"(\d+) more seeds", found.cure)
    if found.verdict != "sound" and asked is not None:
        more = range(first + SEEDS, first + SEEDS + int(asked[1]))
        found = vs.runs.difference(
            one + runs_of(24, 6, more) + other + runs_of(width, epochs, more)
        )
    return found.verdict == "sound"
