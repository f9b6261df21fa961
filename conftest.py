"""Names that every docstring example may use."""

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
