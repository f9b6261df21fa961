"""The runs of a search or a cross-validation, found again in the record as one study."""

import numpy as np
import pandas as pd
import pytest

import vinestep as vs
from vinestep.errors import RunError

from ..command_line import vinestep_here

STUDY_PLAN = """
epochs = 2
loss = "cross_entropy"
metrics = ["accuracy"]
[data]
source = "barrels.csv"
target = "state"
split = [0.6, 0.2, 0.2]
[[layers]]
kind = "dense"
width = 4
[[layers]]
kind = "dense"
width = "classes"
"""


@pytest.fixture(scope="module")
def studies(tmp_path_factory):
    root = tmp_path_factory.mktemp("studies")
    vs.demo.barrels(120).to_csv(root / "barrels.csv", index=False)
    (root / "plan.toml").write_text(STUDY_PLAN)
    rates = {"optimiser.rate": [0.1, 0.01, 0.001], "layers.0.width": [4, 8]}
    found = vs.training.search(
        root / "plan.toml", rates, folder=root / "records", how="grid", processes=1
    )
    folds = vs.training.cross_validate(root / "plan.toml", folds=3, record=root / "records")
    return root, found, folds


def test_the_trials_of_a_search_are_one_study(studies):
    root, search, _ = studies
    runs = vs.runs.open(root / "records")
    study = vs.runs.study_of(next(run for run in runs if run.name == "trial2"))
    assert repr(study) == "<search records: 6 runs>"
    table = study.table()
    assert table["validation_loss"].is_monotonic_increasing
    assert table["validation_loss"].iloc[0] == pytest.approx(search.best.value)
    assert table[["optimiser.rate", "layers.0.width"]].iloc[0].to_dict() == search.best.settings
    pd.testing.assert_frame_equal(study.importance(), search.importance())
    assert study.summary().empty


def test_the_folds_of_a_cross_validation_are_another(studies):
    root, _, folds = studies
    runs = vs.runs.open(root / "records")
    study = vs.runs.study_of(next(run for run in runs if run.name.endswith("1.2")))
    assert len(study.runs) == 3
    pd.testing.assert_frame_equal(study.summary(), folds.summary())
    assert study.table()["accuracy"].tolist() == folds.table()["accuracy"].tolist()
    assert study.table()["test"].sum() == 120
    assert study.importance().empty


def test_a_cross_validation_of_a_function_is_a_study_too(tmp_path):
    x = np.random.default_rng(0).normal(size=(30, 2))

    def fit(train, seed, **options):
        training = vs.Training(vs.Dense(1), loss=vs.losses.squared_error, seed=seed)
        training.run(train.batches(10), epochs=1, **options)
        return training

    data = vs.data.Dataset(x, x[:, :1])
    folds = vs.training.cross_validate(fit, data, folds=3, seeds=2, record=tmp_path)
    study = vs.runs.study_of(next(iter(vs.runs.open(tmp_path))))
    pd.testing.assert_frame_equal(study.summary(), folds.summary())
    assert len(study.table()) == 6
    training = fit(data, 0, record=tmp_path)
    assert training.ended.value == "finished"
    alone = vs.runs.open(tmp_path)["run-7"]
    with pytest.raises(RunError, match="part of no search"):
        vs.runs.study_of(alone)


def test_show_says_where_a_run_stands_in_its_study(studies):
    root, *_ = studies
    runs = vs.runs.open(root / "records")
    label = next(run.label for run in runs if run.name == "trial2")
    assert "trial 2 of the search records" in vinestep_here("show", label, cwd=root).stdout
    fold = next(run.label for run in runs if run.name.endswith("1.2"))
    told = vinestep_here("show", fold, cwd=root).stdout
    assert "fold 2 of division 1 of the cross-validation" in told
