"""Who goes into which part, and that no example is in two."""

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.data.sources._splits import split_indices
from vinestep.errors import DataError, VineStepError


@settings(max_examples=60, deadline=None)
@given(
    sizes=st.lists(st.integers(1, 30), min_size=4, max_size=25),
    parts=st.sampled_from([(0.7, 0.3), (0.6, 0.2, 0.2), (0.5,), (0.25,) * 4]),
    seed=st.integers(0, 1000),
)
def test_groups_stay_together_and_parts_are_as_large_as_they_allow(sizes, parts, seed):
    groups = np.repeat(np.arange(len(sizes)), sizes)
    found = split_indices(len(groups), parts, seed, groups=groups)
    owner = {}
    for k, index in enumerate(found):
        assert index.size
        for group in np.unique(groups[index]):
            assert owner.setdefault(group, k) == k
    for index, share in zip(found, parts, strict=True):
        assert abs(len(index) - share * len(groups)) <= max(sizes) + 1


def test_groups_are_drawn_by_seed_even_where_all_are_of_different_sizes():
    groups = np.repeat(np.arange(12), np.arange(5, 17))
    parts = {
        tuple(np.unique(groups[split_indices(len(groups), (0.7, 0.3), seed, groups=groups)[1]]))
        for seed in range(20)
    }
    assert len(parts) > 10
    sizes = [
        len(split_indices(len(groups), (0.7, 0.3), seed, groups=groups)[0]) for seed in range(20)
    ]
    assert np.abs(np.array(sizes) - 0.7 * len(groups)).max() <= 1
    largest = [
        11 in groups[split_indices(len(groups), (0.7, 0.3), seed, groups=groups)[1]]
        for seed in range(40)
    ]
    assert 0 < sum(largest) < 30  # the largest group validates at times


@pytest.mark.parametrize("name", ["groups", "by"])
@pytest.mark.parametrize(
    "values",
    [
        ["a", None, "b", "c"],
        [1.0, np.nan, 2.0, 3.0],
        pd.to_datetime(["2026-01-01", None, "2026-01-02", "2026-01-03"]),
        pd.Series(["a", pd.NA, "b", "c"]),
    ],
)
def test_a_row_without_a_group_or_time_is_named(name, values):
    data = vs.data.Dataset(np.ones((4, 1)), np.arange(4))
    with pytest.raises(DataError, match=f"row 1 has no value in {name}="):
        data.split(0.5, 0.5, **{name: values})


def test_groups_that_can_not_be_compared_are_told():
    data = vs.data.Dataset(np.ones((4, 1)), np.arange(4))
    with pytest.raises(DataError, match="of types int, str"):
        data.split(0.5, 0.5, groups=np.array(["a", 1, "b", 2], object))


BAD = [-1, 1.5, None, True, "7", 2**63, np.nan]
SEEDED = {
    "split": lambda seed: vs.data.Dataset(np.ones((9, 1)), np.arange(9)).split(0.5, seed=seed),
    "folds": lambda seed: next(vs.data.Dataset(np.ones((9, 1))).folds(3, seed=seed)),
    "batches": lambda seed: vs.data.Dataset(np.ones((9, 1))).batches(3, seed=seed),
    "Training": lambda seed: vs.Training(vs.Dense(1), loss=vs.losses.huber, seed=seed),
    "initialise": lambda seed: vs.Dense(1).initialise(np.ones((1, 2)), seed=seed),
    "RandomStream": vs.RandomStream,
    "barrels": lambda seed: vs.demo.barrels(5, seed=seed),
    "leaves": lambda seed: vs.demo.leaves(5, seed=seed),
    "generate": lambda seed: vs.generate(
        vs.networks.LanguageModel(5, width=4, depth=1, heads=1).initialise(np.array([[1, 2]])),
        [1],
        most=1,
        seed=seed,
    ),
}


@pytest.mark.parametrize("bad", BAD, ids=repr)
@pytest.mark.parametrize("name", SEEDED)
def test_a_seed_that_is_none_is_refused_in_words(name, bad):
    if bad is None and name == "batches":
        return  # that of the training
    with pytest.raises(VineStepError, match="seed must be a whole number"):
        SEEDED[name](bad)


def doubled(n=100, columns=4, seed=0):
    rng = np.random.default_rng(seed)
    x, y = rng.normal(size=(n, columns)), rng.integers(0, 2, n)
    return vs.data.Dataset(np.concatenate([x, x]), np.concatenate([y, y]))


@pytest.mark.parametrize("seed", range(5))
def test_rows_doubled_before_a_split_are_found(seed):
    train, validation = doubled().split(0.7, 0.3, seed=seed)
    assert train.shared_rows(validation) > 20
    with pytest.raises(DataError, match="validation examples are training examples too"):
        vs.Training(vs.Dense(2), loss=vs.losses.cross_entropy).run(
            train.batches(8), validation=validation.batches(8), epochs=1
        )


def test_rows_of_few_categories_and_a_chance_copy_are_not_refused():
    rng = np.random.default_rng(0)
    few = vs.data.Dataset(rng.integers(0, 3, (300, 4)).astype(float), rng.integers(0, 2, 300))
    train, validation = few.split(0.7, 0.3)
    assert train.shared_rows(validation) == 0
    x = rng.normal(size=(200, 3))
    x[1], y = x[0], np.zeros(200, int)
    one = vs.data.Dataset(x, y)
    for seed in range(5):
        train, validation = one.split(0.5, 0.5, seed=seed)
        assert train.shared_rows(validation) == 0


def test_tables_tell_doubled_rows_too():
    frame = vs.demo.barrels(200, seed=1)
    table = vs.data.Table(pd.concat([frame, frame], ignore_index=True), target="state")
    train, validation = table.split(0.7, 0.3)
    assert train.shared_rows(validation) > 50
    train, validation = vs.data.Table(frame, target="state").split(0.7, 0.3)
    assert train.shared_rows(validation) == 0


@pytest.mark.parametrize("change", ["resized", "noisy", "brighter", "none"])
def test_nearly_equal_pictures_in_two_parts_are_told(change):
    rng = np.random.default_rng(0)
    pictures = vs.demo.leaves(160, seed=3).pictures.astype(np.float32)
    pictures /= pictures.max()
    train, other = pictures[:120], pictures[120:].copy()
    copies = train[:20]
    if change == "noisy":
        copies = np.clip(copies + rng.normal(0, 2 / 255, copies.shape), 0, 1).astype(np.float32)
    if change == "brighter":
        copies = copies * 0.8
    if change == "resized":
        small = copies.reshape(20, 16, 2, 16, 2, 3).mean(axis=(2, 4))
        copies = small.repeat(2, axis=1).repeat(2, axis=2)
    if change != "none":
        other[:20] = copies
    labels = rng.integers(0, 6, 160)
    parts = (
        vs.data.Dataset(train, labels[:120]).batches(16),
        vs.data.Dataset(other, labels[120:]).batches(16),
    )
    from vinestep.data.checks._near_duplicates import near_duplicate_findings

    found = near_duplicate_findings(*parts, "validation")
    if change == "none":
        assert found == []
    else:
        assert found[0].verdict == "suspicious"
        assert int(found[0].evidence.split()[0]) >= 15
