"""In what order examples come, and that none is left out for good."""

import numpy as np

import vinestep as vs
from vinestep.data.batches._orders import ByLength, example_of, with_occurrences


def test_the_longest_examples_are_seen_though_partial_batches_are_dropped():
    lengths = np.arange(1, 104)
    order, seen = ByLength(lengths, pool=2), set()
    for epoch in range(6):
        drawn = order(len(lengths), epoch=epoch, seed=0, size=10)
        assert sorted(drawn) == list(range(len(lengths)))
        seen |= set(drawn[:100].tolist())
    assert {100, 101, 102} <= seen


def test_batches_of_sequences_are_alike_in_length_and_come_in_random_order():
    lengths = np.random.default_rng(0).integers(1, 500, 1003)
    drawn = ByLength(lengths)(1003, epoch=0, seed=0, size=10)
    batches = lengths[drawn[:1000]].reshape(100, 10)
    assert np.ptp(batches, axis=1).mean() < 20
    means = batches.mean(axis=1)
    assert abs(np.corrcoef(means, np.arange(100))[0, 1]) < 0.3


def test_an_example_drawn_several_times_is_augmented_anew_each_time():
    data = vs.data.Dataset(np.linspace(0, 1, 24).reshape(3, 8, 1, 1), np.arange(3))
    noise = vs.data.pictures.Noise(0.1)
    batches = data.batches(
        4, order=vs.data.OwnOrder(lambda epoch, seed: [0, 0, 1, 0, 0, 2]), augment=[noise]
    )
    rows = np.concatenate([batch.inputs for batch in batches.epoch(0, seed=1)])
    again = np.concatenate([batch.inputs for batch in batches.epoch(0, seed=1, start=0)])
    np.testing.assert_array_equal(rows, again)
    of_first = rows[[0, 1, 3, 4]]
    assert len(np.unique(of_first.reshape(4, -1), axis=0)) == 4
    once = next(iter(data.batches(3, shuffled=False, augment=[noise]).epoch(0, seed=1))).inputs
    np.testing.assert_array_equal(rows[[0, 2, 5]], once)
    rest = next(iter(batches.epoch(0, seed=1, start=1))).inputs
    np.testing.assert_array_equal(rest, rows[4:])


def test_occurrences_are_counted_in_order():
    rng = np.random.default_rng(0)
    for n in (0, 1, 50):
        order = rng.integers(0, 7, n)
        drawn = with_occurrences(order) if n else order
        np.testing.assert_array_equal(example_of(drawn), order)
        seen = {}
        for number, example in zip(drawn.tolist(), order.tolist(), strict=True):
            assert number >> 40 == seen.get(example, 0)
            seen[example] = seen.get(example, 0) + 1
