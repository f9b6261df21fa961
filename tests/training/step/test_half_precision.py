"""Half precision: what it rounds, when the scale changes, and that runs and models keep it."""

import numpy as np
import pytest

import vinestep as vs
from vinestep.errors import NotFiniteError, SettingError


def data(n=64, seed=0):
    rng = np.random.default_rng(seed)
    x = rng.normal(size=(n, 3)).astype(np.float32)
    return vs.data.Dataset(
        x, (x @ [[1.0], [-2.0], [0.5]] + 0.1 * rng.normal(size=(n, 1))).astype(np.float32)
    )


def training(**options):
    return vs.Training(
        vs.Stack(vs.Dense(8, np.tanh), vs.Dense(1)), loss=vs.losses.squared_error, seed=3, **options
    )


def is_half(network):
    return all((w == w.astype(np.float16)).all() for w in network.weights().values())


def test_steps_are_those_of_the_definition():
    half = vs.HalfPrecision(2.0**10)
    one = training(half=half, optimiser=vs.optimisers.SGD(0.1))
    batch = (data().inputs, data().targets)
    one.initialise(vs.data.Batch(*batch))
    master = {path: w.copy() for path, w in one.network.weights().items()}
    for _ in range(20):
        plain = training(optimiser=vs.optimisers.SGD(0.1))
        plain.initialise(vs.data.Batch(*batch))
        plain.network.load(
            {path: w.astype(np.float16).astype(np.float32) for path, w in master.items()}
        )
        found = plain.step(batch).gradients
        one.step(batch)
        for path, w in master.items():
            kept = (found[path] * np.float32(2**10)).astype(np.float16).astype(
                np.float32
            ) / np.float32(2**10)
            w -= np.float32(0.1) * kept
            np.testing.assert_array_equal(
                one.network.weights()[path], w.astype(np.float16), strict=False
            )


def test_small_gradients_vanish_without_a_scale_and_not_with_one():
    flat = np.array([1e-9, 3e-9, -2e-9], np.float32)
    unscaled, scaled = flat.copy(), flat.copy()
    vs.HalfPrecision(1.0).round_gradients(unscaled, 1)
    vs.HalfPrecision(2.0**15).round_gradients(scaled, 1)
    assert not unscaled.any()
    np.testing.assert_allclose(scaled, flat, rtol=0.01)


def test_the_scale_falls_where_a_gradient_would_overflow_and_rises_again():
    half = vs.HalfPrecision(2.0**15, every=3)
    flat = np.array([100.0, 1.0], np.float32)
    half.round_gradients(flat, 1)
    assert half.scale == 2.0**9
    assert flat.tolist() == [100.0, 1.0]
    for _ in range(3):
        half.round_gradients(np.array([1.0], np.float32), 2)
    assert half.scale == 2.0**10
    with pytest.raises(NotFiniteError, match="does not fit float16"):
        half.round_gradients(np.array([1e30], np.float32), 7)


def test_a_run_trains_resumes_and_is_handed_on_in_two_bytes_a_weight(tmp_path):
    class Halt(vs.observers.Observer):
        def after_step(self, run, step):
            if step.number == 7:
                run.stop("told to", resumable=True)

    def run(one, observers=(), **more):
        one.optimiser.rate = 0.02
        return one.run(
            data().batches(16),
            epochs=12,
            validation=data(20, 1).batches(20),
            observers=[*observers],
            **more,
        )

    kept = vs.observers.Checkpoints("best")
    whole = training(half=vs.HalfPrecision(every=5))
    outcome = run(whole, [kept], record=tmp_path)
    assert outcome.rows[-1]["loss"] < outcome.rows[0]["loss"] / 2
    assert is_half(whole.network)
    stopped = run(training(half=vs.HalfPrecision(every=5)), [Halt()], record=tmp_path)
    rest = training(half=vs.HalfPrecision(every=5))
    assert run(rest, [Halt()], resume=stopped.folder).rows == outcome.rows
    np.testing.assert_array_equal(rest.half.master, whole.half.master)
    assert rest.half.scale == whole.half.scale

    model = vs.open_model(kept.best_file(outcome))
    assert model.network.dtype == np.float32
    assert is_half(model.network)
    again = vs.open_model(model.save(tmp_path / "m.vine"))
    assert again.arrays()["weights/0/weight"].dtype == np.float16
    np.testing.assert_array_equal(again.predict(data().inputs), model.predict(data().inputs))


def test_weights_set_from_outside_count():
    one = training(half=vs.HalfPrecision())
    batch = (data().inputs, data().targets)
    one.step(batch)
    one.network.load({path: np.full_like(w, 0.25) for path, w in one.network.weights().items()})
    one.step(batch)
    assert np.abs(one.network.weights()["0/weight"] - 0.25).max() < 0.01


@pytest.mark.parametrize(
    ("options", "message"),
    [({"scale": 3.0}, "power of two"), ({"scale": 0}, "power of two"), ({"every": 0}, "every")],
)
def test_bad_settings(options, message):
    with pytest.raises(SettingError, match=message):
        vs.HalfPrecision(**options)


def test_float64_is_refused():
    one = training(half=vs.HalfPrecision())
    one.network.initialise(data().inputs[:1], dtype="float64")
    with pytest.raises(SettingError, match="float64"):
        one.step((data().inputs, data().targets))


def test_weights_beyond_float16_are_refused_and_nothing_changes():
    one = training(half=vs.HalfPrecision(), optimiser=vs.optimisers.SGD(1e9))
    one.initialise(vs.data.Batch(data().inputs[:1], data().targets[:1]))
    one.half.begin(one.network.arena)
    before = one.network.weights()["0/weight"].copy()
    with pytest.raises(NotFiniteError):
        one.step((data().inputs, data().targets))
    np.testing.assert_array_equal(one.network.weights()["0/weight"], before)
