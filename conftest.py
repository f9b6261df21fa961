"""Names that every docstring example may use."""

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
