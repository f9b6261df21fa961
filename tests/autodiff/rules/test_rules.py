"""Every rule in the registry against central differences, first and second order."""

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

import vinestep as vs
from vinestep.autodiff.registry import (
    HANDLERS,
    PASSIVE,
    UFUNC_METHODS,
    UFUNCS,
    load_late_rules,
)

from .generators import GENERATORS

load_late_rules()
REGISTERED = [*UFUNCS, *HANDLERS, *UFUNC_METHODS]
few = settings(
    max_examples=8, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True
)


def name_of(key):
    if isinstance(key, tuple):
        return f"{key[0].__name__}.{key[1]}"
    return key if isinstance(key, str) else f"{getattr(key, '__module__', '')}.{key.__name__}"


def weighted(f, weights):
    return lambda *xs: np.sum(f(*xs) * weights)


def test_every_registered_rule_has_a_generator():
    missing = [name_of(key) for key in REGISTERED if key not in GENERATORS]
    assert not missing
    assert len(REGISTERED) > 200


def test_no_function_is_both_differentiable_and_passive():
    assert not PASSIVE & set(HANDLERS)
    assert not PASSIVE & set(UFUNCS)


@pytest.mark.parametrize("key", list(GENERATORS), ids=name_of)
@few
@given(data=st.data())
def test_rule_agrees_with_differences_in_first_and_second_order(key, data):
    f, arrays = GENERATORS[key](data.draw)
    plain = f(*arrays)
    tracked = f(*[vs.Tensor(a) for a in arrays])
    np.testing.assert_array_equal(vs.held(tracked), plain) if not _composed(
        key
    ) else np.testing.assert_allclose(vs.held(tracked), plain, rtol=1e-12, atol=1e-12)
    if np.size(plain) == 0:
        return
    rng = np.random.default_rng(1)
    scalar = weighted(f, rng.uniform(0.5, 1.5, np.shape(plain)))
    vs.check_gradients(scalar, *arrays, tolerance=1e-7).raise_if_wrong()
    for argument, array in enumerate(arrays):
        if array.size:
            slope = weighted(vs.gradient_of(scalar, argument), rng.uniform(0.5, 1.5, array.shape))
            vs.check_gradients(slope, *arrays, tolerance=1e-4, elements=6).raise_if_wrong()


def _composed(key):
    return key not in UFUNCS


def test_rules_give_float32_gradients_for_float32():
    for key in (np.tanh, np.maximum, np.hypot, np.power, np.abs):
        n = key.nin
        xs = [vs.Tensor(np.full(3, 0.5 + i, np.float32)) for i in range(n)]
        y = key(*xs)
        assert y.dtype == np.float32
        assert all(g.dtype == np.float32 for g in vs.differentiate(np.sum(y), xs))
