"""Names that every docstring example may use."""

import time

import hypothesis
import numpy as np
import pandas as pd
import pytest

import vinestep as vs


@pytest.fixture(autouse=True)
def _doctest_names(doctest_namespace):
    names = {name: getattr(vs, name) for name in vs.__all__}
    doctest_namespace.update(names, np=np, pd=pd, vs=vs)


@pytest.fixture
def rng():
    """A generator of its own for each test."""
    return np.random.default_rng(20261123)


# how long an example takes says more of the machine's other work than of the code
hypothesis.settings.register_profile("no deadline", deadline=None)
hypothesis.settings.load_profile("no deadline")


def pytest_addoption(parser):
    """For quick checks."""
    parser.addoption(
        "--within",
        type=float,
        default=None,
        metavar="SECONDS",
        help="leave out tests that have not begun by then",
    )


_BEGUN = time.monotonic()


def pytest_runtest_setup(item):
    """Leave out what would make a quick check a slow one."""
    seconds = item.config.getoption("--within")
    if seconds is not None and time.monotonic() - _BEGUN > seconds:
        pytest.skip(f"not begun within {seconds:g} s")
