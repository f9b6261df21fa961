"""One question of yes or no by one logit, and several at once: trained, scored, answered and handed
on as classes are, from Python, plans and the command line.
"""

import json

import numpy as np
import pandas as pd
import pytest
from hypothesis import given, settings, strategies as st
from scipy.special import expit

import vinestep as vs
from vinestep.errors import ShapeError

from .command_line import vinestep_here

METRICS = [
    vs.metrics.accuracy,
    vs.metrics.f1(),
    vs.metrics.precision(1),
    vs.metrics.recall("micro"),
    vs.metrics.kappa,
    vs.metrics.top(1),
]
LOSS = vs.losses.binary_cross_entropy


def barrels(n=240):
    frame = vs.demo.barrels(n)
    frame["trouble"] = np.where(frame.pop("state") == "sound", "no", "yes")
    return frame


@settings(max_examples=20, deadline=None)
@given(data=st.data(), n=st.integers(1, 12), column=st.booleans(), floats=st.booleans())
def test_one_logit_scores_as_two_of_which_one_is_zero(data, n, column, floats):
    numbers = st.floats(-30, 30, width=32)
    logits = np.array(data.draw(st.lists(numbers, min_size=n, max_size=n)), np.float64)
    labels = np.array(data.draw(st.lists(st.integers(0, 1), min_size=n, max_size=n)))
    two = np.stack([np.zeros(n), logits], axis=1)
    expected = vs.evaluation.assess(two, labels, vs.losses.cross_entropy, METRICS)
    outputs = logits[:, None] if column else logits
    targets = labels[:, None] if column and floats else labels
    targets = targets.astype(np.float32) if floats else targets
    found = vs.evaluation.assess(outputs, targets, LOSS, METRICS)
    for name, value in expected.items():
        np.testing.assert_allclose(found[name], value, rtol=1e-6, atol=1e-9, err_msg=name)
        np.testing.assert_allclose(
            found.intervals[name], expected.intervals[name], rtol=1e-6, atol=1e-9, err_msg=name
        )


def test_labels_fit_a_column_of_logits_and_nothing_else(rng):
    logits, labels = rng.normal(size=(5, 1)), np.array([0, 1, 1, 0, 1])
    assert LOSS(logits, labels) == LOSS(logits[:, 0], labels)
    slope = vs.gradient_of(lambda z: LOSS(z, labels))(logits)
    np.testing.assert_allclose(slope[:, 0], (expit(logits[:, 0]) - labels) / 5)
    with pytest.raises(ShapeError):
        LOSS(logits, labels.astype(float))  # numbers are not labels: they may be meant otherwise
    with pytest.raises(ShapeError):
        LOSS(rng.normal(size=(5, 2)), labels)


def trained(frame, **options):
    table = vs.data.Table(frame, target="trouble")
    train, rest = vs.data.scaled(*table.split(0.7, 0.3, seed=1))
    network = vs.Stack(vs.Dense(8), vs.relu, vs.Dense(1))
    training = vs.Training(network, loss=LOSS, metrics=METRICS, seed=2)
    training.run(train.batches(16), epochs=4, validation=rest.batches(64), **options)
    return training, rest


def test_answers_name_the_class_and_give_both_probabilities(tmp_path):
    frame = barrels()
    training, rest = trained(frame)
    outputs, answers = training.outputs(rest), training.predict(rest)
    assert answers.columns.tolist() == ["predicted", "probability no", "probability yes"]
    np.testing.assert_allclose(answers["probability yes"], expit(outputs[:, 0]), rtol=1e-6)
    assert (answers["predicted"] == np.where(outputs[:, 0] > 0, "yes", "no")).all()
    file = training.model().save(tmp_path / "trouble.vine")
    opened = vs.open_model(file)
    assert opened.assess(frame) == training.model().assess(frame)
    share = (opened.predict(frame)["predicted"] == frame["trouble"]).mean()
    assert opened.assess(frame)["accuracy"] == pytest.approx(share)


def test_what_the_rehearsal_knows_of_binary_logits():
    table = vs.data.Table(barrels(), target="trouble")
    train, rest = vs.data.scaled(*table.split(0.7, 0.3, seed=1))

    def rehearsed(*layers):
        training = vs.Training(vs.Stack(vs.Dense(8), vs.relu, *layers), loss=LOSS, metrics=METRICS)
        return vs.training.rehearse(training, train.batches(32), rest.batches(64), quick=True)

    first = next(f for f in rehearsed(vs.Dense(1)).findings if f.subject == "the first loss")
    assert "an even guess of yes or no gets 0.6931" in first.evidence
    wrong = [f for f in rehearsed(vs.Dense(1), vs.sigmoid).findings if f.verdict == "wrong"]
    assert any("from 0 to 1" in f.evidence for f in wrong)


def test_several_questions_at_once(tmp_path, rng):
    x = rng.normal(size=(200, 4)).astype(np.float32)
    labels = (x[:, :3] + 0.3 * rng.normal(size=(200, 3)) > 0).astype(int)
    train, rest = vs.data.Dataset(x, labels).split(0.7, 0.3)
    training = vs.Training(
        vs.Dense(3), loss=LOSS, metrics=METRICS, optimiser=vs.optimisers.Adam(0.05)
    )
    outcome = training.run(
        train.batches(20), epochs=20, validation=rest.batches(60), record=tmp_path
    )
    model = vs.open_model(outcome.folder / "run.vine")
    answers = model.predict(rest.inputs)
    assert answers.columns.tolist() == [
        *(f"predicted {i}" for i in range(3)),
        *(f"probability {i}" for i in range(3)),
    ]
    right = answers.iloc[:, :3].to_numpy() == rest.targets.astype(bool)
    assert training.assess(rest.batches(60))["accuracy"] == pytest.approx(right.mean())
    assert right.mean() > 0.85


def test_soft_targets_are_judged_by_the_likelier_answer(rng):
    logits, chances = rng.normal(size=(6, 1)), rng.uniform(size=(6, 1))
    assert set(vs.evaluation.assess(logits, chances, LOSS)) == {"loss"}
    soft = vs.evaluation.assess(logits, chances, LOSS, [vs.metrics.accuracy])
    assert soft["accuracy"] == np.mean((logits > 0) == (chances >= 0.5))
    expected = np.logaddexp(0, logits) - chances * logits
    assert soft["loss"] == pytest.approx(expected.mean())


PLAN = """
name = "trouble"
epochs = 4
loss = "binary_cross_entropy"
metrics = ["accuracy"]

[data]
source = "barrels.csv"
target = "trouble"
batch = 16

[optimiser]
kind = "adam"
rate = 0.01

[[layers]]
kind = "dense"
width = 8
activation = "relu"

[[layers]]
kind = "dense"
width = 1
"""


def test_a_plan_and_the_command_line_say_the_same(tmp_path):
    frame = barrels()
    frame.to_csv(tmp_path / "barrels.csv", index=False)
    (tmp_path / "plan.toml").write_text(PLAN)
    for seed in (1, 2):
        asked = ["--set", f"seed={seed}", "--set", "data.seed=1"]
        done = vinestep_here("train", "plan.toml", *asked, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    assert "recall" in done.stdout
    file = tmp_path / "records" / "trouble-2" / "trouble.vine"
    predicted = vinestep_here("predict", file, "barrels.csv", "--out", "out.csv", cwd=tmp_path)
    assert predicted.returncode == 0, predicted.stderr
    rows = pd.read_csv(tmp_path / "out.csv")
    assert set(rows["predicted"]) <= {"yes", "no"}
    model = vs.open_model(file)
    scores = model.assess(tmp_path / "barrels.csv")
    assert scores["accuracy"] == pytest.approx((rows["predicted"] == rows["trouble"]).mean())
    told = vinestep_here("assess", file, "barrels.csv", cwd=tmp_path)
    assert f"{scores['accuracy']:.4f}" in told.stdout
    recorded = json.loads((file.parent / "assessment.json").read_text())
    assert 0 <= recorded["test"]["accuracy"]["value"] <= 1
    compared = vinestep_here("compare", 1, 2, "--decisions", cwd=tmp_path)
    assert compared.returncode == 0, compared.stderr
    assert "right" in compared.stdout
