"""Steps made from a plan against the same steps made without one, and against the definitions."""

import copy

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

import vinestep as vs
from vinestep import kernels
from vinestep.errors import VineStepError

needs_kernels = pytest.mark.skipif(not kernels.usable(), reason="the loops do not run here")
ACTIVATIONS = (None, vs.relu, np.tanh, vs.sigmoid, vs.leaky_relu)
OPTIMISERS = (
    vs.optimisers.Adam,
    lambda: vs.optimisers.SGD(0.05),
    lambda: vs.optimisers.SGD(0.05, momentum=0.9),
    vs.optimisers.RMSprop,
)


def unplanned(training):
    """Every step by the usual path."""
    training._derivation.plans.find = lambda batch, loss: None
    return training


def outcome(training, batch):
    """What a step gave, or the words in which it was refused."""
    try:
        step = training.step(batch)
    except VineStepError as error:
        return type(error), str(error)
    found = step.loss, step.norm, step.examples, step.weight, tuple(step.metrics.values())
    return found, step.gradients.flat.tobytes()


def bits(training):
    state = training.state()
    groups = ("weights", "optimiser", "average", "statistics")
    return {f"{g}/{k}": a.tobytes() for g in groups for k, a in state[g].items()} | {
        "counters": (state["step"], state["updates"])
    }


def a_training(draw):
    classes = draw(st.sampled_from([1, 2, 5]))
    layers = []
    if draw(st.booleans()):
        layers.append(vs.Dropout(draw(st.sampled_from([0.0, 0.2]))))
    for _ in range(draw(st.integers(0, 2))):
        layers.append(vs.Dense(draw(st.sampled_from([1, 6, 40]))))
        layers += [a] if (a := draw(st.sampled_from(ACTIVATIONS))) is not None else []
        layers += [vs.Dropout(draw(st.sampled_from([0.1, 0.5])))] if draw(st.booleans()) else []
    layers.append(vs.Dense(classes))
    numbers = draw(st.booleans())
    return vs.Training(
        vs.Stack(*layers),
        loss=vs.losses.squared_error if numbers else vs.losses.cross_entropy,
        optimiser=draw(st.sampled_from(OPTIMISERS))(),
        metrics=[] if numbers or draw(st.booleans()) else [vs.metrics.accuracy],
        clip=draw(st.sampled_from([None, 0.1])),
        average=vs.WeightAverage(0.9) if draw(st.booleans()) else None,
        accumulate=draw(st.sampled_from([1, 1, 1, 2])),
        seed=draw(st.integers(0, 2**63 - 1)),
    ), (classes, numbers)


def a_batch(rng, n, width, classes, numbers, dtype, trouble):
    x = rng.normal(size=(n, width)).astype(dtype)
    y = rng.normal(size=(n, classes)).astype(dtype) if numbers else rng.integers(0, classes, n)
    if trouble == "NaN":
        x[rng.integers(n), rng.integers(width)] = np.nan
    elif trouble == "too large":
        x *= np.finfo(dtype).max / 10
    elif trouble == "label" and not numbers:
        y[rng.integers(n)] = classes
    elif trouble == "width":
        x = x[:, :-1]
    elif trouble == "float64":
        x = x.astype(np.float64)
    elif trouble == "order":
        x = np.asfortranarray(x)
    return x, y


TROUBLES = ("", "", "", "", "NaN", "too large", "label", "width", "float64", "order")


def run_of(draw):
    """A training, and batches of a few shapes, some of them bad."""
    training, (classes, numbers) = a_training(draw)
    dtype = draw(st.sampled_from([np.float32, np.float64]))
    rng = np.random.default_rng(draw(st.integers(0, 999)))
    width, n = draw(st.sampled_from([2, 30])), draw(st.sampled_from([1, 7, 8, 33]))
    training.network.initialise(np.ones((1, width)), seed=1, dtype=dtype)
    batches = [
        a_batch(rng, size, width, classes, numbers, dtype, trouble)
        for size, trouble in zip(
            [n, n, n] + [draw(st.sampled_from([n, n, 5])) for _ in range(7)],
            ["", ""] + [draw(st.sampled_from(TROUBLES)) for _ in range(8)],
            strict=True,
        )
    ]
    return training, batches


many = settings(
    max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True
)


@needs_kernels
@many
@given(st.data())
def test_a_planned_step_is_the_usual_one_and_a_refused_batch_changes_nothing(data):
    training, batches = run_of(data.draw)
    usual = unplanned(copy.deepcopy(training))
    for batch in batches:
        before = bits(training)
        ours, theirs = outcome(training, batch), outcome(usual, batch)
        assert ours == theirs
        if isinstance(ours[0], type):
            assert bits(training) == before
        assert bits(training) == bits(usual)


@needs_kernels
@many
@given(st.data())
def test_planned_steps_agree_with_the_definitions(data):
    training, batches = run_of(data.draw)
    defined = copy.deepcopy(training)
    single = training.network.dtype == np.float32
    for batch in batches:
        ours = outcome(training, batch)
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(kernels.SWITCH, "on", False)
            theirs = outcome(defined, batch)
        assert isinstance(ours[0], type) == isinstance(theirs[0], type)
        if not isinstance(ours[0], type):
            np.testing.assert_allclose(ours[0][0], theirs[0][0], rtol=1e-3 if single else 1e-8)
        defined.restore(training.state())


def test_what_is_planned_is_made_by_the_plan():
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(32, 10)).astype(np.float32), rng.integers(0, 3, 32)
    training = vs.Training(
        vs.Stack(vs.Dense(32), vs.relu, vs.Dropout(0.2), vs.Dense(3)),
        loss=vs.losses.cross_entropy,
        metrics=[vs.metrics.accuracy],
    )
    training.step((x, y))
    assert training._derivation.plans.find((x, y), training.loss) is not None or (
        not kernels.usable()
    )
    assert training._derivation.plans.find((x[:20], y[:20]), training.loss) is None


CHANGES = {
    "frozen": lambda t: t.network.freeze("0/weight"),
    "frozen and thawed": lambda t: (t.network.freeze("0/*"), t.network.thaw("0/*")),
    "loaded": lambda t: t.network.load(
        {path: array * 0.5 for path, array in t.network.weights().items()}
    ),
    "loss": lambda t: setattr(t, "loss", vs.losses.squared_error),
    "activation": lambda t: setattr(t.network[3], "activation", np.tanh),
    "probability": lambda t: setattr(t.network[2], "probability", 0.6),
    "whole channels": lambda t: setattr(t.network[2], "whole_channels", True),
    "schedule": lambda t: setattr(t.descent, "schedule", vs.schedules.warmup(10)),
    "clipped": lambda t: setattr(t.descent, "clip", 1e-3),
    "values clipped": lambda t: setattr(t.descent, "clip_values", 1e-3),
    "optimiser's rate": lambda t: setattr(t.optimiser, "rate", 0.5),
    "optimiser's state": lambda t: t.optimiser.forget(),
    "metrics": lambda t: setattr(t, "metrics", [vs.metrics.accuracy]),
    "restored": lambda t: t.restore(t.state()),
    "kernels off": lambda t: setattr(kernels.SWITCH, "on", False),
}


@needs_kernels
@pytest.mark.parametrize("name", CHANGES)
def test_whatever_changes_in_between_is_followed(name, monkeypatch):
    monkeypatch.setattr(kernels.SWITCH, "on", True)
    rng = np.random.default_rng(0)
    x = rng.normal(size=(32, 10)).astype(np.float32)
    y = rng.normal(size=(32, 3)).astype(np.float32)
    labels = rng.integers(0, 3, 32)
    batch = (x, y) if name == "loss" else (x, labels)
    network = vs.Stack(vs.Dense(32), vs.relu, vs.Dropout(0.2), vs.Dense(3))
    found = []
    for plan in (True, False):
        kernels.SWITCH.on = True
        training = vs.Training(copy.deepcopy(network), loss=vs.losses.cross_entropy)
        if not plan:
            unplanned(training)
        steps = [training.step((x, labels)) for _ in range(3)]
        CHANGES[name](training)
        steps += [training.step(batch) for _ in range(3)]
        found.append(([step.loss for step in steps], bits(training)))
    assert found[0] == found[1]
    assert len(set(found[0][0])) == 6


@needs_kernels
def test_gradients_that_somebody_holds_are_not_written_over():
    rng = np.random.default_rng(0)
    x, y = rng.normal(size=(32, 10)).astype(np.float32), rng.integers(0, 3, 32)
    training = vs.Training(
        vs.Stack(vs.Dense(8), vs.relu, vs.Dense(3)), loss=vs.losses.cross_entropy
    )
    held = [training.step((x, y)).gradients for _ in range(6)]
    kept = [gradients.flat.copy() for gradients in held]
    for _ in range(6):
        training.step((x, y))
    assert all(np.array_equal(g.flat, k) for g, k in zip(held, kept, strict=True))


@needs_kernels
def test_counts_over_all_outputs_see_those_of_each_batch():
    rng = np.random.default_rng(0)
    batches = [
        (rng.normal(size=(32, 10)).astype(np.float32), rng.integers(0, 3, 32)) for _ in range(5)
    ]
    seen = []
    metric = vs.metrics.of_all(lambda outputs, targets: float(np.sum(outputs)), name="total")
    training = vs.Training(
        vs.Stack(vs.Dense(8), vs.relu, vs.Dense(3)),
        loss=vs.losses.cross_entropy,
        optimiser=vs.optimisers.SGD(1e-30),
        metrics=[metric],
    )
    for batch in batches:
        seen.append(training.make_step(batch, 0, 0)[1]["total"])
    for (x, _), counts in zip(batches, seen, strict=True):
        np.testing.assert_allclose(
            metric.conclude(counts), np.sum(vs.held(training.network(x))), rtol=1e-4
        )
