"""Layers divided among ranks: what comes out equals what a stack of the stages does in one process,
in numbers, states and scores.
"""

from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import (
    DifferentiationError,
    LayerError,
    NotFiniteError,
    PeerError,
    SettingError,
)

from ..command_line import vinestep, vinestep_here
from ..mpi import needs_mpi

RNG = np.random.default_rng(0)
X = RNG.normal(size=(103, 5))
LABELS = (X[:, 0] + 0.5 * X[:, 1] > 0).astype(int) + (X[:, 2] > 0.8)
PICTURES = RNG.normal(size=(40, 8, 8, 2))
TOKENS = RNG.integers(1, 9, size=(36, 7))


def dense(count):
    every = [
        vs.Stack(vs.Dense(8), vs.relu, vs.Dropout(0.3)),
        vs.Stack(vs.Dense(7), vs.LayerNorm(), np.tanh),
        vs.Stack(vs.Noise(0.1), vs.Dense(3)),
    ]
    return [vs.Stack(*every[:2]), every[2]] if count == 2 else every


def convolutional(count):
    first = vs.Stack(vs.Convolution(4, 3), vs.relu, vs.MaxPool(2))
    second, third = [vs.Convolution(5, 3), vs.relu, vs.GlobalMean()], vs.Dense(3)
    if count == 2:
        return [first, vs.Stack(*second, third)]
    return [first, vs.Stack(*second), vs.Stack(third)]


def tokens(count):
    stages = [
        vs.Stack(vs.Embedding(9, 8), vs.TransformerBlock(2, dropout=0.2)),
        vs.Stack(vs.LSTM(6, output="last"), vs.Dense(3)),
    ]
    return (
        stages
        if count == 2
        else [stages[0], vs.Stack(vs.LSTM(6, output="last")), vs.Stack(vs.Dense(3))]
    )


KINDS = {
    "dense": (dense, X, LABELS),
    "convolutional": (convolutional, PICTURES, RNG.integers(0, 3, 40)),
    "tokens": (tokens, TOKENS, TOKENS[:, 0] % 3),
}


def training(kind, count, *, freeze=(), **options):
    stages, x, labels = KINDS[kind]
    network = vs.Pipeline(*stages(count), micro_batches=options.pop("micro_batches", 3))
    if "optimiser" in options:
        options["optimiser"] = options["optimiser"]()
    own = vs.Training(network, task=vs.tasks.Classes(), seed=3, **options)
    network.initialise(x[:2], seed=3, dtype=np.float64)
    for path in freeze:
        network.freeze(path)
    n = 2 * len(x) // 3
    return own, vs.data.Dataset(x[:n], labels[:n]), vs.data.Dataset(x[n:], labels[n:])


def run(kind, count, *, epochs=2, size=10, freeze=(), record=None, resume=None, **options):
    own, data, validation = training(kind, count, freeze=freeze, **options)
    outcome = own.run(
        data.batches(size),
        validation=validation.batches(17),
        epochs=epochs,
        record=record,
        resume=resume,
        name="cellar",
    )
    model = own.model()
    return outcome, own.state(), model


def same_state(found, expected, tolerance=1e-8):
    assert found["trainable"] == expected["trainable"]
    for group in ("weights", "optimiser", "average", "statistics"):
        assert found[group].keys() == expected[group].keys()
        for name, array in expected[group].items():
            np.testing.assert_allclose(found[group][name], array, rtol=tolerance, atol=tolerance)


@pytest.mark.parametrize("count", [2, 3])
@pytest.mark.parametrize("kind", KINDS)
def test_stages_on_ranks_do_what_they_do_in_one_process(kind, count):
    act = partial(run, kind, count, clip=0.5, average=vs.WeightAverage(0.9), accumulate=2, size=9)
    (outcome, state, model) = partial(act)()
    found = vs.distributed.run_in_threads(
        count,
        lambda: run(kind, count, clip=0.5, average=vs.WeightAverage(0.9), accumulate=2, size=9),
    )
    same_state(found[0][1], state)
    x = KINDS[kind][1]
    for theirs, _, whole in found:
        np.testing.assert_allclose(theirs.curves, outcome.curves, rtol=1e-8, atol=1e-10)
        np.testing.assert_allclose(whole.outputs(x), model.outputs(x), rtol=1e-7, atol=1e-9)


def test_the_weights_drawn_are_those_of_a_stack():
    def act():
        network = vs.Pipeline(*dense(3)).initialise(X[:1], seed=5)
        return {path: array.copy() for path, array in network.weights().items()}

    expected = vs.Stack(*dense(3)).initialise(X[:1], seed=5).weights()
    found = vs.distributed.run_in_threads(3, act)
    assert [len(one) for one in found] == [2, 4, 2], "each rank has those of its stage"
    for one in found:
        for path, array in one.items():
            np.testing.assert_array_equal(array, expected[path])


@pytest.mark.parametrize(("begun", "continued"), [(1, 3), (3, 1), (3, 3)])
def test_a_state_of_stages_is_that_of_the_whole_network(tmp_path, begun, continued):
    options = {
        "freeze": ("0/0/weight",),
        "optimiser": lambda: vs.optimisers.AdamW(
            0.01, weight_decay=0.1, decay_of="weights", rate_factors={"2/*": 0.1}
        ),
    }
    whole = run("dense", 3, epochs=4, **options)
    vs.distributed.run_in_threads(
        begun, lambda: run("dense", 3, epochs=2, record=tmp_path, **options)
    )
    found = vs.distributed.run_in_threads(
        continued, lambda: run("dense", 3, epochs=4, resume=tmp_path / "cellar-1", **options)
    )
    np.testing.assert_allclose(found[0][0].curves, whole[0].curves, rtol=1e-8, atol=1e-10)
    same_state(found[0][1], whole[1])
    assert found[0][0].best_row == found[-1][0].best_row
    (recorded,) = vs.runs.open(tmp_path)
    model = vs.open_model(tmp_path / "cellar-1" / "cellar.vine")
    np.testing.assert_allclose(model.outputs(X), found[0][2].outputs(X), rtol=1e-7, atol=1e-9)
    assert recorded.status == "finished"


def test_every_way_of_training_and_its_observers(tmp_path):
    def act(way, place=None):
        own, data, validation = training("dense", 3)
        if way == "steps":
            losses = [step.loss for step in own.steps(data.batches(10), epochs=2)]
        elif way == "step":
            losses = [own.step((X[i : i + 9], LABELS[i : i + 9])).loss for i in range(0, 90, 9)]
        elif way == "descent":
            line = own.descent

            def loss(i):
                return vs.losses.cross_entropy(line.network(X[i : i + 9]), LABELS[i : i + 9])

            losses = [line.step(partial(loss, i)).loss for i in range(0, 90, 9)]
        else:
            observers = [
                vs.observers.Norms(),
                vs.observers.Distributions(),
                vs.observers.Samples(),
                vs.observers.Checkpoints("best", every=4),
            ]
            outcome = own.run(
                data.batches(10),
                validation=validation.batches(20),
                epochs=2,
                record=place,
                observers=observers,
            )
            losses = outcome.curves["loss"].tolist()
        return losses

    for way in ("steps", "step", "descent", "run"):
        one = act(way, tmp_path / "one")
        for losses in vs.distributed.run_in_threads(3, partial(act, way, tmp_path / "three")):
            np.testing.assert_allclose(losses, one, rtol=1e-8)


def test_what_goes_wrong_on_one_stage_is_told_to_all():
    def bad_numbers():
        own, *_ = training("dense", 3)
        before = {path: array.copy() for path, array in own.network.weights().items()}
        with pytest.raises(NotFiniteError):
            own.step((np.full((9, 5), np.nan), LABELS[:9]))
        for path, array in own.network.weights().items():
            np.testing.assert_array_equal(array, before[path])
        own.step((X[:9], LABELS[:9]))

    vs.distributed.run_in_threads(3, bad_numbers)

    def failing():
        def check(x):
            if len(np.shape(x)) == 2 and np.shape(x)[0] == 3:
                raise ValueError("the cellar is dark")
            return x

        stages = [vs.Stack(vs.Dense(4)), vs.Stack(vs.Dense(3), check)]
        own = vs.Training(vs.Pipeline(*stages, micro_batches=3), task=vs.tasks.Classes())
        own.network.initialise(X[:1])
        with pytest.raises((ValueError, LayerError, PeerError), match="cellar is dark"):
            own.step((X[:9], LABELS[:9]))

    vs.distributed.run_in_threads(2, failing)


def test_what_cannot_be_divided_is_refused_in_words():
    def refused(match, make, error=SettingError):
        def act():
            with pytest.raises(error, match=match):
                make()

        vs.distributed.run_in_threads(2, act)

    def step(network, **options):
        own = vs.Training(network, task=vs.tasks.Classes(), **options)
        own.step((X[:8].astype(np.float32), LABELS[:8]))

    def two(*more, **options):
        return vs.Pipeline(vs.Stack(vs.Dense(4), *more), vs.Stack(vs.Dense(3)), **options)

    refused("3 stages are for as many ranks", lambda: step(vs.Pipeline(*dense(3))))
    refused("LBFGS looks at all", lambda: step(two(), optimiser=vs.optimisers.LBFGS()))
    refused("HalfPrecision looks at all", lambda: step(two(), half=vs.HalfPrecision()))
    told = (LayerError, PeerError)
    refused("statistics of a batch|ended on all", lambda: step(two(vs.BatchNorm())), told)
    refused("whole network", lambda: step(vs.Stack(two())))
    refused(
        "nothing to train|ended on all",
        lambda: step(vs.Pipeline(vs.Stack(vs.Dense(3)), vs.Stack(vs.relu))),
        told,
    )

    def twice():
        network = two().initialise(X[:1])

        def loss():
            return np.sum(network(X[:4]) ** 2)

        first = vs.differentiate(loss(), network)
        assert first.norm() > 0
        vs.differentiate(
            np.sum(vs.differentiate(loss(), network, differentiable=True).flat), network
        )

    refused("differentiated again|ended on all", twice, (DifferentiationError, PeerError))
    with pytest.raises(LayerError, match="stage 1 is a function"):
        vs.Pipeline(vs.Dense(1), lambda x: x)
    with pytest.raises(SettingError, match="micro_batches"):
        vs.Pipeline(vs.Dense(1), micro_batches=0)


def test_a_rehearsal_says_that_it_does_not_look_at_stages():
    def act():
        own, data, _ = training("dense", 3)
        return own.rehearse(data.batches(10), quick=True).findings

    for found in vs.distributed.run_in_threads(3, act):
        assert {(one.subject, one.verdict) for one in found} >= {("the network", "not tested")}


PLAN = """
epochs = 2
[data]
source = "barrels.csv"
target = "state"
[[layers]]
kind = "pipeline"
micro_batches = 2
[[layers.stages]]
kind = "stack"
layers = [{kind = "dense", width = 8}, "relu"]
[[layers.stages]]
kind = "dense"
width = "classes"
"""


@needs_mpi
def test_a_plan_trains_stages_over_processes_and_is_resumed_in_one(tmp_path):
    vs.demo.barrels(150).to_csv(tmp_path / "barrels.csv", index=False)
    (tmp_path / "plan.toml").write_text(PLAN)
    done = vinestep("train", "plan.toml", "--processes", 2, cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "run.vine" in done.stdout
    done = vinestep_here("train", "plan.toml", cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    first, second = (vs.runs.open(tmp_path / "records")[f"run-{i}"].curves for i in (1, 2))
    np.testing.assert_allclose(first["loss"], second["loss"], rtol=1e-5)
    done = vinestep_here("resume", "records/run-1", "--set", "epochs=3", cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    assert len(vs.runs.open(tmp_path / "records")["run-1"].curves) == 3
