"""Data is told apart by what it holds, and a table says what it cannot read."""

import gc

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.data._hashing import digest, row_hashes
from vinestep.errors import DataError

RNG = np.random.default_rng(0)


def dataset(n=60, seed=0):
    rng = np.random.default_rng(seed)
    return vs.data.Dataset(rng.normal(size=(n, 3)), rng.integers(0, 2, n))


def test_unrelated_datasets_share_nothing_even_where_memory_is_used_again():
    shared = 0
    for seed in range(6):
        first = dataset(seed=2 * seed)
        part = first.rows(np.arange(30))
        del first
        gc.collect()
        shared += part.shared_rows(dataset(seed=2 * seed + 1)) > 0
    assert shared == 0


def test_the_same_file_read_twice_is_noticed(tmp_path):
    vs.demo.barrels(200).to_csv(tmp_path / "barrels.csv", index=False)
    first, second = (vs.data.Table(tmp_path / "barrels.csv", target="state") for _ in range(2))
    assert first.shared_rows(second) == 200
    (one, _), (_, other) = first.split(0.5, 0.5, seed=1), second.split(0.5, 0.5, seed=2)
    assert one.shared_rows(other) == len(set(one.provenance.rows) & set(other.provenance.rows)) > 0


def test_copied_rows_are_noticed_in_another_file():
    train, other = dataset(seed=1), dataset(seed=2)
    mixed = vs.data.Dataset(
        np.concatenate([other.inputs[:20], train.inputs[5:15]]),
        np.concatenate([other.targets[:20], train.targets[5:15]]),
    )
    assert train.shared_rows(mixed) == 10
    with pytest.raises(DataError, match="10 of 30 validation examples are training examples too"):
        vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy).run(
            train.batches(8), validation=mixed.batches(8), epochs=1
        )


def test_equal_rows_by_nature_are_no_leak():
    rng = np.random.default_rng(0)
    parts = [
        vs.data.Dataset(rng.integers(0, 2, (50, 3)).astype(float), rng.integers(0, 2, 50))
        for _ in range(2)
    ]
    assert parts[0].shared_rows(parts[1]) == 0


def test_hashes_tell_rows_apart():
    rows = RNG.normal(size=(1000, 7)).astype(np.float32)
    assert len(np.unique(row_hashes(rows, np.zeros(1000, int)))) == 1000
    assert not np.isin(
        row_hashes(-rows, np.zeros(1000, int)), row_hashes(rows, np.zeros(1000, int))
    ).any()
    swapped = rows[:, ::-1]
    assert not np.isin(row_hashes(swapped), row_hashes(rows)).any()
    assert digest(rows) != digest(rows.reshape(7, 1000)) != digest(rows.astype(float))


@pytest.mark.parametrize("n", [10_000, 9_997, 103])
@pytest.mark.parametrize("shares", [(0.8, 0.1, 0.1), (0.7, 0.15, 0.15), (0.5, 0.2)])
def test_parts_have_the_sizes_that_were_asked_for(n, shares):
    labels = np.random.default_rng(1).choice(7, n, p=[0.5, 0.2, 0.1, 0.1, 0.05, 0.03, 0.02])
    data = vs.data.Dataset(np.arange(n), labels)
    expected = np.diff(np.round(np.cumsum([0, *shares]) * n)).astype(int).tolist()
    for evenly in (False, n > 1000):
        parts = data.split(*shares, stratified=evenly)
        assert [len(part) for part in parts] == expected
    for part, share in zip(parts, shares, strict=True):
        if n > 1000:
            counts = np.bincount(part.targets, minlength=7)
            assert np.abs(counts - share * np.bincount(labels)).max() < 2


def frame(**columns):
    return pd.DataFrame({"a": [1.0, 2.0, 3.0, 4.0], "state": list("pqpq")} | columns)


def test_large_numbers_close_together_are_told_apart():
    times = 1_700_000_000 + np.arange(4) * 60.0
    (scaled,) = vs.data.scaled(vs.data.Table(frame(when=times), target="state"))
    assert len(np.unique(scaled.inputs[:, 1])) == 4


@pytest.mark.parametrize("value", [np.inf, -np.inf, 1e39, -1e300])
@pytest.mark.parametrize("column", ["a", "age"])
def test_values_beyond_float32_are_named(value, column):
    table = frame(age=[1.0, 2.0, 3.0, 4.0])
    table.loc[2, column] = value
    with pytest.raises(
        DataError,
        match=rf"row 3, column '{column}': the value is (infinite|.*larger than any number)",
    ):
        vs.data.Table(table, target="state" if column == "a" else "age")


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("a,b,y\n1,u,p\n2,v,q,\n3,u,p\n", "line 3 has 4 cells, the header 3"),
        ("a,b,y\n1,u,p,x\n2,v,q,x\n", "line 2 has 4 cells, the header 3"),
        ("a,b,y\n1,u,p\n2,v\n", "line 3 has 2 cells, the header 3"),
        ("a,y,y\n1,p,p\n2,q,q\n", "there are 2 columns of the name 'y'"),
        ("a,,\n1,p,p\n2,q,q\n", "there are 2 columns of the name ''"),
        ("", "no column|not a readable|no columns"),
        ("a,y\n1,p\n\x00,q\n", "not a readable CSV|is not a number|no categories|has one class"),
    ],
)
def test_files_that_would_be_misread_are_refused(tmp_path, text, message):
    path = tmp_path / "cellar.csv"
    path.write_text(text)
    with pytest.raises(DataError, match=message):
        vs.data.Table(path, target="y")


def test_a_byte_order_mark_belongs_to_no_column(tmp_path):
    path = tmp_path / "cellar.csv"
    path.write_bytes("\ufeffa,y\n1,p\n2,q\n".encode())
    assert vs.data.Table(path, target="y").feature_names == ["a"]


def test_names_of_columns_are_texts():
    table = vs.data.Table(pd.DataFrame({0: [1.0, 2.0], 1: list("uv"), 2: list("pq")}), target=2)
    assert table.feature_names == ["0", "1=u", "1=v"]
    with pytest.raises(DataError, match="2 columns of the name '0'"):
        vs.data.Table(
            pd.DataFrame([[1.0, 2.0, "p"], [2.0, 3.0, "q"]], columns=[0, "0", "y"]), target="y"
        )
    with pytest.raises(DataError, match="2 columns of the name 'y'"):
        vs.data.Table(pd.DataFrame([["p", "p"], ["q", "q"]], columns=["y", "y"]), target="y")


def test_a_text_missing_is_not_a_missing_cell():
    table = vs.data.Table(frame(cooper=["missing", None, "Alder", "missing"]), target="state")
    assert table.feature_names == ["a", "cooper=Alder", "cooper=missing", "cooper=missing cell"]
    np.testing.assert_array_equal(table.inputs[:, 1:], [[0, 1, 0], [0, 0, 1], [1, 0, 0], [0, 1, 0]])


def test_a_masked_array_is_refused():
    with pytest.raises(DataError, match="mask"):
        vs.data.Dataset(np.ma.masked_array([[1.0], [2.0]], [[True], [False]]), [0, 1])
