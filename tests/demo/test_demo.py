"""Demo sets are the same each time, as large as asked, and as their docstrings say."""

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.demo import compressed

SETS = [
    vs.demo.barrels,
    vs.demo.harvest,
    vs.demo.parcels,
    vs.demo.leaves,
    vs.demo.ferments,
    vs.demo.notes,
    vs.demo.chalk,
    vs.demo.shorthand,
]


def arrays(found):
    columns = found.to_dict("list").values() if isinstance(found, pd.DataFrame) else found
    return [np.asarray(column) for column in columns]


@pytest.mark.parametrize("make", SETS, ids=lambda make: make.__name__)
def test_the_same_each_time(make):
    for one, other in zip(arrays(make(20)), arrays(make(20)), strict=True):
        assert (
            np.array_equal(one, other)
            if one.dtype.kind != "f"
            else np.array_equal(one, other, equal_nan=True)
        )
    assert len(arrays(make(20))[0]) == 20


def test_a_sentence_gives_its_entry_again():
    found = vs.demo.shorthand(3000)
    assert [compressed(sentence) for sentence in found.sentences] == found.entries
    assert len(set(found.sentences)) > 2000


def test_the_entropy_of_notes_is_that_of_the_notes():
    found = vs.demo.notes(4000)
    assert abs(found.nats.mean() - found.entropy) < 4 * found.nats.std() / 4000**0.5
    assert len(set(found.texts)) == 4000
    assert np.bincount(found.labels).min() > 400
    said = [text.split(":")[1] for text in found.texts]
    words = sorted(
        {word for text in said for word in text.replace(".", "").replace(",", "").split()}
    )
    counts = np.array([[text.count(word) for word in words] for text in said], float)
    x = np.column_stack([counts, np.ones(len(counts))])
    weights = np.linalg.lstsq(x[:3000], np.eye(4)[found.labels[:3000]], rcond=None)[0]
    assert np.mean((x[3000:] @ weights).argmax(axis=1) == found.labels[3000:]) < 0.75


def test_a_network_explains_the_harvest_and_a_line_does_not():
    table = vs.data.Table(vs.demo.harvest(), target="yield")
    train, test = vs.data.scaled(*table.split(0.8, 0.2, seed=1))
    x, tests = (np.column_stack([part.inputs, np.ones(len(part))]) for part in (train, test))
    line = tests @ np.linalg.lstsq(x, train.targets, rcond=None)[0]
    network = vs.Stack(vs.Dense(48, vs.gelu), vs.Dense(48, vs.gelu), vs.Dense(1))
    training = vs.Training(
        network,
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.Adam(3e-3),
        metrics=[vs.metrics.r_squared],
    )
    training.run(train.batches(32), epochs=40)
    explained = 1 - np.mean((line - test.targets.ravel()) ** 2) / np.var(test.targets)
    assert explained < 0.4
    assert training.assess(test.batches(64))["r_squared"] > 0.9
