"""Several inputs by name from the columns of a table: from Python, plan and command line to a model
file in another process.
"""

import subprocess
import sys
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import tomli_w
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.errors import DataError, ShapeError, VineStepError

from ...command_line import vinestep_here

FRAME = vs.demo.barrels(240)
NETWORK = {
    "kind": "multi_input",
    "branches": {
        "must": {"kind": "dense", "width": 8, "activation": "relu"},
        "cellar": {"kind": "dense", "width": 6, "activation": "tanh"},
    },
    "head": {"kind": "dense", "width": "classes"},
}


def numeric_and_texts():
    numbers = [c for c in FRAME.columns if FRAME[c].dtype.kind == "f"]
    texts = [c for c in FRAME.columns if FRAME[c].dtype.kind not in "iuf" and c != "state"]
    return numbers, texts


NUMBERS, TEXTS = numeric_and_texts()
INPUTS = {"must": NUMBERS[:3], "cellar": [TEXTS[0], NUMBERS[2]]}
WHOLE = FRAME.dropna()


def by_hand():
    return vs.MultiInput(
        {"must": vs.Dense(8, vs.relu), "cellar": vs.Dense(6, np.tanh)},
        vs.Dense(FRAME["state"].nunique()),
    )


def test_each_input_has_the_features_of_its_columns_gaps_among_them():
    table = vs.data.Table(FRAME, target="state", inputs=INPUTS)
    train, other = table.split(0.7, 0.3)
    train, other = vs.data.scaled(train, other)
    names = train.feature_names
    for part in (train, other):
        batch = part.take(np.arange(20))
        for name, columns in INPUTS.items():
            own = [
                i
                for i, f in enumerate(names)
                if f.split("=")[0].removesuffix(" missing") in columns
            ]
            assert batch.inputs[name].shape == (20, len(own))
            assert sorted(map(tuple, batch.inputs[name].T.tolist())) == sorted(
                map(tuple, part.inputs[:20, own].T.tolist())
            )
        inputs, target, _ = part.example(3)
        assert {name: x.tolist() for name, x in inputs.items()} == {
            name: x[3].tolist() for name, x in batch.inputs.items()
        }
        assert target == batch.targets[3]


def test_from_a_table_to_a_model_in_another_process(tmp_path):
    train, validation, test = vs.data.scaled(
        *vs.data.Table(FRAME, target="state", inputs=INPUTS).split(0.6, 0.2, 0.2)
    )
    training = vs.Training(by_hand(), task=vs.tasks.Classes(), optimiser=vs.optimisers.Adam(0.02))
    rehearsal = training.rehearse(train.batches(32), validation.batches(64))
    assert rehearsal.verdict != "wrong", rehearsal.findings
    training.run(
        train.batches(32),
        validation=validation.batches(64),
        test=test.batches(64),
        epochs=8,
        record=tmp_path / "records",
    )
    model = training.model()
    rows = FRAME.head(30)
    answers = model.predict(rows)
    assert list(answers["predicted"].unique())
    file = model.save(tmp_path / "two.vine")
    FRAME.to_csv(tmp_path / "rows.csv", index=False)
    code = (
        f"import vinestep as vs; m = vs.open_model({str(file)!r});"
        f"found = m.predict({str(tmp_path / 'rows.csv')!r}).head(30);"
        f"found.to_csv({str(tmp_path / 'out.csv')!r}, index=False);"
        f"print(m.assess({str(tmp_path / 'rows.csv')!r})['loss'])"
    )
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert float(told.stdout) == pytest.approx(model.assess(FRAME)["loss"])
    found = pd.read_csv(tmp_path / "out.csv")
    assert found["predicted"].tolist() == answers["predicted"].tolist()
    chances = [c for c in answers if c.startswith("probability")]
    np.testing.assert_allclose(found[chances], answers[chances], atol=1e-6)
    importance = vs.attribution.permutation_importance(model, FRAME)
    used = {column for columns in INPUTS.values() for column in columns}
    assert used <= set(importance["column"])
    unused = importance[~importance["column"].isin(used)]["importance"]
    assert np.all(unused.fillna(0) == 0)


def planned(folder, **changes):
    plan = {
        "name": "two",
        "epochs": 3,
        "data": {"source": "demo:barrels", "target": "state", "inputs": INPUTS},
        "layers": [NETWORK],
    }
    plan["data"] |= changes
    file = folder / "two.toml"
    file.write_text(tomli_w.dumps(plan))
    return file


def vinestep(*arguments, cwd=None):
    told = vinestep_here(*arguments, cwd=cwd or Path.cwd())
    assert told.returncode == 0, told.stderr
    return told.stdout


def test_a_plan_trains_resumes_predicts_and_is_scored_on_the_command_line(tmp_path):
    plan = planned(tmp_path)
    assert "must" in vinestep("peek", plan)
    vinestep("train", plan, "--record", tmp_path / "records")
    run = tmp_path / "records/two-1"
    vinestep("resume", run, "--set", "epochs=5")
    FRAME.to_csv(tmp_path / "rows.csv", index=False)
    assert "predicted" in vinestep("predict", run / "two.vine", tmp_path / "rows.csv")
    score = vs.open_model(run / "two.vine").assess(FRAME)["accuracy"]
    assert f"{score:.4g}"[:5] in vinestep("assess", run / "two.vine", tmp_path / "rows.csv")
    vinestep("inspect", run / "two.vine")
    assert "fold" in vinestep(
        "cross-validate", plan, "--folds", "2", "--record", tmp_path / "folds"
    )


def test_several_inputs_and_several_targets_in_one_plan(tmp_path):
    casks = vs.demo.casks(160)
    targets = ["state", "alcohol"]
    features = [c for c in casks if c not in targets]
    head = {
        "kind": "heads",
        "body": {"kind": "dense", "width": 8, "activation": "relu"},
        "heads": {name: {"kind": "dense", "width": "outputs"} for name in targets},
    }
    plan = {
        "name": "both",
        "epochs": 2,
        "data": {
            "source": "demo:casks",
            "targets": targets,
            "target_gaps": True,
            "inputs": {"must": features[:2], "cellar": features[2:4]},
        },
        "layers": [NETWORK | {"head": head}],
    }
    (tmp_path / "both.toml").write_text(tomli_w.dumps(plan))
    vinestep("train", tmp_path / "both.toml", "--record", tmp_path / "records")
    casks.to_csv(tmp_path / "casks.csv", index=False)
    model = tmp_path / "records/both-1/both.vine"
    told = vinestep("predict", model, tmp_path / "casks.csv", "--out", tmp_path / "out.csv")
    found = pd.read_csv(tmp_path / "out.csv")
    assert all(any(c.startswith(f"{name} predicted") for c in found) for name in targets), told


def test_what_is_wrong_with_a_column_is_found_in_whichever_input_it_is():
    frame = WHOLE.assign(
        always=1.0, key=WHOLE["state"].map({s: i for i, s in enumerate(WHOLE["state"].unique())})
    )
    one = vs.data.Table(frame[["key", "always", NUMBERS[0], "state"]], target="state")
    groups = {"must": [NUMBERS[0], "always"], "cellar": ["key"]}
    two = vs.data.Table(frame, target="state", inputs=groups)
    told = [{(f.subject, f.verdict) for f in vs.data.peek(table).findings} for table in (one, two)]
    assert told[0] == told[1]
    assert any("key" in subject for subject, _ in told[0])
    arrays = {"must": two.inputs[:, :2], "cellar": two.inputs[:, 2:]}
    found = vs.data.peek(vs.data.Dataset(arrays, two.targets)).findings
    assert any("cellar 0" in finding.subject for finding in found)


@pytest.mark.parametrize(
    ("inputs", "told"),
    [
        ({"must": ["nowhere"]}, "names 'nowhere', which is no column of features"),
        ({"must": "ph"}, "is of a list of columns"),
        ({"must": []}, "is of a list of columns"),
        ({"a must": NUMBERS[:1]}, "names that are words"),
        ({"must": ["state"]}, "names 'state', which is no column of features"),
    ],
)
def test_inputs_that_are_none_are_refused_in_words(inputs, told):
    with pytest.raises(DataError, match=told):
        vs.data.Table(FRAME, target="state", inputs=inputs)


def test_parts_of_other_inputs_are_not_mixed():
    one = vs.data.Table(WHOLE.head(100), target="state", inputs=INPUTS)
    same_columns = {"must": [*NUMBERS[:3], TEXTS[0]]}
    other = vs.data.Table(WHOLE.tail(100), target="state", inputs=same_columns)
    with pytest.raises(DataError, match="inputs must, cellar against must"):
        vs.Training(by_hand(), task=vs.tasks.Classes()).run(
            one.batches(20), validation=other.batches(20), epochs=1
        )


def test_a_network_without_these_inputs_is_told_their_names():
    table = vs.data.Table(WHOLE, target="state", inputs=INPUTS)
    with pytest.raises(VineStepError, match="The batch has an input 'must'"):
        vs.Training(vs.Dense(3), task=vs.tasks.Classes()).run(table.batches(20), epochs=1)


@given(st.permutations(["a", "b", "c"]), st.integers(1, 4), st.integers(1, 4))
@settings(max_examples=20, deadline=None)
def test_branches_joined_are_their_definition(order, n, width):
    rng = np.random.default_rng(n)
    inputs = {name: rng.normal(size=(n, i + 1)) for i, name in enumerate("abc")}
    layers = {name: vs.Dense(width, np.tanh) for name in order}
    network = vs.MultiInput(layers, vs.Dense(2))
    network.initialise(tuple(inputs[name] for name in order), dtype=np.float64)
    weights = network.weights()
    hidden = [
        np.tanh(
            inputs[name] @ weights[f"branches/{name}/weight"] + weights[f"branches/{name}/bias"]
        )
        for name in order
    ]
    expected = np.concatenate(hidden, axis=1) @ weights["head/weight"] + weights["head/bias"]
    found = vs.Model(network).outputs(inputs)
    np.testing.assert_allclose(found, expected, atol=1e-12)


def test_branches_that_do_not_fit_are_refused():
    network = vs.MultiInput({"a": vs.Dense(2), "b": np.tanh}, vs.Dense(1))
    with pytest.raises(ShapeError, match="all but the last axis has to agree"):
        network.initialise((np.ones((2, 3)), np.ones((2, 3, 4))))
    with pytest.raises(ShapeError, match="2 branches, a, b, and 1 inputs"):
        network.initialise(np.ones((2, 3)))


@pytest.mark.parametrize("form", ["by name", "by place"])
def test_what_mattered_is_told_of_each_input_and_adds_up(form):
    rng = np.random.default_rng(4)
    inputs = {"must": rng.normal(size=(5, 3)), "cellar": rng.normal(size=(5, 2))}
    network = vs.MultiInput(
        {"must": vs.Dense(4, np.tanh), "cellar": vs.Dense(3, np.tanh)}, vs.Dense(2)
    )
    network.initialise(tuple(inputs.values()), dtype=np.float64, seed=3)
    given_inputs = inputs if form == "by name" else tuple(inputs.values())
    outputs = vs.Model(network).outputs(given_inputs)
    shares = vs.attribution.integrated_gradients(network, given_inputs, output=1, steps=400)
    slopes = vs.attribution.input_gradients(network, given_inputs, output=1)
    falls = vs.attribution.occlusion(network, given_inputs, output=1)
    listed = list(shares.values()) if form == "by name" else list(shares)
    at_zero = vs.Model(network).outputs({k: np.zeros_like(v) for k, v in inputs.items()})
    np.testing.assert_allclose(
        sum(s.sum(axis=1) for s in listed), (outputs - at_zero)[:, 1], atol=1e-5
    )
    for k, name in enumerate(inputs):
        key = name if form == "by name" else k
        for column in range(inputs[name].shape[1]):
            step = np.zeros_like(inputs[name])
            step[:, column] = 1e-6
            up, down = (
                vs.Model(network).outputs({**inputs, name: inputs[name] + sign * step})[:, 1]
                for sign in (1, -1)
            )
            np.testing.assert_allclose(slopes[key][:, column], (up - down) / 2e-6, atol=1e-6)
            hidden = inputs[name].copy()
            hidden[:, column] = 0
            without = vs.Model(network).outputs({**inputs, name: hidden})[:, 1]
            np.testing.assert_allclose(falls[key][:, column], outputs[:, 1] - without)
    near = vs.attribution.nearest_examples(network, given_inputs, given_inputs, count=1)
    assert near.rows[:, 0].tolist() == [0, 1, 2, 3, 4]
