"""Parts of data, and what is noticed about data before a run."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.data import pictures
from vinestep.data.checks._checks import split_findings
from vinestep.errors import DataError


def rows(part):
    return part.inputs.ravel().astype(int)


@given(n_groups=st.integers(3, 12), seed=st.integers(0, 20))
def test_no_group_is_in_two_parts(n_groups, seed):
    groups = np.random.default_rng(seed).integers(0, n_groups, 80)
    if len(np.unique(groups)) < 3:
        return
    data = vs.data.Dataset(np.arange(80.0)[:, None], np.zeros(80))
    parts = data.split(0.6, 0.2, 0.2, seed=seed, groups=groups)
    sets = [set(groups[rows(part)]) for part in parts]
    assert sum(map(len, sets)) == len(set.union(*sets))
    assert sum(map(len, parts)) == 80
    assert [len(p) for p in data.split(0.6, 0.2, 0.2, seed=seed, groups=groups)] == [
        len(p) for p in parts
    ]


@given(st.lists(st.integers(0, 9), min_size=10, max_size=60))
def test_by_time_the_last_part_is_the_latest(times):
    times = np.array(times)
    data = vs.data.Dataset(np.arange(len(times))[:, None], times)
    try:
        first, second = data.split(0.7, 0.3, by=times)
    except DataError:
        return
    assert first.targets.max() < second.targets.min() or len(np.unique(times)) == 1


def test_counts_in_place_of_shares():
    data = vs.data.Dataset(np.arange(50.0), np.zeros(50))
    assert [len(part) for part in data.split(30, 12, 8)] == [30, 12, 8]
    with pytest.raises(DataError, match="no more than there are"):
        data.split(40, 20)


@given(n=st.integers(6, 40), k=st.integers(2, 6), stratified=st.booleans())
def test_each_example_is_validated_once_in_k_folds(n, k, stratified):
    labels = np.arange(n) % 2
    if stratified and n // 2 < k:
        return
    data = vs.data.Dataset(np.arange(n)[:, None], labels)
    seen = []
    for train, validation in data.folds(k, stratified=stratified):
        assert not set(rows(train)) & set(rows(validation))
        assert len(train) + len(validation) == n
        seen += rows(validation).tolist()
    assert sorted(seen) == list(range(n))
    assert len(list(data.folds(k, repeats=3))) == 3 * k


def test_two_ways_at_once_are_refused():
    data = vs.data.Dataset(np.arange(9.0), np.arange(9) % 3)
    with pytest.raises(DataError, match="Leave out stratified"):
        data.split(0.5, 0.5, stratified=True, by=np.arange(9))
    with pytest.raises(DataError, match="one value for each of 9"):
        data.split(0.5, 0.5, groups=np.arange(3))


def frame(n=200):
    rng = np.random.default_rng(0)
    state = rng.integers(0, 2, n)
    return pd.DataFrame(
        {
            "number": np.arange(n) + 1000,
            "pH": rng.normal(3.4, 0.2, n),
            "cellar": 4.0,
            "opened": state * 3 + rng.random(n),
            "state": np.array(["a", "b"])[state],
        }
    )


def test_what_is_suspicious_about_columns_is_found_and_nothing_else():
    found = {
        finding.subject: finding.evidence
        for finding in vs.data.peek(vs.data.Table(frame(), target="state")).findings
    }
    assert set(found) == {"column number", "column cellar", "column opened"}
    assert "identifier" in found["column number"]
    assert "constant" in found["column cellar"]
    assert "predicts the target perfectly" in found["column opened"]
    for demo in (vs.demo.barrels(), vs.demo.parcels()):
        assert vs.data.peek(vs.data.Table(demo, target=demo.columns[-1])).findings == []
    assert vs.data.peek(vs.data.Table(vs.demo.harvest(), target="yield")).findings == []


def test_pictures_and_labels_that_are_not_ready_are_found():
    pixels = np.random.default_rng(0).integers(0, 256, (30, 4, 4, 3), np.uint8)
    (raw,) = vs.data.peek((pixels, np.arange(30) % 3)).findings
    assert "Range" in raw.cure
    assert vs.data.peek((pixels / np.float32(255), np.arange(30) % 3)).findings == []
    assert (
        "twice"
        in vs.data.peek((pixels / np.float32(255 * 255), np.arange(30) % 3)).findings[0].evidence
    )
    assert (
        "counted from 0"
        in vs.data.peek((pixels / np.float32(255), np.arange(30) % 3 + 1)).findings[0].evidence
    )


def test_parts_that_are_augmented_or_lack_classes_are_found():
    x = np.random.default_rng(0).random((40, 4, 4, 3)).astype(np.float32)
    train, validation = (
        vs.data.Dataset(x, np.arange(40) % 4),
        vs.data.Dataset(x + 1, np.arange(40) % 2),
    )
    found = split_findings(train.batches(8), validation.batches(8, augment=pictures.Flip()))
    assert [finding.subject for finding in found] == ["the validation part"] * 2
    assert "augmented" in found[0].evidence
    assert "no example of 2, 3" in found[1].evidence
    assert split_findings(train.batches(8, augment=pictures.Flip()), train.batches(8)) == []
    (wrong,) = split_findings(validation.batches(8), train.batches(8))
    assert wrong.verdict == "wrong"


def test_looks_at_everything_that_holds_examples(tmp_path):
    table = vs.data.Table(vs.demo.barrels(60), target="state")
    look = vs.data.peek(table, 2)
    assert "sugar" in str(look)
    assert "<table" in look._repr_html_()
    assert look.examples["target"].str.contains("sound|stuck|spoiling").all()
    assert "characters" in vs.data.peek([("racked", 0), ("topped up", 1)]).fields["shape"][0]
    assert (
        "first 3 examples"
        in vs.data.peek(vs.data.Stream(lambda: iter([(np.ones(n), 0) for n in (1, 2, 3)]))).what
    )
    batches = vs.data.Examples([(np.ones(n), 0) for n in (1, 2, 3)]).batches(
        2, join=vs.data.Padded()
    )
    assert vs.data.peek(batches).fields["field"].tolist() == ["inputs", "target", "mask"]


def test_more_data_more_score():
    data = vs.data.Dataset(np.random.default_rng(0).normal(size=(100, 2)), np.arange(100) % 2)
    curve = vs.data.learning_curve(data, len, shares=(0.2, 1.0), repeats=2, stratified=True)
    assert curve["score"].tolist() == [20, 20, 100]
    with pytest.raises(DataError):
        vs.data.learning_curve(data, len, shares=(0,))
