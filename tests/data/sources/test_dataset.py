import numpy as np
import pandas as pd
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.errors import DataError

GOOD = "pH,cooper,state\n3.1,Brun,sound\n3.4,Alder,stuck\n,Brun,sound\n3.3,,stuck\n"


def csv(tmp_path, text):
    path = tmp_path / "cellar.csv"
    path.write_text(text)
    return path


def test_a_csv_becomes_numbers_categories_and_classes(tmp_path):
    table = vs.data.Table(csv(tmp_path, GOOD), target="state")
    assert table.feature_names == ["pH", "cooper=Alder", "cooper=Brun", "cooper=missing"]
    assert table.class_names == ("sound", "stuck")
    assert table.targets.tolist() == [0, 1, 0, 1]
    assert table.missing == {"pH": 1}
    np.testing.assert_array_equal(table.inputs[3], [3.3, 0, 0, 1])


def test_scaling_is_learned_on_the_first_part_only():
    frame = pd.DataFrame({"a": np.arange(100.0), "state": list("xy") * 50})
    train, test = vs.data.Table(frame, target="state").split(0.5, 0.5, seed=1)
    scaled_train, scaled_test = vs.data.scaled(train, test)
    assert scaled_train.inputs.mean() == pytest.approx(0, abs=1e-6)
    assert scaled_train.inputs.std() == pytest.approx(1, rel=1e-6)
    expected = (test.inputs - train.inputs.mean()) / train.inputs.std()
    np.testing.assert_allclose(scaled_test.inputs, expected, rtol=1e-5)


@given(n=st.integers(10, 300), seed=st.integers(0, 99), share=st.sampled_from([0.5, 0.7, 0.9]))
def test_parts_share_nothing_and_miss_nothing(n, seed, share):
    data = vs.data.Dataset(np.arange(n), np.arange(n) % 2)
    parts = data.split(share, 1 - share, seed=seed)
    assert sorted(np.concatenate([p.inputs for p in parts])) == list(range(n))
    assert parts[0].shared_rows(parts[1]) == 0
    assert [p.inputs.tolist() for p in data.split(share, 1 - share, seed=seed)] == [
        p.inputs.tolist() for p in parts
    ]


def test_even_split_keeps_the_mix_of_classes():
    targets = np.repeat([0, 1, 2], [700, 200, 100])
    for part in vs.data.Dataset(np.zeros((1000, 1)), targets).split(
        0.7, 0.15, 0.15, seed=2, stratified=True
    ):
        assert np.bincount(part.targets) / len(part) == pytest.approx([0.7, 0.2, 0.1])


@given(
    n=st.integers(1, 60), size=st.integers(1, 20), epoch=st.integers(0, 5), start=st.integers(0, 5)
)
def test_an_epoch_is_every_example_once_in_an_order_of_seed_and_epoch(n, size, epoch, start):
    batches = vs.data.Dataset(np.arange(n), np.arange(n)).batches(size)
    order = [b.inputs.tolist() for b in batches.epoch(epoch, seed=3)]
    assert sorted(sum(order, [])) == list(range(n))
    assert len(order) == len(batches)
    assert [b.inputs.tolist() for b in batches.epoch(epoch, seed=3, start=start)] == order[start:]


def test_drop_partial():
    data = vs.data.Dataset(np.arange(7), np.arange(7))
    assert [len(b.inputs) for b in data.batches(3)] == [3, 3, 1]
    assert [len(b.inputs) for b in data.batches(3, drop_partial=True)] == [3, 3]


@pytest.mark.parametrize(
    ("text", "options", "message"),
    [
        (
            "pH,state\n3.1,sound\n3.2,\n",
            {},
            r"the target 'state' is missing in 1 of 2 rows, first in row 2 \(line 3 of the file\)",
        ),
        (
            "pH,acid,state\n3.1,1,a\n3.2,high,b\n3.3,2,a\n",
            {},
            r"row 2 \(line 3 of the file\), column 'acid': 'high' is not a number",
        ),
        ("pH,state\n3.1,a\n3.2,a\n", {}, "has one class only, 'a'"),
        (
            "pH,state\n3.1,a\n",
            {"target": "stat"},
            "there is no column 'stat'. Did you mean 'state'",
        ),
        ("pH,state\n", {}, "the table has no rows"),
        ("", {}, "not a readable CSV file"),
        ("pH,x,state\n3.1,inf,a\n3.2,1,b\n", {}, r"row 1 .*column 'x': the value is infinite"),
        ("pH,x,state\n3.1,,a\n3.2,,b\n", {}, "has no reading"),
        ("state\na\nb\n", {}, "no column is left"),
    ],
)
def test_bad_tables_are_explained(tmp_path, text, options, message):
    with pytest.raises(DataError, match=message):
        vs.data.scaled(vs.data.Table(csv(tmp_path, text), **({"target": "state"} | options)))


@pytest.mark.parametrize(
    ("attempt", "message"),
    [
        (lambda d: d.split(0.99, 0.01), "an empty part"),
        (lambda d: d.split(0.9, 0.2), "add up to at most 1"),
        (lambda d: d.split(0.1, 0.9, stratified=True), "would miss a class"),
        (lambda d: d.batches(0), "size must be a whole number"),
        (lambda d: d.batches(50, drop_partial=True), "make no full batch of 50"),
        (lambda d: vs.data.Dataset(np.zeros((2, 1)), np.zeros(3)), "2 inputs but targets"),
        (lambda d: vs.data.Dataset(np.zeros((0, 1)), np.zeros(0)), "no examples"),
        (lambda d: vs.data.Table("nowhere.csv", target="x"), "there is no such file"),
        (
            lambda d: vs.data.Table(
                pd.DataFrame({"a": [1.0, None], "s": ["x", "y"]}), target="s"
            ).batches(2),
            r"readings are missing in a \(1\)",
        ),
    ],
)
def test_bad_parts_are_explained(attempt, message):
    with pytest.raises(DataError, match=message):
        attempt(vs.data.Dataset(np.arange(10.0)[:, None], np.array([0] * 9 + [1])))


def test_demo_data_is_the_same_each_time():
    pd.testing.assert_frame_equal(vs.demo.barrels(50), vs.demo.barrels(50))
    assert vs.demo.barrels(500)["state"].nunique() == 3
    assert vs.demo.barrels(500)["pH"].isna().any()
    assert vs.demo.parcels(90)["parcel"].nunique() == 3


def test_a_parquet_file_is_the_table_it_was_written_from(tmp_path):
    frame = vs.demo.barrels(50)
    frame.to_parquet(tmp_path / "barrels.parquet")
    ours, theirs = (
        vs.data.Table(tmp_path / "barrels.parquet", target="state"),
        vs.data.Table(frame, target="state"),
    )
    assert ours.fingerprint() == theirs.fingerprint()
    (tmp_path / "bad.parquet").write_bytes(b"PAR1 nothing")
    with pytest.raises(DataError, match="not a readable Parquet file"):
        vs.data.Table(tmp_path / "bad.parquet", target="state")
