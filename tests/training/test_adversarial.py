"""Adversarial pairs: against the same steps by two descents, killed and resumed, in every way."""

import copy
import os
import signal
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import vinestep as vs
from vinestep.training._adversarial import BETWEEN, LATENT

from ..command_line import vinestep_here

RNG = np.random.default_rng(0)
POINTS = (
    np.array([[2.0, 0.0], [-2.0, 0.0]])[RNG.integers(0, 2, 400)] + 0.1 * RNG.normal(size=(400, 2))
).astype(np.float32)
LABELS = (POINTS[:, 0] > 0).astype(int)


def pair(loss="wasserstein", *, classes=0, seed=3, **settings):
    generator = vs.generation.LatentGenerator(
        vs.Stack(vs.Dense(16, vs.relu), vs.Dense(2)), latent=3, classes=classes
    )
    critic = vs.generation.Critic(
        vs.Stack(vs.Dense(16, vs.leaky_relu), vs.Dropout(0.1), vs.Dense(8, vs.leaky_relu)),
        classes=classes,
    )
    return vs.AdversarialTraining(
        generator,
        critic,
        loss=loss,
        seed=seed,
        **{
            "critic_steps": 2,
            "optimiser": vs.optimisers.Adam(2e-3, beta1=0.5),
            "critic_optimiser": vs.optimisers.Adam(2e-3, beta1=0.5),
            "critic_schedule": vs.schedules.cosine(100),
            "average": vs.WeightAverage(0.9),
            **settings,
        },
    )


def data(*, labelled=False):
    return vs.data.Dataset(POINTS, LABELS if labelled else None)


def everything(training):
    """All arrays that the two networks and their optimisers hold."""
    result = {}
    for name, descent in training.parts.items():
        for path, array in descent.network._ready_arena().arrays().items():
            result[f"{name} {path}"] = np.array(array)
        for key, array in descent.optimiser.state.items():
            result[f"{name} optimiser {key}"] = np.array(array)
        result[f"{name} steps"] = np.array(descent.step_number)
    return result


def equal(first, second):
    ours, theirs = everything(first), everything(second)
    assert ours.keys() == theirs.keys()
    return all(np.array_equal(ours[name], theirs[name]) for name in ours)


@pytest.mark.parametrize("loss", ["wasserstein", "non_saturating", "hinge", "clipped"])
def test_steps_against_two_descents_by_hand(loss):
    training = pair(loss)
    batches = [vs.data.Batch(POINTS[i : i + 40]) for i in (0, 40)]
    training.initialise(batches[0])
    generator = vs.Descent(
        copy.deepcopy(training.generator), optimiser=vs.optimisers.Adam(2e-3, beta1=0.5), seed=3
    )
    critic = vs.Descent(
        copy.deepcopy(training.critic),
        optimiser=vs.optimisers.Adam(2e-3, beta1=0.5),
        schedule=vs.schedules.cosine(100),
        seed=4,
    )

    def latent(k):
        draws = np.random.default_rng([3, LATENT, 0, k])
        return draws.normal(size=(40, 3)).astype(np.float32)

    for k, batch in enumerate(batches):
        real = batch.inputs
        with vs.learning(3, critic.step_number):
            made = vs.held(generator.network(latent(k)))
        share = np.random.default_rng([3, BETWEEN, 0, k]).random((40, 1)).astype(np.float32)
        between = real * share + made * (1 - share)
        judge = critic.network

        def loss_of_critic(real=real, made=made, between=between):
            on_real, on_made = judge(real), judge(made)
            if loss == "hinge":
                return np.mean(np.maximum(1 - on_real, 0)) + np.mean(np.maximum(1 + on_made, 0))
            if loss == "non_saturating":
                return np.mean(np.logaddexp(0, -on_real)) + np.mean(np.logaddexp(0, on_made))
            value = np.mean(on_made) - np.mean(on_real)
            if loss == "wasserstein":
                value = value + vs.losses.gradient_penalty(judge, between) * np.float32(10)
            return value

        critic.step(loss_of_critic)
        if loss == "clipped":
            network = critic.network
            network.load({p: np.clip(a, -0.01, 0.01) for p, a in network.weights().items()})

    def loss_of_generator():
        score = critic.network(generator.network(latent(2)))
        if loss == "non_saturating":
            return np.mean(np.logaddexp(0, -score))
        return -np.mean(score)

    generator.step(loss_of_generator)
    training.make_step(batches, 0, 0)
    for ours, theirs in (
        (training.generator, generator.network),
        (training.critic, critic.network),
    ):
        for path, array in theirs.weights().items():
            assert np.allclose(ours.weights()[path], array, atol=2e-6), path


def test_a_run_makes_what_is_asked_and_says_so(tmp_path):
    training = pair("non_saturating", penalty=0.1, critic_schedule=None, critic_steps=1)
    train, validation = data().split(0.8, 0.2, seed=0)
    outcome = training.run(
        train.batches(40),
        validation=validation.batches(80),
        epochs=60,
        record=tmp_path,
        name="pairs",
        observers=[vs.observers.Norms(20), vs.observers.GeneratedSamples(), vs.observers.Steps(5)],
    )
    row = outcome.best_row
    assert {"loss", "critic", "margin", "validation_loss", "validation_coverage"} <= row.keys()
    assert row["validation_loss"] < 0.5 * outcome.rows[0]["validation_loss"]
    model = vs.open_model(tmp_path / "pairs-1" / "pairs.vine")
    made = model.sample(300, seed=1)
    assert np.array_equal(made, training.model().sample(300, seed=1))
    assert (made[:, 0] > 1).any()
    assert (made[:, 0] < -1).any()
    with pytest.raises(vs.errors.ModelError, match="cannot be scored"):
        model.assess(POINTS)
    (run,) = vs.runs.open(tmp_path)
    said = {answer.question: answer for answer in run.diagnose()}
    assert said["generated"].verdict in ("sound", "unclear")
    assert "distance of what is made" in said["learning"].evidence
    assert "overfitting" not in said
    assert run.settings["adversarial.critic_steps"] == 1
    assert "generated-00000000.png" in run.file_names
    done = vinestep_here("show", "pairs-1", "--record", tmp_path, cwd=tmp_path)
    assert "what is made" in done.stdout
    out = tmp_path / "made.npy"
    vinestep_here(
        "sample", tmp_path / "pairs-1" / "pairs.vine", "--out", out, "--count", 5, cwd=tmp_path
    )
    assert np.load(out).shape == (5, 2)


class StopAt(vs.observers.Observer):
    def __init__(self, step):
        self.step = step

    def after_step(self, run, step):
        if run.position.step == self.step:
            run.stop("enough", resumable=True)


@pytest.mark.parametrize("loss", ["wasserstein", "hinge"])
@pytest.mark.parametrize("at", [1, 6, 11])
def test_stopped_in_mid_epoch_and_resumed_it_is_the_same_run(tmp_path, loss, at):
    whole = pair(loss)
    whole.run(data().batches(40), epochs=4, record=tmp_path / "whole")
    first = pair(loss)
    stopped = first.run(
        data().batches(40), epochs=4, record=tmp_path / "cut", observers=[StopAt(at)]
    )
    assert str(stopped.status) != str(vs.training.Status.FINISHED)
    second = pair(loss)
    second.run(data().batches(40), epochs=4, resume=stopped.folder, observers=[StopAt(-1)])
    assert equal(whole, second)
    kept, again = whole.average, second.average
    assert np.array_equal(whole.model().sample(9), second.model().sample(9))
    assert kept.count == again.count


PROGRAM = """
import os, signal, sys
sys.path.insert(0, sys.argv[4])
from tests.training.test_adversarial import data, pair
import vinestep as vs

class Kill(vs.observers.Observer):
    def after_step(self, run, step):
        if run.position.step == int(sys.argv[3]):
            os.kill(os.getpid(), signal.SIGKILL)

pair().run(
    data().batches(40), epochs=4, observers=[Kill(), vs.observers.Checkpoints(every=3)],
    **({"record": sys.argv[1]} if sys.argv[2] == "-" else {"resume": sys.argv[2]}),
)
"""


@pytest.mark.slow
@pytest.mark.parametrize("at", [2, 7, 13])
def test_kill_in_the_middle_of_the_alternation(tmp_path, at):
    whole = pair()
    whole.run(data().batches(40), epochs=4)
    root = Path(__file__).parents[2]
    environment = os.environ | {"PYTHONPATH": str(root)}
    killed = subprocess.run(
        [sys.executable, "-c", PROGRAM, tmp_path, "-", str(at), root], env=environment, check=False
    )
    assert killed.returncode == -signal.SIGKILL
    again = pair()
    again.run(
        data().batches(40),
        epochs=4,
        resume=tmp_path / "run-1",
        observers=[vs.observers.Checkpoints(every=3), StopAt(-1)],
    )
    assert equal(whole, again)


def test_in_every_way_the_same_steps():
    by_run, by_steps, copied = pair(), pair(), pair()
    by_run.run(data().batches(40), epochs=2)
    for _ in by_steps.steps(data().batches(40), epochs=2):
        pass
    assert equal(by_run, by_steps)
    copied.run(data().batches(40), epochs=1)
    later = copy.deepcopy(copied)
    for one in (copied, later):
        list(one.steps(data().batches(40), epochs=1))
    assert equal(copied, later)


def test_a_rule_says_how_many_steps_the_critic_makes():
    training = pair(critic_steps=lambda step: 4 if step < 2 else 1)
    training.run(data().batches(40), epochs=1)
    assert training.critic_descent.step_number == 10
    assert training.step_number == 4
    with pytest.raises(vs.errors.SettingError, match="critic_steps gave 0"):
        pair(critic_steps=lambda step: 0).run(data().batches(40), epochs=1)


def test_classes_are_told_to_both():
    training = pair("hinge", classes=2, critic_steps=1, critic_schedule=None)
    training.run(data(labelled=True).batches(40), epochs=80)
    model = training.model()
    right = (model.sample(100, label=1)[:, 0] > 0).mean()
    wrong = (model.sample(100, label=0)[:, 0] > 0).mean()
    assert right > 0.9 > 0.1 > wrong


def test_a_plan_trains_a_pair(tmp_path):
    np.savez(tmp_path / "points.npz", inputs=POINTS)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        """
name = "pairs"
epochs = 2
layers = [{ kind = "latent_generator", latent = 3, body = { kind = "dense", width = 2 } }]
[data]
source = { kind = "arrays", path = "points.npz", targets = "" }
[adversarial]
loss = "hinge"
critic_steps = 2
critic = [{ kind = "critic", body = { kind = "dense", width = 8, activation = "relu" } }]
critic_optimiser = { kind = "adam", rate = 1e-3 }
critic_schedule = [{ kind = "cosine", steps = 20 }]
"""
    )
    done = vinestep_here("rehearse", plan, cwd=tmp_path)
    assert "the first steps" in done.stdout
    done = vinestep_here("cross-validate", plan, "--folds", 2, cwd=tmp_path)
    assert "Over the folds" in done.stdout
    done = vinestep_here("train", plan, cwd=tmp_path)
    assert "All 2 epochs done" in done.stdout
    assert "coverage" in done.stdout
    plan.write_text(plan.read_text().replace("epochs = 2", 'epochs = 2\nloss = "squared_error"'))
    done = vinestep_here("train", plan, cwd=tmp_path)
    assert "not for adversarial pairs" in done.stderr


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: vs.AdversarialTraining(vs.Dense(2), vs.Dense(1)), "LatentGenerator"),
        (lambda: pair("cross_entropy"), "loss is one of"),
        (lambda: pair(critic_steps=0), "critic_steps"),
        (lambda: pair(penalty=-1.0), "penalty"),
    ],
)
def test_settings_that_are_none_are_refused(make, words):
    with pytest.raises(vs.errors.SettingError, match=words):
        make()


def test_networks_that_do_not_fit_are_refused_in_words():
    generator = vs.generation.LatentGenerator(vs.Dense(3), latent=2)
    training = vs.AdversarialTraining(generator, vs.generation.Critic(vs.Dense(4)))
    with pytest.raises(vs.errors.LayerError, match="the generator makes"):
        training.run(data().batches(40), epochs=1)
    generator = vs.generation.LatentGenerator(vs.Dense(2), latent=2)
    training = vs.AdversarialTraining(generator, vs.Dense(3))
    with pytest.raises(vs.errors.LayerError, match="has to give one number"):
        training.run(data().batches(40), epochs=1)


# what keeps the critic in bounds


@pytest.mark.parametrize(
    "layer",
    [
        lambda: vs.Stack(vs.Reshape((4, 4, 1)), vs.Convolution(3, 3), np.tanh, vs.GlobalMean()),
        lambda: vs.Stack(vs.Dense(4), vs.LayerNorm(), np.tanh, vs.Dense(3)),
        lambda: vs.Stack(vs.Reshape((4, 4)), vs.Attention(2), vs.GlobalMean()),
        lambda: vs.Stack(
            vs.Reshape((4, 4, 1)), vs.Convolution(4, 3), vs.GroupNorm(2), vs.Flatten()
        ),
    ],
)
def test_the_penalty_has_the_derivative_that_differences_have(layer):
    critic = vs.generation.Critic(layer()).initialise((16,), seed=1, dtype=np.float64)
    x = np.random.default_rng(0).normal(size=(3, 16))
    path = next(p for p in critic.parameters() if p.endswith("weight"))
    parent, name = critic, path.split("/")
    for step in name[:-1]:
        parent = parent[int(step)] if step.isdigit() else getattr(parent, step)

    def penalty(weight):
        before = parent.weight
        parent.weight = weight
        value = vs.losses.gradient_penalty(critic, vs.Tensor(x))
        parent.weight = before
        return value

    vs.check_gradients(penalty, np.array(vs.held(parent.weight)))


@pytest.mark.parametrize(
    ("layer", "shape"), [(vs.Dense(5), (4,)), (vs.Convolution(3, 3), (6, 6, 2))]
)
def test_spectral_normalisation_divides_by_the_largest_singular_value(layer, shape):
    wrapped = vs.generation.SpectralNorm(layer).initialise(shape, seed=2, dtype=np.float64)
    x = np.random.default_rng(0).normal(size=(3, *shape))
    for step in range(200):
        with vs.learning(step=step):
            wrapped(x)
    weight = np.asarray(vs.held(wrapped.layer.weight))
    largest = np.linalg.norm(weight.reshape(-1, weight.shape[-1]), 2)
    assert wrapped.largest() == pytest.approx(largest, rel=1e-9)
    plain = copy.deepcopy(layer).initialise(x, dtype=np.float64, keep_weights=False)
    plain.load({"weight": weight / largest, "bias": np.zeros(weight.shape[-1])})
    assert np.allclose(vs.held(wrapped(x)), vs.held(plain(x)))

    def value(w):
        before = wrapped.layer.weight
        wrapped.layer.weight = w
        found = np.sum(np.sin(wrapped(x)))
        wrapped.layer.weight = before
        return found

    right, left = wrapped._directions(weight.reshape(-1, weight.shape[-1]))

    def by_hand(w):
        rows = np.reshape(w, (-1, w.shape[-1]))
        plain.weight = w / np.sum(np.matmul(rows, left) * right)
        return np.sum(np.sin(plain(x)))

    slope = vs.gradient_of(value)(weight)
    assert np.allclose(slope, vs.gradient_of(by_hand)(weight))
    with pytest.raises(vs.errors.LayerError, match="no weight"):
        vs.generation.SpectralNorm(vs.LayerNorm()).initialise(shape)


def test_minibatch_deviation_tells_equal_examples_from_others():
    layer = vs.generation.MinibatchDeviation().initialise((3,))
    assert layer(np.ones((4, 3)))[:, 3].max() < 1e-3
    x = np.random.default_rng(0).normal(size=(400, 3))
    assert layer(x)[0, 3] == pytest.approx(1, abs=0.1)
