"""Schedules of noise against the papers' formulas, in float64."""

import numpy as np
import pytest
from hypothesis import given, strategies as st

import vinestep as vs
from vinestep.generation._noise_schedules import posterior

SCHEDULES = {
    "linear": vs.generation.Linear(),
    "cosine": vs.generation.Cosine(),
    "sigmas": vs.generation.PowerLaw(),
    "straight": vs.generation.Straight(),
}


def kept_by(schedule):
    return np.cos(schedule.angle(np.arange(1, schedule.levels + 1) / schedule.levels)) ** 2


def test_linear_keeps_the_product_of_one_less_the_variances():
    betas = np.linspace(1e-4, 0.02, 1000)
    assert np.allclose(kept_by(SCHEDULES["linear"]), np.cumprod(1 - betas), rtol=0, atol=1e-12)


def test_cosine_keeps_the_square_of_a_cosine():
    t = np.arange(1, 1001) / 1000
    f = np.cos((np.append(0, t) + 0.008) / 1.008 * np.pi / 2) ** 2
    betas = np.minimum(1 - f[1:] / f[:-1], 0.999)
    assert np.allclose(kept_by(SCHEDULES["cosine"]), np.cumprod(1 - betas), rtol=0, atol=1e-12)


@pytest.mark.parametrize("steps", [2, 18])
def test_sigmas_fall_by_a_power(steps):
    i, rho = np.arange(steps), 7.0
    low, high = 0.002 / 0.5, 80 / 0.5
    wanted = (high ** (1 / rho) + i / (steps - 1) * (low ** (1 / rho) - high ** (1 / rho))) ** rho
    schedule = SCHEDULES["sigmas"]
    found = np.tan(schedule.angle(schedule.sampling_times(steps)))
    assert np.allclose(found, wanted, rtol=1e-10)


def test_sigmas_are_trained_by_a_log_normal_distribution():
    uniform = (np.arange(20_000) + 0.5) / 20_000
    schedule = SCHEDULES["sigmas"]
    logs = np.log(np.tan(schedule.angle(schedule.training_times(uniform))))
    assert abs(logs.mean() + 0.5) < 1e-3
    assert abs(logs.std() - 1.2) < 1e-3


def test_the_straight_line():
    t = np.linspace(0, 1, 11)
    angles = SCHEDULES["straight"].angle(t)
    size = np.sqrt((1 - t) ** 2 + t**2)
    assert np.allclose(np.cos(angles) * size, 1 - t, atol=1e-15)
    assert np.allclose(np.sin(angles) * size, t, atol=1e-15)


@pytest.mark.parametrize("step", [2, 10, 500, 1000])
def test_the_posterior_of_the_step_before(step):
    """Equations 6 and 7 of Ho et al., 2020."""
    betas = np.linspace(1e-4, 0.02, 1000)
    kept = np.cumprod(1 - betas)
    now, before, beta = kept[step - 1], kept[step - 2], betas[step - 1]
    x, noisy = np.array([0.7, -1.3]), np.array([0.2, 0.9])
    mean = (
        np.sqrt(before) * beta / (1 - now) * x
        + np.sqrt(1 - beta) * (1 - before) / (1 - now) * noisy
    )
    variance = (1 - before) / (1 - now) * beta
    found = SCHEDULES["linear"].posterior(noisy, x, (step - 1) / 1000, step / 1000)
    assert np.allclose(found[0], mean, rtol=0, atol=1e-12)
    assert abs(found[1] - variance) < 1e-12


@given(low=st.floats(0.01, 1.5), high=st.floats(0.02, 1.55), x=st.floats(-3, 3))
def test_a_level_through_the_posterior_is_distributed_as_it_was(low, high, x):
    """Marginals agree: what is drawn from the posterior has the mean and variance of the level."""
    low, high = min(low, high - 0.01), max(low + 0.01, high)
    slope = posterior(1.0, 0.0, low, high)[0]
    mean_at_zero, variance = posterior(0.0, x, low, high)
    mean = slope * np.cos(high) * x + mean_at_zero
    assert mean == pytest.approx(np.cos(low) * x, abs=1e-9)
    assert slope**2 * np.sin(high) ** 2 + variance == pytest.approx(np.sin(low) ** 2, abs=1e-9)


@pytest.mark.parametrize("name", list(SCHEDULES))
def test_levels_lead_from_noise_to_an_example(name):
    schedule = SCHEDULES[name]
    for steps in (1, 2, 50):
        angles = schedule.angle(schedule.sampling_times(steps))
        assert (np.diff(angles) < 0).all()
        assert angles[0] > 1.5
    drawn = schedule.angle(schedule.training_times(np.linspace(0, 1, 1001)))
    assert (drawn > 0).all() or name == "straight"
    assert (np.diff(drawn) >= 0).all()
    built = vs.parts.build(vs.parts.describe(schedule))
    assert np.array_equal(built.angle(np.linspace(0, 1, 7)), schedule.angle(np.linspace(0, 1, 7)))


@pytest.mark.parametrize(
    "wrong",
    [
        lambda: vs.generation.Linear(1),
        lambda: vs.generation.Linear(10),
        lambda: vs.generation.Cosine(most=1.0),
        lambda: vs.generation.PowerLaw(lowest=1.0, highest=0.5),
    ],
)
def test_settings_that_are_none_are_refused(wrong):
    with pytest.raises(vs.errors.SettingError):
        wrong()
