"""How sure answers are: calibration, conformal intervals and sets, ensembles, dropout left on."""

import numpy as np
import pandas as pd
import pytest
from scipy.special import expit, softmax

import vinestep as vs
from vinestep.errors import DataError, ModelError, SettingError

from .command_line import vinestep_here

t = vs.tasks


class Given(vs.Layer):
    """A network that puts out its inputs."""

    def declare(self, shape):
        self.parameter("nothing", (1,), vs.initialisers.zeros)

    def compute(self, x):
        return x + self.nothing * 0.0


def model_of(task, width):
    network = Given().initialise(np.ones((1, width)), dtype="float64")
    return vs.Model(network, loss=task, metrics=[vs.metrics.calibration_error()][:0])


def drawn_classes(n, seed, heat=1.0, k=3):
    rng = np.random.default_rng(seed)
    z = 2 * rng.normal(size=(n, k))
    labels = np.array([rng.choice(k, p=p) for p in softmax(z / heat, axis=1)])
    return z, labels


@pytest.mark.parametrize("heat", [0.5, 3.0])
def test_the_temperature_is_the_one_that_the_classes_were_drawn_with(heat):
    z, labels = drawn_classes(4000, 0, heat)
    made = model_of(t.Classes(), 3).calibrated(z, labels)
    assert made.calibration[""].temperature == pytest.approx(heat, rel=0.08)
    np.testing.assert_array_equal(made.outputs(z).argmax(axis=1), z.argmax(axis=1))
    rng = np.random.default_rng(1)
    yes = (rng.random(4000) < expit(z[:, 0] / heat)).astype(int)
    one = model_of(t.Binary(), 1).calibrated(z[:, :1], yes)
    assert one.calibration[""].temperature == pytest.approx(heat, rel=0.1)


@pytest.mark.parametrize("task", [t.Classes(), t.Binary(), t.Labels(["a", "b", "c"])])
def test_isotonic_probabilities_are_right_as_often_as_they_say(task):
    z, labels = drawn_classes(6000, 2, 3.0)
    rng = np.random.default_rng(0)
    if isinstance(task, t.Labels):
        labels = (rng.random(z.shape) < expit(z / 3)).astype(float)
    elif isinstance(task, t.Binary):
        z, labels = z[:, :1], (rng.random(len(z)) < expit(z[:, 0] / 3)).astype(int)
    before = model_of(task, z.shape[1])
    after = before.calibrated(z[:3000], labels[:3000], how="isotonic")
    error = vs.metrics.calibration_error(10)

    def off(model):
        found = vs.evaluation.assess(
            model.outputs(z[3000:]), labels[3000:], task, [error] if z.shape[1] != 3 else []
        )
        return found["loss"]

    assert off(after) < 0.9 * off(before)
    chances = after.predict(z[:5]).filter(like="probability").to_numpy()
    assert ((chances >= 0) & (chances <= 1)).all()


def case(name, n, seed):
    rng = np.random.default_rng(seed)
    mean = rng.normal(size=(n, 1))
    y = mean + rng.normal(size=(n, 1)) * (0.5 + np.abs(mean))
    if name == "numbers":
        return t.Numbers(), mean, y
    if name == "two":
        return t.Numbers(), np.concatenate([mean, -mean], axis=1), np.concatenate([y, -y], axis=1)
    if name == "gaussian":
        return t.Gaussian(), np.concatenate([mean, 2 * np.log(0.2 + np.abs(mean))], axis=1), y
    if name == "quantiles":
        return t.Quantiles([0.2, 0.8]), np.concatenate([mean - 0.4, mean + 0.4], axis=1), y
    if name == "counts":
        return t.Counts(), mean, rng.poisson(np.exp(mean)).astype(float)
    z, labels = drawn_classes(n, seed, 2.0)
    if name == "classes":
        return t.Classes(), z, labels
    if name == "binary":
        return t.Binary(), z[:, :1], (rng.random(n) < expit(z[:, 0] / 2)).astype(int)
    return t.Ordered(), z[:, :2], labels


NAMES = ["numbers", "two", "gaussian", "quantiles", "counts", "classes", "binary", "ordered"]


@pytest.mark.parametrize("name", NAMES)
def test_intervals_and_sets_hold_the_truth_as_often_as_asked(name):
    """On 200 draws of 100 examples to learn from and 50 to be held, within binomial bounds."""
    held = asked = 0
    for seed in range(200):
        task, outputs, targets = case(name, 150, seed)
        made = model_of(task, outputs.shape[1]).with_coverage(
            outputs[:100], targets[:100], coverage=0.8
        )
        found = made.conformal[""].covered(task, outputs[100:], targets[100:])
        held, asked = held + found.sum(), asked + found.size
    # learned anew each time, coverage varies as a beta distribution does, about 81 / 101
    deviation = np.sqrt(0.81 * 0.19 / 200 * (1 / 50 + 1 / 102))
    assert held / asked > 0.8 - 4 * deviation
    if name not in ("counts", "classes", "binary", "ordered"):
        assert held / asked < 81 / 101 + 4 * deviation


def test_intervals_stand_beside_the_answers_in_the_unit_of_the_data():
    task, outputs, targets = case("numbers", 200, 0)
    codec = vs.Model(Given().initialise(np.ones((1, 1)))).codec
    made = model_of(task, 1).with_coverage(outputs, targets)
    frame = made.predict(outputs[:3])
    assert list(frame) == ["predicted", "low", "high"]
    reach = made.conformal[""].quantiles[0]
    np.testing.assert_allclose(frame["high"] - frame["predicted"], reach)
    assert codec.back is None
    task, outputs, targets = case("classes", 300, 0)
    frame = model_of(task, 3).with_coverage(outputs, targets, coverage=0.6).predict(outputs)
    assert set(",".join(frame["set"]).replace(" ", "").split(",")) <= {"0", "1", "2", ""}


def table():
    rng = np.random.default_rng(0)
    frame = pd.DataFrame(rng.normal(size=(300, 2)), columns=["pH", "warmth"])
    frame["sugar"] = np.exp(frame["pH"] + 0.3 * rng.normal(size=300))
    frame["state"] = np.where(frame["warmth"] + rng.normal(size=300) > 0, "sound", "stuck")
    return frame


def trained(seed=0, **options):
    data = vs.data.Table(table(), **options)
    train, validation = data.split(0.6, 0.4, seed=3)
    train, validation = vs.data.scaled(train, validation)
    task = t.task_for(train)
    heads = {"state": vs.Dense(2), "sugar": vs.Dense(1)}
    network = (
        vs.Heads(vs.Stack(vs.Dense(8, vs.relu), vs.Dropout(0.3)), heads)
        if isinstance(task, t.Several)
        else vs.Stack(
            vs.Dense(8, vs.relu), vs.BatchNorm(), vs.Dropout(0.3), vs.Dense(train.classes)
        )
    )
    training = vs.Training(network, task=task, optimiser=vs.optimisers.Adam(0.02), seed=seed)
    training.run(train.batches(32), epochs=4)
    return training.model(), validation


def same_frames(a, b):
    pd.testing.assert_frame_equal(a, b)
    return True


@pytest.mark.parametrize(
    "options",
    [
        {"target": "state", "leave_out": ["sugar"]},
        {"target": "sugar", "leave_out": ["state"], "log_target": True},
        {"targets": ["state", "sugar"]},
    ],
)
def test_what_was_learned_is_kept_in_the_file(tmp_path, options):
    model, _ = trained(**options)
    rows = table().iloc[:100]
    made = model
    if "log_target" not in options:
        made = made.calibrated(rows)
    made = made.with_coverage(rows, coverage=0.7)
    again = vs.open_model(made.save(tmp_path / "m.vine"))
    new = table().iloc[100:]
    assert same_frames(made.predict(new), again.predict(new))
    frame = made.predict(new)
    if "target" in options and options["target"] == "sugar":
        assert (frame["low"] > 0).all()
        inside = (frame["low"] <= new["sugar"].to_numpy()) & (
            new["sugar"].to_numpy() <= frame["high"]
        )
        assert inside.mean() > 0.55
    drawn = again.predict(new, draws=8, seed=1)
    assert same_frames(drawn, again.predict(new, draws=8, seed=1))
    assert drawn.filter(regex="spread|disagreement").to_numpy().max() > 0


def test_dropout_left_on_changes_no_statistics_and_tends_to_the_mean():
    model, validation = trained(target="state", leave_out=["sugar"])
    before = {path: a.copy() for path, a in model.network.statistics().items()}
    few, many = (model.predict(validation.inputs, draws=n) for n in (1, 300))
    after = model.network.statistics()
    assert all(np.array_equal(before[path], after[path]) for path in before)
    apart = np.abs(few["probability sound"] - many["probability sound"]).mean()
    assert apart > 0.01
    assert (many["disagreement"] >= 0).all()
    with pytest.raises(ModelError, match="no dropout"):
        model_of(t.Numbers(), 1).predict(np.ones((2, 1)), draws=3)
    with pytest.raises(SettingError, match="draws"):
        model.predict(validation.inputs, draws=-1)


@pytest.mark.parametrize("name", NAMES)
def test_an_ensemble_is_the_mean_of_its_members(name):
    task, outputs, _ = case(name, 20, 0)
    rng = np.random.default_rng(1)
    stack = np.stack([outputs + rng.normal(size=outputs.shape) for _ in range(4)])
    found = task.averaged(stack)
    if name in ("classes", "ordered"):
        own = [softmax(task.as_classes(z, np.zeros(20, int))[0], axis=1) for z in stack]
        mean = softmax(task.as_classes(found, np.zeros(20, int))[0], axis=1)
        np.testing.assert_allclose(mean, np.mean(own, axis=0), atol=1e-12)
    elif name == "binary":
        np.testing.assert_allclose(expit(found), expit(stack).mean(axis=0), atol=1e-12)
    elif name == "counts":
        np.testing.assert_allclose(np.exp(found), np.exp(stack).mean(axis=0))
    elif name == "gaussian":
        draws = rng.normal(size=(200_000, 4)) * np.exp(stack[:, 0, 1] / 2) + stack[:, 0, 0]
        assert found[0, 0] == pytest.approx(draws.mean(), abs=0.02)
        assert np.exp(found[0, 1]) == pytest.approx(draws.var(), rel=0.03)
    else:
        np.testing.assert_allclose(found, stack.mean(axis=0))


def test_models_of_several_seeds_are_one(tmp_path):
    models = [trained(seed, targets=["state", "sugar"])[0] for seed in range(3)]
    one = vs.Model.joined(models)
    new = table().iloc[100:]
    chances = np.mean([m.predict(new)["state probability sound"] for m in models], axis=0)
    np.testing.assert_allclose(one.predict(new)["state probability sound"], chances, atol=1e-6)
    again = vs.open_model(one.save(tmp_path / "joined.vine"))
    assert same_frames(one.predict(new), again.predict(new))
    assert {"state disagreement", "sugar spread"} <= set(one.predict(new))
    sure = again.with_coverage(table().iloc[:100], coverage=0.6)
    assert {"state set", "sugar low"} <= set(sure.predict(new))
    scores = again.assess(new)
    assert scores["loss"] <= np.mean([m.assess(new)["loss"] for m in models]) + 1e-6
    with pytest.raises(ModelError, match="model 2 takes other inputs"):
        vs.Model.joined([models[0], trained(target="state", leave_out=["sugar"])[0]])


def test_what_cannot_be_learned_is_refused_in_words():
    task, outputs, targets = case("numbers", 8, 0)
    with pytest.raises(DataError, match="9 are needed"):
        model_of(task, 1).with_coverage(outputs, targets, coverage=0.9)
    with pytest.raises(DataError, match="become probabilities"):
        model_of(task, 1).calibrated(outputs, targets)
    with pytest.raises(SettingError, match="between 0 and 1"):
        model_of(task, 1).with_coverage(outputs, targets, coverage=1.5)
    z, labels = drawn_classes(50, 0)
    with pytest.raises(SettingError, match="how is"):
        model_of(t.Classes(), 3).calibrated(z, labels, how="platt")
    with pytest.raises(DataError, match="10 are needed"):
        model_of(t.Classes(), 3).calibrated(z[:5], labels[:5])
    with pytest.raises(DataError, match="no set of classes"):
        model_of(t.Labels(), 3).with_coverage(z, (z > 0).astype(float))


def test_the_command_line_calibrates(tmp_path):
    model, _ = trained(target="state", leave_out=["sugar"])
    model.save(tmp_path / "m.vine")
    table().to_csv(tmp_path / "rows.csv", index=False)
    command = ["calibrate", "m.vine", "rows.csv", "--out", "sure.vine", "--coverage", "0.8"]
    done = vinestep_here(*command, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    ours = model.calibrated(table()).with_coverage(table(), coverage=0.8)
    theirs = vs.open_model(tmp_path / "sure.vine")
    assert same_frames(ours.predict(table()), theirs.predict(table()))
    done = vinestep_here("inspect", "sure.vine", cwd=tmp_path)
    assert "temperature" in done.stdout
    assert "80% of the time" in done.stdout
