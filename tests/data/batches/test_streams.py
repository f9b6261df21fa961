"""Streams divided among readers, files that change while they are read, and the range of
pictures.
"""

import logging
import os
import subprocess
import sys
import time
from functools import partial
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from PIL import Image

import vinestep as vs
from vinestep.errors import DataError


class Jittered(vs.data.Transform):
    random = True

    def __call__(self, x, draws=None):
        return x + self.drawn(draws).uniform(0, 1)[:, None]


def numbers(n):
    return iter(range(n))


def read(number):
    """The costly part; in which process it was done is told by the target."""
    if number == 977:
        raise ValueError("a cask without a number")
    return np.array([float(number)]), number


def read_where(number):
    time.sleep(0.01)
    return np.array([float(number)]), os.getpid()


def epochs_of(batches, epochs=2):
    return [
        (b.inputs.tolist(), b.targets.tolist())
        for epoch in range(epochs)
        for b in batches.epoch(epoch, seed=3)
    ]


@settings(max_examples=25)
@given(
    n=st.integers(1, 40),
    size=st.integers(1, 7),
    among=st.sampled_from([0, 5]),
    steps=st.sampled_from([None, 3]),
    readers=st.integers(1, 4),
    start=st.integers(0, 3),
)
def test_a_stream_divided_among_readers_gives_the_same_batches(
    n, size, among, steps, readers, start
):
    made = partial(
        vs.data.Stream(partial(numbers, n), read=read).batches,
        size,
        shuffle_among=among,
        epoch_steps=steps,
        augment=Jittered(),
    )
    alone = epochs_of(made())
    assert epochs_of(made(readers=readers, readers_as="threads")) == alone
    if steps is None:
        assert sorted(k for _, targets in alone[: len(alone) // 2] for k in targets) == list(
            range(n)
        )
    first = [
        (b.inputs.tolist(), b.targets.tolist())
        for b in made(readers=readers, readers_as="threads").epoch(0, seed=3, start=start)
    ]
    assert (
        first == [(b.inputs.tolist(), b.targets.tolist()) for b in made().epoch(0, seed=3)][start:]
    )


def test_processes_share_a_stream_without_repeats():
    stream = vs.data.Stream(partial(numbers, 50), read=read)
    alone = epochs_of(stream.batches(4, augment=Jittered()))
    assert epochs_of(stream.batches(4, augment=Jittered(), readers=3)) == alone
    where = vs.data.Stream(partial(numbers, 12), read=read_where).batches(2, readers=3)
    found = [batch.targets.tolist() for batch in where.epoch(0)]
    assert len({pid for pids in found for pid in pids}) == 3
    assert os.getpid() not in found[0]


@pytest.mark.parametrize("readers", [0, 2])
def test_what_cannot_be_read_is_named(readers):
    stream = vs.data.Stream(partial(numbers, 1000), read=read, name="casks")
    with pytest.raises(
        DataError, match="example 977 of the stream casks: ValueError: a cask without a number"
    ):
        list(stream.batches(10, readers=readers).epoch(0))


def test_what_a_restored_position_leaves_behind_is_not_read():
    done = []

    def noted(number):
        done.append(number)
        return np.array([number]), number

    list(vs.data.Stream(partial(numbers, 20), read=noted).batches(5).epoch(0, start=3))
    assert done == [15, 16, 17, 18, 19]


def rewritten(path, content):
    time.sleep(0.01)  # the clock of a file system may be coarse
    path.write_bytes(content)


@pytest.mark.parametrize("kind", ["pictures", "texts", "mapped"])
@pytest.mark.parametrize("how", ["longer", "same size", "removed", "replaced"])
def test_a_file_that_changes_while_it_is_read_is_named(tmp_path, kind, how):
    if kind == "mapped":
        np.save(tmp_path / "inputs.npy", np.arange(40.0).reshape(20, 2))
        np.save(tmp_path / "targets.npy", np.arange(20) % 2)
        source, path = vs.data.arrays(tmp_path), tmp_path / "inputs.npy"
    elif kind == "pictures":
        for i in range(4):
            Image.new("RGB", (4, 4), (i, 0, 0)).save(tmp_path / f"{i}.bmp")
        path = tmp_path / "3.bmp"
        source = vs.data.Pictures(sorted(tmp_path.glob("*.bmp")), [0, 1, 0, 1])
    else:
        for i in range(4):
            (tmp_path / f"{i}.txt").write_text("thin")
        source, path = (
            vs.data.TextFiles(tmp_path, [0, 1, 0, 1], encode=vs.data.ByteTokeniser()),
            tmp_path / "3.txt",
        )
    batches = source.batches(2, shuffled=False, join=vs.data.Padded() if kind == "texts" else None)
    epoch = batches.epoch(0)
    next(epoch)
    content = path.read_bytes()
    if how == "removed":
        path.unlink()
    elif how == "replaced":
        other = tmp_path / "other"
        other.write_bytes(content)
        other.replace(path)
    else:
        rewritten(path, content + b"x" if how == "longer" else content)
    with pytest.raises(DataError, match=rf"{path.name}: the file (is gone|was changed)"):
        list(epoch)


def test_a_table_that_grows_while_it_is_read_is_refused(tmp_path, monkeypatch):
    path = tmp_path / "barrels.csv"
    vs.demo.barrels(20).to_csv(path, index=False)
    honest = pd.read_csv

    def meanwhile(*arguments, **options):
        found = honest(*arguments, **options)
        with Path(path).open("a") as file:
            file.write("one,more\n")
        return found

    monkeypatch.setattr(pd, "read_csv", meanwhile)
    with pytest.raises(
        DataError, match=r"barrels.csv: the file was changed since it was first looked at"
    ):
        vs.data.Table(path, target="state")


def network():
    return vs.Stack(vs.Flatten(), vs.Dense(2))


def pictures(factor, n=40):
    rng = np.random.default_rng(1)
    return (rng.random((n, 4, 4, 3)) * factor).astype("f4"), np.arange(n) % 2


@pytest.mark.parametrize(
    ("factor", "verdict"), [(255, "wrong"), (1 / 255, "suspicious"), (0.9, None), (1.2, None)]
)
def test_pictures_of_another_range_than_those_trained_on_are_told(
    tmp_path, caplog, factor, verdict
):
    train = vs.data.Dataset(*pictures(1))
    training = vs.Training(network(), loss=vs.losses.cross_entropy)
    with caplog.at_level(logging.WARNING, "vinestep"):
        training.run(
            train.batches(8), validation=vs.data.Dataset(*pictures(factor)).batches(8), epochs=1
        )
    told = [
        r.getMessage()
        for r in caplog.records
        if "the inputs of the validation part" in r.getMessage()
    ]
    assert [text.partition(":")[0] for text in told] == ([verdict] if verdict else [])
    model = vs.open_model(training.model().save(tmp_path / "leaves.vine"))
    caplog.clear()
    with caplog.at_level(logging.WARNING, "vinestep"):
        model.predict(pictures(factor)[0])
    told = [r.getMessage() for r in caplog.records if "the pictures" in r.getMessage()]
    assert [text.partition(":")[0] for text in told] == ([verdict] if verdict else [])


def test_a_script_that_reads_when_it_is_imported_is_told_how_to_begin(tmp_path):
    script = tmp_path / "unguarded.py"
    script.write_text(
        "import vinestep as vs\nfor batch in vs.data.Examples([(1.0, 0)] * 8).batches(2, "
        "readers=2).epoch(0):\n    print(len(batch))\n"
    )
    done = subprocess.run([sys.executable, str(script)], capture_output=True, text=True, timeout=60)
    assert done.returncode == 1
    assert (
        'put what the script does under: if __name__ == "__main__"' in done.stderr.splitlines()[-1]
    )
