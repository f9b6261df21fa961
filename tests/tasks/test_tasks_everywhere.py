"""Tasks of every shape, each from arrays or a table to a model file that another process opens and
the command line scores: the same numbers everywhere.
"""

import functools
import json
import subprocess
import sys

import numpy as np
import pandas as pd
import pytest

import vinestep as vs

from ..command_line import vinestep, vinestep_here

t, N = vs.tasks, 240


def rng():
    return np.random.default_rng(1)


def x_of():
    return rng().normal(size=(N, 5)).astype(np.float32)


def arrays(name):
    """Inputs, targets, classes, task and width of the network of a task on arrays."""
    x, noise = x_of(), 0.1 * np.random.default_rng(2).normal(size=(N, 2))
    score = x[:, 0] + 0.5 * x[:, 1] + noise[:, 0]
    kind = np.digitize(score, [-0.5, 0.5])
    numbers = np.stack([score, x[:, 2] - x[:, 0] + noise[:, 1]], axis=1)
    several = {"state": np.where(np.arange(N) % 7, kind, -1), "sugar": numbers[:, :1].copy()}
    several["sugar"][::5] = np.nan
    known = ("sound", "spoiling", "stuck")
    return {
        "classes": (kind, known, t.Classes(), 3),
        "binary": ((score > 0).astype(int), ("no", "yes"), t.Binary(), 1),
        "labels": ((numbers > 0).astype(np.float32), (), t.Labels(["mould", "rot"]), 2),
        "ordered": (kind, ("low", "middle", "high"), t.Ordered(), 2),
        "number": (numbers[:, :1], (), t.Numbers(), 1),
        "numbers": (numbers, (), t.Numbers(), 2),
        "counts": (np.random.default_rng(3).poisson(np.exp(score / 2))[:, None], (), t.Counts(), 1),
        "quantiles": (numbers[:, :1], (), t.Quantiles(), 3),
        "gaussian": (numbers, (), t.Gaussian(), 4),
        "gaps": (np.where(np.arange(N) % 4, kind, -1), known, t.Classes(gaps=True), 3),
        "several": (
            several,
            {"state": known},
            t.Several({"state": t.Classes(gaps=True), "sugar": t.Numbers(gaps=True)}),
            {"state": 3, "sugar": 1},
        ),
    }[name]


NAMES = [
    "classes",
    "binary",
    "labels",
    "ordered",
    "number",
    "numbers",
    "counts",
    "quantiles",
    "gaussian",
    "gaps",
    "several",
]


def network(width):
    body = vs.Dense(16, np.tanh)
    if isinstance(width, dict):
        return vs.Heads(body, {name: vs.Dense(n) for name, n in width.items()})
    return vs.Stack(body, vs.Dense(width))


@functools.cache
def trained(name, folder):
    targets, classes, task, width = arrays(name)
    data = vs.data.Dataset(x_of(), targets, class_values=classes)
    train, validation, test = data.split(0.6, 0.2, 0.2, seed=1)
    training = vs.Training(network(width), task=task, optimiser=vs.optimisers.Adam(0.01), seed=1)
    outcome = training.run(
        train.batches(16), validation=validation.batches(50), epochs=12, record=folder, name=name
    )
    return training, outcome, train, test


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    return tmp_path_factory.mktemp("records")


def equal(a, b):
    if isinstance(a, dict):
        return a.keys() == b.keys() and all(equal(a[name], b[name]) for name in a)
    return np.array_equal(a, b)


@pytest.mark.parametrize("name", NAMES)
def test_training_learns_and_scores_agree(name, folder):
    training, outcome, _, test = trained(name, folder)
    curve = [row["validation_loss"] for row in outcome.rows]
    assert min(curve) < 0.98 * curve[0]
    found = training.assess(test.batches(7))
    model = training.model()
    again = model.assess(test)
    assert found.keys() == again.keys()
    for score, value in found.items():
        assert again[score] == pytest.approx(value, rel=1e-5, abs=1e-6), score
        low, high = found.intervals[score]
        assert low <= value <= high or score == "coverage"
    assert {f"validation_{score}" for score in found} <= set(outcome.rows[0])


OPENED = """
import sys, numpy as np, vinestep as vs
for file in sys.argv[2:]:
    model = vs.open_model(file)
    print(repr(model.task))
    print(model.predict(np.load(sys.argv[1])).to_json(orient="split"))
"""


@pytest.fixture(scope="module")
def elsewhere(folder, tmp_path_factory):
    """What another process, which has the files only, says of all models: task and predictions."""
    files = [next(trained(name, folder)[1].folder.glob("*.vine")) for name in NAMES]
    x = tmp_path_factory.mktemp("x") / "x.npy"
    np.save(x, trained(NAMES[0], folder)[3].inputs)
    command = [sys.executable, "-c", OPENED, x, *files]
    lines = subprocess.run(command, capture_output=True, text=True, check=True).stdout.splitlines()
    return dict(zip(NAMES, zip(lines[::2], lines[1::2], strict=True), strict=True))


@pytest.mark.parametrize("name", NAMES)
def test_a_model_file_gives_the_same_in_another_process(name, folder, elsewhere):
    training, outcome, _, test = trained(name, folder)
    file = next(outcome.folder.glob("*.vine"))
    said, table = elsewhere[name]
    assert said == repr(training.task)
    told = json.loads(table)
    ours = json.loads(training.predict(test.inputs).to_json(orient="split"))
    assert told == ours
    frame = training.predict(test)
    assert len(frame) == len(test)
    opened = vs.open_model(file)
    assert equal(opened.outputs(test.inputs), training.outputs(test.batches(9)))


@pytest.mark.parametrize("name", NAMES)
def test_steps_resuming_and_rehearsal_take_the_task(name, folder):
    _, outcome, train, test = trained(name, folder)
    _, _, task, width = arrays(name)
    own = vs.Training(network(width), task=task, optimiser=vs.optimisers.Adam(0.01), seed=1)
    found = own.rehearse(train.batches(16), test.batches(50))
    wrong = [finding for finding in found.findings if finding.verdict == "wrong"]
    assert not wrong
    for step in own.steps(train.batches(16), epochs=1):
        assert {metric.name for metric in own.metrics} == set(step.metrics)
    with pytest.raises(vs.errors.RunError, match="finished"):
        own.run(train.batches(16), epochs=12, resume=outcome.folder)
    looks = sorted(outcome.folder.glob("samples*.csv"))
    assert not looks  # a Python run has none without being asked


def frame_of(n=N):
    """A table with three targets, some of them missing, and a weight."""
    table = pd.DataFrame(x_of()[:n], columns=[f"reading {i}" for i in range(5)])
    score = table["reading 0"] + 0.5 * table["reading 1"]
    table["state"] = np.array(["sound", "spoiling", "stuck"])[np.digitize(score, [-0.5, 0.5])]
    table["sugar"] = 10 + score
    table["sound"] = score > 0
    table["trust"] = 1 + (np.arange(n) % 3)
    table.loc[::6, "state"] = None
    table.loc[::4, "sugar"] = np.nan
    return table


PLAN = """
name = "cellar"
epochs = 6
{task}
[data]
source = "cellar.csv"
{target}
weight = "trust"
target_gaps = true
batch = 16
[[layers]]
{layers}
"""
HEADS = """kind = "heads"
body = { kind = "dense", width = 12, activation = "relu" }
[layers.heads]
state = { kind = "dense", width = "outputs" }
sugar = { kind = "dense", width = "outputs" }
"""


@pytest.mark.parametrize(
    ("target", "layers", "task"),
    [
        ('targets = ["state", "sugar"]\nleave_out = ["sound"]', HEADS, ""),
        (
            'target = "sugar"\nleave_out = ["sound", "state"]',
            'kind = "dense"\nwidth = "outputs"',
            'task = { kind = "gaussian", gaps = true }',
        ),
        (
            'target = "sound"\nleave_out = ["sugar", "state"]',
            'kind = "dense"\nwidth = "outputs"',
            'task = "binary"',
        ),
    ],
)
def test_a_plan_the_command_line_and_python_say_the_same(tmp_path, target, layers, task):
    table = frame_of()
    table.to_csv(tmp_path / "cellar.csv", index=False)
    plan = tmp_path / "plan.toml"
    plan.write_text(PLAN.format(target=target, layers=layers, task=task))
    done = vinestep_here("rehearse", plan, cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    record = ["--record", tmp_path / "records"]
    done = vinestep_here("train", plan, *record, "--set", "data.seed=4", cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "Traceback" not in done.stderr
    file = next((tmp_path / "records" / "cellar-1").glob("*.vine"))
    model = vs.open_model(file)
    scores = model.assess(table)
    done = vinestep_here("assess", file, tmp_path / "cellar.csv", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    for name, value in scores.items():
        assert name.replace("_", " ") in done.stdout
        assert f"{value:.4f}" in done.stdout
    ran = vinestep if task == "" else vinestep_here  # once in a process of its own
    done = ran(
        "predict", file, tmp_path / "cellar.csv", "--out", tmp_path / "out.csv", cwd=tmp_path
    )
    assert done.returncode == 0, done.stderr
    predicted = pd.read_csv(tmp_path / "out.csv")
    ours = model.predict(table)
    assert list(predicted) == list(ours)
    numeric = ours.select_dtypes("number").columns
    np.testing.assert_allclose(predicted[numeric], ours[numeric], rtol=1e-4, atol=1e-5)
    for command in (["inspect", file], ["show", "cellar-1"]):
        done = vinestep_here(*command, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    asked = ["--set", "seed=2", "--set", "data.seed=4"]
    again = vinestep_here("train", plan, *record, *asked, cwd=tmp_path)
    assert again.returncode == 0
    done = vinestep_here("compare", "cellar-1", "cellar-2", "--decisions", *record, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "loss: " in done.stdout
