"""Training over ranks: equal to one process with the whole batch, in every way; the same bits for
the same number of ranks; and what goes wrong on one ends the run on all, in words.
"""

import runpy
import sys
from functools import partial

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import DataError, NotFiniteError, PeerError, RunError, SettingError
from vinestep.training.step import _exchange

from ..command_line import vinestep, vinestep_here
from ..mpi import needs_mpi, on_ranks

RNG = np.random.default_rng(0)
X = RNG.normal(size=(103, 5))
LABELS = (X[:, 0] + 0.5 * X[:, 1] > 0).astype(int) + (X[:, 2] > 0.8)
NUMBERS = X[:, :2] @ np.array([[1.0, 0.3], [0.2, -1.0]])
WEIGHTS = RNG.uniform(0.1, 3, 103)
IGNORED = np.where(RNG.random(103) < 0.3, -1, LABELS)
HALF_KNOWN = np.where(RNG.random((103, 1)) < 0.2, np.nan, NUMBERS[:, :1])


def network(*more, width=3):
    return vs.Stack(vs.Dense(8), vs.relu, *more, vs.Dense(width))


def classes(**options):
    return vs.Training(network(), task=vs.tasks.Classes(), seed=3, **options)


def own_mean(outputs, targets):
    return np.mean((outputs - targets) ** 4)


def own_sum(outputs, targets):
    return np.sum((outputs - targets) ** 2)


ALIKE = {
    "classes": (classes, lambda: (X, LABELS)),
    "clip": (partial(classes, clip=0.1), lambda: (X, LABELS)),
    "clip_values": (partial(classes, clip_values=0.01), lambda: (X, LABELS)),
    "accumulate": (partial(classes, accumulate=3), lambda: (X, LABELS)),
    "average": (lambda: classes(average=vs.WeightAverage(0.9)), lambda: (X, LABELS)),
    "momentum": (
        lambda: classes(optimiser=vs.optimisers.SGD(0.1, momentum=0.9)),
        lambda: (X, LABELS),
    ),
    "a line search": (lambda: classes(optimiser=vs.optimisers.LBFGS()), lambda: (X, LABELS)),
    "weights": (classes, lambda: (X, LABELS, WEIGHTS)),
    "class weights": (
        lambda: vs.Training(
            network(), task=vs.tasks.Classes(class_weights=np.array([1.0, 5.0, 0.2])), seed=3
        ),
        lambda: (X, LABELS),
    ),
    "ignored": (
        lambda: vs.Training(
            network(), loss=partial(vs.losses.cross_entropy, ignored=-1), seed=3
        ),
        lambda: (X, IGNORED),
    ),
    "numbers": (
        lambda: vs.Training(network(width=2), task=vs.tasks.Numbers(), seed=3),
        lambda: (X, NUMBERS),
    ),
    "gaps": (
        lambda: vs.Training(network(width=1), task=vs.tasks.Numbers(gaps=True), seed=3),
        lambda: (X, HALF_KNOWN),
    ),
    "a loss of one's own": (
        lambda: vs.Training(network(width=2), loss=own_mean, seed=3),
        lambda: (X, NUMBERS),
    ),
    "a sum": (
        lambda: vs.Training(
            network(width=2), loss=own_sum, optimiser=vs.optimisers.SGD(1e-3), seed=3
        ),
        lambda: (X, NUMBERS),
    ),
    "dropout": (
        lambda: vs.Training(
            network(vs.Dropout(0.4), vs.Noise(0.1)), task=vs.tasks.Classes(), seed=3
        ),
        lambda: (X, LABELS),
    ),
    "frozen": (partial(classes), lambda: (X, LABELS)),
    "batch statistics of all ranks": (
        lambda: vs.Training(
            network(vs.BatchNorm(over_ranks=True), vs.relu), task=vs.tasks.Classes(), seed=3
        ),
        lambda: (X[:100], LABELS[:100], WEIGHTS[:100]),
    ),
}  # fmt: skip


def trained(make, data, *, freeze=False, epochs=3, size=10, **options):
    """Curves, weights and the state of the optimiser after a run."""
    own = make()
    x, targets, *weights = data()
    train = vs.data.Dataset(x, targets, weights=weights[0] if weights else None)
    validation = vs.data.Dataset(x[:41] + 0.5, targets[:41])
    own.network.initialise(np.zeros((1, X.shape[1])), seed=3, dtype=np.float64)
    if freeze:
        own.network.freeze("0/*")
    outcome = own.run(
        train.batches(size), validation=validation.batches(7), epochs=epochs, **options
    )
    state = own.state()
    return outcome, own.network.arena.flat.copy(), state["optimiser"], own


@pytest.mark.parametrize(
    ("name", "size"), [(name, 2 + place % 3) for place, name in enumerate(ALIKE)]
)
def test_ranks_together_do_what_one_process_does(name, size, monkeypatch):
    monkeypatch.setattr(_exchange, "LEAST", 20)  # gradients travel in pieces, as large ones do
    make, data = ALIKE[name]
    act = partial(trained, make, data, freeze=name == "frozen")
    outcome, weights, state, _ = act()
    ranks = vs.distributed.run_in_threads(size, act)
    for curves, found, theirs, _ in ranks:
        assert curves.curves.columns.tolist() == outcome.curves.columns.tolist()
        np.testing.assert_allclose(curves.curves, outcome.curves, rtol=1e-9, atol=1e-10)
        np.testing.assert_allclose(found, weights, rtol=1e-8, atol=1e-10)
        for key, array in state.items():
            np.testing.assert_allclose(theirs[key], array, rtol=1e-7, atol=1e-10)
        assert found.tobytes() == ranks[0][1].tobytes()
    again = vs.distributed.run_in_threads(size, act)
    assert again[0][1].tobytes() == ranks[0][1].tobytes()


DIVIDED = vs.distributed.Ranks(partition_optimiser=True)
ROUNDED = vs.distributed.Ranks(gradient_dtype="float16")
BOTH = vs.distributed.Ranks(gradient_dtype="float16", partition_optimiser=True)
OPTIMISERS = {
    "adam": lambda: vs.optimisers.Adam(0.01),
    "decay": lambda: vs.optimisers.AdamW(
        0.01,
        weight_decay=0.1,
        decay_of="weights",
        rate_factors={"2/*": 0.1},
        decay_factors={"*/bias": 3.0},
    ),
    "lamb": lambda: vs.optimisers.LAMB(0.01),
    "momentum": lambda: vs.optimisers.SGD(0.1, momentum=0.9),
    "rmsprop": lambda: vs.optimisers.RMSprop(0.003, centred=True, momentum=0.5),
    "a user's": lambda: ByArctan(0.1),
}


class ByArctan(vs.optimisers.Optimiser):
    """Not known to keep anything finite, so that each update is looked at."""

    state_names = ("mean",)

    def apply_update(self, theta, g, rate, decay, start, stop):
        mean = self.state["mean"][start:stop]
        mean += 0.1 * (g[start:stop] - mean)
        theta[start:stop] -= rate * np.arctan(mean)


@pytest.mark.parametrize("name", OPTIMISERS)
def test_a_divided_state_is_as_good_as_a_whole_one(name):
    def act(ranks=None):
        make = partial(
            classes,
            optimiser=OPTIMISERS[name](),
            average=vs.WeightAverage(0.9),
            schedule=vs.schedules.cosine(20, floor=0.1),
            clip=1.0,
            accumulate=2,
            ranks=ranks,
        )
        return trained(make, ALIKE["classes"][1])

    outcome, weights, state, _ = act()
    found = vs.distributed.run_in_threads(3, partial(act, DIVIDED))
    for rank, (theirs, moved, divided, own) in enumerate(found):
        np.testing.assert_allclose(theirs.curves, outcome.curves, rtol=1e-9, atol=1e-10)
        np.testing.assert_allclose(moved, weights, rtol=1e-8, atol=1e-10)
        assert bool(divided) is (rank == 0), "the first rank gathers it"
        kept = sum(array.size for array in own.optimiser.state.values())
        assert kept < 0.7 * sum(array.size for array in state.values())
    for key, array in state.items():
        np.testing.assert_allclose(found[0][2][key], array, rtol=1e-7, atol=1e-10)


@pytest.mark.parametrize("ranks", [DIVIDED, ROUNDED, BOTH], ids=["divided", "rounded", "both"])
@pytest.mark.parametrize("begun", [1, 2, 3])
def test_what_ranks_share_goes_on_from_a_state(tmp_path, ranks, begun):
    make, data = partial(classes, ranks=ranks, half=None), ALIKE["classes"][1]
    exact = ranks == DIVIDED

    def first():
        return trained(make, data, epochs=2, record=tmp_path, name="cellar")[0].reason

    def rest():
        return trained(make, data, epochs=4, resume=tmp_path / "cellar-1")

    whole = vs.distributed.run_in_threads(2, partial(trained, make, data, epochs=4))
    vs.distributed.run_in_threads(begun, first)
    found = vs.distributed.run_in_threads(2, rest)
    for (outcome, weights, *_), (curves, theirs, *_) in zip(whole, found, strict=True):
        tolerance = {"rtol": 1e-8 if exact else 0.02, "atol": 1e-10 if exact else 2e-3}
        np.testing.assert_allclose(theirs, weights, **tolerance)
        np.testing.assert_allclose(curves.curves, outcome.curves, **tolerance)
        if begun == 2:
            assert theirs.tobytes() == weights.tobytes()
    (run,) = vs.runs.open(tmp_path)
    assert run.settings["ranks.partition_optimiser"] == str(ranks.partition_optimiser)
    with pytest.raises(RunError, match=r"ranks\."):
        trained(classes, data, epochs=5, resume=tmp_path / "cellar-1")


@pytest.mark.parametrize("ranks", [DIVIDED, BOTH], ids=["divided", "both"])
def test_what_ranks_share_follows_parameters_that_freeze(ranks):
    def act():
        own = classes(ranks=ranks, optimiser=vs.optimisers.Adam(0.01))
        own.network.initialise(X[:1], seed=3, dtype=np.float64)
        for number in range(12):
            if number == 4:
                own.network.freeze("0/weight")
            if number == 8:
                own.network.thaw()
            own.step((X[8 * number : 8 * number + 8], LABELS[8 * number : 8 * number + 8]))
        return own.network.arena.flat.copy()

    (one,), three = vs.distributed.run_in_threads(1, act), vs.distributed.run_in_threads(3, act)
    tolerance = 1e-8 if ranks == DIVIDED else 5e-3
    np.testing.assert_allclose(three[1], one, rtol=tolerance, atol=tolerance)
    assert len({weights.tobytes() for weights in three}) == 1


def test_gradients_that_travel_rounded_lose_nothing_in_the_long_run(monkeypatch):
    """Of a linear loss, whose gradients are always the same, the sum of all steps is known."""
    monkeypatch.setattr(_exchange, "LEAST", 3)
    slopes = RNG.normal(size=(4, 5)) * 10.0 ** RNG.integers(-6, 0, size=(4, 5))

    def act():
        held = {"w": vs.Tensor(np.zeros((4, 5))), "v": vs.Tensor(np.zeros(5))}
        line = vs.Descent(held, optimiser=vs.optimisers.SGD(1.0), ranks=ROUNDED)
        own = slopes * (1 + vs.distributed.communicator().rank)

        def loss(times=1.0):
            return times * (np.sum(held["w"] * own) + np.sum(held["v"] * own[0]))

        for _ in range(100):
            line.step(loss)
            kept = line._feedback.copy()
            assert 0 < np.abs(kept).max() < 1e-3
            with pytest.raises(NotFiniteError), np.errstate(over="ignore"):
                line.step(lambda: loss(1e300) * 1e300)
            np.testing.assert_array_equal(line._feedback, kept)
        return {name: np.array(vs.held(tensor)) for name, tensor in held.items()}

    found = vs.distributed.run_in_threads(3, act)
    for weights in found:
        expected = -100 * 2 * slopes
        error = np.abs(weights["w"] - expected)
        # what is still kept of one step, not a hundred times as much
        assert error.max() < 2e-3 * np.abs(slopes).max()
        np.testing.assert_array_equal(weights["w"], found[0]["w"])


def test_what_ranks_share_is_refused_where_it_cannot_be():
    def act(ranks, match):
        own = classes(optimiser=vs.optimisers.LBFGS(), ranks=ranks)
        with pytest.raises(SettingError, match=match):
            own.step((X[:9], LABELS[:9]))

    for ranks, match in ((DIVIDED, "partition_optimiser out"), (ROUNDED, "gradient_dtype out")):
        vs.distributed.run_in_threads(2, partial(act, ranks, match))
    with pytest.raises(SettingError, match="float16"):
        vs.distributed.Ranks(gradient_dtype="float8")
    with pytest.raises(SettingError, match="True or False"):
        vs.distributed.Ranks(partition_optimiser="yes")
    with pytest.raises(SettingError, match=r"Ranks\("):
        classes(ranks={"gradient_dtype": "float16"})


@pytest.mark.parametrize("ranks", [DIVIDED, BOTH], ids=["divided", "both"])
def test_half_precision_and_loops_of_ones_own_share_too(ranks):
    def single(shared):
        own = classes(half=vs.HalfPrecision(), ranks=shared)
        data = vs.data.Dataset(X.astype(np.float32), LABELS)
        own.run(data.batches(10), epochs=2)
        return own.network.arena.flat.copy()

    def loop(shared):
        line = vs.Descent(
            network(width=2).initialise(X[:1], dtype=np.float64), seed=4, ranks=shared
        )
        store = vs.training.MemoryStore()
        with vs.recorded_run(
            {"line": line}, steps=9, record=store, observers=[vs.observers.Checkpoints(every=4)]
        ) as run:
            for number in run.steps():
                rows = slice(8 * number - 8, 8 * number - 1)
                part = vs.distributed.part_of(vs.data.Batch(X[rows], NUMBERS[rows]))
                line.step(
                    lambda part=part: vs.losses.squared_error(
                        line.network(part.inputs), part.targets
                    ),
                    part=part,
                )
        return line.network.arena.flat.copy()

    for act, rough in ((single, 2e-2), (loop, 5e-3)):
        plain = vs.distributed.run_in_threads(3, partial(act, None))
        shared = vs.distributed.run_in_threads(3, partial(act, ranks))
        tolerance = rough if ranks == BOTH else 1e-8
        np.testing.assert_allclose(shared[0], plain[0], rtol=tolerance, atol=tolerance)
        assert shared[0].tobytes() == shared[2].tobytes()


def test_layers_that_hear_other_ranks_need_rows_and_tell_of_errors():
    def act():
        own = vs.Training(network(vs.BatchNorm(over_ranks=True)), task=vs.tasks.Classes(), seed=3)
        own.network.initialise(X[:1], seed=3)
        with pytest.raises(SettingError, match="smaller than the 3 ranks"):
            own.step((X[:2], LABELS[:2]))
        own.step((X[:9], LABELS[:9]))

    vs.distributed.run_in_threads(3, act)


def test_half_precision_is_agreed():
    def in_single():
        own = classes(half=vs.HalfPrecision())
        data = vs.data.Dataset(X.astype(np.float32), LABELS)
        return own.run(data.batches(10), epochs=3), own.network.arena.flat.copy()

    (one, weights), ranks = in_single(), vs.distributed.run_in_threads(2, in_single)
    np.testing.assert_allclose(ranks[0][1], weights, rtol=2e-2, atol=2e-3)
    np.testing.assert_allclose(ranks[0][0].curves["loss"], one.curves["loss"], rtol=1e-2)
    assert ranks[0][1].tobytes() == ranks[1][1].tobytes()


@pytest.mark.parametrize("way", ["steps", "step", "stream", "list", "order"])
def test_every_way_of_training_divides_its_batches(way):
    def act():
        own = classes()
        data = vs.data.Dataset(X, LABELS)
        own.network.initialise(X[:1], seed=3, dtype=np.float64)
        pairs = [(X[i : i + 13], LABELS[i : i + 13]) for i in range(0, 103, 13)]
        if way == "steps":
            losses = [step.loss for step in own.steps(data.batches(10), epochs=2)]
        elif way == "step":
            losses = [own.step(pair).loss for pair in pairs]
        elif way == "list":
            losses = own.run(pairs, epochs=2).curves["loss"].tolist()
        elif way == "order":
            batches = data.batches(10, order=vs.data.Balanced(LABELS))
            losses = own.run(batches, epochs=2).curves["loss"].tolist()
        else:
            stream = vs.data.Stream(lambda: iter(zip(X, LABELS, strict=True)))
            batches = stream.batches(10, epoch_steps=5)
            losses = own.run(batches, epochs=2).curves["loss"].tolist()
        return losses, own.network.arena.flat.copy()

    losses, weights = act()
    for found, theirs in vs.distributed.run_in_threads(3, act):
        np.testing.assert_allclose(found, losses, rtol=1e-9)
        np.testing.assert_allclose(theirs, weights, rtol=1e-8, atol=1e-10)


def test_padded_sequences_and_several_targets():
    tokens = [RNG.integers(1, 9, n) for n in RNG.integers(2, 9, 60)]
    pairs = [(one, int(one.sum() % 2)) for one in tokens]

    def of_sequences():
        own = vs.Training(
            vs.Stack(vs.Embedding(9, 4), vs.LSTM(5, output="last"), vs.Dropout(0.2), vs.Dense(2)),
            task=vs.tasks.Classes(),
            seed=1,
        )
        batches = vs.data.Examples(pairs).batches(8, join=vs.data.Padded())
        return own.run(batches, epochs=2), own.network.arena.flat.copy()

    def of_several():
        task = vs.tasks.Several({"state": vs.tasks.Classes(), "sugar": vs.tasks.Numbers()})
        heads = vs.Heads(vs.Dense(6, np.tanh), {"state": vs.Dense(3), "sugar": vs.Dense(2)})
        own = vs.Training(heads, task=task, seed=1)
        own.network.initialise(X[:1], seed=1, dtype=np.float64)
        data = vs.data.Dataset(X, {"state": LABELS, "sugar": NUMBERS})
        return own.run(data.batches(10), epochs=2), own.network.arena.flat.copy()

    for act, tolerance in ((of_sequences, 1e-4), (of_several, 1e-8)):
        (one, weights), ranks = act(), vs.distributed.run_in_threads(3, act)
        for found, theirs in ranks:
            np.testing.assert_allclose(found.curves, one.curves, rtol=tolerance)
            np.testing.assert_allclose(theirs, weights, rtol=tolerance, atol=tolerance)


def test_running_statistics_are_those_of_all_ranks():
    def act():
        own = vs.Training(network(vs.BatchNorm()), task=vs.tasks.Classes(), seed=3)
        own.run(vs.data.Dataset(X[:100], LABELS[:100]).batches(20), epochs=2)
        return own.network.statistics(), own.network.arena.flat.copy()

    ranks = vs.distributed.run_in_threads(2, act)
    for statistics, weights in ranks[1:]:
        assert weights.tobytes() == ranks[0][1].tobytes()
        for name, array in statistics.items():
            np.testing.assert_array_equal(array, ranks[0][0][name])


@pytest.mark.parametrize("loss", ["non_saturating", "hinge", "wasserstein"])
def test_adversarial_pairs_train_over_ranks(loss):
    G = vs.generation

    def act():
        own = vs.AdversarialTraining(
            G.LatentGenerator(vs.Stack(vs.Dense(8, np.tanh), vs.Dense(2)), latent=3),
            G.Critic(vs.Dense(8, np.tanh)),
            loss=loss,
            seed=2,
        )
        data = vs.data.Dataset(X[:, :2].astype(np.float32))
        outcome = own.run(data.batches(10), epochs=2)
        return outcome.curves, own.generator.arena.flat.copy(), own.critic.arena.flat.copy()

    curves, *weights = act()
    for found, *theirs in vs.distributed.run_in_threads(2, act):
        np.testing.assert_allclose(found["loss"], curves["loss"], rtol=1e-3, atol=1e-5)
        for mine, other in zip(weights, theirs, strict=True):
            np.testing.assert_allclose(other, mine, rtol=1e-2, atol=1e-4)


@pytest.mark.parametrize("divided", [False, True])
def test_a_loop_of_ones_own_trains_over_ranks(divided):
    def act():
        line = vs.Descent(
            network(vs.Dropout(0.3), width=2).initialise(X[:1], dtype=np.float64), seed=4
        )
        store = vs.training.MemoryStore()
        with vs.recorded_run({"line": line}, steps=12, record=store) as run:
            for number in run.steps():
                rows = slice(8 * number - 8, 8 * number - 1)
                batch = vs.data.Batch(X[rows], NUMBERS[rows])
                part = vs.distributed.part_of(batch) if divided else None
                x, y = batch if part is None else part
                step = line.step(
                    lambda x=x, y=y: vs.losses.squared_error(line.network(x), y), part=part
                )
                run.numbers(loss=step.loss)
        return [row["loss"] for row in run.rows], line.network.arena.flat.copy(), store.states()

    losses, weights, states = act()
    ranks = vs.distributed.run_in_threads(3, act)
    for found, theirs, _ in ranks:
        np.testing.assert_allclose(found, losses, rtol=1e-9)
        np.testing.assert_allclose(theirs, weights, rtol=1e-9)
    assert ranks[0][2] == states
    assert not ranks[1][2], "the first rank records"


@pytest.mark.parametrize(("begun", "continued"), [(1, 3), (3, 1), (2, 4)])
def test_a_run_goes_on_with_another_number_of_ranks(tmp_path, begun, continued):
    make, data = ALIKE["dropout"]
    whole = trained(make, data, epochs=4)

    def first():
        return trained(make, data, epochs=2, record=tmp_path, name="cellar")[0].reason

    def rest():
        return trained(make, data, epochs=4, resume=tmp_path / "cellar-1")

    vs.distributed.run_in_threads(begun, first)
    ranks = vs.distributed.run_in_threads(continued, rest)
    np.testing.assert_allclose(ranks[0][1], whole[1], rtol=1e-8, atol=1e-10)
    assert len(list(tmp_path.glob("cellar-*"))) == 1
    for outcome, *_, own in ranks:
        np.testing.assert_allclose(outcome.curves, whole[0].curves, rtol=1e-9, atol=1e-10)
        assert outcome.best_row == ranks[0][0].best_row
        own.model("best")
    if continued > 1:
        (run,) = vs.runs.open(tmp_path)
        spent = run.series("ranks")
        assert {f"rank {continued - 1} computing", "rank 0 waiting"} <= set(spent)


class Odd(vs.observers.Observer):
    """Does something on the last rank only."""

    def __init__(self, act):
        self.act = act

    def after_step(self, run, step):
        comm = vs.distributed.communicator()
        if comm.rank == comm.size - 1 and step.number == 15:
            self.act(run)


def test_what_one_rank_is_asked_stops_all_after_the_same_step():
    def act():
        asked = Odd(lambda run: run.stop("Enough", resumable=True))
        outcome, _, _, own = trained(*ALIKE["classes"], observers=[asked], epochs=5)
        return outcome.reason, own.step_number

    reasons = vs.distributed.run_in_threads(3, act)
    assert {step for _, step in reasons} == {15}
    assert all("Enough" in reason for reason, _ in reasons)


def test_patience_and_plateaus_are_agreed():
    def act():
        own = classes(schedule=vs.schedules.plateau(1))
        data = vs.data.Dataset(X, LABELS)
        outcome = own.run(
            data.batches(10),
            validation={
                "validation": vs.data.Dataset(X + 0.5, LABELS).batches(50),
                "odd": lambda net: np.random.default_rng().random(),
            },
            until="50 epochs or no gain for 3 epochs",
        )
        return outcome.reason, repr(outcome.rows), own.network.arena.flat.tobytes()

    assert len(set(vs.distributed.run_in_threads(3, act))) == 1


def test_a_bad_number_on_one_rank_ends_the_run_on_all_and_nothing_is_changed():
    bad = X.copy()
    bad[7] = np.nan

    def act():
        own = classes()
        own.network.initialise(X[:1], seed=3)
        before = own.network.arena.flat.copy()
        batch = (bad[:9], LABELS[:9])
        with pytest.raises(NotFiniteError) as told:
            own.step(batch)
        np.testing.assert_array_equal(own.network.arena.flat, before)
        own.step((X[:9], LABELS[:9]))  # and all can go on
        return str(told.value)

    told = vs.distributed.run_in_threads(3, act)
    assert "inputs of the batch" in told[2]
    assert told[0].startswith("On rank 2 of 3: ")


def fails(error):
    def act(run):
        raise error

    class Ending(Odd):
        ends_run = True

    return Ending(act)


def test_a_rank_that_fails_ends_all_and_the_record_says_so(tmp_path):
    def act():
        observer = fails(ValueError("the cellar is dark"))
        with pytest.raises((ValueError, PeerError)) as told:
            trained(*ALIKE["classes"], observers=[observer], record=tmp_path, epochs=5)
        return str(told.value)

    told = vs.distributed.run_in_threads(2, act)
    assert "rank 1: ValueError: the cellar is dark" in told[0]
    (run,) = vs.runs.open(tmp_path)
    assert run.status == "failed"
    trained(*ALIKE["classes"], resume=tmp_path / run.label, epochs=5)


@pytest.mark.parametrize("what", ["data", "settings", "weights"])
def test_ranks_that_are_set_up_otherwise_are_told_before_the_first_step(what):
    def act():
        odd = vs.distributed.communicator().rank == 1
        own = vs.Training(
            network(),
            task=vs.tasks.Classes(),
            optimiser=vs.optimisers.Adam(0.1 if odd and what == "settings" else 0.2),
            seed=3,
        )
        own.network.initialise(X[:1], seed=1 if odd and what == "weights" else 0)
        data = vs.data.Dataset(X[::-1] if odd and what == "data" else X, LABELS)
        own.run(data.batches(10), epochs=1)

    with pytest.raises(RunError, match=r"Ranks 0 and 1 of 2 differ in"):
        vs.distributed.run_in_threads(2, act)


def test_weights_that_come_apart_are_told():
    def act():
        odd = Odd(
            lambda run: own_network[vs.distributed.communicator().rank].arena.flat.__iadd__(1e-3)
        )
        own = classes()
        own_network[vs.distributed.communicator().rank] = own.network
        own.run(vs.data.Dataset(X, LABELS).batches(10), epochs=5, observers=[odd])

    own_network = {}
    with pytest.raises(RunError, match="have come apart"):
        vs.distributed.run_in_threads(2, act)


def test_a_loss_that_does_not_add_up_is_refused():
    def act():
        own = vs.Training(network(width=2), loss=lambda a, b: np.max((a - b) ** 2), seed=3)
        own.step((X, NUMBERS))

    with pytest.raises(SettingError, match="does not follow"):
        vs.distributed.run_in_threads(2, act)


def test_nothing_that_counts_is_refused_on_all():
    def act():
        own = vs.Training(network(), loss=partial(vs.losses.cross_entropy, ignored=-1), seed=3)
        with pytest.raises(DataError, match="nothing to average"):
            own.step((X[:10], np.full(10, -1)))
        own.step((X[:10], LABELS[:10]))

    vs.distributed.run_in_threads(3, act)


SCRIPT = """
import numpy as np, sys
import vinestep as vs

table = vs.data.Table(vs.demo.barrels(300), target="state")
train, validation, _ = vs.data.scaled(*table.split(0.7, 0.2, 0.1, seed=3))
network = vs.Stack(vs.Dense(16), vs.relu, vs.Dropout(0.2), vs.Dense(table.classes))
network.initialise(np.asarray(train.inputs[:1], float), seed=7, dtype=np.float64)
training = vs.Training(network, task=vs.tasks.Classes(), clip=2.0, seed=7)
outcome = training.run(
    train.batches(32), validation=validation.batches(16), epochs=5, record=sys.argv[1]
)
if vs.distributed.communicator().rank == 0:
    np.savetxt(sys.argv[2], outcome.curves.drop(columns="step"))
"""


@needs_mpi
def test_a_script_is_the_same_under_an_mpi_launcher(tmp_path, monkeypatch):
    (tmp_path / "script.py").write_text(SCRIPT)
    found = []
    for size in (1, 2):
        out = tmp_path / f"{size}.txt"
        asked = tmp_path / "script.py", tmp_path / "records", out
        if size == 1:
            monkeypatch.setattr(sys, "argv", list(map(str, asked)))
            runpy.run_path(str(asked[0]))
        else:
            done = on_ranks(size, *asked)
            assert done.returncode == 0, done.stderr
        found.append(np.loadtxt(out))
    np.testing.assert_allclose(found[1], found[0], rtol=1e-10)
    assert len(vs.runs.open(tmp_path / "records")) == 2


@needs_mpi
def test_the_command_line_goes_on_and_refuses_over_processes(tmp_path):
    vs.demo.barrels(150).to_csv(tmp_path / "barrels.csv", index=False)
    plan = tmp_path / "plan.toml"
    plan.write_text(
        'epochs = 2\n[data]\nsource = "barrels.csv"\ntarget = "state"\n'
        '[[layers]]\nkind = "dense"\nwidth = "classes"\n'
    )
    for epochs in (2, 3):
        done = vinestep_here("train", plan, "--set", f"epochs={epochs}", cwd=tmp_path)
        assert done.returncode == 0, done.stdout + done.stderr
    done = vinestep("resume", "records/run-1", "--set", "epochs=3", "--processes", 2, cwd=tmp_path)
    assert done.returncode == 0, done.stdout + done.stderr
    assert "Scores of the" in done.stdout
    ours, theirs = (run.curves for run in vs.runs.open(tmp_path / "records"))
    np.testing.assert_allclose(ours["loss"], theirs["loss"], rtol=1e-5)
    done = vinestep("train", plan, "--set", "epochs=no", "--processes", 2, cwd=tmp_path)
    assert done.returncode == 2
    assert done.stderr.count("vinestep: ") == 1, done.stderr


def rehearsed(make=classes, size=10, data=lambda: (X, LABELS)):
    def act():
        x, labels = data()
        found = make().rehearse(vs.data.Dataset(x, labels).batches(size), quick=True)
        return [one for one in found.findings if one.subject == "the ranks"]

    return vs.distributed.run_in_threads(3, act)


def test_a_rehearsal_tells_of_the_ranks():
    for (said,) in rehearsed():
        assert "equal" in said.evidence or "longest on rank" in said.evidence
    small = rehearsed(size=2)[0]
    assert small[0].verdict == "suspicious"
    assert "some have none" in small[0].evidence

    def other_data():
        return X + vs.distributed.communicator().rank, LABELS

    for (said,) in rehearsed(data=other_data):
        assert said.verdict == "wrong"
        assert "differ in the data" in said.evidence


def test_who_kept_the_others_waiting_is_told(tmp_path):
    import time

    class Slow(vs.observers.Observer):
        def before_step(self, run, number):
            if vs.distributed.communicator().rank == 1:
                time.sleep(0.02)

    def act(slow):
        data = vs.data.Dataset(X, LABELS)
        observers = [Slow()] if slow else []
        classes().run(data.batches(20), epochs=4, record=tmp_path, observers=observers)

    for kind in (True, False):
        vs.distributed.run_in_threads(3, partial(act, kind))
    slow, other = (
        next(one for one in run.diagnose() if one.subject == "the ranks")
        for run in vs.runs.open(tmp_path)
    )
    assert slow.verdict == "suspicious"
    assert "Rank 1 computed" in slow.evidence
    assert "3 ranks computed" in other.evidence
    shown = vinestep_here("show", "run-1", "--record", tmp_path, cwd=tmp_path)
    assert "the ranks" in shown.stdout


def test_batches_that_are_not_the_same_on_all_are_refused():
    def act():
        rng = np.random.default_rng(vs.distributed.communicator().rank)  # as without a seed
        rows = rng.permutation(103)
        own = classes()
        with pytest.raises(DataError, match="were given other batches"):
            list(own.steps([(X[rows[:50]], LABELS[rows[:50]])]))
        own.step((X[:9], LABELS[:9]))

    vs.distributed.run_in_threads(2, act)


def test_what_makes_independent_trainings_is_not_called_by_ranks(tmp_path):
    def act():
        data = vs.data.Dataset(X, LABELS)
        with pytest.raises(SettingError, match="without an MPI launcher"):
            vs.training.cross_validate(lambda train, seed: classes(), data, folds=2)
        with pytest.raises(SettingError, match="without an MPI launcher"):
            vs.training.search(lambda settings, **options: None, {}, folder=tmp_path, epochs=1)

    vs.distributed.run_in_threads(2, act)
