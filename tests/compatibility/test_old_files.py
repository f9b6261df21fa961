"""What earlier versions wrote is opened, shown, continued and predicted with, to the numbers of
then.
"""

import json
import shutil
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import vinestep as vs

from ..command_line import vinestep_here
from .write_files import parts_of_points, step_of_points, training_of_barrels

FILES = Path(__file__).parent / "files"
VERSIONS = sorted(path.name for path in FILES.iterdir())


@pytest.fixture(params=VERSIONS)
def old(request, tmp_path):
    folder = tmp_path / request.param
    shutil.copytree(FILES / request.param, folder)
    return folder


@pytest.fixture
def expected(old):
    return json.loads((old / "expected.json").read_text())


def test_a_model_of_a_table_predicts_as_then(old, expected):
    rows = pd.read_csv(old / "barrels.csv")[:12].drop(columns="state")
    model = vs.open_model(old / "records/barrels-1/barrels.vine")
    found = model.predict(rows, beside=False).filter(like="probability")
    np.testing.assert_allclose(found, expected["barrels"], rtol=1e-5)
    assert model.lineage["run"].endswith("barrels-1")


def test_a_model_of_pictures_gives_the_outputs_of_then(old, expected):
    found = vs.open_model(old / "leaves.vine").outputs(vs.demo.leaves(24).pictures[:3])
    np.testing.assert_allclose(found, expected["leaves"], rtol=1e-4, atol=1e-5)


def test_a_model_that_writes_writes_as_then(old, expected):
    model = vs.open_model(old / "notes.vine")
    start = " ".join(vs.demo.notes(60).texts[0].split()[:2])
    found = vs.generate(model.network, start, tokeniser=model.codec.text_form.tokeniser, most=8)
    assert found.text == expected["notes"]


def test_an_interrupted_run_of_a_training_goes_on_as_it_would_have_then(old, expected):
    training, train, validation = training_of_barrels(pd.read_csv(old / "barrels.csv"))
    outcome = training.run(train, validation=validation, epochs=3, resume=old / "records/python-2")
    assert [row["epoch"] for row in outcome.rows] == [1, 2, 3]
    np.testing.assert_allclose(outcome.rows[-1]["loss"], expected["continued"]["python"], rtol=1e-5)


def test_an_interrupted_loop_of_ones_own_goes_on_as_it_would_have_then(old, expected):
    points, parts = parts_of_points()
    with vs.recorded_run(parts, steps=12, name="points", resume=old / "records/points-3") as run:
        for _ in run.steps():
            run.numbers(loss=step_of_points(points, **parts))
    assert [row["step"] for row in run.rows] == list(range(1, 13))
    np.testing.assert_allclose(run.rows[-1]["loss"], expected["continued"]["points"], rtol=1e-5)


def test_run_folders_are_listed_shown_and_compared(old):
    runs = vs.runs.open(old / "records")
    assert {run.label: run.status for run in runs} == {
        "barrels-1": "finished",
        "python-2": "interrupted",
        "points-3": "interrupted",
    }
    for command in (["show", "1"], ["compare", "1", "2"]):
        shown = vinestep_here(*command, cwd=old)
        assert shown.returncode == 0, shown.stderr
        assert "barrels-1" in shown.stdout


def test_a_plan_and_that_of_a_run_are_trained_again(old, tmp_path):
    copied = old / "records/barrels-1/plan.toml"
    copied.write_text(copied.read_text().replace("/tmp/v010/", f"{old}/"))
    for plan in (old / "plan.toml", copied):
        trained = vinestep_here(
            "train", plan, "--record", tmp_path / "new", "--unrehearsed", cwd=old
        )
        assert trained.returncode == 0, trained.stderr
    first, second = vs.runs.open(tmp_path / "new")
    pd.testing.assert_frame_equal(first.scores, second.scores)
