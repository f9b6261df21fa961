"""Batches that are made elsewhere, in every way they may be given; readers that hang."""

import threading
import time

import numpy as np
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.errors import DataError

RNG = np.random.default_rng(3)
X = RNG.normal(size=(60, 5)).astype(np.float32)
Y = (X[:, 0] > 0).astype(int) + (X[:, 1] > 0)
PAIRS = [(X[i : i + 20], Y[i : i + 20]) for i in range(0, 60, 20)]


OTHERS = [(X[:30] + 1, Y[:30]), (X[30:] + 1, Y[30:])]


def training():
    network = vs.Stack(vs.Dense(8, vs.relu), vs.Dense(3))
    return vs.Training(network, task=vs.tasks.Classes(), optimiser=vs.optimisers.Adam(0.01), seed=1)


class Anew:
    """An iterable that begins anew, without a length."""

    def __init__(self, pairs):
        self.pairs = pairs

    def __iter__(self):
        return iter(self.pairs)


def of_dataset(pairs):
    x, y = (np.concatenate(parts) for parts in zip(*pairs, strict=True))
    return vs.data.Dataset(x, y).batches(len(pairs[0][0]), shuffled=False)


GIVEN = {
    "a list of pairs": list,
    "a list of batches": lambda pairs: [vs.data.Batch(x, y) for x, y in pairs],
    "with weights": lambda pairs: [(x, y, np.ones(len(y))) for x, y in pairs],
    "an iterable": Anew,
    "a function": lambda pairs: vs.data.IterableBatches(lambda: iter(pairs)),
    "of a dataset": of_dataset,
}


@pytest.mark.parametrize("form", GIVEN)
def test_a_run_over_any_iterable_of_batches_is_the_run_over_the_same_data(form):
    one, two = training(), training()
    whole = one.run(PAIRS, epochs=3, validation=OTHERS).rows
    other = two.run(GIVEN[form](PAIRS), epochs=3, validation=GIVEN[form](OTHERS)).rows
    for row, same in zip(whole, other, strict=True):
        assert row == pytest.approx(same, rel=1e-5)
    assert one.assess(PAIRS)["loss"] == pytest.approx(
        two.assess(GIVEN[form](PAIRS))["loss"], rel=1e-5
    )


@pytest.mark.parametrize("train", ["a list of pairs", "a list of batches", "of a dataset"])
@pytest.mark.parametrize("validation", ["a list of pairs", "with weights", "of a dataset"])
def test_a_validation_part_that_is_the_training_part_is_refused_however_given(train, validation):
    part = GIVEN[validation]([PAIRS[1], *OTHERS])
    with pytest.raises(DataError, match="20 of 80 validation examples are training examples too"):
        training().run(GIVEN[train](PAIRS), epochs=1, validation=part)


@pytest.mark.parametrize(
    "part",
    [Anew(PAIRS), vs.data.Stream(lambda: zip(X, Y, strict=True)).batches(20)],
    ids=["iterable", "stream"],
)
def test_the_same_iterator_as_training_and_validation_part_is_refused(part):
    with pytest.raises(DataError, match="the validation data is the training data"):
        training().run(part, epochs=1, validation=part)


@given(st.integers(1, 8))
@settings(max_examples=8, deadline=None)
def test_a_run_over_a_list_is_continued_within_an_epoch_with_the_same_bits(steps):
    whole = training()
    whole.run(PAIRS, steps=9)
    first, second = training(), training()
    store = vs.training.MemoryStore()
    first.run(PAIRS, steps=steps, record=store)
    second.run(PAIRS, steps=9, resume=store)
    for path, weight in whole.network.weights().items():
        assert np.array_equal(weight, second.network.weights()[path])


@pytest.mark.parametrize(
    ("given_data", "told"),
    [
        (iter(PAIRS), "gone through once only"),
        (X, "is a ndarray. Give batches"),
        (vs.data.Dataset(X, Y), "is a Dataset. Give batches"),
        ([1, 2], r"batch 0: a batch is a tuple \(inputs, targets\)"),
        ([], "there is no batch in it"),
        (7, "is a int. Give batches"),
    ],
)
def test_what_is_no_iterable_of_batches_is_refused_in_words(given_data, told):
    with pytest.raises(DataError, match=told):
        training().run(given_data, epochs=1)


def test_a_list_goes_wherever_batches_do():
    one = training()
    one.run(PAIRS, epochs=2, test=[(X + 1, Y)])
    assert one.rehearse(PAIRS, [(X + 1, Y)], quick=True).findings
    assert one.outputs(PAIRS).shape == (60, 3)
    assert len(vs.training.profile(one, PAIRS, steps=3).rows) == 5
    assert vs.training.rate_range(one, PAIRS, steps=20).rates.size


class Hanging(vs.data.Source):
    """Its example 7 is never read."""

    def __init__(self, release):
        self.release = release

    def __len__(self):
        return 12

    def read(self, index):
        if index == 7:
            (time.sleep if self.release is None else self.release.wait)(60)
        return np.ones(2), 0, None

    def fingerprint(self):
        return "hanging"


@pytest.mark.parametrize("readers_as", ["threads", "processes"])
def test_a_reader_that_hangs_is_named_in_time(readers_as):
    release = threading.Event() if readers_as == "threads" else None
    seconds = 2 if readers_as == "threads" else 15  # processes have to start first
    batches = Hanging(release).batches(
        4, shuffled=False, readers=2, readers_as=readers_as, stall_after=seconds
    )
    begun = time.perf_counter()
    found = []
    with pytest.raises(
        DataError, match=f"gave nothing for {seconds} seconds; it reads the examples 4, 5"
    ):
        found.extend(batches.epoch(0))
    assert len(found) == 1
    assert time.perf_counter() - begun < 50
    if release is not None:
        release.set()


def test_readers_of_streams_are_given_up_too():
    release = threading.Event()

    def read(number):
        if number == 5:
            release.wait(60)
        return np.full(2, number), 0

    stream = vs.data.Stream(lambda: iter(range(8)), read=read)
    batches = stream.batches(2, readers=2, readers_as="threads", stall_after=1.0)
    with pytest.raises(DataError, match="it reads the examples 4, 5"):
        list(batches.epoch(0))
    release.set()


@pytest.mark.parametrize("stall_after", [0, -1])
def test_a_time_that_is_none_is_refused(stall_after):
    with pytest.raises(vs.errors.SettingError, match="stall_after"):
        vs.data.Dataset(X, Y).batches(4, stall_after=stall_after)
