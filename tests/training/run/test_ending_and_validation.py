"""How a run is trained: endings in words, accumulation, averages, validation of several parts,
schedules that watch or count epochs.
"""

import math
from functools import partial

import numpy as np
import pytest
import tomli_w
from hypothesis import given, settings, strategies as st

import vinestep as vs
from vinestep.errors import PlanError, RunError, SettingError
from vinestep.training.plans._plan import read_plan
from vinestep.training.plans._planned_run import PlannedRun

s = vs.schedules


def data(n=48, seed=0, noise=0.1):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 3))
    return vs.data.Dataset(x, (x @ [[1.0], [-2.0], [0.5]] + noise * rng.normal(size=(n, 1))))


def training(network=None, **options):
    network = network if network is not None else vs.Stack(vs.Dense(5, np.tanh), vs.Dense(1))
    network.initialise(data().inputs[:1], seed=4, dtype="float64")
    options = {
        "loss": vs.losses.squared_error,
        "optimiser": vs.optimisers.Adam(0.01),
        "seed": 5,
        **options,
    }
    return vs.Training(network, **options)


# endings


@pytest.mark.parametrize(
    ("until", "reason", "steps"),
    [
        ("3 epochs", "All 3 epochs done, 18 steps.", 18),
        ("5 steps", "All 5 steps done.", 5),
        ("9 epochs or 7 steps", "7 steps are done, after epoch 1 of 9, step 7.", 7),
        ("20 examples", "20 examples are done, after epoch 0, step 3.", 3),
        (
            "4 steps or 9 epochs, not before 2 epochs",
            "4 steps are done, after epoch 2 of 9, step 12.",
            12,
        ),
        ("4 steps, but not before 50 examples", "4 steps are done, after step 7 of 4.", 7),
        ("99 epochs or loss reaches 100", "loss reached", 6),
        (
            "99 epochs or no gain in loss of more than 1e9 for 2 epochs",
            "No gain in loss for 2 epochs, after epoch 3 of 99",
            18,
        ),
        (
            "1_000 epochs or no gain of more than 1e9 for 1 epochs, not before 4 epochs",
            "No gain in validation_loss",
            24,
        ),
        ("0.02 seconds or 10000 epochs", "0.02 seconds are done", None),
    ],
)
def test_a_run_ends_as_it_was_told(until, reason, steps):
    one = training()
    outcome = one.run(data().batches(8), until=until, validation=data(20, 1).batches(20))
    assert reason in outcome.reason
    assert outcome.status.value == "finished"
    assert one.step_number == steps or steps is None


@pytest.mark.parametrize(
    ("until", "message"),
    [
        ("60 epoch", None),
        ("60 epocs", "'60 epocs' is not understood. What can be said: '60 epochs'"),
        ("", "'' is not understood"),
        ("1.5 epochs", "'1.5 epochs' in '1.5 epochs' is no amount"),
        ("-3 steps", "is no amount"),
        ("3 epochs, not before soon", "'soon' in"),
        ("3 epochs, not before 1 epochs, not before 2 epochs", "says twice"),
        ("no gain for 0 epochs", "at least 1 epoch"),
        (60, "says in words"),
    ],
)
def test_endings_that_say_nothing_are_refused(until, message):
    if message is None:
        assert str(vs.Ending(until)) == "60 epochs"
        return
    with pytest.raises(SettingError, match=message.replace("(", r"\(").replace("?", r"\?")):
        vs.Ending(until)


amounts = st.tuples(
    st.integers(1, 10**6), st.sampled_from(["epoch", "step", "example", "second", "minute", "hour"])
)
events = st.one_of(
    amounts.map(lambda a: f"{a[0]} {a[1]}s"),
    st.tuples(st.sampled_from(["", " in loss", " in validation_loss"]), st.integers(1, 99)).map(
        lambda a: f"no gain{a[0]} for {a[1]} epochs"
    ),
    st.tuples(st.sampled_from(["loss", "accuracy"]), st.floats(-1e3, 1e3)).map(
        lambda a: f"{a[0]} reaches {a[1]:.6g}"
    ),
)


@given(st.lists(events, min_size=1, max_size=4), st.none() | amounts)
def test_an_ending_is_read_as_it_is_written(parts, before):
    text = " or ".join(parts) + (f", not before {before[0]} {before[1]}s" if before else "")
    once = vs.Ending(text)
    assert str(vs.Ending(str(once))) == str(once)


def test_exactly_one_ending_is_given():
    for options in (
        {},
        {"epochs": 2, "until": "3 epochs"},
        {"epochs": 0},
        {"steps": 2.5},
        {"epochs": True},
    ):
        with pytest.raises(SettingError, match="one of epochs, steps and until"):
            training().run(data().batches(8), **options)


def test_patience_in_words_is_continued_exactly(tmp_path):
    until = (
        "40 epochs or no gain in validation_loss of more than 0.001 for 3 epochs, not before "
        "6 epochs"
    )
    parts = {"validation": data(20, 1).batches(20), "until": until}
    whole = training().run(data().batches(8), **parts)
    stopping = training()

    class Interrupting(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 31:
                run.stop("Told to stop", resumable=True)

    first = stopping.run(data().batches(8), **parts, observers=[Interrupting()], record=tmp_path)
    again = training().run(data().batches(8), **parts, resume=first.folder)
    assert again.rows == whole.rows
    assert again.reason == whole.reason
    with pytest.raises(RunError, match="To go on, ask for more"):
        training().run(data().batches(8), **parts, resume=first.folder)
    more = training().run(data().batches(8), **{**parts, "until": "45 epochs"}, resume=first.folder)
    assert len(more.rows) == 45


# accumulation


@settings(max_examples=20)
@given(
    st.integers(1, 6),
    st.sampled_from(["squared_error", "cross_entropy", "ignored", "weighted", "sum"]),
    st.booleans(),
)
def test_accumulated_batches_are_one_large_batch(k, kind, clipped):
    rng = np.random.default_rng(k)
    x = rng.normal(size=(6 * k, 4))
    labels = rng.integers(0, 3, 6 * k)
    losses = {
        "squared_error": vs.losses.squared_error,
        "cross_entropy": vs.losses.cross_entropy,
        "ignored": partial(vs.losses.cross_entropy, ignored=-1),
        "weighted": vs.losses.cross_entropy,
        "sum": partial(vs.losses.squared_error, reduction="sum"),
    }
    targets = rng.normal(size=(6 * k, 3)) if kind in ("squared_error", "sum") else labels
    if kind == "ignored":
        targets = np.where(rng.random(6 * k) < 0.4, -1, labels)
        targets[::6] = labels[::6]
    weights = rng.random(6 * k) if kind == "weighted" else None
    found = []
    for size, accumulate in ((6 * k, 1), (6, k)):
        network = vs.Stack(vs.Dense(5, np.tanh), vs.Dense(3)).initialise(
            x[:1], seed=1, dtype="float64"
        )
        options = {"clip": 0.1, "clip_values": 0.05} if clipped else {}
        one = vs.Training(
            network,
            loss=losses[kind],
            optimiser=vs.optimisers.SGD(0.1),
            accumulate=accumulate,
            **options,
        )
        batches = vs.data.Dataset(x, targets, weights=weights).batches(size, shuffled=False)
        steps = list(one.steps(batches))
        assert len(steps) == 1
        found.append((network.arena.values.copy(), steps[0].loss, steps[0].norm, steps[0].examples))
    np.testing.assert_allclose(found[0][0], found[1][0], rtol=1e-12, atol=1e-13)
    assert found[0][1:3] == pytest.approx(found[1][1:3], rel=1e-10)
    assert found[0][3] == found[1][3]


def test_the_batches_of_one_update_draw_dropout_of_their_own_and_runs_are_continued(tmp_path):
    def make():
        return training(vs.Stack(vs.Dense(8, np.tanh), vs.Dropout(0.5), vs.Dense(1)), accumulate=3)

    whole = make()
    outcome = whole.run(data(40).batches(8), epochs=4)
    assert whole.step_number == 4 * 2  # five batches an epoch: three, and two
    assert outcome.rows[-1]["step"] == 8

    class Interrupting(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 3:
                run.stop("Told to stop", resumable=True)

    first = make().run(data(40).batches(8), epochs=4, observers=[Interrupting()], record=tmp_path)
    again = make()
    assert again.run(data(40).batches(8), epochs=4, resume=first.folder).rows == outcome.rows
    np.testing.assert_array_equal(again.network.arena.values, whole.network.arena.values)
    same = np.ones((8, 3))
    one = make()
    masks = []
    seen = lambda path, output: masks.append(output == 0) if path == "1" else None  # noqa: E731
    one.make_step([vs.data.Batch(same, np.ones((8, 1)))] * 3, 0, 0, watch=seen)
    assert masks
    with pytest.raises(SettingError, match="accumulate must be"):
        training(accumulate=0)


# clipping


def test_clipping_by_value_cuts_each_element():
    one = training(clip_values=0.01)
    step = one.step((data().inputs, data().targets))
    assert np.abs(step.gradients.flat).max() == pytest.approx(0.01)
    with pytest.raises(SettingError, match="clip_values must be a positive number"):
        training(clip_values=0)


# averages


@pytest.mark.parametrize("decay", [None, 0.9])
def test_the_average_is_that_of_the_definition_and_is_continued(tmp_path, decay):
    one, history = training(average=vs.WeightAverage(decay, after=5)), []

    class Keeping(vs.observers.Observer):
        def after_step(self, run, step):
            history.append(one.network.arena.values.copy())

    validation = data(20, 1).batches(20)
    outcome = one.run(data().batches(8), epochs=4, validation=validation, observers=[Keeping()])
    kept = np.array(history[5:])
    weights = np.ones(len(kept)) if decay is None else decay ** np.arange(len(kept))[::-1]
    expected = (weights / weights.sum()) @ kept
    np.testing.assert_allclose(one.average.values(), expected, rtol=1e-12)
    model = one.model()
    np.testing.assert_allclose(model.network.arena.values, expected, rtol=1e-12)
    np.testing.assert_array_equal(one.network.arena.values, history[-1])
    assert model.assess(data(20, 1).inputs, data(20, 1).targets)["loss"] == pytest.approx(
        outcome.rows[-1]["validation_loss"]
    )
    first = training(average=vs.WeightAverage(decay, after=5)).run(
        data().batches(8), epochs=2, validation=validation, record=tmp_path
    )
    again = training(average=vs.WeightAverage(decay, after=5))
    again.run(data().batches(8), epochs=4, validation=validation, resume=first.folder)
    np.testing.assert_array_equal(again.average.values(), one.average.values())


def test_the_best_state_of_an_averaging_run_opens_as_the_averaged_model(tmp_path):
    one = training(average=vs.WeightAverage(0.9))
    keeper = vs.observers.Checkpoints("best")
    validation = data(20, 1)
    outcome = one.run(
        data().batches(8),
        epochs=4,
        validation=validation.batches(20),
        observers=[keeper],
        record=tmp_path,
    )
    model = vs.open_model(keeper.best_file(outcome))
    assert model.assess(validation.inputs, validation.targets)["loss"] == pytest.approx(
        outcome.best()["validation_loss"]
    )


# validation


class StopAt(vs.observers.Observer):
    def __init__(self, step):
        self.step = step

    def after_step(self, run, step):
        if step.number == self.step:
            run.stop("told to", resumable=True)


def test_validation_within_epochs_is_recorded_judged_and_resumed(tmp_path):
    def run(**more):
        return training().run(
            data().batches(4),
            epochs=3,
            validation=data(20, 1).batches(20),
            validate_every="3 steps",
            **more,
        )

    keeper = vs.observers.Checkpoints("best", keep=1)
    whole = run(observers=[keeper], record=tmp_path)
    an_epoch = whole.rows[0]["step"]
    assert [row["step"] for row in whole.looks] == [
        n for n in range(3, 3 * int(an_epoch), 3) if n % an_epoch
    ]
    best = min([*whole.looks, *whole.rows], key=lambda row: row["validation_loss"])
    model = vs.open_model(keeper.best_file(whole))
    assert model.assess(data(20, 1).inputs, data(20, 1).targets)["loss"] == pytest.approx(
        best["validation_loss"]
    )
    assert whole.store.read_series("validation") == whole.looks
    half = run(record=tmp_path, observers=[StopAt(8), vs.observers.Checkpoints("best", keep=1)])
    rest = run(resume=half.folder, observers=[StopAt(8), vs.observers.Checkpoints("best", keep=1)])
    assert rest.looks == whole.looks
    assert rest.rows == whole.rows


def test_several_parts_and_computations_of_ones_own(tmp_path):
    one = training(metrics=[vs.metrics.absolute_error])
    parts = {
        "first": data(20, 1).batches(20),
        "second": data(12, 2).batches(12),
        "money": lambda net: {"lost": 3.0, "won": 1.0},
        "one": len_of,
    }
    outcome = one.run(
        data().batches(8),
        epochs=5,
        validation=parts,
        validate_every=2,
        observers=[vs.observers.Patience(9)],
        record=tmp_path,
    )
    columns = [
        "first_loss",
        "first_absolute_error",
        "second_loss",
        "second_absolute_error",
        "money_lost",
        "money_won",
        "one",
    ]
    assert list(outcome.rows[0])[5:] == columns
    known = [row["epoch"] for row in outcome.rows if not math.isnan(row["first_loss"])]
    assert known == [1, 2, 4, 5]
    assert outcome.best("second_loss")["epoch"] in known
    assert outcome.better["second_absolute_error"] == "lower"
    with pytest.raises(SettingError, match="returned 'much'"):
        one.run(data().batches(8), epochs=1, validation={"money": lambda net: "much"})
    with pytest.raises(SettingError, match="'two words'"):
        one.run(data().batches(8), epochs=1, validation={"two words": data(5, 1).batches(5)})
    for wrong in ("often", "0 steps", "3 years", 1.5, True):
        with pytest.raises(SettingError, match="validate_every"):
            one.run(data().batches(8), epochs=1, validate_every=wrong)
    with pytest.raises(SettingError, match="validate_every"):
        one.run(data().batches(8), epochs=1, validate_every=0)


def len_of(network):
    return len(network)


# schedules


def test_schedules_are_what_they_say():
    assert [s.exponential(4, 0.5)(t) for t in (0, 4, 8)] == pytest.approx([1, 0.5, 0.25])
    assert [s.polynomial(10, 3, floor=0.1)(t) for t in (0, 5, 10, 11)] == pytest.approx(
        [1, 0.1 + 0.9 / 8, 0.1, 0.1]
    )
    assert [s.inverse_root(16)(t) for t in (0, 7, 15, 63)] == pytest.approx([1 / 16, 0.5, 1, 0.5])
    restarts = s.cosine_restarts(5, longer=1.0, forget=True)
    assert [restarts(t) for t in (0, 5, 10)] == [1, 1, 1]
    assert [t for t in range(30) if restarts.forgets(t)] == [5, 10, 15, 20, 25]
    assert [t for t in range(80) if s.cosine_restarts(5, forget=True).forgets(t)] == [5, 15, 35, 75]
    late = s.constant(7).then(s.cosine_restarts(5, forget=True))
    assert [t for t in range(30) if late.forgets(t)] == [12, 22]
    cycle = [s.one_cycle(100)(t) for t in range(101)]
    assert int(np.argmax(cycle)) == 30
    assert (cycle[0], cycle[-1]) == pytest.approx((0.04, 0.0001))
    for bad in (
        lambda: s.cosine_restarts(5, longer=0.5),
        lambda: s.polynomial(3, 0),
        lambda: s.one_cycle(5, start=2),
        lambda: s.plateau(0),
    ):
        with pytest.raises(ValueError, match="must be"):
            bad()


@given(st.integers(1, 30), st.floats(1, 3), st.integers(0, 400))
def test_a_restart_is_where_the_cosine_begins_anew(steps, longer, t):
    schedule = s.cosine_restarts(steps, longer=longer, forget=True)
    assert schedule.forgets(t) == (t > 0 and schedule(t) == 1.0)


def test_by_epoch_counts_epochs_within_others():
    one = training(schedule=s.by_epoch(s.warmup(2)).then(s.by_epoch(s.step_decay(1, 0.5))))
    rows = one.run(data().batches(8), epochs=5).rows
    assert [row["rate"] / 0.01 for row in rows] == pytest.approx([0.5, 1, 1, 0.5, 0.25])
    with pytest.raises(SettingError, match="in a run only"):
        training(schedule=s.by_epoch(s.warmup(2))).step((data().inputs, data().targets))


def test_forgetting_begins_the_optimiser_anew():
    one = training(schedule=s.cosine_restarts(2, longer=1.0, forget=True))
    batches = data().batches(8)
    counts = [one.optimiser.count for _ in one.steps(batches)]
    assert counts == [1, 2, 1, 2, 1, 2]


def test_a_plateau_lowers_the_rate_on_the_best_value_so_far_and_is_continued(tmp_path, capsys):
    def make():
        return training(
            schedule=s.warmup(3).then(
                s.plateau(2, least_gain=0.02, factor=0.3, floor=0.05, by="validation_loss")
            )
        )

    parts = {"validation": data(20, 1).batches(20)}
    told = []

    class Listening(vs.observers.Observer):
        def said(self, run, text):
            told.append(text)

    whole = make().run(data().batches(8), epochs=25, **parts, observers=[Listening()])
    rates = [row["rate"] for row in whole.rows]
    best, waited, now, expected = math.inf, 0, 1.0, []
    for row in whole.rows:
        expected.append(now * 0.01)
        if row["validation_loss"] < best - 0.02:
            best, waited = row["validation_loss"], 0
        elif (waited := waited + 1) >= 2 and now > 0.05:
            now, waited = max(now * 0.3, 0.05), 0
    assert rates == pytest.approx(expected)
    assert rates[-1] < rates[3]
    assert all("No gain in validation_loss for 2 epochs: the rate is" in text for text in told)
    assert len(told) == len({round(rate, 12) for rate in rates}) - 1
    first = make().run(data().batches(8), epochs=11, **parts, record=tmp_path)
    again = make().run(data().batches(8), epochs=25, **parts, resume=first.folder)
    assert again.rows == whole.rows
    assert "the rate is" in (first.folder / "console.txt").read_text()


# plans


def test_a_plan_names_all_of_it(tmp_path):
    vs.demo.barrels(150).to_csv(tmp_path / "barrels.csv", index=False)
    plan = {
        "until": "30 epochs or no gain for 2 epochs, not before 3 epochs",
        "accumulate": 2,
        "clip_values": 0.5,
        "average": {"decay": 0.9},
        "validate_every": 2,
        "optimiser": {"kind": "lamb", "decay_of": "weights", "weight_decay": 0.1},
        "schedule": [{"kind": "warmup", "steps": 2}, {"kind": "plateau", "epochs": 2}],
        "data": {"source": "barrels.csv", "target": "state"},
        "layers": [{"kind": "dense", "width": "classes"}],
    }
    (tmp_path / "plan.toml").write_text(tomli_w.dumps(plan))
    run = PlannedRun(read_plan(tmp_path / "plan.toml"), tmp_path)
    outcome = run.run(record=tmp_path / "records")
    assert len(outcome.rows) >= 3
    assert run.training.accumulate == 2
    assert run.training.average.count == run.training.step_number
    assert read_plan(outcome.folder / "plan.toml").until == plan["until"]
    for change, message in (
        ({"until": "soon"}, "until: 'soon' is not understood"),
        ({"average": {"dekay": 1}}, "average: "),
        ({"steps": 3}, "one of epochs"),
    ):
        (tmp_path / "plan.toml").write_text(tomli_w.dumps({**plan, **change}))
        with pytest.raises(PlanError, match=message):
            read_plan(tmp_path / "plan.toml")
