"""Transforms of sequences against their plain definitions."""

import numpy as np
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.data.batches._counter_rng import CounterRandom
from vinestep.data.sequences import (
    CropTime,
    Difference,
    Lags,
    windows,
)
from vinestep.errors import DataError, SettingError


@given(
    n=st.integers(1, 30), length=st.integers(1, 6), ahead=st.integers(1, 4), step=st.integers(1, 4)
)
def test_windows_are_slices(n, length, ahead, step):
    series = np.random.default_rng(n).normal(size=(n, 2))
    expected = [
        (series[i : i + length], series[i + length - 1 + ahead])
        for i in range(0, n - length - ahead + 1, step)
    ]
    if not expected:
        with pytest.raises(DataError, match="places at least"):
            windows(series, length, ahead=ahead, step=step)
        return
    found = windows(series, length, ahead=ahead, step=step)
    for i, (inputs, target) in enumerate(expected):
        np.testing.assert_array_equal(found.inputs[i], inputs)
        np.testing.assert_array_equal(found.targets[i], target)
    assert len(found) == len(expected)


@given(time=st.integers(1, 9), lag=st.integers(1, 10))
def test_lags_and_differences(time, lag):
    x = np.random.default_rng(time).normal(size=(3, time, 2))
    lagged = Lags([lag])(x)
    for t in range(time):
        np.testing.assert_array_equal(lagged[:, t, 2:], x[:, max(t - lag, 0)])
    np.testing.assert_allclose(np.cumsum(Difference()(x), axis=1) + x[:, :1], x, atol=1e-12)


def test_stretches_belong_to_the_example():
    x = np.random.default_rng(0).normal(size=(5, 9, 2))
    whole = CropTime(4)(x, CounterRandom(1, 2, np.arange(5)))
    for i in range(5):
        np.testing.assert_array_equal(
            CropTime(4)(x[i : i + 1], CounterRandom(1, 2, [i]))[0], whole[i]
        )
        assert any(np.array_equal(whole[i], x[i, k : k + 4]) for k in range(6))
    with pytest.raises(DataError, match="of sequences of 9"):
        CropTime(10)(x, CounterRandom(0, 0, np.arange(5)))


def test_impossible_settings_are_refused():
    for make in (lambda: Lags([0]), lambda: CropTime(0), lambda: windows(np.zeros((9, 1)), 0)):
        with pytest.raises(SettingError):
            make()


def test_a_network_foretells_a_wave():
    wave = np.sin(np.arange(400) / 5)[:, None]
    train, test = windows(wave, 12, ahead=3).split(0.8, 0.2, by=np.arange(386))
    training = vs.Training(
        vs.Stack(vs.LSTM(12, output="last"), vs.Dense(1)),
        loss=vs.losses.squared_error,
        optimiser=vs.optimisers.Adam(1e-2),
    )
    training.run(train.prepared(Lags([1])).batches(32), epochs=15)
    assert training.assess(test.prepared(Lags([1])).batches(64))["loss"] < 0.02
