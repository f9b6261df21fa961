"""Each fuzzer for a short while; `make fuzz` runs them long."""

import importlib.util
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings, strategies as st

HERE = Path(__file__).parent


def load(name, file):
    spec = importlib.util.spec_from_file_location(name, HERE / file)
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


fuzzers = load("fuzzers", "__main__.py")
programs = load("programs", "programs.py")


@pytest.mark.parametrize(("name", "count"), [("kernels", 320), ("files", 12), ("tables", 150)])
def test_nothing_crashes_and_nothing_is_silently_wrong(name, count):
    outcomes, bad = fuzzers.fuzz(name, count)
    assert not bad, bad[:3]
    assert outcomes["right"] > count // 20
    assert outcomes["refused"] > count // 20


def test_no_command_line_comes_back_raw():
    outcomes, bad = fuzzers.fuzz("commands", 60)
    assert not bad, bad[:3]
    assert outcomes["refused"] > 40


@settings(
    max_examples=300, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True
)
@given(st.lists(st.integers(0, 2**16 - 1), min_size=4, max_size=programs.LENGTH))
def test_small_programs_have_right_values_and_gradients(numbers):
    assert programs.check(numbers) in ("right", "refused")


def test_the_programs_are_programs():
    """Most of them are computed, in every kind of operation, rather than refused."""
    outcomes = [programs.attempt(seed) for seed in range(60)]
    assert outcomes.count("right") > 30
    assert set(outcomes) <= {"right", "refused"}
