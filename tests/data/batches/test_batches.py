"""Batches: every example once, the same ones with any number of readers, and from any position
on.
"""

import itertools
import multiprocessing
import os
import pickle
import signal
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import psutil
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.data import Batch, Padded, pictures
from vinestep.data.batches._counter_rng import CounterRandom
from vinestep.errors import DataError, SettingError


class Slow:
    """A source of the user's own, whose examples are Python work."""

    def __init__(self, n=24, fail_at=None, sleep=0.0):
        self.n, self.fail_at, self.sleep = n, fail_at, sleep

    def __len__(self):
        return self.n

    def __getitem__(self, index):
        time.sleep(self.sleep)
        if index == self.fail_at:
            raise KeyError("no such barrel")
        return np.full((4, 5, 3), index / 24, np.float32), index


def numbers(batches):
    return [batch.targets.tolist() for batch in batches]


@settings(max_examples=60)
@given(
    n=st.integers(1, 40),
    size=st.integers(1, 12),
    seed=st.integers(0, 5),
    epoch=st.integers(0, 3),
    shuffled=st.booleans(),
    drop=st.booleans(),
    readers=st.sampled_from([0, 1, 4]),
)
def test_every_example_once_and_from_any_position_on(n, size, seed, epoch, shuffled, drop, readers):
    if drop and n < size:
        return
    data = vs.data.Dataset(np.arange(n)[:, None], np.arange(n))
    batches = data.batches(size, shuffled=shuffled, drop_partial=drop, readers=readers)
    found = numbers(batches.epoch(epoch, seed=seed))
    flat = list(itertools.chain(*found))
    assert len(flat) == len(set(flat)) == (n // size * size if drop else n)
    assert len(found) == len(batches)
    for start in range(len(found) + 1):
        assert numbers(batches.epoch(epoch, seed=seed, start=start)) == found[start:]


AUGMENT = [pictures.Flip(), pictures.Shift(1), pictures.Brightness(0.3), pictures.Noise(0.1)]


@pytest.mark.parametrize("how", ["threads", "processes"])
def test_readers_make_no_difference(how):
    source = vs.data.Examples(Slow())
    expected = list(source.batches(5, augment=AUGMENT).epoch(2, seed=3))
    for readers in (1, 4):
        found = list(
            source.batches(5, augment=AUGMENT, readers=readers, readers_as=how).epoch(2, seed=3)
        )
        assert len(found) == len(expected)
        for ours, theirs in zip(found, expected, strict=True):
            np.testing.assert_array_equal(ours.inputs, theirs.inputs, strict=True)
            np.testing.assert_array_equal(ours.targets, theirs.targets, strict=True)


def test_an_augmented_example_is_the_same_in_any_batch():
    pixels = np.random.default_rng(0).random((9, 6, 6, 3)).astype(np.float32)
    data = vs.data.Dataset(pixels, np.arange(9))
    whole, each = (
        list(data.batches(size, shuffled=False, augment=AUGMENT).epoch(1, seed=2))
        for size in (9, 1)
    )
    for i, one in enumerate(each):
        np.testing.assert_array_equal(one.inputs[0], whole[0].inputs[i])
    again = next(iter(data.batches(9, shuffled=False, augment=AUGMENT).epoch(2, seed=2)))
    assert not np.array_equal(again.inputs, whole[0].inputs)


@pytest.mark.parametrize("how", ["threads", "processes"])
def test_a_failing_example_is_named(how):
    source = vs.data.Examples(Slow(1000, fail_at=977))
    for readers in (0, 2):
        with pytest.raises(DataError, match=r"example 977 .*KeyError: 'no such barrel'"):
            list(source.batches(50, shuffled=False, readers=readers, readers_as=how))


def reader_processes():
    return [
        p
        for p in psutil.Process().children(recursive=True)
        if "forkserver" not in " ".join(p.cmdline()[-1:])
    ]


def shared_blocks():
    """Of shared memory; a database server that other tests started has some, too."""
    place = Path("/dev/shm")
    names = {path.name for path in place.iterdir() if path.is_file()} if place.exists() else set()
    return {name for name in names if not name.startswith("PostgreSQL")}


def test_a_killed_reader_ends_the_run_at_once_and_nothing_is_left():
    before = shared_blocks()
    batches = vs.data.Examples(Slow(400, sleep=0.05)).batches(4, readers=2, readers_as="processes")
    reading = batches.epoch(0)
    next(reading)
    readers = [p for p in multiprocessing.active_children() if p.name.startswith("vinestep reader")]
    assert len(readers) == 2
    os.kill(readers[-1].pid, signal.SIGKILL)
    begun = time.perf_counter()
    with pytest.raises(DataError, match="killed, or ran out of memory"):
        for _ in reading:
            pass
    assert time.perf_counter() - begun < 2
    time.sleep(0.3)
    assert not [p for p in readers if p.is_alive()]
    assert shared_blocks() <= before


@pytest.mark.parametrize("how", ["threads", "processes"])
def test_leaving_early_ends_the_readers(how):
    # the first reader of all starts a thread of multiprocessing that stays
    list(vs.data.Examples(Slow(2)).batches(2, readers=1, readers_as=how))
    before = set(threading.enumerate())
    known = {p.pid for p in psutil.Process().children(recursive=True)}
    for _ in vs.data.Examples(Slow(200)).batches(4, readers=3, readers_as=how):
        break

    def left():
        return [
            p
            for p in psutil.Process().children(recursive=True)
            if p.pid not in known and p.status() != psutil.STATUS_ZOMBIE
        ]

    until = time.monotonic() + 10
    # two stay: the server that readers are made by, and its tracker
    while time.monotonic() < until and (set(threading.enumerate()) - before or len(left()) > 2):
        time.sleep(0.05)
    assert not set(threading.enumerate()) - before
    assert len(left()) <= 2


def test_what_can_not_be_handed_to_a_process_is_said():
    class Local:
        def __len__(self):
            return 3

        def __getitem__(self, index):
            return np.zeros(2), 0

    with pytest.raises(DataError, match="readers_as"):
        list(vs.data.Examples(Local()).batches(2, readers=1, readers_as="processes"))


@given(st.lists(st.integers(1, 9), min_size=1, max_size=6), st.integers(1, 4))
def test_padding_and_masks_invert(lengths, multiple):
    rng = np.random.default_rng(0)
    sequences = [rng.normal(size=(n, 2)) for n in lengths]
    batch = Padded(multiple=multiple)([(s, i, None) for i, s in enumerate(sequences)])
    assert batch.inputs.shape[1] % multiple == 0
    for sequence, row, mask in zip(sequences, batch.inputs, batch.masks, strict=True):
        np.testing.assert_array_equal(row[mask], sequence)
        assert not row[~mask].any()


def test_sequences_in_buckets_train_a_recurrent_network():
    rng = np.random.default_rng(0)
    lengths = rng.integers(2, 12, 60)
    items = [
        (rng.normal(size=(n, 3)).astype(np.float32), int(i % 2)) for i, n in enumerate(lengths)
    ]
    source = vs.data.Examples(items)
    batches = source.batches(10, order=vs.data.ByLength(lengths), join=Padded())
    wasted = np.mean([1 - batch.masks.mean() for batch in batches])
    assert wasted < 0.1
    network = vs.Stack(vs.LSTM(8, output="last"), vs.Dense(2))
    training = vs.Training(network, loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    training.run(batches, epochs=2)
    by_tens, one_by_one = (
        training.outputs(source.batches(size, join=Padded(), shuffled=False)) for size in (10, 1)
    )
    np.testing.assert_allclose(by_tens, one_by_one, rtol=1e-4, atol=1e-5)


class TwoInputs(vs.Layer):
    def __init__(self):
        self.left, self.right, self.head = vs.Dense(4), vs.Dense(4), vs.Dense(2)

    def compute(self, sugar, acid):
        return self.head(np.tanh(self.left(sugar) + self.right(acid)))


@pytest.mark.parametrize("by", ["name", "place"])
def test_networks_with_two_inputs_run_and_are_assessed(by, rng, tmp_path):
    sugar, acid, labels = rng.normal(size=(30, 3)), rng.normal(size=(30, 2)), rng.integers(0, 2, 30)
    inputs = {"acid": acid, "sugar": sugar} if by == "name" else (sugar, acid)
    data = vs.data.Dataset(inputs, labels)
    train, validation = data.split(0.7, 0.3)
    training = vs.Training(TwoInputs(), loss=vs.losses.cross_entropy, metrics=[vs.metrics.accuracy])
    outcome = training.run(
        train.batches(8), validation=validation.batches(16), epochs=2, record=tmp_path
    )
    assert "validation_accuracy" in outcome.curves
    assert training.outputs(data).shape == (30, 2)
    assert training.assess(validation.batches(5))["loss"] == pytest.approx(
        outcome.curves["validation_loss"].iloc[-1]
    )


def test_misnamed_inputs_are_refused(rng):
    data = vs.data.Dataset(
        {"sugar": rng.normal(size=(4, 3)), "tannin": rng.normal(size=(4, 2))}, np.zeros(4, int)
    )
    with pytest.raises(DataError, match="'tannin'.*takes sugar, acid"):
        vs.Training(TwoInputs(), loss=vs.losses.cross_entropy).run(data.batches(2), epochs=1)


def test_weights_of_examples_weigh_in_the_loss(rng):
    x, y, weights = rng.normal(size=(20, 3)), rng.normal(size=(20, 1)), rng.random(20)
    data = vs.data.Dataset(x, y, weights=weights)
    training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error)
    training.network.initialise(x[:1], dtype=np.float64)
    expected = np.sum(weights[:, None] * (training.outputs(x) - y) ** 2) / weights.sum()
    assert training.assess(data.batches(7))["loss"] == pytest.approx(expected)
    with pytest.raises(DataError, match="weights"):
        vs.Training(vs.Dense(1), loss=lambda outputs, targets: np.sum(outputs)).run(
            data.batches(7), epochs=1
        )


def stream(n=23):
    return iter([(np.array([float(i)]), i) for i in range(n)])


@given(
    size=st.integers(1, 7),
    start=st.integers(0, 6),
    among=st.sampled_from([0, 5]),
    steps=st.sampled_from([None, 4]),
)
def test_a_stream_is_continued_where_it_was(size, start, among, steps):
    batches = vs.data.Stream(stream).batches(size, shuffle_among=among, epoch_steps=steps)
    whole = numbers(batches.epoch(1, seed=3))
    assert numbers(batches.epoch(1, seed=3, start=start)) == whole[start:]
    in_turn = [batch for epoch in range(3) for batch in numbers(batches.epoch(epoch, seed=3))]
    assert in_turn == [
        batch
        for epoch in range(3)
        for batch in numbers(
            vs.data.Stream(stream)
            .batches(size, shuffle_among=among, epoch_steps=steps)
            .epoch(epoch, seed=3)
        )
    ]
    if steps is None:
        assert sorted(itertools.chain(*whole)) == list(range(23))
    else:
        assert len(whole) == steps


def test_a_stream_trains_by_steps_and_resumes_bit_for_bit(tmp_path):
    def run(steps, **options):
        training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=3)
        training.run(
            vs.data.Stream(regression).batches(4, epoch_steps=5, shuffle_among=8),
            steps=steps,
            **options,
        )
        return training.network.weights()["weight"].copy()

    whole = run(23)
    stopped = run(23, record=tmp_path, observers=[StopAt(12)])
    assert not np.array_equal(stopped, whole)
    np.testing.assert_array_equal(run(23, resume=next(tmp_path.glob("run-*"))), whole)


def regression():
    rng = np.random.default_rng(0)
    return ((x, x.sum(keepdims=True)) for x in rng.normal(size=(50, 3)).astype(np.float32))


class StopAt(vs.observers.Observer):
    def __init__(self, at):
        self.at = at

    def after_step(self, run, step):
        if step.number == self.at:
            run.stop("far enough", resumable=True)


def test_a_stream_that_stalls_is_given_up():
    def stalling():
        yield np.zeros(2), 0
        time.sleep(30)
        yield np.zeros(2), 1

    begun = time.perf_counter()
    with pytest.raises(DataError, match=r"nothing for 0\.3 seconds, after 1 examples"):
        list(vs.data.Stream(stalling, stall_after=0.3).batches(1))
    assert time.perf_counter() - begun < 2


def test_an_iterator_is_no_stream():
    with pytest.raises(DataError, match="gone through once only"):
        vs.data.Stream(stream())


@given(seed=st.integers(0, 2**62), epoch=st.integers(0, 100), n=st.integers(1, 50))
def test_draws_belong_to_the_example(seed, epoch, n):
    index = np.random.default_rng(n).permutation(1000)[:n]
    whole = CounterRandom(seed, epoch, index).uniform(-1, 2, 3)
    assert whole.shape == (n, 3)
    assert whole.min() >= -1
    assert whole.max() < 2
    np.testing.assert_array_equal(
        CounterRandom(seed, epoch, index[-1]).uniform(-1, 2, 3)[0], whole[-1]
    )


def test_draws_are_random_enough():
    draws = CounterRandom(0, 0, np.arange(20_000))
    for sample, mean, deviation in (
        (draws.uniform(), 0.5, 12**-0.5),
        (draws.normal(), 0, 1),
        (draws.beta(2.0), 0.5, 0.05**0.5),
    ):
        assert abs(sample.mean() - mean) < 5 * deviation / 20_000**0.5
        assert abs(sample.std() - deviation) < 0.02
        assert abs(np.corrcoef(sample[:-1], sample[1:])[0, 1]) < 0.04


def test_balanced_and_own_orders():
    labels = np.array([0] * 90 + [1] * 10)
    data = vs.data.Dataset(np.arange(100.0)[:, None], labels)
    drawn = np.concatenate(
        [
            batch.targets
            for batch in data.batches(20, order=vs.data.Balanced(labels, draws=2000)).epoch(0)
        ]
    )
    assert 0.45 < drawn.mean() < 0.55
    own = data.batches(3, order=vs.data.OwnOrder(lambda epoch, seed: [5, 3, 1, 1]))
    assert [batch.inputs.ravel().tolist() for batch in own] == [[5.0, 3.0, 1.0], [1.0]]
    with pytest.raises(DataError, match="whole numbers from 0 to 99"):
        data.batches(3, order=vs.data.OwnOrder(lambda epoch, seed: [100]))


def test_a_join_of_one_s_own():
    items = [(np.ones(n), n) for n in (1, 3)]
    (batch,) = vs.data.Examples(items).batches(
        2, shuffled=False, join=lambda some: Batch(np.array([x.sum() for x, _, _ in some]), None)
    )
    assert batch.inputs.tolist() == [1.0, 3.0]


def test_examples_of_unequal_shapes_are_explained():
    with pytest.raises(DataError, match="Resize"):
        list(vs.data.Examples([(np.ones(2), 0), (np.ones(3), 1)]).batches(2))


@pytest.mark.parametrize(
    "options",
    [{"readers": -1}, {"ahead": 0}, {"readers_as": "magic"}],
    ids=lambda options: next(iter(options)),
)
def test_impossible_settings_are_refused(options):
    with pytest.raises(SettingError):
        vs.data.Dataset(np.ones((3, 1)), np.ones(3)).batches(2, **options)


KILLED = """
import os, signal, sys
import numpy as np, vinestep as vs
from vinestep.data import pictures
folder, kill = sys.argv[1], int(sys.argv[2])
rng = np.random.default_rng(0)
data = vs.data.Dataset(rng.random((60, 8, 8, 3)).astype(np.float32), rng.integers(0, 2, 60))
class Kill(vs.observers.Observer):
    def after_step(self, run, step):
        if step.number == kill:
            os.kill(os.getpid(), signal.SIGKILL)
network = vs.Stack(vs.Convolution(4, 3), vs.relu, vs.Flatten(), vs.Dense(2))
training = vs.Training(network, loss=vs.losses.cross_entropy, seed=5)
batches = data.batches(8, augment=[pictures.Flip(), pictures.Rotate(20)], readers=2)
runs = sorted(__import__("pathlib").Path(folder).glob("run-*"))
training.run(batches, epochs=3, observers=[Kill(), vs.observers.Checkpoints(every=3)],
             **({"resume": runs[0]} if runs else {"record": folder}))
print(np.concatenate([a.ravel() for a in training.network.weights().values()]).tobytes().hex())
"""


def test_killed_within_an_augmented_epoch_with_readers_a_run_continues_bit_for_bit(tmp_path):
    def go(folder, kill):
        done = subprocess.run(
            [sys.executable, "-c", KILLED, str(folder), str(kill)],
            capture_output=True,
            text=True,
            check=False,
        )
        assert done.returncode in (0, -signal.SIGKILL), done.stderr
        return done.stdout

    whole = go(tmp_path / "whole", 0)
    assert go(tmp_path / "killed", 13) == ""
    assert go(tmp_path / "killed", 0) == whole


def test_the_order_of_a_large_epoch_is_drawn_ahead_and_the_same():
    n = (1 << 17) + 3
    data = vs.data.Dataset(np.zeros((n, 1), np.float32), np.arange(n))
    batches = data.batches(n)
    for epoch in (0, 1, 2, 5, 6, 1):
        (batch,) = batches.epoch(epoch, seed=3)
        assert np.array_equal(batch.targets, batches.order(n, epoch, 3, n))
    (batch,) = batches.epoch(2, seed=4)
    assert np.array_equal(batch.targets, batches.order(n, 2, 4, n))
    again = pickle.loads(pickle.dumps(batches))
    assert np.array_equal(next(again.epoch(3, seed=4)).targets, batches.order(n, 3, 4, n))


@pytest.mark.skipif(not hasattr(os, "fork"), reason="no fork here")
def test_a_forked_process_draws_its_own_order():
    n = 1 << 17
    batches = vs.data.Dataset(np.zeros((n, 1), np.float32), np.arange(n)).batches(n)
    next(batches.epoch(0))
    child = os.fork()
    if not child:
        (batch,) = batches.epoch(1)
        os._exit(int(not np.array_equal(batch.targets, batches.order(n, 1, 0, n))))
    assert os.waitpid(child, 0)[1] == 0
