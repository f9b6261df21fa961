"""Examples in many files, of which few are in memory: each is read once an epoch, any batch is
found at once, and what is wrong with a file is said.
"""

import io
import pickle
import tarfile

import numpy as np
import pytest
from PIL import Image

import vinestep as vs
from vinestep.errors import DataError

FILES, EACH = 9, 20


@pytest.fixture
def arrays(tmp_path):
    rng = np.random.default_rng(0)
    for k in range(FILES):
        x = rng.normal(size=(EACH + k, 3)).astype(np.float32)
        x[:, 0] = k
        np.savez(tmp_path / f"{k}.npz", inputs=x, targets=(x[:, 1] > 0).astype(int))
    return tmp_path / "*.npz"


def whole(pattern):
    files = [np.load(pattern.parent / f"{k}.npz") for k in range(FILES)]
    return [np.concatenate([file[name] for file in files]) for name in ("inputs", "targets")]


class Counted:
    """Which files were read, one after another."""

    def __init__(self, source):
        self.read = []
        for number, file in enumerate(source.files):
            file._read = self.counting(number, file._read)

    def counting(self, number, read):
        def counted():
            self.read.append(number)
            return read()

        return counted


def test_examples_are_those_of_the_files(arrays):
    source = vs.data.shards(arrays, buffer_files=2)
    x, y = whole(arrays)
    assert len(source) == len(x)
    assert source.labels().tolist() == y.tolist()
    index = np.random.default_rng(1).permutation(len(x))[:50]
    batch = source.gathered(index)
    np.testing.assert_array_equal(batch.inputs, x[index])
    np.testing.assert_array_equal(batch.targets, y[index])
    np.testing.assert_array_equal(source[-1][0], x[-1])
    assert vs.data.shards(arrays).fingerprint() == source.fingerprint()


@pytest.mark.parametrize("buffer_files", [1, 3, 20])
def test_an_epoch_has_every_example_once_and_reads_each_file_once(arrays, buffer_files):
    source = vs.data.shards(arrays, buffer_files=buffer_files)
    counted = Counted(source)
    x, _ = whole(arrays)
    for epoch in range(2):
        source._held.clear()
        counted.read.clear()
        batches = list(source.batches(16).epoch(epoch, seed=5))
        found = np.concatenate([batch.inputs for batch in batches])
        assert sorted(map(tuple, found)) == sorted(map(tuple, x))
        assert sorted(counted.read) == list(range(FILES))
        assert len(source._held) <= buffer_files
    again = np.concatenate([b.inputs for b in source.batches(16).epoch(1, seed=5)])
    np.testing.assert_array_equal(found, again)
    other = np.concatenate([b.inputs for b in source.batches(16).epoch(2, seed=5)])
    assert not np.array_equal(found, other)


def test_an_epoch_goes_on_in_its_middle_and_reads_only_what_is_left(arrays):
    source = vs.data.shards(arrays, buffer_files=3)
    all_of_it = [batch.inputs for batch in source.batches(16).epoch(0, seed=5)]
    source._held.clear()
    counted = Counted(source)
    rest = [batch.inputs for batch in source.batches(16).epoch(0, seed=5, start=9)]
    assert len(rest) == len(all_of_it) - 9
    for mine, theirs in zip(rest, all_of_it[9:], strict=True):
        np.testing.assert_array_equal(mine, theirs)
    assert len(counted.read) < FILES


def test_quality_rises_with_the_files_that_are_shuffled_together(arrays):
    source = vs.data.shards(arrays)
    n = len(source)
    found = [
        vs.data.shuffle_quality(vs.data.ShardOrder(source.lengths, buffer_files)(n, 0, 0, 8))
        for buffer_files in (1, 3, FILES)
    ]
    assert found == sorted(found)
    assert found[0] < 0.2
    assert found[-1] == pytest.approx(1, abs=0.2)


def test_parts_are_of_whole_files(arrays):
    source = vs.data.shards(arrays, buffer_files=2)
    train, validation = source.split(0.7, 0.3, seed=1)
    seen = [set(part.gathered(np.arange(len(part))).inputs[:, 0]) for part in (train, validation)]
    assert not seen[0] & seen[1]
    assert seen[0] | seen[1] == set(range(FILES))
    folds = list(source.folds(3, seed=2))
    assert len(folds) == 3
    held = [set(part.gathered(np.arange(len(part))).inputs[:, 0]) for _, part in folds]
    assert sorted(one for part in held for one in part) == list(range(FILES))
    for (train, _), (rows, _) in zip(folds, source.fold_rows(3, seed=2), strict=True):
        assert train.fingerprint() == source.rows(rows).fingerprint()
    assert len(source.rows(np.array([1, 40]))) == 2
    with pytest.raises(DataError, match="divided by file"):
        source.split(0.5, 0.5, stratified=True)


@pytest.mark.parametrize("readers", [None, "threads", "processes"])
def test_a_run_trains_rehearses_resumes_and_divides_its_batches(arrays, tmp_path, readers):
    options = {} if readers is None else {"readers": 2, "readers_as": readers}

    def act(epochs=2, **more):
        train, validation = vs.data.shards(arrays, buffer_files=2).split(0.7, 0.3, seed=1)
        own = vs.Training(vs.Dense(2), task=vs.tasks.Classes(), seed=1)
        outcome = own.run(
            train.batches(16, **options),
            validation=validation.batches(32),
            epochs=epochs,
            **more,
        )
        return outcome.curves["loss"].tolist(), own.network.arena.flat.copy()

    losses, weights = act(record=tmp_path / "a")
    np.testing.assert_allclose(act()[1], weights)
    act(1, record=tmp_path / "b")
    np.testing.assert_allclose(act(2, resume=tmp_path / "b" / "run-1")[1], weights)
    if readers is None:
        for found, theirs in vs.distributed.run_in_threads(2, act):
            np.testing.assert_allclose(found, losses, rtol=1e-5)
            np.testing.assert_allclose(theirs, weights, rtol=1e-4, atol=1e-6)
        own = vs.Training(vs.Dense(2), task=vs.tasks.Classes(), seed=1)
        train, validation = vs.data.shards(arrays, buffer_files=2).split(0.7, 0.3, seed=1)
        found = own.rehearse(train.batches(16), validation.batches(32), quick=True)
        assert not [one for one in found.findings if one.verdict == "wrong"], str(found)


def test_a_sample_is_of_few_files(arrays):
    source = vs.data.shards(arrays, buffer_files=3)
    counted = Counted(source)
    index = source.sample_index(40)
    assert len(index) == 40
    source.gathered(index)
    assert counted.read == [0, 4, 8]


def test_prepared_shards_are_read_and_divided_alike(arrays):
    source = vs.data.shards(arrays, buffer_files=2)
    counted = Counted(source)
    train, validation = source.prepared(lambda x: x * 2).split(0.7, 0.3, seed=1)
    found = np.concatenate([batch.inputs for batch in train.batches(16).epoch(0, seed=5)])
    assert len(found) == len(train)
    assert len(counted.read) == len(set(counted.read)) == len(train.source.files)
    assert set(found[:, 0] / 2) == set(counted.read)
    (rows, _), *_ = source.prepared(lambda x: x * 2).fold_rows(3, seed=1)
    assert len(rows) > len(source) / 2
    assert len(train) + len(validation) == len(source)


def test_it_is_handed_to_other_processes(arrays):
    source = pickle.loads(pickle.dumps(vs.data.shards(arrays)))
    assert len(source.gathered(np.array([3, 30]))) == 2


def test_rows_of_parquet_files(tmp_path):
    pytest.importorskip("pyarrow")
    frame = vs.demo.barrels(90)[["temperature", "colour_index", "state"]]
    for k in range(3):
        frame[30 * k : 30 * k + 30].to_parquet(tmp_path / f"{k}.parquet")
    source = vs.data.shards(tmp_path / "*.parquet", target="state")
    assert source.class_values == tuple(sorted(frame["state"].unique()))
    batch = source.gathered(np.array([0, 40, 89]))
    np.testing.assert_allclose(
        batch.inputs, frame[["temperature", "colour_index"]].to_numpy(np.float32)[[0, 40, 89]]
    )
    assert [source.class_values[k] for k in batch.targets] == frame["state"][[0, 40, 89]].tolist()
    numbers = vs.data.shards(tmp_path / "*.parquet", target="colour_index")
    with pytest.raises(DataError, match="column 'state' holds"):
        numbers.gathered(np.array([0]))
    with pytest.raises(DataError, match="no column 'grape'"):
        vs.data.shards(tmp_path / "*.parquet", target="grape")
    frame.iloc[:5, 1] = np.nan
    frame.rename(columns={"colour_index": "acidity"}).to_parquet(tmp_path / "4.parquet")
    with pytest.raises(DataError, match="its columns are"):
        vs.data.shards(tmp_path / "*.parquet", target="state")
    gaps = vs.data.shards([tmp_path / "4.parquet"], target="state")
    with pytest.raises(DataError, match="has a gap in row 0"):
        gaps.gathered(np.array([0]))


@pytest.mark.parametrize("suffix", [".tar", ".tar.gz"])
def test_pictures_in_archives(tmp_path, suffix):
    leaves = vs.demo.leaves(24, seed=1)
    pixels = (leaves.pictures * 255).astype(np.uint8)
    for k in range(3):
        with tarfile.open(tmp_path / f"{k}{suffix}", "w:gz" if "gz" in suffix else "w") as archive:
            for i in range(8 * k, 8 * k + 8):
                content = io.BytesIO()
                Image.fromarray(pixels[i]).save(content, "PNG")
                member = tarfile.TarInfo(f"{leaves.names[leaves.labels[i]]}/{i}.png")
                member.size = content.tell()
                content.seek(0)
                archive.addfile(member, content)
    source = vs.data.picture_shards(tmp_path / f"*{suffix}", buffer_files=2)
    batch = source.gathered(np.arange(24))
    np.testing.assert_array_equal(batch.inputs, pixels)
    named = [source.class_values[k] for k in batch.targets]
    assert named == [leaves.names[k] for k in leaves.labels]
    with pytest.raises(DataError, match="which is no class"):
        vs.data.picture_shards(tmp_path / f"*{suffix}", class_values=["oak"])


def test_what_is_wrong_is_said(arrays, tmp_path):
    with pytest.raises(DataError, match="no such file"):
        vs.data.shards(tmp_path / "*.parquet")
    with pytest.raises(DataError, match="no such file"):
        vs.data.shards([tmp_path / "none.npz"])
    with pytest.raises(DataError, match="buffer_files must be"):
        vs.data.shards(arrays, buffer_files=0)
    (tmp_path / "x.txt").write_text("vine")
    with pytest.raises(DataError, match=r"are \.npz or \.parquet files"):
        vs.data.shards([tmp_path / "x.txt"])
    (tmp_path / "bad.tar").write_text("vine")
    with pytest.raises(DataError, match="no archive"):
        vs.data.picture_shards([tmp_path / "bad.tar"])
    odd = tmp_path / "odd.npy.npz"
    np.savez(odd, inputs=np.zeros((2, 3)), targets=np.zeros(3, int))
    with pytest.raises(DataError, match="2 inputs and 3 targets"):
        vs.data.shards([odd]).gathered(np.array([0]))
    odd.unlink()
    source = vs.data.shards(arrays)
    np.savez(tmp_path / "4.npz", inputs=np.zeros((2, 3)), targets=np.zeros(2, int))
    with pytest.raises(DataError, match="was changed"):
        source.gathered(np.arange(len(source)))
    wide = tmp_path / "wide.npz"
    np.savez(wide, inputs=np.zeros((2, 5)), targets=np.zeros(2, int))
    with pytest.raises(DataError, match="have shape"):
        vs.data.shards([tmp_path / "5.npz", wide]).gathered(np.array([0, 26]))


def test_a_plan_reads_shards(arrays, tmp_path):
    from vinestep.training.plans._plan import read_plan
    from vinestep.training.plans._planned_run import PlannedRun

    plan = tmp_path / "plan.toml"
    plan.write_text(
        'epochs = 1\ntask = "classes"\n[data]\n'
        'source = { kind = "shards", files = "*.npz", buffer_files = 3 }\n'
        '[[layers]]\nkind = "dense"\nwidth = 2\n'
    )
    outcome = PlannedRun(read_plan(plan), tmp_path).run(record=tmp_path / "records")
    assert outcome.rows[0]["loss"] > 0
    recorded = (outcome.folder / "plan.toml").read_text()
    assert str(tmp_path / "*.npz") in recorded, "it goes on from anywhere"
